package report

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/dustin/go-humanize"

	"movekit/internal/core/steps"
	"movekit/internal/table"
)

func mark(r Result) table.Style {
	switch r {
	case Equal:
		return table.Good
	case Different:
		return table.Bad
	}
	return table.Note
}

// Tables returns the tables of items and licences. Each item has one line with its counts or, if
// whole is true, one line per count. width is the terminal width in characters, or 0.
func (r *Report) Tables(width int, colour, whole bool) string {
	t := &table.Table{Head: []string{"app", "item", "result", "what was compared"}, Width: width, Colour: colour, Groups: true}
	if whole {
		t = &table.Table{Head: []string{"app", "item", "what", "old", "new", "result"}, Right: []int{4, 5}, Width: width, Colour: colour, Groups: true}
	}
	var differences []string
	for _, a := range r.Apps {
		app := a.Title
		for _, i := range a.Items {
			if !whole {
				t.Add(app, i.Name(), table.Paint(resultText(i.Result, "same"), mark(i.Result), colour), i.figures())
				app = ""
			} else {
				for _, l := range i.Lines() { // at least one
					t.Add(app, l.Item, l.What, l.Old, l.New, table.Paint(l.Text, mark(l.Mark), colour))
					app = ""
				}
			}
			for _, d := range i.Differing() {
				differences = append(differences, difference(i, colour)+fmt.Sprintf(" %s, %s: %s", a.Title, i.Name(), d))
			}
		}
		if len(a.Items) == 0 {
			cells := make([]string, len(t.Head))
			cells[0], cells[1], cells[slices.Index(t.Head, "result")] = app, "-", table.Paint("not packed", table.Note, colour)
			t.Add(cells...)
		}
	}
	var b strings.Builder
	b.WriteString(t.String())
	for _, d := range differences {
		table.Fprintf(&b, "%s\n", d)
	}
	l := &table.Table{Head: []string{"app", "licence", "old", "new", "transfers left", "result"}, Right: []int{5}, Width: width, Colour: colour, Groups: true}
	for _, a := range r.Apps {
		for _, li := range a.Licences {
			l.Add(a.Title, li.Licence, string(li.Old), string(li.New), li.Left(), table.Paint(li.Text(), mark(li.Result), colour))
		}
	}
	if l.Len() > 0 {
		b.WriteString("\n" + l.String())
	}
	return b.String()
}

// difference returns the start of a line about a difference.
func difference(i Item, colour bool) string {
	if i.Result == Skipped {
		return table.Paint("existing data kept:", table.Note, colour)
	}
	return table.Paint("differs:", table.Bad, colour)
}

// Text returns the handover as plain text, the most important first.
func (r *Report) Text(width int, colour bool) string {
	return r.text(width, colour, r.Notes()) + "\nFigures\n\n" + strings.TrimRight(r.Tables(width, colour, true), "\n") + "\n"
}

// Brief returns the summary, open tasks, metadata that was not restored, and decisions.
func (r *Report) Brief(width int, colour bool) string {
	return r.text(width, colour, slices.DeleteFunc(r.Notes(), func(n Note) bool { return !n.Boxes && n.Title != notKept && n.Title != decidedOn }))
}

func (r *Report) text(width int, colour bool, notes []Note) string {
	var b strings.Builder
	table.Fprintf(&b, "%s\n%sKit %s, written %s\n\n%s\n", strings.ToUpper(r.Title()), table.Block(line(table.Visible(r.Office))), r.Kit,
		r.Written.Local().Format("2 January 2006 15:04"), table.Block(table.Paint(table.Wrap(table.Visible(r.Sentence), width), mark(r.Result), colour)))
	for _, n := range notes {
		table.Fprintf(&b, "\n%s\n", n.Title)
		box := "- "
		if n.Boxes {
			box = "[ ] "
		}
		for _, l := range n.Lines {
			table.Fprintf(&b, "%s\n", table.Block(table.Hanging("  "+box, l, width)))
		}
	}
	return b.String()
}

// line returns a text with a newline, or "".
func line(s string) string {
	if s == "" {
		return ""
	}
	return s + "\n"
}

// Note is a list of facts for the owner.
type Note struct {
	Title string
	Boxes bool // show a tick box for each
	Moved bool // a list of moved data, which a page shows as a table
	Lines []string
}

// Titles of notes in every form of the handover.
const (
	notKept   = "Not kept"
	decidedOn = "Decisions"
)

// Notes returns the lists: moved data, apps that did not move, manual steps, data that is not on the new computer, the
// state of the old computer and the kit, and decisions.
func (r *Report) Notes() []Note {
	moved, stayed := Note{Title: "What moved", Moved: true}, Note{Title: "Not moved"}
	hand, absent, left := Note{Title: "Manual steps", Boxes: true}, Note{Title: "Not found on " + r.Old.Name}, Note{Title: "Left behind"}
	unkept, aside, old, decided := Note{Title: notKept}, Note{Title: "Set aside on " + r.New.Name}, Note{Title: "On " + r.Old.Name}, Note{Title: decidedOn}
	for _, o := range r.Owned() {
		line := o.App + ": " + o.Figures + " (" + o.Result + ")"
		if o.Licences != "" {
			line += "; licence " + o.Licences
		}
		moved.Lines = append(moved.Lines, line)
	}
	for _, a := range r.Apps {
		switch {
		case r.moved(a):
		case len(a.Items) == 0:
			stayed.Lines = append(stayed.Lines, a.Title+": nothing was packed")
		default:
			stayed.Lines = append(stayed.Lines, a.Title+": packed, but not unpacked on "+r.New.Name)
		}
		for _, s := range []struct {
			to    *Note
			lines []string
		}{{&hand, a.ByHand}, {&left, a.LeftBehind}, {&absent, a.Absent}, {&unkept, a.Unkept}, {&old, a.Retired}} {
			for _, l := range s.lines {
				s.to.Lines = append(s.to.Lines, a.Title+": "+l)
			}
		}
		if len(a.StillThere) > 0 {
			old.Lines = append(old.Lines, a.Title+": still in place, so that people could continue to use it: "+strings.Join(a.StillThere, ", "))
		}
		aside.Lines = append(aside.Lines, a.SetAside...)
	}
	for _, o := range r.Overrides {
		decided.Lines = append(decided.Lines, fmt.Sprintf("gate %s of %s on %s: %s. Reason given: %s", o.Gate, o.App, o.Computer, o.Why, o.Because))
	}
	if slices.ContainsFunc(r.Apps, func(a App) bool { return len(a.Retired) > 0 }) {
		old.Lines = append(old.Lines, r.OldData())
	}
	back := Note{Title: "Back to the old computer"}
	if b := r.TakenBack; b != nil {
		back.Lines = append(back.Lines, fmt.Sprintf("since %s the kit %s takes this move back to %s", steps.Moment(b.At), b.Kit, r.Old.Name))
	}
	if r.Backs != "" {
		back.Lines = append(back.Lines, fmt.Sprintf("this takes the move of the kit %s back: %s is the computer that was replaced by %s", r.Backs, r.New.Name, r.Old.Name))
	}
	who := Note{Title: "Who did what", Lines: r.who()}
	stick := Note{Title: "The kit", Lines: []string{"it still holds the office's data, encrypted; `movekit close` empties it"}}
	if c := r.Closed; c != nil {
		stick.Lines = []string{"it is closed: the key is destroyed, and the sealed data is removed"}
		if c.Because != "" {
			stick.Lines = append(stick.Lines, "the move was given up: "+c.Because)
		}
	}
	var out []Note
	for _, n := range []Note{back, moved, stayed, hand, absent, left, unkept, old, aside, decided, who, stick} {
		if len(n.Lines) > 0 {
			out = append(out, n)
		}
	}
	return out
}

// who lists the steps that each technician did on each computer.
func (r *Report) who() (out []string) {
	type at struct{ by, computer string }
	did := map[at][]string{}
	var order []at
	for _, w := range r.Work {
		key := at{w.By, w.Computer}
		if did[key] == nil {
			order = append(order, key)
		}
		did[key] = append(did[key], string(w.Step))
	}
	for _, key := range order {
		out = append(out, fmt.Sprintf("%s on %s: %s", key.by, key.computer, strings.Join(did[key], ", ")))
	}
	return out
}

// Owned is the summary of an app for the owner.
type Owned struct {
	App, Figures, Licences, Result string
	Mark                           Result
}

// moved reports whether something of an app is on the new computer. For a safety copy, all apps
// count.
func (r *Report) moved(a App) bool {
	return r.Keep || slices.ContainsFunc(a.Items, func(i Item) bool { return i.To != "" }) ||
		slices.ContainsFunc(a.Licences, func(l Licence) bool { return l.Result != Open })
}

// Owned returns the summaries of the apps that moved, for the owner.
func (r *Report) Owned() (out []Owned) {
	for _, a := range r.Apps {
		if !r.moved(a) {
			continue
		}
		o := Owned{App: strings.TrimSpace(a.Title + " " + a.Version), Figures: a.content(), Result: a.summary(), Mark: a.Result}
		if len(a.Items) == 0 {
			o.Figures, o.Result = "nothing was packed", "-"
		}
		var licences []string
		for _, l := range a.Licences {
			licences = append(licences, fmt.Sprintf("%s: %s on %s", l.Licence, l.New, r.New.Name))
		}
		if o.Licences = strings.Join(licences, ", "); a.Opened != "" {
			o.Result += "; opened: " + a.Opened
		}
		out = append(out, o)
	}
	return out
}

// OldData describes where the old computer's data is; "" for a safety copy, and if nothing moved.
func (r *Report) OldData() string {
	retired := slices.ContainsFunc(r.Apps, func(a App) bool { return len(a.Retired) > 0 })
	switch {
	case r.Keep || !slices.ContainsFunc(r.Apps, r.moved):
		return ""
	case retired:
		return "The data set aside on " + r.Old.Name + " stays there, under other names, until you remove it."
	}
	return "The data on " + r.Old.Name + " is still in place: nobody should continue to use it."
}

// summary summarises the results of an app.
func (a App) summary() string {
	by := map[Result][]string{}
	for _, i := range a.Items {
		by[i.Result] = append(by[i.Result], i.Name())
	}
	var parts []string
	if len(by[Equal]) > 0 {
		parts = append(parts, "the same")
	}
	for _, p := range []struct {
		r    Result
		what string
	}{{Different, "DIFFERENT"}, {Open, "not verified yet"}, {Skipped, "existing data kept"}} {
		if names := by[p.r]; len(names) > 0 {
			parts = append(parts, strings.Join(names, ", ")+" ("+p.what+")")
		}
	}
	return strings.Join(parts, "; ")
}

// content describes the moved data by the counts that the office recognises, added up over several
// items, or by the items' names.
func (a App) content() string {
	var order, plain []string
	sums, parts := map[string][]string{}, map[string]int{}
	values := map[string]int64{}
	for _, i := range a.Items {
		name, _, many := strings.Cut(i.Item, "@")
		counted := false
		for _, row := range i.Rows {
			n, err := strconv.ParseInt(row.New, 10, 64)
			if err != nil || !slices.Contains(i.counts, row.What) {
				continue
			}
			counted = true
			key := name + "\x00" + row.What
			if !slices.Contains(sums[name], row.What) {
				sums[name] = append(sums[name], row.What)
			}
			values[key] += n
		}
		switch {
		case !counted:
			plain = append(plain, i.Name())
			continue
		case !slices.Contains(order, name):
			order = append(order, name)
		}
		if many {
			parts[name]++
		}
	}
	var out []string
	for _, name := range order {
		var figures []string
		for _, what := range sums[name] {
			figures = append(figures, humanize.Comma(values[name+"\x00"+what])+" "+what)
		}
		text := name + ": " + strings.Join(figures, ", ")
		if parts[name] > 1 {
			text += fmt.Sprintf(" in %d parts", parts[name])
		}
		out = append(out, text)
	}
	if len(plain) > 0 {
		out = append(out, strings.Join(plain, ", "))
	}
	return strings.Join(out, "; ")
}
