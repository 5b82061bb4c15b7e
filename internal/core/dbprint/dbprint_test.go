package dbprint

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"movekit/internal/core/card"
	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
)

// rows creates the rows of a table from texts with commas between the cells.
func rows(lines ...string) Rows {
	return func(each func(Row) error) error {
		for _, l := range lines {
			if err := each(Row{digest.Of([]byte(l)), func() []string { return strings.Split(l, ",") }}); err != nil {
				return err
			}
		}
		return nil
	}
}

func TestMultiset(t *testing.T) {
	sum := func(lines ...string) string {
		var m Multiset
		for _, l := range lines {
			m.Add(digest.Of([]byte(l)))
		}
		return m.Digest()
	}
	if sum("a", "b", "b") != sum("b", "a", "b") {
		t.Error("the order counts")
	}
	seen := map[string]string{}
	for _, lines := range [][]string{nil, {""}, {"", ""}, {"a"}, {"a", "a"}, {"a", "b"}, {"a", "b", "b"}, {"a", "a", "b"}, {"ab"}, {"b", "b"}} {
		d := sum(lines...)
		if other, same := seen[d]; same {
			t.Errorf("%q and %s have one digest", lines, other)
		}
		seen[d] = fmt.Sprintf("%q", lines)
	}
}

func TestCompare(t *testing.T) {
	object := func(sort, name, text string) Object { return NewObject(sort, name, text, text) }
	base := func() *Fingerprint {
		f := &Fingerprint{
			Tables:   []Table{{Name: "boat", Rows: 2, Digest: "x"}, {Name: "pier", Rows: 1, Digest: "y"}},
			Schema:   []Object{object("table", "boat", "a"), object("index", "i", "b"), object("index", "twice", "1"), object("index", "twice", "2")},
			Settings: map[string]string{"encoding": "UTF8"},
		}
		f.Sort()
		return f
	}
	if d := Compare(base(), base(), nil); len(d) > 0 {
		t.Errorf("the same differ: %+v", d)
	}
	for want, change := range map[string]func(*Fingerprint){
		"pier|the table is missing|false":                           func(f *Fingerprint) { f.Tables = f.Tables[:1] },
		"boat|had 2 rows, has 3|true":                               func(f *Fingerprint) { f.Tables[0].Rows = 3 },
		"boat|has the same number of rows, but different ones|true": func(f *Fingerprint) { f.Tables[0].Digest = "z" },
		"more|the table was not in the sealed data|false":           func(f *Fingerprint) { f.Tables = append(f.Tables, Table{Name: "more"}) },
		"|index i: missing|false":                                   func(f *Fingerprint) { f.Schema = slices.Delete(f.Schema, 0, 1) },
		"|index i: the definition differs|false":                    func(f *Fingerprint) { f.Schema[0] = object("index", "i", "c") },
		"|index twice: the definition differs|false":                func(f *Fingerprint) { f.Schema[1] = object("index", "twice", "3") },
		"|view v: was not in the sealed data|false":                 func(f *Fingerprint) { f.Schema = append(f.Schema, object("view", "v", "")) },
		"boat|had the columns , has id|false":                       func(f *Fingerprint) { f.Tables[0].Columns = []string{"id"} },
		"|encoding was UTF8, is LATIN1|false":                       func(f *Fingerprint) { f.Settings["encoding"] = "LATIN1" },
		"|encoding was UTF8, is not set|false":                      func(f *Fingerprint) { f.Settings = nil },
	} {
		now := base()
		change(now)
		d := Compare(base(), now, nil)
		if len(d) != 1 || fmt.Sprintf("%s|%s|%v", d[0].Table, d[0].What, d[0].Content) != want {
			t.Errorf("want %s: %+v", want, d)
		}
	}
}

// TestUnseen checks that kinds of objects that one side could not see are not compared.
func TestUnseen(t *testing.T) {
	all := func() *Fingerprint {
		return &Fingerprint{Schema: []Object{NewObject("view", "v", "1", "1"), NewObject("role", "clerk", "a", "a")}}
	}
	blind := &Fingerprint{Schema: all().Schema[:1], Unseen: []string{"role"}}
	for _, two := range [][2]*Fingerprint{{all(), blind}, {blind, all()}} {
		if d := Compare(two[0], two[1], nil); len(d) > 0 {
			t.Errorf("%+v", d)
		}
	}
	blind.Unseen = nil
	if len(Compare(all(), blind, nil)) != 1 || len(Compare(blind, all(), nil)) != 1 {
		t.Error("what can be seen is not compared")
	}
}

// TestReportedObjects checks that only objects reported as not movable may be missing.
func TestReportedObjects(t *testing.T) {
	sealed := &Fingerprint{Schema: []Object{NewObject("subscription", "told", "1", "1"), NewObject("subscription", "came", "1", "1"), NewObject("view", "lost", "1", "1")}}
	sealed.Schema[0].Reported, sealed.Schema[1].Reported = true, true
	loaded := &Fingerprint{Schema: sealed.Schema[1:2]}
	remade := sealed.Rewritten(loaded)
	if len(remade) != 1 {
		t.Errorf("noted: %v", remade)
	}
	if d := Compare(sealed, loaded, remade); len(d) != 1 || d[0].What != "view lost: missing" {
		t.Errorf("%+v", d)
	}
	other := NewObject("subscription", "came", "2", "2")
	if d := Compare(sealed, &Fingerprint{Schema: []Object{other, sealed.Schema[2]}}, map[string]string{sealed.Schema[0].key(): "", sealed.Schema[1].key(): other.Digest}); len(d) > 0 {
		t.Errorf("what was noted differs: %+v", d)
	}
	if d := Compare(sealed, &Fingerprint{Schema: sealed.Schema[2:]}, map[string]string{sealed.Schema[0].key(): "", sealed.Schema[1].key(): other.Digest}); len(d) != 1 {
		t.Errorf("what was made otherwise may not be missing: %+v", d)
	}
}

// TestRewritten accepts an object as the engine writes it after loading, and nothing else.
func TestRewritten(t *testing.T) {
	print := func(engine, check, text string) *Fingerprint {
		return &Fingerprint{Engine: engine, Schema: []Object{NewObject("check", "c", text, check), NewObject("view", "v", "SELECT 1", "SELECT 1")}}
	}
	sealed, loaded := print("X 1", "a=1", "(a = 1)"), print("X 1", "a=1", "((a = 1))")
	remade := sealed.Rewritten(loaded)
	if len(remade) != 1 || len(Compare(sealed, loaded, remade)) > 0 || len(Compare(sealed, sealed, remade)) > 0 {
		t.Errorf("%v", remade)
	}
	if len(Compare(sealed, loaded, nil)) != 1 {
		t.Error("what nobody noted is the same")
	}
	if d := Compare(sealed, print("X 1", "a=1", "(((a = 1)))"), remade); len(d) != 1 {
		t.Errorf("another text than the engine wrote is the same: %+v", d)
	}
	if other := print("X 1", "a=2", "((a = 2))"); len(sealed.Rewritten(other)) > 0 {
		t.Error("another check is noted as the same")
	}
	if newer := print("X 2", "a IS 1", "a IS 1"); len(sealed.Rewritten(newer)) != 1 {
		t.Error("what another version writes is not noted")
	}
}

func TestDiffRows(t *testing.T) {
	keyed := Table{Name: "owner", Columns: []string{"id", "name", "phone"}, Key: []string{"id"}}
	free := Table{Name: "log", Columns: []string{"line"}}
	masked := func(c string) bool { return c == "phone" }
	many := func(from, to int) (out []string) {
		for i := from; i < to; i++ {
			out = append(out, fmt.Sprintf("%d,n,1", i))
		}
		return out
	}
	for name, c := range map[string]struct {
		t        Table
		old, now Rows
		want     []string
	}{
		"the same, in another order": {keyed, rows("1,a,1", "2,b,2"), rows("2,b,2", "1,a,1"), nil},
		"a cell":                     {keyed, rows("1,a,1", "2,b,2"), rows("1,a,1", "2,c,9"), []string{"id 2: name was b, is c; phone was •••, is •••"}},
		"missing and extra":          {keyed, rows("1,a,1", "2,b,2"), rows("1,a,1", "3,c,3"), []string{"id 2: the row is missing", "id 3: the row is new"}},
		"how often":                  {free, rows("x", "x", "x", "y"), rows("x", "y", "y"), []string{"missing: line x", "missing: line x", "extra: line y"}},
		"all alike, fewer":           {free, rows("x", "x", "x"), rows("x"), []string{"missing: line x", "missing: line x"}},
		"nothing there":              {free, rows("x"), rows(), []string{"missing: line x"}},
		"changed, and then extra":    {keyed, rows("1,a,1"), rows("1,b,1", "2,c,2"), []string{"id 1: name was a, is b", "id 2: the row is new"}},
		"a cell less than columns":   {Table{Columns: []string{"a", "b"}}, rows("x"), rows(), []string{"missing: a x"}},
		"a cell less than before":    {keyed, rows("1,a"), rows("1"), []string{"id 1: "}},
		"a cell more than before":    {keyed, rows("1"), rows("1,a"), []string{"id 1: "}},
		"a masked key":               {Table{Columns: []string{"phone"}, Key: []string{"phone"}}, rows("1"), rows(), []string{"phone •••: the row is missing"}},
		"a long cell":                {free, rows(strings.Repeat("ä", 80)), rows(), []string{"missing: line " + strings.Repeat("ä", maxCell) + "…"}},
		"a key that is no column":    {Table{Columns: []string{"line"}, Key: []string{"gone"}}, rows("x"), rows(), []string{"missing: line x"}},
	} {
		got, err := DiffRows(c.t, c.old, c.now, masked)
		if err != nil || !slices.Equal(got, c.want) {
			t.Errorf("%s: %q %v", name, got, err)
		}
	}
	if got, err := DiffRows(keyed, rows(many(0, 100)...), rows(many(50, 200)...), masked); err != nil || len(got) != MaxRows {
		t.Errorf("%d rows are told: %v", len(got), err)
	}
	broken := func(func(Row) error) error { return fmt.Errorf("gone") }
	if _, err := DiffRows(free, rows("x"), broken, nil); err == nil {
		t.Error("a table that cannot be read differs in nothing")
	}
}

// TestLimited runs a query that ends, one that fails, and one that does not end.
func TestLimited(t *testing.T) {
	wrong := errors.New("no such table")
	var f Fingerprint
	if err := f.RunCounts([]card.Count{{Name: "boats", Query: "a"}, {Name: "piers", Query: "b"}}, func(query string) (int64, error) {
		return Limited(t.Context(), query, func(context.Context) (int64, error) { return int64(query[0]), nil })
	}); err != nil || !slices.Equal(f.Counts, []Count{{"boats", 'a'}, {"piers", 'b'}}) {
		t.Errorf("%+v %v", f.Counts, err)
	}
	if err := f.RunCounts([]card.Count{{Name: "boats"}}, func(query string) (int64, error) {
		return Limited(t.Context(), query, func(context.Context) (int64, error) { return 1, wrong })
	}); fault.KindOf(err) != fault.BadCard || !errors.Is(err, wrong) || !strings.Contains(err.Error(), `"boats" failed`) || len(f.Counts) != 2 {
		t.Errorf("%+v %v", f.Counts, err)
	}
	ctx, cancel := context.WithTimeout(t.Context(), time.Millisecond)
	defer cancel()
	wait := func(ctx context.Context) (int64, error) { <-ctx.Done(); return 0, ctx.Err() }
	if _, err := Limited(ctx, "SELECT 1", wait); fault.KindOf(err) != fault.BadCard || !strings.Contains(err.Error(), "because it took longer") {
		t.Errorf("%v", err)
	}
	stopped, stop := context.WithCancel(t.Context())
	stop()
	if _, err := Limited(stopped, "SELECT 1", wait); !errors.Is(err, context.Canceled) {
		t.Errorf("a person stopped it: %v", err)
	}
	if n, err := Limited(ctx, "SELECT 1", func(context.Context) (int64, error) { return 7, nil }); n != 7 || err != nil {
		t.Errorf("answered at the last moment: %d %v", n, err)
	}
	var m Multiset
	for i := range 3 {
		m.Add(digest.Of([]byte{byte(i)}))
	}
	if m.N != 3 {
		t.Errorf("%d hashes", m.N)
	}
}
