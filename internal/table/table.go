// Package table lays out plain tables for terminals and text files.
package table

import (
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
)

// Mark is how a cell is coloured.
type Mark int

// The marks.
const (
	Plain Mark = iota
	Good
	Bad
	Note
	Faint
)

var colours = map[Mark]text.Colors{
	Good: {text.FgGreen}, Bad: {text.FgRed, text.Bold}, Note: {text.FgYellow}, Faint: {text.Faint},
}

// Paint colours a text where colour is wanted.
func Paint(s string, m Mark, colour bool) string {
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

// Table is a table being filled.
type Table struct {
	Head   []string
	Right  []int // columns that are aligned to the right
	Width  int   // of the terminal, in characters; 0 where there is none
	Colour bool
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

// String lays the table out. The last column is wrapped to the width, unless it holds
// paths, which are to be copied whole.
func (t *Table) String() string {
	if room := t.lastRoom(); t.Paths && room > 0 {
		return t.withPathsBelow()
	}
	return t.render()
}

// withPathsBelow writes each path below its row.
func (t *Table) withPathsBelow() string {
	last := len(t.Head) - 1
	short := &Table{Head: t.Head[:last], Right: t.Right, Colour: t.Colour}
	for _, row := range t.rows {
		short.rows = append(short.rows, row[:min(last, len(row))])
	}
	lines := strings.Split(strings.TrimSuffix(short.render(), "\n"), "\n")
	head := len(lines) - len(t.rows)
	var b strings.Builder
	for i, l := range lines {
		b.WriteString(l + "\n")
		if i < head || len(t.rows[i-head]) <= last {
			continue
		}
		if path, _ := t.rows[i-head][last].(string); path != "" {
			b.WriteString("  " + path + "\n")
		}
	}
	return b.String()
}

func (t *Table) render() string {
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
	w.AppendHeader(head)
	w.AppendRows(t.rows)
	var cols []table.ColumnConfig
	for _, n := range t.Right {
		cols = append(cols, table.ColumnConfig{Number: n, Align: text.AlignRight, AlignHeader: text.AlignRight})
	}
	if room := t.lastRoom(); room > 0 {
		cols = append(cols, table.ColumnConfig{Number: len(t.Head), WidthMax: room, WidthMaxEnforcer: text.WrapSoft})
	}
	w.SetColumnConfigs(cols)
	lines := strings.Split(w.Render(), "\n")
	for i, l := range lines {
		lines[i] = strings.TrimRight(l, " ")
	}
	return strings.Join(lines, "\n") + "\n"
}

// lastRoom is how wide the last column may be; 0 where it need not be
// wrapped.
func (t *Table) lastRoom() int {
	if t.Width == 0 {
		return 0
	}
	used, last := 0, 0
	for i := range t.Head {
		width := text.StringWidthWithoutEscSequences(t.Head[i])
		for _, r := range t.rows {
			if i < len(r) {
				width = max(width, text.LongestLineLen(r[i].(string)))
			}
		}
		if i == len(t.Head)-1 {
			last = width
		} else {
			used += width + 2
		}
	}
	if used+last <= t.Width {
		return 0
	}
	return max(t.Width-used-1, 16)
}
