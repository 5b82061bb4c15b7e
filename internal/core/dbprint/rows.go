package dbprint

import (
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"strings"

	"movekit/internal/core/digest"
)

// Masked replaces values that must not be shown.
const Masked = "•••"

// MaxRows limits the differing rows that are listed per table.
const MaxRows = 20

// maxHashes limits the rows of a table in which differing rows are searched. 8 bytes are kept for
// each.
const maxHashes = 8 << 20

// Row is one row: the hash of its bytes, and a function for its cells as text.
type Row struct {
	Hash  digest.Sum
	Cells func() []string
}

// Rows calls each for every row of one table, in any order.
type Rows func(each func(Row) error) error

// ErrMany means that a table has too many rows to search for differing ones.
var ErrMany = errors.New("the table has too many rows to list those that differ")

// DiffRows returns the first rows that are in only one of two tables. It identifies them by key,
// and lists the differing columns if both tables have the key. Cells of masked columns are not
// shown.
func DiffRows(t Table, old, new Rows, masked func(column string) bool) ([]string, error) {
	onlyOld, err := beside(old, new, MaxRows)
	if err != nil {
		return nil, err
	}
	onlyNew, err := beside(new, old, 1000)
	if err != nil {
		return nil, err
	}
	d := differ{table: t, masked: masked}
	for _, k := range t.Key {
		d.key = append(d.key, slices.Index(t.Columns, k))
	}
	if slices.Contains(d.key, -1) {
		d.key = nil
	}
	byKey := map[string][]string{}
	for _, cells := range onlyNew {
		byKey[d.keyOf(cells)] = cells
	}
	var out []string
	for _, cells := range onlyOld {
		key := d.keyOf(cells)
		now, both := byKey[key]
		switch {
		case len(d.key) == 0:
			out = append(out, "missing: "+d.show(cells, nil))
		case both:
			delete(byKey, key)
			out = append(out, d.name(cells)+": "+d.columns(cells, now))
		default:
			out = append(out, d.name(cells)+": the row is missing")
		}
	}
	for _, cells := range onlyNew {
		key := d.keyOf(cells)
		if _, extra := byKey[key]; !extra || len(out) >= MaxRows {
			continue
		}
		delete(byKey, key)
		if len(d.key) == 0 {
			out = append(out, "extra: "+d.show(cells, nil))
		} else {
			out = append(out, d.name(cells)+": the row is new")
		}
	}
	return out, nil
}

// beside returns the cells of the first rows of a that b does not have, or has less often.
func beside(a, b Rows, most int) ([][]string, error) {
	var have []uint64
	err := b(func(r Row) error {
		if len(have) == maxHashes {
			return ErrMany
		}
		have = append(have, short(r.Hash))
		return nil
	})
	if err != nil {
		return nil, err
	}
	slices.Sort(have)
	left := make([]uint32, 0, len(have)) // number of occurrences, by index in the compacted list
	for i := range have {
		if i > 0 && have[i] == have[i-1] {
			left[len(left)-1]++
		} else {
			left = append(left, 1)
		}
	}
	have = slices.Compact(have)
	var out [][]string
	err = a(func(r Row) error {
		if i, found := slices.BinarySearch(have, short(r.Hash)); found && left[i] > 0 {
			left[i]--
		} else if len(out) < most {
			out = append(out, slices.Clone(r.Cells()))
		}
		return nil
	})
	return out, err
}

func short(h digest.Sum) uint64 { return binary.LittleEndian.Uint64(h[:8]) }

type differ struct {
	table  Table
	key    []int // indexes of the key's columns
	masked func(string) bool
}

func (d differ) keyOf(cells []string) string {
	if len(d.key) == 0 {
		return strings.Join(cells, "\x00")
	}
	var parts []string
	for _, i := range d.key {
		parts = append(parts, cells[i])
	}
	return strings.Join(parts, "\x00")
}

// name returns a row's key as text.
func (d differ) name(cells []string) string { return d.show(cells, d.key) }

// show returns some cells of a row as text, or all of them.
func (d differ) show(cells []string, which []int) string {
	var parts []string
	for i, c := range d.table.Columns {
		if (which == nil || slices.Contains(which, i)) && i < len(cells) {
			parts = append(parts, c+" "+d.cell(c, cells[i]))
		}
	}
	return strings.Join(parts, ", ")
}

// columns lists the columns in which two rows differ.
func (d differ) columns(old, new []string) string {
	var parts []string
	for i, c := range d.table.Columns {
		if i < len(old) && i < len(new) && old[i] != new[i] {
			parts = append(parts, fmt.Sprintf("%s was %s, is %s", c, d.cell(c, old[i]), d.cell(c, new[i])))
		}
	}
	return strings.Join(parts, "; ")
}

// maxCell limits the shown part of a cell.
const maxCell = 60

func (d differ) cell(column, text string) string {
	if d.masked != nil && d.masked(column) {
		return Masked
	}
	if r := []rune(text); len(r) > maxCell {
		return string(r[:maxCell]) + "…"
	}
	return text
}
