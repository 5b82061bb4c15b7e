// Package dbprint compares two copies of a database of any engine.
//
// An engine's package fills a Fingerprint for each copy: the rows of each table as a Multiset, the
// objects of the schema, and settings. Compare returns how two fingerprints differ, and DiffRows
// which rows do.
//
// A fingerprint does not depend on row order, page layout, server version, time zone or locale:
// engines write a row's bytes in the same way everywhere.
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

// Fingerprint is the data for comparing two copies of a database.
type Fingerprint struct {
	Engine   string            `json:"engine"` // with its version
	Tables   []Table           `json:"tables"` // by name
	Schema   []Object          `json:"schema"` // by sort and name
	Settings map[string]string `json:"settings,omitempty"`
	Counts   []Count           `json:"counts,omitempty"` // in card order
	Unseen   []string          `json:"unseen,omitempty"` // kinds of objects that the login cannot see
}

// Table is the fingerprint of one table.
type Table struct {
	Name    string   `json:"name"`
	Rows    int64    `json:"rows"`
	Digest  string   `json:"digest"`            // digest of its rows as a multiset, 256 bits, hex
	Columns []string `json:"columns,omitempty"` // in cell order
	Key     []string `json:"key,omitempty"`     // columns of the primary key
}

// Object is a part of the schema.
type Object struct {
	Sort     string `json:"sort"` // kind: table, index, view, ...
	Name     string `json:"name"`
	Digest   string `json:"digest"`          // of its definition, as the engine writes it
	Loose    string `json:"loose,omitempty"` // of the part that stays the same when an engine loads it and writes it again; "" if everything does
	Reported bool   `json:"told,omitempty"`  // the user gets a note about it, and may change it later
}

// NewObject returns the object for a definition. loose is the part that stays the same when an
// engine loads it and writes it again, such as without added brackets.
func NewObject(sort, name, definition, loose string) Object {
	o := Object{Sort: sort, Name: name, Digest: short128(definition)}
	if loose != definition {
		o.Loose = short128(loose)
	}
	return o
}

// short128 returns the first half of a digest. That is enough where nobody gains from a collision.
func short128(text string) string { return digest.Of([]byte(text)).String()[:32] }

// key identifies an object within a database.
func (o Object) key() string { return o.Sort + " " + o.Name }

// Rewritten returns the objects that the engine writes differently after loading them, by kind and
// name, with their new digests. made is the fingerprint of the loaded database before anybody used
// it. Objects that differ for another reason are not included. Between different engine versions
// only names can be compared.
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

// objects returns the objects of a schema by key. Objects with the same key are combined.
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

// Count is the result of a count in the card.
type Count struct {
	Name  string `json:"name"`
	Value int64  `json:"value"`
}

// Print returns f. Types that embed Fingerprint inherit it.
func (f *Fingerprint) Print() *Fingerprint { return f }

// AddTable adds a table with the digest of its rows. rows calls each with every row, in the form that is hashed. progress gets their
// lengths in bytes; nil if nobody listens.
func (f *Fingerprint) AddTable(t Table, progress func(int64), rows func(each func(row []byte) error) error) error {
	var sum Multiset
	err := rows(func(row []byte) error {
		sum.Add(digest.Of(row))
		if progress != nil {
			progress(int64(len(row)))
		}
		return nil
	})
	if err == nil {
		t.Rows, t.Digest = int64(sum.N), sum.Digest()
		f.Tables = append(f.Tables, t)
	}
	return err
}

// Rows returns the number of rows of all tables.
func (f *Fingerprint) Rows() (n int64) {
	for _, t := range f.Tables {
		n += t.Rows
	}
	return n
}

// Sort sorts tables and objects.
func (f *Fingerprint) Sort() {
	slices.SortFunc(f.Tables, func(a, b Table) int { return strings.Compare(a.Name, b.Name) })
	slices.SortFunc(f.Schema, func(a, b Object) int {
		return strings.Compare(a.Sort+"\x00"+a.Name+"\x00"+a.Digest, b.Sort+"\x00"+b.Name+"\x00"+b.Digest)
	})
}

// QueryTime is the time limit for a query in a card.
const QueryTime = time.Minute

// Limited runs a card's query with QueryTime as its limit, or less if ctx ends earlier.
func Limited(ctx context.Context, query string, ask func(context.Context) (int64, error)) (int64, error) {
	ctx, cancel := context.WithTimeout(ctx, QueryTime)
	defer cancel()
	n, err := ask(ctx)
	if err != nil && ctx.Err() == context.DeadlineExceeded {
		return 0, fault.New(fault.BadCard, "the query was stopped, because it took longer than %s: %s", QueryTime, query)
	}
	return n, err
}

// RunCounts fills in the counts of a card. ask returns the result of a query.
func (f *Fingerprint) RunCounts(counts []card.Count, ask func(query string) (int64, error)) error {
	for _, c := range counts {
		n, err := ask(c.Query)
		if kind := fault.KindOf(err); kind == fault.ServerDown || kind == fault.Stopped {
			return err
		}
		if err != nil {
			return fault.Wrap(fault.BadCard, err, "the card's count %q failed", c.Name)
		}
		f.Counts = append(f.Counts, Count{Name: c.Name, Value: n})
	}
	return nil
}

// Table returns the table with that name, or nil.
func (f *Fingerprint) Table(name string) *Table {
	for i := range f.Tables {
		if f.Tables[i].Name == name {
			return &f.Tables[i]
		}
	}
	return nil
}

// Multiset sums hashes modulo 2^256, so that their order does not matter, but their number does.
// (Bellare and Micciancio, "A New Paradigm for Collision-Free Hashing", 1997, section 5: AdHASH.)
type Multiset struct {
	N   uint64 // number of hashes
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

// Digest returns the hash of the count and the sum.
func (m *Multiset) Digest() string {
	b := binary.LittleEndian.AppendUint64(nil, m.N)
	for _, w := range m.sum {
		b = binary.LittleEndian.AppendUint64(b, w)
	}
	return digest.Of(b).String()
}

// Diff is one difference between two fingerprints.
type Diff struct {
	Table string   `json:"table,omitempty"`
	What  string   `json:"what"`
	Rows  []string `json:"rows,omitempty"` // the first differing rows, at most MaxRows
	// Content is true if both have the table, with different rows.
	Content bool `json:"-"`
}

// Compare returns how two fingerprints differ. remade lists the objects that may also be as the new
// computer's engine writes them after loading.
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
			differ(o.Name, "has the same number of rows, but different ones").Content = true
		}
	}
	for _, t := range new.Tables {
		if old.Table(t.Name) == nil {
			differ(t.Name, "the table was not in the sealed data")
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

// compareObjects compares the objects of two schemas.
func compareObjects(old, new []Object, remade map[string]string, differ func(string, string, ...any) *Diff) {
	was, is := objects(old), objects(new)
	for _, o := range old {
		o, ok := was[o.key()]
		if !ok {
			continue // reported already
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
			differ("", "%s: the definition differs", o.key())
		}
	}
	for _, o := range new {
		if _, extra := is[o.key()]; extra {
			delete(is, o.key())
			differ("", "%s: was not in the sealed data", o.key())
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
