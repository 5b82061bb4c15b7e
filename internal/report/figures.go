package report

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/dustin/go-humanize"

	"movekit/internal/core/steps"
)

// Line is one line of the figures, in the words of every form of the handover.
type Line struct {
	Item     string // "" if the line above is about the same item
	What     string
	Old, New string
	Text     string // the result
	Mark     Result
}

// Lines returns one line for each count of an item. An item that is not verified has one line.
func (i Item) Lines() (out []Line) {
	name := i.Name()
	for _, row := range i.Rows {
		l := Line{name, row.What, figure(row, row.Old), figure(row, row.New), "", Equal}
		switch {
		case row.Same:
		case i.Result == Skipped:
			l.Mark = Skipped
		default:
			l.Mark = Different
		}
		l.Text = resultText(l.Mark, "same")
		out = append(out, l)
		name = ""
	}
	if len(out) == 0 {
		out = append(out, Line{Item: name, What: "packed " + steps.Moment(i.Packed), Old: count(int(i.Files), "file") + ", " + humanize.Bytes(uint64(max(i.Bytes, 0))), Text: resultText(Open, ""), Mark: Open})
	}
	return out
}

// Differing returns the differences of an item as lines, and how many more there are.
func (i Item) Differing() []string {
	out := slices.Clone(i.Differences)
	if more := i.Count - int64(len(out)); more > 0 {
		out = append(out, fmt.Sprintf("%d more", more))
	}
	return out
}

// Text returns the result of a licence's move.
func (l Licence) Text() string { return resultText(l.Result, "moved") }

// Left returns how many transfers are left.
func (l Licence) Left() string {
	if l.Transfers < 0 {
		return "unknown"
	}
	return strconv.Itoa(l.Transfers)
}

// resultText returns a result for display.
func resultText(r Result, equal string) string {
	switch r {
	case Equal:
		return equal
	case Different:
		return "DIFFERS"
	case Skipped:
		return "existing data kept"
	}
	return "not verified"
}

// figure formats a value of a row; a number gets thousands separators.
func figure(row steps.Row, text string) string {
	if n, err := strconv.ParseInt(text, 10, 64); err == nil && !row.Text {
		return humanize.Comma(n)
	}
	return text
}

// figures formats an item's counts in one line.
func (i Item) figures() string {
	var out []string
	for _, row := range i.Rows {
		n, err := strconv.ParseInt(row.New, 10, 64)
		what := row.What
		if n == 1 && slices.Contains([]string{"files", "tables", "rows", "records", "keys", "values"}, what) {
			what = strings.TrimSuffix(what, "s")
		}
		switch {
		case !row.Same:
			out = append(out, fmt.Sprintf("%s: then %s, now %s", row.What, figure(row, row.Old), figure(row, row.New)))
		case row.What == steps.ContentRow: // the result already says whether it is the same
		case row.What == "profile":
			out = append(out, "the same profile")
		case row.Text:
			out = append(out, row.What+" "+row.New)
		case row.What == "bytes" && err == nil:
			out = append(out, humanize.Bytes(uint64(n)))
		case n == 1 && err == nil && what == row.What: // a count of the card, in any language
			out = append(out, what+": 1")
		case err == nil:
			out = append(out, humanize.Comma(n)+" "+what)
		default:
			out = append(out, strings.TrimSpace(row.What+" "+row.New))
		}
	}
	return strings.Join(out, ", ")
}
