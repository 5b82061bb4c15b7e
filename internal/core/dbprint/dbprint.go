// Package dbprint is what two copies of a database are compared by, of
// whatever engine: the rows of each table as a multiset, the objects of the
// schema, and settings. It depends neither on the order of rows nor on page
// layout, server version, time zone or locale; the engines' packages see to
// that when they write a row's bytes.
package dbprint

import (
	"encoding/binary"
	"fmt"
	"math/bits"
	"slices"
	"strings"

	"movekit/internal/core/card"
	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
)

// Fingerprint is what two copies of a database are compared by.
type Fingerprint struct {
	Engine   string            `json:"engine"` // with its version, for a person
	Tables   []Table           `json:"tables"` // by name
	Schema   []Object          `json:"schema"` // by sort and name
	Settings map[string]string `json:"settings,omitempty"`
	Counts   []Count           `json:"counts,omitempty"` // in the order of the card
}

// Table is one table's share of a fingerprint.
type Table struct {
	Name    string   `json:"name"`
	Rows    int64    `json:"rows"`
	Digest  string   `json:"digest"`            // of its rows as a multiset, 256 bits, hex
	Columns []string `json:"columns,omitempty"` // in the order of a row's cells
	Key     []string `json:"key,omitempty"`     // the columns of its primary key
}

// Object is a part of the schema.
type Object struct {
	Sort   string `json:"sort"` // table, index, view, ...
	Name   string `json:"name"`
	Digest string `json:"digest"` // of its definition
}

// NewObject makes the object of a definition.
func NewObject(sort, name, definition string) Object {
	return Object{sort, name, digest.Of([]byte(definition)).String()}
}

// Count is a figure of the card.
type Count struct {
	Name  string `json:"name"`
	Value int64  `json:"value"`
}

// Print is the fingerprint itself, also of what holds it.
func (f *Fingerprint) Print() *Fingerprint { return f }

// Rows is the number of rows of all tables.
func (f *Fingerprint) Rows() (n int64) {
	for _, t := range f.Tables {
		n += t.Rows
	}
	return n
}

// Sort brings tables and objects into their order.
func (f *Fingerprint) Sort() {
	slices.SortFunc(f.Tables, func(a, b Table) int { return strings.Compare(a.Name, b.Name) })
	slices.SortFunc(f.Schema, func(a, b Object) int {
		return strings.Compare(a.Sort+"\x00"+a.Name+"\x00"+a.Digest, b.Sort+"\x00"+b.Name+"\x00"+b.Digest)
	})
}

// TakeCounts takes the counts of a card; ask returns the number that a query gives.
func (f *Fingerprint) TakeCounts(counts []card.Count, ask func(query string) (int64, error)) error {
	for _, c := range counts {
		n, err := ask(c.Query)
		if err != nil {
			return fault.Wrap(fault.BadCard, err, "the card's count %q cannot be taken", c.Name)
		}
		f.Counts = append(f.Counts, Count{Name: c.Name, Value: n})
	}
	return nil
}

// Table returns the table of that name, or nil.
func (f *Fingerprint) Table(name string) *Table {
	for i := range f.Tables {
		if f.Tables[i].Name == name {
			return &f.Tables[i]
		}
	}
	return nil
}

// Multiset sums hashes modulo 2^256, so that their order does not matter
// while how often each comes does. (Bellare and Micciancio, "A New Paradigm
// for Collision-Free Hashing", 1997, section 5: AdHASH.)
type Multiset struct {
	N   uint64 // hashes added
	sum [4]uint64
}

// Add adds a row's hash.
func (m *Multiset) Add(h digest.Sum) {
	m.N++
	var carry uint64
	for i := range m.sum {
		m.sum[i], carry = bits.Add64(m.sum[i], binary.LittleEndian.Uint64(h[8*i:]), carry)
	}
}

// Digest is the hash of the count and the sum.
func (m *Multiset) Digest() string {
	b := binary.LittleEndian.AppendUint64(nil, m.N)
	for _, w := range m.sum {
		b = binary.LittleEndian.AppendUint64(b, w)
	}
	return digest.Of(b).String()
}

// Diff is one place where two fingerprints differ.
type Diff struct {
	Table string   `json:"table,omitempty"`
	What  string   `json:"what"`
	Rows  []string `json:"rows,omitempty"` // the first rows that differ, at most MaxRows
	// Content says that both have the table, and its rows differ.
	Content bool `json:"-"`
}

// Compare names every table, object, setting and count in which two
// fingerprints differ.
func Compare(old, new *Fingerprint) []Diff {
	var out []Diff
	differ := func(table, format string, args ...any) *Diff {
		out = append(out, Diff{Table: table, What: fmt.Sprintf(format, args...)})
		return &out[len(out)-1]
	}
	for _, o := range old.Tables {
		n := new.Table(o.Name)
		switch {
		case n == nil:
			differ(o.Name, "the table is missing")
		case o.Rows != n.Rows:
			differ(o.Name, "had %d rows, has %d", o.Rows, n.Rows).Content = true
		case o.Digest != n.Digest:
			differ(o.Name, "has as many rows, but not the same ones").Content = true
		}
	}
	for _, t := range new.Tables {
		if old.Table(t.Name) == nil {
			differ(t.Name, "the table was not in what was sealed")
		}
	}
	compareObjects(old.Schema, new.Schema, differ)
	for _, name := range sortedKeys(old.Settings) {
		if was, is := old.Settings[name], new.Settings[name]; was != is {
			differ("", "%s was %s, is %s", name, was, orNothing(is))
		}
	}
	return out
}

// compareObjects names the objects of the schema that differ. Tables that are
// missing as such were told before.
func compareObjects(old, new []Object, differ func(string, string, ...any) *Diff) {
	index := func(objects []Object) map[[2]string]string {
		m := map[[2]string]string{}
		for _, o := range objects {
			m[[2]string{o.Sort, o.Name}] += o.Digest
		}
		return m
	}
	o, n := index(old), index(new)
	for _, obj := range old {
		key := [2]string{obj.Sort, obj.Name}
		was, ok := o[key]
		delete(o, key) // once, where several have one name
		if !ok {
			continue
		}
		is, there := n[key]
		delete(n, key)
		switch {
		case !there:
			differ("", "the %s %s is missing", obj.Sort, obj.Name)
		case was != is:
			differ("", "the %s %s is not defined the same", obj.Sort, obj.Name)
		}
	}
	for _, obj := range new {
		key := [2]string{obj.Sort, obj.Name}
		if _, extra := n[key]; extra {
			delete(n, key)
			differ("", "the %s %s was not in what was sealed", obj.Sort, obj.Name)
		}
	}
}

func sortedKeys(m map[string]string) []string {
	var out []string
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

func orNothing(s string) string {
	if s == "" {
		return "not set"
	}
	return s
}
