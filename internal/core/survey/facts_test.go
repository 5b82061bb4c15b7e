package survey

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"movekit/internal/core/card"
	"movekit/internal/core/item"
	"movekit/internal/core/item/kinds"
	"movekit/internal/core/journal"
	"movekit/internal/core/kit"
	"movekit/internal/core/machine"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
	"movekit/test/fatal"
	"movekit/test/hivetest"
	"movekit/test/lay"
)

// parsed is a card with the usual beginning.
func parsed(t *testing.T, text string) *card.Card {
	t.Helper()
	c, err := card.Parse("app.yaml", []byte("card: 1\nname: app\ntitle: The App\n"+text))
	fatal.If(t, err)
	return c
}

// on opens the computer whose disk is at root.
func on(t *testing.T, root string) *Scanner {
	t.Helper()
	c, err := machine.Open(root)
	fatal.If(t, err)
	l := &Scanner{Host: run.NewHost(c), Kinds: kinds.All}
	l.Private.Above = filepath.Join(t.TempDir(), "x")
	t.Cleanup(func() { l.Private.Drop() })
	return l
}

// TestExportsCounted compares the number of exports with the expected one.
func TestExportsCounted(t *testing.T) {
	for name, c := range map[string]struct{ exports, few, detail string }{
		"enough":         {"number: 2", "", "2 exports of 2"},
		"more":           {"number: 1", "", "2 exports of 1"},
		"too few":        {"number: 3", "out has 2 exports, but 3", ""},
		"none needed":    {"number: 0", "", "2 exports of 0"},
		"asked":          {"item: data, query: SELECT 2", "", "2 exports of 2"},
		"asked, too few": {"item: data, query: SELECT 5", "out has 2 exports, but 5", ""},
		"asked in vain":  {"item: data, query: SELECT x", "the expected number of exports of out is unknown: ", ""},
		"nobody to ask":  {"item: gone, query: SELECT 2", "the expected number of exports of out is unknown: gone, which has the number, is not here", ""},
	} {
		s := look(t, "items:\n  - {name: data, kind: sqlite, path: /srv/d.db}\n  - {name: gone, kind: sqlite, path: /srv/g.db, optional: true}\n  - {name: out, kind: exports, path: /srv/out, include: ['*.pox'], exports: {"+c.exports+", import: x}}\n  - {name: none, kind: exports, path: /srv/none, optional: true, exports: {number: 9, import: x}}\n", "",
			map[string]string{"srv/out/a.pox": "1", "srv/out/b.pox": "2", "srv/out/c.txt": "3"}, func(root string, _ *Scanner) { lay.Database(t, filepath.Join(root, "srv/d.db"), "CREATE TABLE a (x)") })
		few := strings.Join(s.Apps[0].Facts.Pack.TooFew, "; ")
		if !strings.HasPrefix(few, c.few) || c.few == "" && few != "" || !slices.Contains(append(s.Apps[0].Items[2].Details, ""), c.detail) || (gates(s.Apps[0]) == "") != (c.few == "") {
			t.Errorf("%s: %q, %q, stopped by %q", name, few, s.Apps[0].Items[2].Details, gates(s.Apps[0]))
		}
	}
}

// TestSerials detects serials that are here, mistyped, to be typed in, and missing.
func TestSerials(t *testing.T) {
	const steps = ", deactivate: {steps: [{do: x}]}, activate: {steps: [{do: x}]}}"
	for name, c := range map[string]struct{ licence, files, seen, missing, bad string }{
		"both here":       {"serial: {file: /l.ini, key: s}, code: {file: /l.ini, key: c}", "s=AB-12345\nc=x\n", "product key ••••2345 in /l.ini, s", "", ""},
		"no code":         {"serial: {file: /l.ini, key: s}, code: {file: /l.ini, key: c}", "s=AB-12345\n", "", "the product key or registered name of the licence key", ""},
		"unnamed":         {"serial: {file: /l.ini, key: s}", "s=AB-12345\n", "product key ••••2345 in /l.ini, s", "", ""},
		"none":            {"serial: {file: /l.ini, key: s}", "", "", "the product key or registered name of the licence key", ""},
		"mistyped":        {"serial: {file: /l.ini, key: s}, check: luhn", "s=49927398717\n", "product key ••••8717 in /l.ini, s", "", "the serial of the licence key looks mistyped: its check digits are wrong"},
		"right":           {"serial: {file: /l.ini, key: s}, check: luhn", "s=49927398716\n", "product key ••••8716 in /l.ini, s", "", ""},
		"typed":           {"typed: the label", "", "typed", "", ""},
		"typed, one here": {"typed: the label, serial: {file: /l.ini, key: s}", "s=AB-12345\n", "typed", "", ""},
		"all here":        {"typed: the label, serial: {file: /l.ini, key: s}, code: {file: /l.ini, key: c}", "s=AB-12345\nc=x\n", "product key ••••2345 in /l.ini, s", "", ""},
	} {
		s := look(t, "items: [{name: data, kind: file, path: /d, optional: true}]\nlicences: [{name: key, method: key, "+c.licence+steps+"]\n", "", map[string]string{"l.ini": c.files}, nil)
		a := s.Apps[0]
		seen := strings.Join(a.Licences[0].Seen, "; ")
		if a.Licences[0].Typed {
			seen = "typed"
		}
		if seen != c.seen || strings.Join(a.Facts.Pack.Missing, "; ") != c.missing || strings.Join(a.Facts.Pack.BadSerials, "; ") != c.bad {
			t.Errorf("%s: seen %q, missing %q, bad %q", name, seen, a.Facts.Pack.Missing, a.Facts.Pack.BadSerials)
		}
	}
}

// TestWhatALicenceShows finds the app's own copy of an activation.
func TestWhatALicenceShows(t *testing.T) {
	const text = "items: [{name: data, kind: file, path: /d, optional: true, needs: [seat]}]\nlicences: [{name: seat, method: desk, product: x, token: /srv/token.jws, serial: {file: /l, key: s, format: ini}, code: {file: /l, key: c, format: ini}, desk: {url: 'https://desk.example', key: ozSfO2Sa_kxMIBWYMRr5LNe1V6adT6O9NzGuLV1yuGQ}}]\n"
	for token, want := range map[string]string{"srv/token.jws": "the app's activation in /srv/token.jws", "srv/other": ""} {
		a := look(t, text, "", map[string]string{token: "x", "d": "x"}, nil).Apps[0]
		if got := strings.Join(a.Licences[0].Seen, "; "); got != want || (a.Facts.Pack.LacksNeed == nil) != (want != "") {
			t.Errorf("%s: %q, lacks %q", token, got, a.Facts.Pack.LacksNeed)
		}
	}
}

// TestManyOfAnItem finds one item for each folder that a pattern matches.
func TestManyOfAnItem(t *testing.T) {
	files := map[string]string{"srv/lifts/2024/a": "1", "srv/lifts/2025/b": "2", "srv/lifts/2026/c": "3", "srv/lifts/notes": "x"}
	at := func(root string, _ *Scanner) {
		for i, year := range []string{"2025", "2024", "2026"} {
			when := time.Date(2026, 1, 10+i, 0, 0, 0, 0, time.UTC)
			for _, name := range []string{year + "/" + map[string]string{"2024": "a", "2025": "b", "2026": "c"}[year], year} {
				os.Chtimes(filepath.Join(root, "srv/lifts", name), when, when)
			}
		}
	}
	told := func(text string) string {
		var out []string
		for _, i := range look(t, "items: [{name: lifts, kind: folder, path: /srv/lifts, "+text+"}]\n", "", files, at).Apps[0].Items {
			out = append(out, strings.TrimSpace(i.Item+" "+string(i.State)+" "+strings.Join(i.LeftOut, ", ")))
		}
		return strings.Join(out, "; ")
	}
	for text, want := range map[string]string{
		"each: '20??'":            "lifts@2024 here; lifts@2025 here; lifts@2026 here",
		"each: '20??', newest: 2": "lifts@2024 here 1 other modified earlier: 2025; lifts@2026 here",
		"each: '19??'":            "lifts missing",
	} {
		if got := told(text); got != want {
			t.Errorf("%s: %q", text, got)
		}
	}
	a := look(t, "items: [{name: lifts, kind: folder, path: /srv/none, each: '20??'}, {name: more, kind: folder, path: /srv/lifts, each: '19??'}]\n", "", files, nil).Apps[0]
	if got := strings.Join(a.Facts.Pack.Missing, "; "); !strings.HasPrefix(got, "lifts: ") || !strings.HasSuffix(got, "; more: nothing there matches 19??") {
		t.Errorf("missing: %q", got)
	}
}

// TestExpectedCounts compares counts with the expected numbers.
func TestExpectedCounts(t *testing.T) {
	s := look(t, `items:
  - {name: data, kind: sqlite, path: /srv/d.db, counts: [{name: boats, query: SELECT count(*) FROM boat, expect: 3}, {name: berths, query: SELECT 7, expect: 7}, {name: free, query: SELECT 9}]}
  - {name: gone, kind: sqlite, path: /srv/g.db, optional: true, counts: [{name: boats, query: SELECT 1, expect: 3}]}
  - {name: recs, kind: folder, path: /srv/recs, counts: [{name: recs, files: '*.rec', expect: 1}]}
`, "", map[string]string{"srv/recs/a.rec": "", "srv/recs/b.rec": ""}, func(root string, _ *Scanner) {
		lay.Database(t, filepath.Join(root, "srv/d.db"), "CREATE TABLE boat (x)", "INSERT INTO boat VALUES (1), (2)")
	})
	want := "boats of data: the card expects 3, but there are 2; recs of recs: the card expects 1, but there are 2"
	if got := strings.Join(s.Apps[0].Facts.Drift.Unexpected, "; "); got != want || len(s.Apps[0].Items[0].Counts) != 2 {
		t.Errorf("%q, %+v", got, s.Apps[0].Items[0].Counts)
	}
}

// TestSpace stops if the kit's medium is too small, estimated from a sample.
func TestSpace(t *testing.T) {
	for estimate, want := range map[bool]string{false: "fits", true: ""} {
		a := look(t, "items: [{name: data, kind: file, path: /srv/holes}]\n", "", map[string]string{"srv/holes": ""}, func(root string, l *Scanner) {
			os.Truncate(filepath.Join(root, "srv/holes"), 8<<40)
			l.KitDir, l.Estimate = t.TempDir(), estimate
		}).Apps[0]
		if gates(a) != want || a.Facts.Fit.Free == 0 || (a.Facts.Fit.Need < a.Items[0].Bytes) != estimate || estimate && a.Facts.Fit.Need < a.Items[0].Sealed+a.Items[0].Sealed/10 {
			t.Errorf("estimated %v: stopped by %q, %d needed, %d free", estimate, gates(a), a.Facts.Fit.Need, a.Facts.Fit.Free)
		}
	}
	if f := look(t, "items: [{name: data, kind: file, path: /srv/a}]\n", "", map[string]string{"srv/a": "x"}, nil).Apps[0].Facts; f.Fit.Need != 0 {
		t.Errorf("nobody knows where to: %d bytes needed", f.Fit.Need)
	}
}

// TestUnsent finds files that wait to be sent for each user, and reports unknown results.
func TestUnsent(t *testing.T) {
	const passwd = "anna:x:1000:1000::/home/anna:/bin/sh\nmaren:x:1001:1001::/home/maren:/bin/sh\nzoe:x:1002:1002::/home/zoe:/bin/sh\n"
	s := look(t, `items: [{name: data, kind: file, path: /d, optional: true}]
sync:
  - {about: mail, path: ~/out, files: '**/*.eml'}
  - {about: elsewhere, path: {windows: 'C:\x'}, files: '*'}
  - {about: nothing, path: /none, files: '*'}
  - {about: by itself, command: [/opt/tide], pattern: 'all sent'}
`, "", map[string]string{"etc/passwd": passwd, "home/anna/out/a.eml": "x", "home/anna/out/b/c.eml": "x", "home/maren/x": "", "home/zoe/out/z.eml": "", "home/zoe/out/z.txt": ""}, nil)
	var got []string
	for _, y := range s.Apps[0].Sync {
		got = append(got, fmt.Sprint(y.About, " ", y.Finished, " ", y.Known, " ", strings.ReplaceAll(y.Why, "in /tmp", "in ")))
	}
	if !strings.HasPrefix(got[0], "mail false true 2 files waiting in ") || !strings.Contains(got[0], "home/anna/out, such as a.eml; 1 file waiting in ") || !strings.HasSuffix(got[0], "home/zoe/out, such as z.eml") {
		t.Errorf("waiting: %s", got[0])
	}
	if want := []string{"elsewhere true true ", "nothing true true ", "by itself false false unknown: /opt/tide: no consent to run it"}; !slices.Equal(got[1:], want) {
		t.Errorf("%q", got)
	}
}

// TestRequirements finds requirements in profiles, the registry and packages.
func TestRequirements(t *testing.T) {
	root := lay.Disk(t, "windows", map[string]string{"Users/anna/x": "", "Users/maren/AppData/Roaming/driver.ini": "x"})
	hivetest.Lay(t, root, map[string]string{"Windows/System32/config/SOFTWARE": "[\\Driver]\n", "Users/maren/NTUSER.DAT": "[\\Software\\Own]\n"})
	linux := lay.Disk(t, "linux", map[string]string{"var/lib/dpkg/status": "Package: driver\nStatus: install ok installed\nVersion: 1\n"})
	items := "items: [{name: data, kind: file, path: /d, optional: true}]\nrequires: "
	for root, all := range map[string]map[string]bool{
		root:                      {"path: '%APPDATA%\\driver.ini'": true, "path: '%APPDATA%\\none.ini'": false, `registry: HKLM\SOFTWARE\Driver`: true, `registry: HKCU\Software\Own`: true, `registry: HKLM\SOFTWARE\None`: false, "package: driver": false},
		linux:                     {"package: driver": true, "package: none": false, `registry: HKLM\SOFTWARE\Driver`: false, "path: /var/lib": true},
		lay.Disk(t, "linux", nil): {"package: driver": false},
	} {
		for text, here := range all {
			got, err := on(t, root).Requires(parsed(t, items+"[{name: It, "+text+"}]\n"))
			if err != nil || len(got) != 1 || got[0].Here != here {
				t.Errorf("%s: %+v %v", text, got, err)
			}
		}
	}
}

// TestPresent detects from the card whether an app is on a computer.
func TestPresent(t *testing.T) {
	root := lay.Disk(t, "linux", map[string]string{"opt/v": "8.2\n", "srv/data": "x"})
	for text, want := range map[string]string{
		"version: {file: /opt/v}\nitems: [{name: d, kind: file, path: /none}]\n": "8.2 true", "version: {file: /none}\nitems: [{name: d, kind: file, path: /srv/data}]\n": " true", "version: {file: /none}\nitems: [{name: d, kind: file, path: /none}]\n": " false",
		"items: [{name: d, kind: file, path: /none}]\n": " false", "items: [{name: d, kind: network, address: x}]\n": " true", "version: {file: /none}\nitems: [{name: d, kind: network, address: x}]\n": " false",
		"version: {command: [/opt/tide]}\nitems: [{name: d, kind: network, address: x}]\n": " true", "items: [{name: d, kind: registry, key: 'HKLM\\X\\Y'}]\n": " false",
	} {
		version, is, err := Present(t.Context(), on(t, root), parsed(t, text))
		if got := fmt.Sprint(version, " ", is); got != want || err != nil {
			t.Errorf("%s: %q, %v", text, got, err)
		}
	}
	c := parsed(t, "items: [{name: a, kind: network, address: here}, {name: b, kind: file, path: /x}, {name: c, kind: hosted, address: there}]\n")
	var stay []string
	for _, p := range on(t, root).Staying(c, &steps.Packed{Stays: []steps.Stay{{Item: "a", Address: "as found"}, {Item: "c"}}}) {
		stay = append(stay, p.Item.Name+" "+p.Item.Address)
	}
	if !slices.Equal(stay, []string{"a as found", "c there"}) || c.Items[0].Address != "here" || len(on(t, root).Staying(c, nil)) != 2 {
		t.Errorf("what stays: %q", stay)
	}
}

// TestSinceSealed detects changes since the pack without reading the content.
func TestSinceSealed(t *testing.T) {
	root := lay.Disk(t, "linux", map[string]string{"srv/same/a": "1", "srv/changed/b": "2", "srv/new/c": "3", "srv/lifts/2025/d": "4", "srv/retired/e": "5", "srv/other/f": "6"})
	lay.Out(t, root, map[string]string{"app.yaml": `card: 1
name: app
title: The App
items:
  - {name: same, kind: folder, path: /srv/same}
  - {name: changed, kind: folder, path: /srv/changed}
  - {name: new, kind: folder, path: /srv/new}
  - {name: gone, kind: folder, path: /srv/gone}
  - {name: lifts, kind: folder, path: /srv/lifts, each: '20??'}
  - {name: retired, kind: folder, path: /srv/retired}
  - {name: certificate, kind: file, path: /srv/cert}
  - {name: other, kind: folder, path: /srv/other}
licences: [{name: signing, method: file, items: [certificate]}]
`})
	c, err := card.Read(filepath.Join(root, "app.yaml"))
	fatal.If(t, err)
	dir := filepath.Join(t.TempDir(), "kit")
	l := on(t, root)
	me := kit.ComputerOf(l.Computer)
	k, err := kit.Create(dir, kit.New{Tool: "test", Cards: []*card.Card{c}, Passphrase: "agency-balcony-cabana-dagger-eagle-fable", Work: 1, Old: me, New: kit.Computer{Name: "NEW", System: "linux"}})
	fatal.If(t, err)
	items := []string{"same", "changed", "gone", "lifts@2024", "lifts@2025", "retired", "certificate"}
	record := func(line journal.Line, data any) {
		t.Helper()
		line.App = "app"
		_, err := k.Record(line, data)
		fatal.If(t, err)
	}
	packed := steps.Packed{NotChosen: []string{"other"}}
	before, err := l.App(t.Context(), c, steps.Facts{})
	fatal.If(t, err)
	stamps, metas := map[string]string{}, map[string]string{}
	for i, p := range before.Places {
		stamps[p.Key.Item], metas[p.Key.Item] = before.Items[i].Stamp, before.Items[i].MetaStamp
	}
	Close(before.Places)
	stamps["changed"] = "another"
	for _, it := range items {
		record(journal.Line{Event: journal.EventSealed, Item: it}, kit.Sealed{Stream: it, Stamp: stamps[it], MetaStamp: metas[it]})
		packed.Items = append(packed.Items, steps.Key{App: "app", Item: it})
	}
	record(journal.Line{Event: journal.EventPacked}, packed)
	record(journal.Line{Event: journal.EventRetired, Item: "retired"}, steps.Retired{})
	k.Close()
	if k, err = kit.Open(dir); err != nil { // without its passphrase
		t.Fatal(err)
	}
	l.Run, l.Since = run.New(k, l.Host), Quick
	now, err := l.Now(t.Context(), c)
	fatal.If(t, err)
	Close(now.Places)
	want := []string{"unknown whether changed changed (its size, times or permissions differ; a comparison needs the passphrase)", "new changed (it is new and not sealed yet)", "gone changed (it no longer exists)",
		"certificate changed (it no longer exists)", "lifts@2024 no longer exists"}
	if !slices.Equal(now.Facts.Drift.OldChanged, want) {
		t.Errorf("%s\nand not\n%s", strings.Join(now.Facts.Drift.OldChanged, "\n"), strings.Join(want, "\n"))
	}
	l.Since = Thorough
	if now, err = l.Now(t.Context(), c); err != nil || len(now.Facts.Drift.OldChanged) != len(want)+2 { // the same ones are not taken for it
		t.Errorf("thoroughly: %q, %v", now.Facts.Drift.OldChanged, err)
	}
	Close(now.Places)
	l.Since = Nothing
	if now, err = l.Now(t.Context(), c); err != nil || now.Facts.Drift.OldChanged != nil {
		t.Errorf("not looked at: %q, %v", now.Facts.Drift.OldChanged, err)
	}
	Close(now.Places)
	if got := changed(&now.Places[0], &item.Drift{Rows: []steps.Row{{What: "files", Old: "1", New: "1", Same: true}, {What: "bytes", Old: "1", New: "2"}, {What: "more", Old: "3", New: "4"}}}); got != "same changed (bytes: then 1, now 2)" {
		t.Error(got)
	}
}

// TestDamagedRegistry surveys a disk on which the registry of one user is damaged. That user is named, and
// the data of the others is found.
func TestDamagedRegistry(t *testing.T) {
	root := lay.Disk(t, "windows", map[string]string{"Users/maren/AppData/Roaming/Tide/a": "1", "Users/maren/NTUSER.DAT": "no registry", "Users/zoe/AppData/Roaming/Tide/b": "2", "ProgramData/Tide/c": "3"})
	a := surveyed(t, root, "card: 1\nname: tide\ntitle: Tide\nitems:\n  - {name: settings, kind: folder, path: '%APPDATA%\\Tide'}\n  - {name: data, kind: folder, path: '%PROGRAMDATA%\\Tide'}\n  - {name: seat, kind: registry, key: 'HKCU\\Software\\Tide', optional: true}\n")
	state := map[string]item.State{}
	for i, p := range a.Places {
		state[p.Label()] = a.Items[i].State
	}
	if state["settings of zoe"] != item.IsHere || state["data"] != item.IsHere || state["settings of maren"] != item.IsHere || state["seat of maren"] != item.NotReached {
		t.Errorf("%v", state)
	}
	if got := fmt.Sprint(a.Facts.Pack.Unreadable); !strings.Contains(got, "seat of maren: cannot read the registry key") || !strings.Contains(got, "NTUSER.DAT") {
		t.Errorf("%s", got)
	}
}

// TestNeedsOfAUser has a file that one user needs and only another has.
func TestNeedsOfAUser(t *testing.T) {
	root := lay.Disk(t, "linux", map[string]string{"home/maren/.tide/a": "1", "home/zoe/.tide/b": "2", "home/zoe/tide.key": "3"})
	a := surveyed(t, root, "card: 1\nname: tide\ntitle: Tide\nitems:\n  - {name: data, kind: folder, path: ~/.tide, needs: [key]}\n  - {name: key, kind: file, path: ~/tide.key}\n")
	if got := strings.Join(a.Facts.Pack.LacksNeed, "; "); got != "data of maren needs key, which is missing" {
		t.Errorf("%q", got)
	}
}

// surveyed surveys the app of a card on the disk at root.
func surveyed(t *testing.T, root, text string) *App {
	t.Helper()
	c, err := card.Parse("tide.yaml", []byte(text))
	fatal.If(t, err)
	computer, err := machine.Open(root)
	fatal.If(t, err)
	l := Scanner{Host: &run.Host{Computer: computer}, Kinds: kinds.All}
	a, err := l.App(t.Context(), c, steps.Facts{})
	fatal.If(t, err)
	t.Cleanup(func() { Close(a.Places) })
	return a
}
