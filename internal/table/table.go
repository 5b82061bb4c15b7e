// Package table lays out plain tables for terminals and text files.
package table

import (
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
)

// Mark is how a cell is coloured.
type Style int

// The marks.
const (
	Plain Style = iota
	Good
	Bad
	Note
	Faint
)

var colours = map[Style]text.Colors{
	Good: {text.FgGreen}, Bad: {text.FgRed, text.Bold}, Note: {text.FgYellow}, Faint: {text.Faint},
}

// Paint colours a text where colour is wanted.
func Paint(s string, m Style, colour bool) string {
	if c, ok := colours[m]; ok && colour {
		return c.EscapeSeq() + s + text.Reset.EscapeSeq()
	}
	return s
}

// Wrap breaks a text between words into lines of at most width characters;
// width 0 leaves it as it is.
func Wrap(s string, width int) string {
	if width == 0 {
		return s
	}
	lines := strings.Split(text.WrapSoft(s, width), "\n")
	for i, l := range lines {
		lines[i] = strings.TrimRight(l, " ")
	}
	return strings.Join(lines, "\n")
}

// Within breaks each line of a text between words where it is wider than width; what is broken
// goes on further in. A word, such as a path, stays whole however long it is.
func Within(s string, width int) string {
	if width == 0 {
		return s
	}
	lines := strings.Split(s, "\n")
	for i, l := range lines {
		lead := l[:len(l)-len(strings.TrimLeft(l, " "))]
		at := 0
		var b strings.Builder
		for n, word := range strings.Split(l[len(lead):], " ") {
			wide := text.StringWidthWithoutEscSequences(word)
			switch {
			case n == 0:
				b.WriteString(lead)
				at = len(lead)
			case at+1+wide > width:
				b.WriteString("\n" + lead + "  ")
				at = len(lead) + 2
			default:
				b.WriteString(" ")
				at++
			}
			b.WriteString(word)
			at += wide
		}
		lines[i] = b.String()
	}
	return strings.Join(lines, "\n")
}

// Flow breaks the paragraphs of a text anew where they have a line wider than width. A
// paragraph that is laid out, with lines further in or columns, stays as it is.
func Flow(s string, width int) string {
	paragraphs := strings.Split(s, "\n\n")
	for i, p := range paragraphs {
		lines := strings.Split(p, "\n")
		wide := slices.ContainsFunc(lines, func(l string) bool { return text.StringWidthWithoutEscSequences(l) > width })
		if width > 0 && wide && !LaidOut(p) {
			paragraphs[i] = Wrap(strings.Join(lines, " "), width)
		}
	}
	return strings.Join(paragraphs, "\n\n")
}

// LaidOut reports whether a paragraph has lines further in, or columns.
func LaidOut(paragraph string) bool {
	return slices.ContainsFunc(strings.Split(paragraph, "\n"), func(l string) bool { return strings.HasPrefix(l, " ") || strings.Contains(l, "   ") })
}

// Hanging writes a text behind a lead, its further lines below its first; all of it is made
// visible.
func Hanging(lead, s string, width int) string {
	s = Visible(s)
	if width > 0 {
		s = Wrap(s, max(width-len(lead), 20))
	}
	return lead + strings.ReplaceAll(s, "\n", "\n"+strings.Repeat(" ", len(lead)))
}

// Table is a table being filled.
type Table struct {
	Head   []string
	Right  []int // columns that are aligned to the right
	Width  int   // of the terminal, in characters; 0 where there is none
	Colour bool
	Groups bool // rows belong to what is in the first column, which is written above them where the table is too wide
	Paths  bool // the last column holds paths: where one does not fit, each has a line of its own
	rows   []table.Row
}

// Add adds a row.
func (t *Table) Add(cells ...string) {
	row := make(table.Row, len(cells))
	for i, c := range cells {
		row[i] = Visible(c)
	}
	t.rows = append(t.rows, row)
}

// AddLines adds a row whose last cell may have several lines.
func (t *Table) AddLines(last Block, cells ...string) {
	t.Add(append(cells, "")...)
	t.rows[len(t.rows)-1][len(cells)] = visible(string(last), "\n")
}

// Len is the number of rows.
func (t *Table) Len() int { return len(t.rows) }

// String lays the table out, no wider than the terminal. Where it is: what rows belong to goes
// above them, paths go below their rows, to be copied whole, and then the widest columns of
// words are wrapped.
func (t *Table) String() string {
	narrow := &Table{Head: t.Head, Right: t.Right, Width: t.Width, Colour: t.Colour, rows: t.rows}
	wide := func() bool { return t.Width > 0 && narrow.total(narrow.widths()) > t.Width }
	var above, below []string
	if last := len(narrow.Head) - 1; t.Paths && wide() {
		below = narrow.take(last)
	}
	if t.Groups && wide() {
		above = narrow.take(0)
		narrow.Width -= len(inGroup)
	}
	return narrow.render(above, below)
}

// inGroup is what rows that belong to what stands above them begin with.
const inGroup = "  "

// take takes a column out, and returns its cells.
func (t *Table) take(n int) (cells []string) {
	t.Head = slices.Delete(slices.Clone(t.Head), n, n+1)
	right := []int{}
	for _, r := range t.Right {
		if r-1 < n {
			right = append(right, r)
		} else if r-1 > n {
			right = append(right, r-1)
		}
	}
	t.Right = right
	rows := make([]table.Row, len(t.rows))
	for i, row := range t.rows {
		cell := ""
		if rows[i] = slices.Clone(row); n < len(row) {
			cell, _ = row[n].(string)
			rows[i] = slices.Delete(rows[i], n, n+1)
		}
		cells = append(cells, cell)
	}
	t.rows = rows
	return cells
}

// Bounds of how narrow a column of words may become, in characters: as its longest word, so
// that none is broken, but for very long ones.
const (
	minColumn = 8
	maxWord   = 20
)

// widths are those of the columns as they are.
func (t *Table) widths() []int {
	out := make([]int, len(t.Head))
	for i, h := range t.Head {
		out[i] = text.StringWidthWithoutEscSequences(h)
		for _, r := range t.rows {
			if i < len(r) {
				out[i] = max(out[i], text.LongestLineLen(r[i].(string)))
			}
		}
	}
	return out
}

// total is the width of a table with such columns.
func (*Table) total(widths []int) (sum int) {
	for _, w := range widths {
		sum += w + 2
	}
	return sum - 1 // the renderer ends a row with a space
}

// fitted are the rows with the widest columns wrapped.
func (t *Table) fitted() []table.Row {
	natural := t.widths()
	widths, least := slices.Clone(natural), make([]int, len(natural))
	for i, h := range t.Head {
		least[i] = max(minColumn, text.StringWidthWithoutEscSequences(h))
		for _, r := range t.rows {
			if i < len(r) {
				for _, word := range strings.Fields(r[i].(string)) {
					least[i] = max(least[i], min(maxWord, text.StringWidthWithoutEscSequences(word)))
				}
			}
		}
	}
	for t.Width > 0 && t.total(widths) > t.Width {
		widest := -1
		for i, w := range widths {
			if !slices.Contains(t.Right, i+1) && w > least[i] && (widest < 0 || w >= widths[widest]) {
				widest = i
			}
		}
		if widest < 0 {
			break
		}
		widths[widest]--
	}
	out := make([]table.Row, len(t.rows))
	for i, r := range t.rows {
		out[i] = slices.Clone(r)
		for c := range r {
			if widths[c] < natural[c] {
				out[i][c] = Wrap(r[c].(string), widths[c])
			}
		}
	}
	return out
}

// render writes the table, with a line above and below each row where it has one; what
// is above the row before as well is not said again.
func (t *Table) render(above, below []string) string {
	w := table.NewWriter()
	w.SetStyle(table.Style{
		Box:     table.BoxStyle{MiddleHorizontal: "─", MiddleSeparator: "─", MiddleVertical: " ", PaddingRight: " "},
		Options: table.Options{SeparateHeader: true, SeparateColumns: true},
		Format:  table.FormatOptions{Header: text.FormatDefault},
	})
	head := make(table.Row, len(t.Head))
	for i, h := range t.Head {
		head[i] = h
	}
	rows := t.fitted()
	w.AppendHeader(head)
	w.AppendRows(rows)
	var cols []table.ColumnConfig
	for _, n := range t.Right {
		cols = append(cols, table.ColumnConfig{Number: n, Align: text.AlignRight, AlignHeader: text.AlignRight})
	}
	w.SetColumnConfigs(cols)
	lines := strings.Split(w.Render(), "\n")
	var b strings.Builder
	lead := ""
	if above != nil {
		lead = inGroup
	}
	write := func(n int) {
		for _, l := range lines[:n] { // of a row whose only cell goes below it, nothing is left
			if l = strings.TrimRight(lead+l, " "); l != "" || below == nil {
				b.WriteString(l + "\n")
			}
		}
		lines = lines[n:]
	}
	write(min(2, len(lines)))
	said := ""
	for i, r := range rows {
		if above != nil && above[i] != "" && above[i] != said {
			said = above[i]
			b.WriteString(said + "\n")
		}
		high := 1
		for _, c := range r {
			high = max(high, 1+strings.Count(c.(string), "\n"))
		}
		write(min(high, len(lines)))
		if below != nil && below[i] != "" {
			b.WriteString(lead + "  " + below[i] + "\n")
		}
	}
	write(len(lines))
	return b.String()
}
