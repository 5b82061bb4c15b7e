package report

import (
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"movekit/internal/core/card"
	"movekit/internal/core/item"
	"movekit/internal/core/journal"
	"movekit/internal/core/kit"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
	"movekit/internal/core/survey"
	"movekit/test/fatal"
)

// folded is the handover after the given events of one app.
func folded(events ...any) *Report {
	m := kit.Manifest{ID: "1", Old: kit.Computer{Name: "OLD", ID: "o"}, New: kit.Computer{Name: "NEW"}}
	var lines []journal.Line
	names := map[string]string{"kit.Sealed": journal.EventSealed, "steps.Packed": journal.EventPacked, "steps.Placed": journal.EventPlaced, "steps.Checked": journal.EventChecked, "steps.Seen": journal.EventSeen,
		"steps.Overridden": journal.EventOverridden, "steps.Retired": journal.EventRetired, "steps.Removed": journal.EventRemoved, "kit.Closed": journal.EventClosed}
	for n, e := range events {
		text, _ := json.Marshal(e)
		l := journal.Line{At: time.Date(2026, 3, 2, 14, 5+n, 0, 0, time.Local), App: "app", Item: "data", Data: text}
		switch l.Event = names[fmt.Sprintf("%T", e)]; l.Event {
		case journal.EventPacked, journal.EventOverridden, journal.EventClosed:
			l.Item = ""
		case journal.EventSeen:
			l.Item, l.Licence = "", "seat"
		}
		lines = append(lines, l)
	}
	c := &card.Card{Name: "app", Title: "The <App>", Items: []card.Item{{Name: "data"}}, Licences: []card.Licence{{Name: "seat", Notice: "{licence} of {app} went from {old} to {new}."}},
		LeftBehind: []string{"the cache"}, ByHand: []string{"choose a printer"}}
	return Build(m, []*card.Card{c}, steps.Fold(m, lines))
}

var (
	sealed = kit.Sealed{Files: 3, Bytes: 4, Left: []string{"pipe: it is a device, pipe or socket"}, LeftCount: 4}
	packed = steps.Packed{Version: "8.2", Items: []steps.Key{{App: "app", Item: "data"}}, Absent: []string{"manual"}}
	placed = steps.Placed{To: "/srv/data", Aside: "/srv/data.set-aside-1"}
	equal  = steps.Checked{Equal: true, Rows: []steps.Row{{What: "boats", Old: "212", New: "212", Same: true}}}
	differ = steps.Checked{Rows: []steps.Row{{What: "boats", Old: "212", New: "211"}}, Diffs: []string{"a is missing"}, Count: 23}
	moved  = steps.Seen{Old: "deactivated", New: "active", By: "the licence desk", Asked: true, Good: true}
)

func TestSentence(t *testing.T) {
	for want, r := range map[string]*Report{
		"Everything that was packed on OLD, as sealed at 14:05 on 2 March 2026, is on NEW and identical (1 item); every licence is active on NEW and no longer on OLD (1 licence).":                          folded(sealed, packed, placed, equal, moved),
		"Everything that was packed on OLD, as sealed at 14:05 on 2 March 2026, is on NEW and identical (1 item); every licence is active on NEW (1 licence), and 1 of them on OLD too, as its rule allows.": folded(sealed, packed, placed, equal, steps.Seen{Old: "active", New: "active", Asked: true, Good: true}),
		"There are differences between OLD and NEW: see The <App>.": folded(sealed, packed, placed, differ, moved),
		"Not everything is verified yet: see The <App>.":            folded(sealed, packed, placed, equal),
	} {
		if r.Sentence != want {
			t.Errorf("%q, want %q", r.Sentence, want)
		}
	}
	for name, r := range map[string]*Report{
		"nothing done":         folded(),
		"not unpacked":         folded(sealed, packed),
		"desk not asked":       folded(sealed, packed, placed, equal, steps.Seen{Old: "deactivated", New: "active"}),
		"on trial":             folded(sealed, packed, placed, equal, steps.Seen{Old: "active", New: "not activated", Asked: true, Trial: true}),
		"packed again since":   folded(sealed, packed, placed, equal, moved, sealed, packed),
		"unpacked again since": folded(sealed, packed, placed, equal, moved, placed),
	} {
		if r.Result != Open {
			t.Errorf("%s: %s, want open", name, r.Result)
		}
	}
	both := folded(sealed, packed, placed, equal, steps.Seen{Old: "active", New: "active", Asked: true})
	if both.Result != Different {
		t.Errorf("active on both: %s", both.Result)
	}
}

func TestEveryFormSaysTheSame(t *testing.T) {
	r := folded(sealed, packed, placed, differ, moved, steps.Overridden{Gate: "app-closed", Why: "it runs", Because: "the lift is in use"})
	files, err := r.Files()
	if err != nil || len(files) != 4 {
		t.Fatal(files, err)
	}
	for _, f := range files[:3] {
		text := string(f.Data)
		if strings.HasSuffix(f.Name, "html") {
			if strings.Contains(text, "<App>") || strings.Contains(text, "<script") || strings.Contains(text, "http") {
				t.Errorf("%s: a title is not escaped, or the page needs a script or another file", f.Name)
			}
		}
		for _, fact := range []string{"212", "211", "a is missing", "/srv/data.set-aside-1", "the cache", "choose a printer", "manual", "the lift is in use", "deactivated", "it is a device"} {
			if !strings.Contains(text, fact) {
				t.Errorf("%s does not say %q", f.Name, fact)
			}
		}
	}
	var v Report
	if err := json.Unmarshal(files[1].Data, &v); err != nil || v.Version != Version || v.Result != Different || v.Apps[0].Items[0].Count != 23 {
		t.Errorf("%v %+v", err, v)
	}
	if page := string(files[0].Data); !strings.Contains(page, "<li>22 more</li>") {
		t.Errorf("page: %s", page)
	}
	if text := r.Text(0, false); !strings.Contains(text, "22 more") || strings.Contains(text, "\x1b") {
		t.Errorf("text: %s", text)
	}
	if text := r.Text(0, true); !strings.Contains(text, "\x1b[") {
		t.Error("no colour where it was asked for")
	}
}

// TestDigitsAreText shows a hash and a name that are all digits as they are, and a count with
// thousands separators, in every form.
func TestDigitsAreText(t *testing.T) {
	r := folded(sealed, packed, placed, steps.Checked{Count: 1, Diffs: []string{"differs"}, Rows: []steps.Row{
		{What: "profile", Old: "12345678", New: "87654321", Text: true}, {What: "user", Old: "4711", New: "4711", Same: true, Text: true}, {What: "boats", Old: "21200", New: "21200", Same: true}}})
	files, err := r.Files()
	fatal.If(t, err)
	texts := map[string]string{"the table": r.Tables(0, false, false)}
	for _, f := range files {
		if strings.HasSuffix(f.Name, ".html") || strings.HasSuffix(f.Name, ".txt") && strings.Contains(f.Name, "handover") {
			texts[f.Name] = string(f.Data)
		}
	}
	if len(texts) != 3 {
		t.Fatal(len(texts))
	}
	for name, text := range texts {
		for _, want := range []string{"12345678", "87654321", "4711", "21,200"} {
			if !strings.Contains(text, want) {
				t.Errorf("%s does not say %s: %s", name, want, text)
			}
		}
	}
}

// TestNothingMoved writes the handover of an app that was not unpacked: no form says that it moved.
func TestNothingMoved(t *testing.T) {
	for name, c := range map[string]struct {
		r    *Report
		says string
	}{
		"not packed":   {folded(), "nothing was packed"},
		"not unpacked": {folded(sealed, packed), "packed, but not unpacked"},
	} {
		files, err := c.r.Files()
		fatal.If(t, err)
		for _, f := range files {
			text := string(f.Data)
			if strings.HasSuffix(f.Name, ".json") {
				continue
			}
			if strings.Contains(text, "What moved") || strings.Contains(text, "nobody should continue") || !strings.Contains(text, c.says) {
				t.Errorf("%s: %s says: %s", name, f.Name, text)
			}
		}
	}
}

func TestTextFitsTheTerminal(t *testing.T) {
	r := folded(sealed, packed, placed, equal, moved)
	for _, width := range []int{80, 100} {
		for line := range strings.Lines(r.Text(width, false)) {
			if n := len([]rune(strings.TrimRight(line, "\n"))); n > width && !strings.HasPrefix(line, "  - ") {
				t.Errorf("at %d a line has %d characters: %s", width, n, line)
			}
		}
	}
}

// TestReportOfOneRun leaves out apps that were stopped, and items that were not reached.
func TestReportOfOneRun(t *testing.T) {
	for name, c := range map[string]struct {
		did             *run.Outcome
		apps            int
		items, licences int
		result          Result
	}{
		"another app": {&run.Outcome{App: "other"}, 0, 0, 0, Open},
		"stopped":     {&run.Outcome{App: "app", Blocks: []steps.Block{{}}}, 0, 0, 0, Open},
		"all of it":   {&run.Outcome{App: "app", Items: []run.ItemOutcome{{Item: "data"}}, Licences: []run.LicenceOutcome{{Licence: "seat"}}}, 1, 1, 1, Equal},
		"no item":     {&run.Outcome{App: "app", Licences: []run.LicenceOutcome{{Licence: "seat"}}}, 1, 0, 1, Equal},
		"failed":      {&run.Outcome{App: "app", Err: errors.New("x"), Items: []run.ItemOutcome{{Item: "data"}}}, 1, 1, 0, Open},
	} {
		r := folded(sealed, packed, placed, equal, moved)
		r.Only([]*run.Outcome{c.did})
		if len(r.Apps) != c.apps || r.Result != c.result || c.apps > 0 && (len(r.Apps[0].Items) != c.items || len(r.Apps[0].Licences) != c.licences) {
			t.Errorf("%s: %s %+v", name, r.Result, r.Apps)
		}
	}
}

// TestNotice writes the vendor's notice once the licence is moved, and not before.
func TestNotice(t *testing.T) {
	for n, r := range map[int]*Report{0: folded(sealed, packed, placed, equal), 1: folded(sealed, packed, placed, equal, moved)} {
		files, err := r.Files()
		if err != nil || len(files) != 3+n {
			t.Fatalf("%d files: %v", len(files), err)
		}
		if n == 1 && (files[3].Name != "notice-app-seat.txt" || string(files[3].Data) != "seat of The <App> went from OLD to NEW.\n" || !strings.Contains(r.Text(0, false), "Send the vendor the notice notice-app-seat.txt")) {
			t.Errorf("%s: %s", files[3].Name, files[3].Data)
		}
	}
}

// TestSheetTellsLicences shows a licence of every method on the survey's page.
func TestSheetTellsLicences(t *testing.T) {
	a := survey.App{App: "app", Title: "The App"}
	for _, m := range card.Methods {
		a.Licences = append(a.Licences, survey.Licence{Licence: "a-" + string(m.Method), Method: m.Method})
	}
	a.Licences = append(a.Licences, survey.Licence{Licence: "read", Method: card.MethodDesk, Serial: "••••TERN"}, survey.Licence{Licence: "label", Method: card.MethodKey, Typed: true})
	page, err := Sheet(&survey.Survey{Apps: []survey.App{a}}, "1", func(gate, app string) string { return gate + " of " + app })
	fatal.If(t, err)
	for _, want := range []string{"licence a-desk: a seat at a licence desk, not found", "a-guided: the technician deactivates and activates it by hand<", "a-file: licence files that are moved<", "read: a seat at a licence desk, serial ••••TERN", "label: a product key, perhaps with a registered name, typed in during the pack"} {
		if !strings.Contains(string(page), want) {
			t.Errorf("the page does not say %q", want)
		}
	}
}

// TestSheetTellsItems shows an item's findings, and the data that is not moved, on the survey's
// page as in the terminal.
func TestSheetTellsItems(t *testing.T) {
	i := item.Inspection{Item: "ledger", Details: []string{"2 tables"}, Warnings: []string{"older than the log"},
		Left: []string{"passwords of <roles>"}, LeftOut: []string{"cache/: 1 file"}, PathSetting: "app.ini, Data/Path", Since: &item.Drift{Known: true, Diffs: []string{"a is missing"}}}
	same := item.Inspection{Item: "kept", Since: &item.Drift{Same: true}}
	page, err := Sheet(&survey.Survey{Apps: []survey.App{{App: "app", Title: "The App", Items: []item.Inspection{i, same}, Withheld: [][]string{{"/opt/app", "-v"}}}}}, "1", func(gate, app string) string { return gate + " of " + app })
	fatal.If(t, err)
	for _, want := range []string{"<br>ledger: 2 tables", "<br>note: older than the log", "<br>left behind: ledger: passwords of &lt;roles&gt;", "<br>left out of ledger: cache/: 1 file", "<br>ledger: path from app.ini, Data/Path", `<br>changed: ledger, since the pack`, `<span class="small">a is missing</span>`, "<li>unchanged since the pack", "/opt/app -v"} {
		if !strings.Contains(string(page), want) {
			t.Errorf("the page does not say %q", want)
		}
	}
}

// TestNamesAreNoFormats shows items whose names, from names of folders, contain a per cent sign.
func TestNamesAreNoFormats(t *testing.T) {
	i := item.Inspection{Item: "years@100%d", User: "m%s", Needs: []string{"key"}, PathSetting: "a.ini", Details: []string{"2 tables"}, OpenBy: []string{"pontoon"}, Left: []string{"a"}, LeftOut: []string{"b"}}
	var said string
	for _, f := range Facts(&survey.App{Items: []item.Inspection{i}}, func(string, string) string { return "" }) {
		said += string(f.Line(false))
	}
	for _, want := range []string{"  years@100%d of m%s depends on key\n", "of m%s: path from a.ini\n", "of m%s: 2 tables\n", "of m%s is open in pontoon\n", "left behind: years@100%d of m%s: a\n", "left out of years@100%d of m%s: b\n"} {
		if !strings.Contains(said, want) {
			t.Errorf("no %q in\n%s", want, said)
		}
	}
}

// TestTheEnd reports the state of the old computer and of the kit, metadata that was not restored,
// and decisions.
func TestTheEnd(t *testing.T) {
	left := steps.Checked{Skipped: true, Rows: differ.Rows, Diffs: differ.Diffs, Count: 1}
	unkept := steps.Placed{To: "/srv/data", NotRestored: []string{"a: its access list"}}
	for name, c := range map[string]struct {
		r    *Report
		says []string
	}{
		"left as it was": {folded(sealed, packed, placed, left, moved), []string{"Nothing was put on NEW: as you chose, the existing data was kept (The <App>'s data); every licence is active on NEW", "data (existing data kept)", "existing data kept: The <App>, data: a is missing"}},
		"still there":    {folded(sealed, packed, unkept, equal, moved), []string{"On OLD\n  - The <App>: still in place, so that people could continue to use it: data", "Not kept\n  - The <App>: data: a: its access list", "[ ] The <App>: choose a printer", "The kit\n  - it still holds"}},
		"set aside":      {folded(sealed, packed, placed, equal, moved, steps.Retired{From: "/srv/data", To: "/srv/data.set-aside-9"}), []string{"On OLD\n  - The <App>: data was set aside: /srv/data.set-aside-9\n"}},
		"gone":           {folded(sealed, packed, placed, equal, moved, steps.Retired{From: "/srv/data"}), nil},
		"removed":        {folded(sealed, packed, placed, equal, moved, steps.Retired{From: "/srv/data", To: "/x"}, steps.Removed{Because: "sold"}), []string{"data was permanently removed (sold)"}},
		"given up":       {folded(sealed, packed, kit.Closed{Because: "the office closes"}), []string{"it is closed: the key is destroyed", "the move was given up: the office closes"}},
	} {
		text := c.r.Text(0, false)
		for _, want := range c.says {
			if !strings.Contains(text, want) {
				t.Errorf("%s: %q is not said:\n%s", name, want, text)
			}
		}
		if name == "gone" && strings.Contains(text, "On OLD") {
			t.Errorf("what is gone is there:\n%s", text)
		}
		if page, err := c.r.HTML(); err != nil || name == "left as it was" && !strings.Contains(string(page), `class="r-skipped"`) {
			t.Errorf("%s: %v", name, err)
		}
	}
}
