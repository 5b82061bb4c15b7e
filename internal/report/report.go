// Package report writes the handover of a move from the kit's journal: as HTML, JSON and text.
// docs/report-json.md describes the JSON.
package report

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"movekit/internal/core/bytejson"
	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/kit"
	"movekit/internal/core/licence"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
)

// Version is the version of the report's JSON.
const Version = 1

// Result is the result of a move, or of a part of it.
type Result string

// The results.
const (
	Equal     Result = "equal"
	Different Result = "different"
	Open      Result = "open"    // not verified yet
	Skipped   Result = "skipped" // it differs as expected, because the user kept the existing data
)

// Report is the handover.
type Report struct {
	Version   int                  `json:"report"`
	Written   time.Time            `json:"written"`
	Kit       string               `json:"kit"`
	Tool      string               `json:"tool"`
	Old       kit.Computer         `json:"old"`
	New       kit.Computer         `json:"new"`
	Result    Result               `json:"result"`
	Sentence  string               `json:"sentence"`
	Apps      []App                `json:"apps"`
	Overrides []steps.Override     `json:"overridden_gates"`
	Office    string               `json:"office,omitempty"`
	Keep      bool                 `json:"safety_copy,omitempty"`
	Closed    *kit.Closed          `json:"closed,omitempty"`
	Backs     string               `json:"takes_back,omitempty"` // id of the kit whose move this one takes back
	TakenBack *steps.TakenBack     `json:"taken_back,omitempty"`
	Work      []steps.Contribution `json:"work,omitempty"` // who did what, if technicians gave their names
	part      bool                 // it does not cover every app in the kit
	stays     []string             // data that stays where it is, but has changed
	notices   []File               // for the vendors of licences
}

// App is one application's part of the handover.
type App struct {
	App        string    `json:"app"`
	Title      string    `json:"title"`
	Vendor     string    `json:"vendor,omitempty"`
	Version    string    `json:"version,omitempty"` // on the old computer
	Result     Result    `json:"result"`
	Items      []Item    `json:"items"`
	Licences   []Licence `json:"licences"`
	Absent     []string  `json:"absent"`
	LeftBehind []string  `json:"left_behind"`
	SetAside   []string  `json:"set_aside"`    // on the new computer
	Unkept     []string  `json:"not_restored"` // owners and file metadata that could not be restored
	Retired    []string  `json:"retired"`      // on the old computer: set aside, or removed
	StillThere []string  `json:"not_retired"`
	ByHand     []string  `json:"by_hand"`
	Opened     string    `json:"opened,omitempty"` // who checked in the app that its data is there, and when

	of string // which part of it a run has covered; "" for all
}

// Item is one item's part.
type Item struct {
	Item        string      `json:"item"`
	User        string      `json:"user,omitempty"`
	Packed      time.Time   `json:"packed"`
	Files       int64       `json:"files"`
	Bytes       int64       `json:"bytes"`
	To          string      `json:"to,omitempty"`
	Result      Result      `json:"result"`
	Rows        []steps.Row `json:"rows"`
	Differences []string    `json:"differences"`
	Count       int64       `json:"difference_count"`

	counts []string // names of the counts that the office knows
}

// Licence is one licence's part.
type Licence struct {
	Licence   string        `json:"licence"`
	Old       licence.State `json:"old"`
	New       licence.State `json:"new"`
	Transfers int           `json:"transfers_left"` // -1 if unknown
	Used      int           `json:"transfers_used"`
	By        string        `json:"seen_by,omitempty"`
	Seen      *time.Time    `json:"seen,omitempty"`
	Result    Result        `json:"result"`
}

// Build returns the handover.
func Build(m kit.Manifest, cards []*card.Card, s *steps.State) *Report {
	r := &Report{Version: Version, Written: time.Now().UTC().Truncate(time.Second), Kit: m.ID, Tool: m.Tool, Old: m.Old, New: s.New, Overrides: s.Overrides, Closed: s.Closed, Office: m.Office, Keep: m.Keep, Backs: m.Back, TakenBack: s.Back, Work: s.Contributions}
	if r.Overrides == nil {
		r.Overrides = []steps.Override{}
	}
	for _, c := range s.Cards(cards) {
		r.Apps = append(r.Apps, r.app(c, s))
	}
	r.conclude()
	return r
}

// Title returns the title.
func (r *Report) Title() string {
	if r.Keep {
		return "Safety copy of " + r.Old.Name
	}
	return "Handover: " + r.Old.Name + " to " + r.New.Name
}

// Only restricts the report to one run: apps that were stopped are left out, and in apps that
// failed, the items that were not reached.
func (r *Report) Only(did []*run.Outcome) {
	all := len(r.Apps)
	seen := map[string]*run.Outcome{}
	for _, o := range did {
		if len(o.Blocks) > 0 {
			continue
		}
		seen[o.App] = o
		for _, i := range o.Items {
			if i.Did == "stays" && !i.Equal {
				r.stays = append(r.stays, fmt.Sprintf("%s of %s (%s)", i.Item, o.Title, strings.Join(i.Diffs, ", ")))
			}
		}
	}
	r.Apps = slices.DeleteFunc(r.Apps, func(a App) bool { return seen[a.App] == nil })
	r.part = len(r.Apps) < all
	for i := range r.Apps {
		a := &r.Apps[i]
		items := len(a.Items)
		if a.cut(seen[a.App]); len(a.Items) < items {
			r.part = true
			a.of = fmt.Sprintf("%s (%d of %s)", a.Title, len(a.Items), count(items, "item"))
		}
	}
	r.conclude()
}

// cut removes apps and items that a run did not reach or that were not selected.
func (a *App) cut(o *run.Outcome) {
	a.Items = slices.DeleteFunc(a.Items, func(i Item) bool {
		return !slices.ContainsFunc(o.Items, func(s run.ItemOutcome) bool { return s.Item == i.Item && s.User == i.User })
	})
	a.Licences = slices.DeleteFunc(a.Licences, func(l Licence) bool {
		return !slices.ContainsFunc(o.Licences, func(s run.LicenceOutcome) bool { return s.Licence == l.Licence })
	})
	if o.Err != nil {
		a.Result = worse(a.Result, Open)
		return
	}
	a.Result = Equal
	for _, i := range a.Items {
		a.Result = worse(a.Result, i.Result)
	}
	for _, l := range a.Licences {
		a.Result = worse(a.Result, l.Result)
	}
	if o.Opened != nil && o.Opened.NotChecked == "" && !o.Opened.Good {
		a.Result = Different
	}
}

func (r *Report) app(c *card.Card, s *steps.State) App {
	a := App{App: c.Name, Title: c.Title, Vendor: c.Vendor, Result: Equal, Items: []Item{}, Licences: []Licence{}, Absent: []string{}, Unkept: []string{}, Retired: []string{}, StillThere: []string{}, LeftBehind: append([]string{}, c.LeftBehind...), SetAside: append([]string{}, s.Asides[c.Name]...), ByHand: append([]string{}, c.ByHand...)}
	if p := s.Packed[c.Name]; p != nil {
		a.Version, a.Absent = p.Version, append(a.Absent, p.Absent...)
		for _, label := range p.NotChosen {
			a.LeftBehind = append(a.LeftBehind, label+": not selected for the pack")
		}
		for _, stay := range p.Stays {
			a.LeftBehind = append(a.LeftBehind, fmt.Sprintf("%s stays where it is, %s: %s", stay.Item, stay.Kind.Info().StaysAt, stay.Address))
			a.ByHand = append(a.ByHand, fmt.Sprintf("Make sure that %s opens %s at %s", c.Title, stay.Item, stay.Address))
		}
	} else {
		a.Result = Open
	}
	if o := s.Opened[c.Name]; o != nil {
		a.Opened = fmt.Sprintf("%s, at %s", o, steps.Moment(o.At))
		if !o.Good {
			a.Result = Different
		}
	} else if c.Opens != nil && s.Packed[c.Name] != nil {
		a.ByHand = append(a.ByHand, "Make sure that it opens with its data: this was not checked yet")
	}
	for _, it := range s.AppItems(c.Name) {
		i := Item{Item: it.Key.Item, User: it.Key.User, Packed: it.SealedAt, Files: it.Sealed.Files, Bytes: it.Sealed.Bytes, Result: Open, Rows: []steps.Row{}, Differences: []string{}}
		name, _, _ := strings.Cut(it.Key.Item, "@")
		if of := c.Item(name); of != nil {
			for _, n := range of.Counts {
				i.counts = append(i.counts, n.Name)
			}
		}
		if it.Placed != nil {
			i.To = it.Placed.To
			for _, n := range it.Placed.Notes {
				a.ByHand = append(a.ByHand, i.Name()+": "+n)
			}
			if it.Placed.ManualStep != "" && !it.Checked.Good() {
				a.ByHand = append(a.ByHand, i.Name()+": "+it.Placed.ManualStep)
			}
			for _, n := range it.Placed.NotRestored {
				a.Unkept = append(a.Unkept, i.Name()+": "+n)
			}
		}
		a.retired(i, it)
		if it.Checked != nil {
			i.Rows, i.Count, i.Result = it.Checked.Rows, it.Checked.Count, Different
			i.Differences = append(i.Differences, it.Checked.Diffs...)
			switch {
			case it.Checked.Equal:
				i.Result = Equal
			case it.Checked.Skipped:
				i.Result = Skipped
			}
			for _, n := range it.Checked.Notes {
				a.ByHand = append(a.ByHand, "Correct the paths: "+n)
			}
		}
		for _, l := range it.Sealed.LeftOut {
			a.LeftBehind = append(a.LeftBehind, i.Name()+", left out by the card: "+l)
		}
		for _, l := range it.Sealed.Left {
			a.LeftBehind = append(a.LeftBehind, i.Name()+": "+l)
		}
		if more := it.Sealed.LeftCount - len(it.Sealed.Left); more > 0 {
			a.LeftBehind = append(a.LeftBehind, fmt.Sprintf("%s: %d more", i.Name(), more))
		}
		a.Items = append(a.Items, i)
		a.Result = worse(a.Result, i.Result)
	}
	for _, l := range c.Licences {
		if s.Keep {
			break // a safety copy does not change licences
		}
		st := s.Standing(c, &l, nil, s.Last)
		li := Licence{Licence: l.Name, Old: st.Old, New: st.New, Transfers: st.Left, Used: st.Used, Result: Open}
		switch st.Proven {
		case steps.Yes:
			li.Result = Equal
		case steps.Bad:
			li.Result = Different
		}
		if known := s.Licence(c.Name, l.Name); known.Seen != nil {
			li.By, li.Seen = known.Seen.By, &known.SeenAt
			if known.Seen.CopyProblem != "" {
				li.By += ", but " + known.Seen.CopyProblem
			}
		}
		if l.Notice != "" && li.Result == Equal {
			f := notice(c, l, s)
			r.notices = append(r.notices, f)
			a.ByHand = append(a.ByHand, "Send the vendor the notice "+f.Name)
		}
		a.Licences = append(a.Licences, li)
		a.Result = worse(a.Result, li.Result)
	}
	if c.Sole() && !s.SyncOff[c.Name] && !s.Keep {
		a.ByHand = append(a.ByHand, fmt.Sprintf("Only one copy may sync: make sure that nobody signs in to %s on %s", c.Title, s.Old.Name))
	}
	return a
}

// retired adds the item's state on the old computer.
func (a *App) retired(i Item, it *steps.Item) {
	switch r := it.Retired; {
	case it.Removed != nil:
		a.Retired = append(a.Retired, fmt.Sprintf("%s was permanently removed (%s)", i.Name(), it.Removed.Because))
	case r != nil && r.To != "":
		a.Retired = append(a.Retired, fmt.Sprintf("%s was set aside: %s", i.Name(), r.To))
	case r == nil:
		a.StillThere = append(a.StillThere, i.Name())
	}
}

// Name returns the item's name with its user.
func (i Item) Name() string {
	if i.User == "" {
		return i.Item
	}
	return i.Item + " of " + i.User
}

// worse returns the result that matters more.
func worse(a, b Result) Result {
	for _, r := range []Result{Different, Open, Skipped} {
		if a == r || b == r {
			return r
		}
	}
	return Equal
}

// conclude summarises the apps in one sentence.
func (r *Report) conclude() {
	r.Result = Equal
	items, licences, both := 0, 0, 0
	var left []string
	var differ, open, titles []string
	var first, last time.Time
	for _, a := range r.Apps {
		for _, i := range a.Items {
			if i.Result == Skipped {
				left = append(left, a.Title+"'s "+i.Name())
			}
			if first.IsZero() || i.Packed.Before(first) {
				first = i.Packed
			}
			if i.Packed.After(last) {
				last = i.Packed
			}
		}
		r.Result = worse(r.Result, a.Result)
		items += len(a.Items)
		licences += len(a.Licences)
		for _, l := range a.Licences {
			if l.Old == licence.Active {
				both++
			}
		}
		titles = append(titles, cmp.Or(a.of, a.Title))
		switch a.Result {
		case Different:
			differ = append(differ, a.Title)
		case Open:
			open = append(open, a.Title)
		}
	}
	of := ""
	if r.part {
		of = " of " + strings.Join(titles, ", ")
	}
	switch {
	case len(r.Apps) == 0:
		r.Result, r.Sentence = Open, "The kit has no apps."
	case len(differ) > 0 && r.New.Name == "":
		r.Sentence = fmt.Sprintf("There are differences from what was packed on %s: see %s.", r.Old.Name, strings.Join(differ, ", "))
	case len(differ) > 0:
		r.Sentence = fmt.Sprintf("There are differences between %s and %s: see %s.", r.Old.Name, r.New.Name, strings.Join(differ, ", "))
	case len(r.stays) > 0:
		r.Result = Different
		r.Sentence = fmt.Sprintf("Something differs from %s: %s.", r.Old.Name, strings.Join(r.stays, "; "))
	case len(open) > 0:
		r.Sentence = fmt.Sprintf("Not everything is verified yet: see %s.", strings.Join(open, ", "))
	default:
		kept, where := strings.Join(left, ", "), cmp.Or(r.New.Name, r.Old.Name) // a safety copy is verified on the same computer
		switch same := count(items-len(left), "item"); {
		case len(left) == 0:
			r.Sentence = fmt.Sprintf("Everything%s that was packed on %s%s is on %s and identical (%s)", of, r.Old.Name, asSealed(first, last), where, same)
		case items == len(left):
			r.Sentence = fmt.Sprintf("Nothing%s was put on %s: as you chose, the existing data was kept (%s)", of, where, kept)
		default:
			r.Sentence = fmt.Sprintf("The data packed%s on %s%s is on %s and identical (%s), except where you chose to keep existing data (%s)", of, r.Old.Name, asSealed(first, last), where, same, kept)
		}
		switch {
		case both > 0:
			r.Sentence += fmt.Sprintf("; every licence is active on %s (%s), and %d of them on %s too, as its rule allows", r.New.Name, count(licences, "licence"), both, r.Old.Name)
		case licences > 0:
			r.Sentence += fmt.Sprintf("; every licence is active on %s and no longer on %s (%s)", r.New.Name, r.Old.Name, count(licences, "licence"))
		}
		r.Sentence += "."
	}
}

// asSealed describes the time of the pack that was verified.
func asSealed(first, last time.Time) string {
	switch a, b := steps.Moment(first), steps.Moment(last); {
	case first.IsZero():
		return ""
	case a == b:
		return ", as sealed at " + a + ","
	default:
		return ", as sealed from " + a + " to " + b + ","
	}
}

func count(n int, word string) string {
	if n == 1 {
		return "1 " + word
	}
	return humanize.Comma(int64(n)) + " " + word + "s"
}

// File is one form of the handover.
type File struct {
	Name string
	Data []byte
}

// Files returns the handover in every form.
func (r *Report) Files() ([]File, error) {
	asJSON, err := json.MarshalIndent(bytejson.Escaped(r), "", "  ")
	if err != nil {
		return nil, fault.Wrap(fault.Internal, err, "cannot write the handover")
	}
	asHTML, err := r.HTML()
	if err != nil {
		return nil, fault.Wrap(fault.Internal, err, "cannot write the handover")
	}
	return append([]File{
		{"handover.html", asHTML},
		{"handover.json", append(asJSON, '\n')},
		{"handover.txt", []byte(r.Text(0, false))},
	}, r.notices...), nil
}

// notice returns the card's text for a licence's vendor.
func notice(c *card.Card, l card.Licence, s *steps.State) File {
	st := s.Licence(c.Name, l.Name)
	day := func(t time.Time) string { return t.Local().Format("2 January 2006") }
	text := strings.NewReplacer("{app}", c.Title, "{licence}", l.Name, "{old}", st.From.Name, "{new}", s.New.Name, "{deactivated}", day(st.OldAt), "{activated}", day(st.NewAt)).Replace(l.Notice)
	return File{"notice-" + c.Name + "-" + l.Name + ".txt", []byte(strings.TrimSpace(text) + "\n")}
}
