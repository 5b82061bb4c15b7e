package report

import (
	"fmt"
	"slices"
	"strings"

	"movekit/internal/core/item"
	"movekit/internal/core/steps"
	"movekit/internal/core/survey"
	"movekit/internal/table"
)

// Fact is one fact of a survey, in the words of the terminal and of the page.
type Fact struct {
	Item  string      // the item that it is about, as Whose names it; "" for the app
	Label string      // such as note; "" if the text needs none
	Style table.Style // of the label
	Text  string
	More  []string // further lines
	Box   bool     // it is something to do
}

// Line returns the fact as lines for a terminal.
func (f Fact) Line(colour bool) table.Block {
	out := "  " + table.Visible(f.Text) + "\n"
	if f.Label != "" {
		out = table.Paint(table.Visible(f.Label)+":", f.Style, colour) + " " + out[2:]
	}
	for _, more := range f.More {
		out += "  " + table.Visible(more) + "\n"
	}
	return table.Block(out)
}

// Whose returns the name of an item, with its user if there is one.
func Whose(item, user string) string {
	if user == "" {
		return item
	}
	return item + " of " + user
}

// Facts returns everything that a survey found out about an app, besides the table of its items. advice returns what to do about a
// gate of the app.
func Facts(a *survey.App, advice func(gate, app string) string) []Fact {
	return append(found(a), stops(a, advice)...)
}

// found returns the facts about an app's data and licences.
func found(a *survey.App) []Fact {
	out := Changes(a)
	about := func(i item.Inspection, label string, style table.Style, lead string, texts ...string) {
		for _, text := range texts {
			out = append(out, Fact{Item: Whose(i.Item, i.User), Label: label, Style: style, Text: lead + text})
		}
	}
	for _, i := range a.Items {
		name := Whose(i.Item, i.User)
		about(i, "", 0, name+" depends on ", i.Needs...)
		if i.PathSetting != "" {
			about(i, "", 0, name+": path from ", i.PathSetting)
		}
		about(i, "", 0, name+": ", i.Details...)
		if len(i.OpenBy) > 0 {
			about(i, "", 0, name+" is open in ", strings.Join(i.OpenBy, ", ")+map[bool]string{true: "; it is copied from a snapshot"}[i.InUse])
		}
		about(i, "unreadable", table.Bad, "", i.Unreadable...)
	}
	for _, l := range a.Licences {
		out = append(out, Fact{Label: "licence " + l.Licence, Text: licenceText(l), More: l.Seen})
		for _, d := range l.Warnings {
			out = append(out, Fact{Label: "note", Style: table.Note, Text: d})
		}
	}
	for _, s := range a.Sync {
		f := Fact{Label: "sync", Text: s.About + ": finished"}
		if !s.Finished {
			f.Style, f.Text = table.Bad, s.About+": "+s.Why
		}
		out = append(out, f)
	}
	for _, r := range a.Requires {
		out = append(out, Fact{Label: "needed on the new computer too", Text: r.Name, Box: true})
	}
	for _, args := range a.Withheld {
		out = append(out, Fact{Label: "note", Style: table.Note, Text: "only a command of the app reports its version, and it was not run: " + strings.Join(args, " ")})
	}
	for _, i := range a.Items {
		about(i, "note", table.Note, "", i.Warnings...)
	}
	for _, i := range a.Items {
		about(i, "left out of "+Whose(i.Item, i.User), 0, "", i.LeftOut...)
		about(i, "left behind", 0, Whose(i.Item, i.User)+": ", i.Left...)
	}
	for _, left := range a.LeftBehind {
		out = append(out, Fact{Label: "left behind", Text: left})
	}
	for _, hand := range a.ByHand {
		out = append(out, Fact{Label: "by hand", Text: hand, Box: true})
	}
	return out
}

// stops returns what would stop a pack of an app.
func stops(a *survey.App, advice func(gate, app string) string) (out []Fact) {
	for _, b := range a.Blocks {
		f := Fact{Label: "would stop the pack (" + b.Gate + ")", Style: table.Bad, Text: b.Why}
		if next := advice(b.Gate, a.App); next != "" {
			f.More = []string{"next: " + next}
		}
		out = append(out, f)
	}
	return out
}

// licenceText describes a licence on this computer.
func licenceText(l survey.Licence) string {
	info := l.Method.Info()
	serial := info.Serial + " " + l.Serial
	switch {
	case !info.Sealed():
		return info.About
	case l.Typed:
		serial = "typed in during the pack"
	case l.Serial == "":
		serial = "not found"
	case strings.Contains(info.About, info.Serial):
		return serial
	}
	return info.About + ", " + serial
}

// Changes says which items of an app changed since they were sealed.
func Changes(a *survey.App) (out []Fact) {
	same := map[string][]string{} // by the time of their pack
	var times []string
	for _, i := range a.Items {
		d, name := i.Since, Whose(i.Item, i.User)
		if d == nil {
			continue
		}
		at := steps.Moment(d.Sealed)
		switch {
		case d.Same:
			if !slices.Contains(times, at) {
				times = append(times, at)
			}
			same[at] = append(same[at], name)
		case d.Why != "":
			out = append(out, Fact{Item: name, Label: "note", Style: table.Note, Text: fmt.Sprintf("unknown whether %s changed since the pack (%s): %s", name, at, d.Why)})
		default:
			f := Fact{Item: name, Label: "changed", Style: table.Bad, Text: fmt.Sprintf("%s, since the pack (%s)", name, at)}
			for _, r := range d.Rows {
				switch {
				case r.Same:
				case r.What == steps.ContentRow:
					f.More = append(f.More, "content: "+r.New)
				default:
					f.More = append(f.More, fmt.Sprintf("%s: then %s, now %s", r.What, r.Old, r.New))
				}
			}
			f.More = append(f.More, d.Diffs...)
			if more := d.Count - int64(len(d.Diffs)); more > 0 && len(d.Diffs) > 0 {
				f.More = append(f.More, fmt.Sprintf("and %d more", more))
			}
			out = append(out, f)
		}
	}
	for _, at := range times {
		out = append(out, Fact{Label: "unchanged since the pack (" + at + ")", Text: strings.Join(same[at], ", ")})
	}
	return out
}

// sheetApp is an app on the page of a survey.
type sheetApp struct {
	*survey.App
	facts []Fact
	Stops []Fact // for the head of its section
}

// About returns the facts about one item.
func (a sheetApp) About(i item.Inspection) []Fact {
	return a.which(func(f Fact) bool { return f.Item == Whose(i.Item, i.User) })
}

// Others returns the facts about the app as a whole: with boxes those that are to be done, and without the rest.
func (a sheetApp) Others(boxes bool) []Fact {
	return a.which(func(f Fact) bool { return f.Item == "" && f.Box == boxes })
}

func (a sheetApp) which(is func(Fact) bool) []Fact {
	return slices.DeleteFunc(slices.Clone(a.facts), func(f Fact) bool { return !is(f) })
}

// Sheet returns a survey as a page with tick boxes.
func Sheet(s *survey.Survey, tool string, advice func(gate, app string) string) ([]byte, error) {
	var apps []sheetApp
	for i := range s.Apps {
		apps = append(apps, sheetApp{&s.Apps[i], found(&s.Apps[i]), stops(&s.Apps[i], advice)})
	}
	return page("survey.html", struct {
		*survey.Survey
		Tool   string
		Sheets []sheetApp
	}{s, tool, apps})
}
