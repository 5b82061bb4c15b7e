// Package dbprint compares two copies of a database of any engine.
//
// An engine's package fills a Fingerprint on each side: the rows of each table as a Multiset, the objects of the schema,
// and settings. Compare returns how two fingerprints differ, and DiffRows which rows do.
//
// A fingerprint does not depend on the order of rows, page layout, server version, time zone or locale: engines write
// a row's bytes so that they are the same everywhere.
package dbprint

import (
	"cmp"
	"context"
	"encoding/binary"
	"fmt"
	"math/bits"
	"slices"
	"strings"
	"time"

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
	Unseen   []string          `json:"unseen,omitempty"` // sorts of objects that the login may not see
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
	Sort     string `json:"sort"` // table, index, view, ...
	Name     string `json:"name"`
	Digest   string `json:"digest"`          // of its definition, as the engine writes it
	Loose    string `json:"loose,omitempty"` // of what stays of it when an engine loads it and writes it again; "" where all does
	Reported bool   `json:"told,omitempty"`  // it is told to a person what to do about it, who may do that later
}

// NewObject makes the object of a definition. loose is what stays of it when an
// engine loads it and writes it again: such as without brackets that were added.
func NewObject(sort, name, definition, loose string) Object {
	o := Object{Sort: sort, Name: name, Digest: short128(definition)}
	if loose != definition {
		o.Loose = short128(loose)
	}
	return o
}

// short128 is the first half of a digest: enough for what nobody makes up against
// himself.
func short128(text string) string { return digest.Of([]byte(text)).String()[:32] }

// key tells an object from others of a database.
func (o Object) key() string { return o.Sort + " " + o.Name }

// Remade returns the objects that the engine writes otherwise after they were
// loaded, by sort and name, with the digests of what it writes then. made is the
// fingerprint of what was loaded, before anybody worked in it. What is otherwise
// for another reason is not among them. Between different versions of an engine
// nothing but the names can be held against each other.
func (f *Fingerprint) Rewritten(made *Fingerprint) map[string]string {
	out := map[string]string{}
	was, is := objects(f.Schema), objects(made.Schema)
	for key, o := range was {
		n, there := is[key]
		if !there && o.Reported {
			out[key] = ""
		}
		if there && n.Digest != o.Digest && (f.Engine != made.Engine || n.Loose == o.Loose && n.Loose != "") {
			out[key] = n.Digest
		}
	}
	return out
}

// objects are those of a schema by their keys; what has one name counts as one.
func objects(schema []Object) map[string]Object {
	strict, loose := map[string][]string{}, map[string][]string{}
	m := make(map[string]Object, len(schema))
	for _, o := range schema {
		key := o.key()
		m[key], strict[key], loose[key] = o, append(strict[key], o.Digest), append(loose[key], cmp.Or(o.Loose, o.Digest))
	}
	for key, o := range m {
		slices.Sort(strict[key])
		slices.Sort(loose[key])
		o.Digest, o.Loose = strings.Join(strict[key], ""), strings.Join(loose[key], "")
		m[key] = o
	}
	return m
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

// QueryTime is how long a card's query may take.
const QueryTime = time.Minute

// Limited asks a card's query, which has QueryTime, and less where ctx ends before that.
func Limited(ctx context.Context, query string, ask func(context.Context) (int64, error)) (int64, error) {
	ctx, cancel := context.WithTimeout(ctx, QueryTime)
	defer cancel()
	n, err := ask(ctx)
	if err != nil && ctx.Err() == context.DeadlineExceeded {
		return 0, fault.New(fault.BadCard, "the query took longer than it may (%s), and was stopped: %s", QueryTime, query)
	}
	return n, err
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

// Compare names every table, object and setting in which two fingerprints differ.
// remade are the objects that may also be as the new computer's engine wrote them
// when they were loaded.
func Compare(old, new *Fingerprint, remade map[string]string) []Diff {
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
		case !slices.Equal(o.Columns, n.Columns):
			differ(o.Name, "had the columns %s, has %s", strings.Join(o.Columns, ", "), strings.Join(n.Columns, ", "))
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
	seen := func(all []Object) []Object {
		return slices.DeleteFunc(slices.Clone(all), func(o Object) bool { return slices.Contains(old.Unseen, o.Sort) || slices.Contains(new.Unseen, o.Sort) })
	}
	compareObjects(seen(old.Schema), seen(new.Schema), remade, differ)
	for _, name := range sortedKeys(old.Settings) {
		if was, is := old.Settings[name], new.Settings[name]; was != is {
			differ("", "%s was %s, is %s", name, was, orNothing(is))
		}
	}
	return out
}

// compareObjects names the objects of the schema that differ.
func compareObjects(old, new []Object, remade map[string]string, differ func(string, string, ...any) *Diff) {
	was, is := objects(old), objects(new)
	for _, o := range old {
		o, ok := was[o.key()]
		if !ok {
			continue // told already
		}
		delete(was, o.key())
		n, there := is[o.key()]
		delete(is, o.key())
		switch {
		case !there:
			if digest, told := remade[o.key()]; !told || digest != "" {
				differ("", "%s: missing", o.key())
			}
		case o.Digest != n.Digest && remade[o.key()] != n.Digest:
			differ("", "%s: not defined the same", o.key())
		}
	}
	for _, o := range new {
		if _, extra := is[o.key()]; extra {
			delete(is, o.key())
			differ("", "%s: was not in what was sealed", o.key())
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
