// Package table lays out plain tables for terminals and text files.
package table

import (
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
)

// Style is the colour of a cell.
type Style int

// The styles.
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

// Paint colours a text if colour is true.
func Paint(s string, m Style, colour bool) string {
	if c, ok := colours[m]; ok && colour {
		return c.EscapeSeq() + s + text.Reset.EscapeSeq()
	}
	return s
}

// Wrap breaks a text into lines of at most width characters, between words. Width 0 does not wrap.
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

// Within wraps the lines of a text that are wider than width, and indents the continuation. A long
// word, such as a path, is not broken.
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

// Flow rewraps the paragraphs of a text that have a line wider than width. A paragraph with
// indented lines or columns stays as it is.
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

// LaidOut reports whether a paragraph has indented lines or columns.
func LaidOut(paragraph string) bool {
	return slices.ContainsFunc(strings.Split(paragraph, "\n"), func(l string) bool { return strings.HasPrefix(l, " ") || strings.Contains(l, "   ") })
}

// Hanging writes a text after lead, with its further lines indented. All of it is made visible.
func Hanging(lead, s string, width int) string {
	s = Visible(s)
	if width > 0 {
		s = Wrap(s, max(width-len(lead), 20))
	}
	return lead + strings.ReplaceAll(s, "\n", "\n"+strings.Repeat(" ", len(lead)))
}

// Table is a table to be filled.
type Table struct {
	Head   []string
	Right  []int // right-aligned columns
	Width  int   // terminal width in characters; 0 for none
	Colour bool
	Groups bool // rows belong to the text in the first column, which becomes a heading if the table is too wide
	Paths  bool // the last column has paths: a path that does not fit gets its own line
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

// Len returns the number of rows.
func (t *Table) Len() int { return len(t.rows) }

// String lays out the table within the terminal width. If it is too wide, groups become headings,
// paths go below their rows so that they can be copied, and then the widest text columns are
// wrapped.
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

// inGroup is the indentation of rows below a heading.
const inGroup = "  "

// take removes a column, and returns its cells.
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

// Limits for narrow text columns, in characters. A column is at least as wide as its longest word,
// unless that is very long.
const (
	minColumn = 8
	maxWord   = 20
)

// widths returns the widths of the columns.
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

// total returns the width of a table with given columns.
func (*Table) total(widths []int) (sum int) {
	for _, w := range widths {
		sum += w + 2
	}
	return sum - 1 // the renderer ends a row with a space
}

// fitted returns the rows with the widest columns wrapped.
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

// render writes the table, with the lines above and below each row. A line above that repeats the
// previous one is left out.
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
		for _, l := range lines[:n] { // nothing is left of a row whose only cell is below it
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
