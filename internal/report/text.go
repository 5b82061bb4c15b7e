package report

import (
	"fmt"
	"strings"

	"movekit/internal/table"
)

// resultText is the result as a person reads it.
func resultText(r Result, equal string) string {
	switch r {
	case Equal:
		return equal
	case Different:
		return "DIFFERS"
	}
	return "not verified"
}

func mark(r Result) table.Mark {
	switch r {
	case Equal:
		return table.Good
	case Different:
		return table.Bad
	}
	return table.Note
}

// Tables returns the table of items and that of licences. width is that of
// the terminal in characters, or 0.
func (r *Report) Tables(width int, colour bool) string {
	t := &table.Table{Head: []string{"app", "item", "what", "old", "new", "result"}, Right: []int{4, 5}, Width: width, Colour: colour}
	var differences []string
	for _, a := range r.Apps {
		app := a.Title
		for _, i := range a.Items {
			item := i.Name()
			for _, row := range i.Rows {
				result := Equal
				if !row.Same {
					result = Different
				}
				t.Add(app, item, row.What, row.Old, row.New, table.Paint(resultText(result, "same"), mark(result), colour))
				app, item = "", ""
			}
			if len(i.Rows) == 0 {
				t.Add(app, item, "", "", "", table.Paint(resultText(Open, ""), table.Note, colour))
				app = ""
			}
			for _, d := range i.Differences {
				differences = append(differences, fmt.Sprintf("%s, %s: %s", a.Title, i.Name(), d))
			}
			if more := i.Count - int64(len(i.Differences)); more > 0 {
				differences = append(differences, fmt.Sprintf("%s, %s: %d more", a.Title, i.Name(), more))
			}
		}
		if len(a.Items) == 0 {
			t.Add(app, "-", "", "", "", table.Paint("not packed", table.Note, colour))
		}
	}
	var b strings.Builder
	b.WriteString(t.String())
	for _, d := range differences {
		fmt.Fprintf(&b, "%s %s\n", table.Paint("differs:", table.Bad, colour), d)
	}
	l := &table.Table{Head: []string{"app", "licence", "old", "new", "transfers left", "result"}, Right: []int{5}, Width: width, Colour: colour}
	for _, a := range r.Apps {
		for _, li := range a.Licences {
			left := fmt.Sprint(li.Transfers)
			if li.Transfers < 0 {
				left = "?"
			}
			l.Add(a.Title, li.Licence, string(li.Old), string(li.New), left, table.Paint(resultText(li.Result, "moved"), mark(li.Result), colour))
		}
	}
	if l.Len() > 0 {
		b.WriteString("\n" + l.String())
	}
	return b.String()
}

// Text returns the hand-over as plain text.
func (r *Report) Text(width int, colour bool) string {
	var b strings.Builder
	fmt.Fprintf(&b, "HAND-OVER: %s to %s\nKit %s, written %s\n\n%s\n\n", r.Old.Name, r.New.Name, r.Kit,
		r.Written.Local().Format("2 January 2006 15:04"), table.Paint(table.Wrap(r.Sentence, width), mark(r.Result), colour))
	b.WriteString(r.Tables(width, colour))
	section := func(title string, lines []string) {
		if len(lines) > 0 {
			fmt.Fprintf(&b, "\n%s\n", title)
			for _, l := range lines {
				fmt.Fprintf(&b, "  - %s\n", l)
			}
		}
	}
	for _, n := range r.Notes() {
		section(n.Title, n.Lines)
	}
	return strings.TrimRight(b.String(), "\n") + "\n"
}

// Note is a list of things that the owner should know.
type Note struct {
	Title string
	Lines []string
}

// Notes returns what is to be done by hand, what was left behind, what was
// set aside, and which gates were overridden.
func (r *Report) Notes() []Note {
	hand, left, aside, absent, over := Note{Title: "To be done by hand"}, Note{Title: "Left behind"}, Note{Title: "Set aside on " + r.New.Name}, Note{Title: "Not found on " + r.Old.Name}, Note{Title: "Gates overridden"}
	for _, a := range r.Apps {
		for _, s := range a.ByHand {
			hand.Lines = append(hand.Lines, a.Title+": "+s)
		}
		for _, s := range a.LeftBehind {
			left.Lines = append(left.Lines, a.Title+": "+s)
		}
		for _, s := range a.Absent {
			absent.Lines = append(absent.Lines, a.Title+": "+s)
		}
		aside.Lines = append(aside.Lines, a.SetAside...)
	}
	for _, o := range r.Overrides {
		over.Lines = append(over.Lines, fmt.Sprintf("%s of %s on %s: %s. Reason given: %s", o.Gate, o.App, o.Computer, o.Why, o.Because))
	}
	var out []Note
	for _, n := range []Note{hand, absent, left, aside, over} {
		if len(n.Lines) > 0 {
			out = append(out, n)
		}
	}
	return out
}
