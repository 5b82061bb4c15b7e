package served

import (
	"context"
	"errors"
	"fmt"
	"hash/maphash"
	"slices"
	"strings"

	"movekit/internal/core/card"
	"movekit/internal/core/dbprint"
	"movekit/internal/core/digest"
	"movekit/internal/core/item"
	"movekit/internal/core/repoint"
)

// Rewriter changes texts in a database, for paths that are to say where things are now.
type Rewriter interface {
	// Rows reads one table of a database.
	Rows(ctx context.Context, database string, t dbprint.Table) dbprint.Rows
	// Texts calls each for every text in a column of a table, with the row's key as a
	// person reads it.
	Texts(ctx context.Context, database string, t dbprint.Table, column string, each func(key, text string) error) error
	// Rewrite gives the texts in a column that are exactly among the keys of now the value that
	// now has for them. Where the database would change anything else by itself, it is an error,
	// and nothing is changed.
	Rewrite(ctx context.Context, database string, t dbprint.Table, column string, now map[string]string) error
}

// rewritten is what is to be changed in one table, and was.
type rewritten struct {
	table   dbprint.Table
	columns map[string]map[string]string // what texts become, by column
	edits   []repoint.Edit
}

// repoint has the columns that the card names say, in the staged database, where things are
// now. That nothing else differs is proven before anybody is asked. Without consent, and where
// it cannot be done, the database is staged once more.
func (m mover[F]) repoint(ctx context.Context, s Session[F], p Putting, facts F) (notes []string, err error) {
	paths := m.PathMapFor()
	if paths == nil {
		return nil, nil
	}
	all, lines, err := m.places(ctx, s, p.Stage, facts.Print(), paths)
	if err == nil && len(lines) > 0 {
		err = rewriteAll(ctx, s, p.Stage, all)
	}
	if err == nil {
		var edits []repoint.Edit
		for _, t := range all {
			edits = append(edits, t.edits...)
		}
		agreed, aerr := m.PathUpdates.Agreed(ctx, m.Instance, edits, lines)
		if aerr != nil || agreed || len(edits) == 0 {
			return nil, aerr
		}
	} else {
		if err := item.Unreached(ctx, err); err != nil {
			return nil, err
		}
		notes = append(notes, "the paths in it were left as they were: "+err.Error())
	}
	_, err = s.Stage(ctx, facts, p)
	return notes, err
}

// places finds the texts that hold old places.
func (m mover[F]) places(ctx context.Context, s Session[F], stage string, f *dbprint.Fingerprint, paths *repoint.Map) (all []*rewritten, lines []repoint.Line, err error) {
	for _, name := range m.Item.Repoint {
		at := strings.LastIndex(name, ".")
		t, column, err := columnOf(f, name[:at], name[at+1:])
		if err != nil {
			return nil, nil, err
		}
		i := slices.IndexFunc(all, func(r *rewritten) bool { return r.table.Name == t.Name })
		if i < 0 {
			i = len(all)
			all = append(all, &rewritten{table: *t, columns: map[string]map[string]string{}})
		}
		r := all[i]
		r.columns[column] = map[string]string{}
		err = s.Texts(ctx, stage, *t, column, func(key, text string) error {
			now, n := paths.Text(text)
			if n == 0 || now == text {
				return nil
			}
			r.columns[column][text] = now
			r.edits = append(r.edits, repoint.Edit{In: t.Name, Row: key, Column: column, Old: []byte(text), New: []byte(now)})
			lines = append(lines, m.Line(*t, key, column, text, now))
			return nil
		})
		if err != nil {
			return nil, nil, err
		}
	}
	return all, lines, nil
}

// columnOf finds a column by the names of a card: the table's may be without its schema, and
// in other letters where no other is meant.
func columnOf(f *dbprint.Fingerprint, table, column string) (*dbprint.Table, string, error) {
	for _, same := range []func(a, b string) bool{func(a, b string) bool { return a == b }, strings.EqualFold} {
		for i := range f.Tables {
			t := &f.Tables[i]
			if !slices.ContainsFunc(card.TableNames(t.Name), func(name string) bool { return same(name, table) }) {
				continue
			}
			for _, c := range t.Columns {
				if same(c, column) {
					return t, c, nil
				}
			}
		}
	}
	return nil, "", fmt.Errorf("there is no column %s in a table %s", column, table)
}

// maxRows is how many rows a table may have whose paths are changed: what is known of each is
// held, some 60 bytes.
const maxRows = 1_000_000

// known is what is remembered of rows: how many are the same, and what of them does not change.
type known struct {
	n    int
	rest uint64
}

// rewriteAll changes what is to be changed, and notes in the edits how the rows of a table
// differ then: each of them in the columns that were named, and no other.
func rewriteAll(ctx context.Context, s Rewriter, stage string, all []*rewritten) error {
	for _, r := range all {
		if len(r.edits) == 0 {
			continue
		}
		if err := r.rewrite(ctx, s, stage); err != nil {
			return fmt.Errorf("%s: %w", r.table.Name, err)
		}
	}
	return nil
}

func (r *rewritten) rewrite(ctx context.Context, s Rewriter, stage string) error {
	seed := maphash.MakeSeed()
	rest := func(row dbprint.Row) uint64 {
		cells := slices.Clone(row.Cells())
		for i, c := range r.table.Columns {
			if r.columns[c] != nil && i < len(cells) {
				cells[i] = ""
			}
		}
		return maphash.String(seed, strings.Join(cells, "\x00"))
	}
	rows, before := 0, map[digest.Sum]known{}
	err := s.Rows(ctx, stage, r.table)(func(row dbprint.Row) error {
		if rows++; rows > maxRows {
			return errors.New("it is too large for that")
		}
		before[row.Hash] = known{before[row.Hash].n + 1, rest(row)}
		return nil
	})
	for column, now := range r.columns {
		if err == nil {
			err = s.Rewrite(ctx, stage, r.table, column, now)
		}
	}
	if err != nil {
		return err
	}
	added := map[digest.Sum]uint64{}
	more := errors.New("the database changes more by itself when they are changed")
	if err := s.Rows(ctx, stage, r.table)(func(row dbprint.Row) error {
		was := before[row.Hash]
		if was.n > 0 {
			was.n--
			before[row.Hash] = was
			return nil
		}
		if _, twice := added[row.Hash]; twice {
			return errors.New("some of its rows cannot be told apart")
		}
		added[row.Hash] = rest(row)
		return nil
	}); err != nil {
		return err
	}
	gone := map[uint64][]digest.Sum{}
	for h, was := range before {
		for range was.n {
			gone[was.rest] = append(gone[was.rest], h)
		}
	}
	var pairs [][2]digest.Sum
	for h, rest := range added {
		of := gone[rest]
		if len(of) == 0 {
			return more
		}
		pairs, gone[rest] = append(pairs, [2]digest.Sum{of[0], h}), of[1:]
	}
	for _, left := range gone {
		if len(left) > 0 {
			return more
		}
	}
	if len(pairs) > len(r.edits) {
		return more
	}
	for i, p := range pairs {
		r.edits[i].Was, r.edits[i].Is = p[0].String(), p[1].String()
	}
	return r.asMeant(ctx, s, stage)
}

// asMeant reads what was changed once more: a server may cut a text, or change it.
func (r *rewritten) asMeant(ctx context.Context, s Rewriter, stage string) error {
	for column := range r.columns {
		left := map[string]int{}
		for _, e := range r.edits {
			if e.Column == column {
				left[strings.TrimRight(string(e.New), " ")]++ // what fills a text up is no part of it
			}
		}
		if err := s.Texts(ctx, stage, r.table, column, func(_, text string) error {
			left[strings.TrimRight(text, " ")]--
			return nil
		}); err != nil {
			return err
		}
		for _, n := range left {
			if n > 0 {
				return fmt.Errorf("the database does not keep a text in %s as it is", column) // which may be masked
			}
		}
	}
	return nil
}

// turned are the hashes that rows had before paths in them were changed, by table and by the
// hash that they have now.
func (m mover[F]) turned() (map[string]map[digest.Sum]digest.Sum, error) {
	edits, err := m.PathEdits()
	if err != nil || len(edits) == 0 {
		return nil, err
	}
	out := map[string]map[digest.Sum]digest.Sum{}
	for table, list := range edits {
		out[table] = map[digest.Sum]digest.Sum{}
		for _, e := range list {
			is, ok := digest.Parse(e.Is)
			was, too := digest.Parse(e.Was)
			if ok && too {
				out[table][is] = was
			}
		}
	}
	return out, nil
}

// turnedBack gives rows the hashes that they had.
func turnedBack(rows dbprint.Rows, was map[digest.Sum]digest.Sum) dbprint.Rows {
	return func(each func(dbprint.Row) error) error {
		return rows(func(r dbprint.Row) error {
			if old, changed := was[r.Hash]; changed {
				r.Hash = old
			}
			return each(r)
		})
	}
}

// turnBack gives the tables of a fingerprint in which paths were changed the digests of what
// they were.
func (m mover[F]) turnBack(ctx context.Context, s Session[F], database string, f *dbprint.Fingerprint) error {
	turned, err := m.turned()
	if err != nil {
		return err
	}
	for name, was := range turned {
		t := f.Table(name)
		if t == nil {
			continue // it is missing, which is told
		}
		var sum dbprint.Multiset
		if err := turnedBack(s.Rows(ctx, database, *t), was)(func(r dbprint.Row) error {
			sum.Add(r.Hash)
			return nil
		}); err != nil {
			return err
		}
		t.Digest = sum.Digest()
	}
	return nil
}
