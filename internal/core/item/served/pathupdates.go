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
	"movekit/internal/core/pathmap"
)

// Rewriter changes texts in a database, to update paths.
type Rewriter interface {
	// Rows reads one table of a database.
	Rows(ctx context.Context, database string, t dbprint.Table) dbprint.Rows
	// Texts calls each for every text in a column of a table, with a readable form of the row's
	// key.
	Texts(ctx context.Context, database string, t dbprint.Table, column string, each func(key, text string) error) error
	// Rewrite replaces the texts in a column that are keys of now by their values. If the database
	// would change anything else automatically, Rewrite returns an error and changes nothing.
	Rewrite(ctx context.Context, database string, t dbprint.Table, column string, now map[string]string) error
}

// tableChanges has the planned and completed changes of one table.
type tableChanges struct {
	table   dbprint.Table
	columns map[string]map[string]string // new texts by old ones, by column
	edits   []pathmap.Edit
}

// updatePaths updates paths in the columns that the card lists, in the staged database. Before the user
// is asked, it checks that nothing else differs. Without consent, or if the update is not possible,
// the database is staged again.
func (m mover[F]) updatePaths(ctx context.Context, s Session[F], p Loading, facts F) (notes []string, err error) {
	paths := m.PathMapFor()
	if paths == nil {
		return nil, nil
	}
	all, lines, err := m.places(ctx, s, p.Stage, facts.Print(), paths)
	if err == nil && len(lines) > 0 {
		err = rewriteAll(ctx, s, p.Stage, all)
	}
	if err == nil {
		var edits []pathmap.Edit
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
		notes = append(notes, "its paths were not updated: "+err.Error())
	}
	_, err = s.Stage(ctx, facts, p)
	return notes, err
}

// places finds the texts with old paths.
func (m mover[F]) places(ctx context.Context, s Session[F], stage string, f *dbprint.Fingerprint, paths *pathmap.Map) (all []*tableChanges, lines []pathmap.Line, err error) {
	for _, name := range m.Item.UpdatePaths {
		at := strings.LastIndex(name, ".")
		t, column, err := columnOf(f, name[:at], name[at+1:])
		if err != nil {
			return nil, nil, err
		}
		i := slices.IndexFunc(all, func(r *tableChanges) bool { return r.table.Name == t.Name })
		if i < 0 {
			i = len(all)
			all = append(all, &tableChanges{table: *t, columns: map[string]map[string]string{}})
		}
		r := all[i]
		r.columns[column] = map[string]string{}
		err = s.Texts(ctx, stage, *t, column, func(key, text string) error {
			now, n := paths.Text(text)
			if n == 0 || now == text {
				return nil
			}
			r.columns[column][text] = now
			r.edits = append(r.edits, pathmap.Edit{In: t.Name, Row: key, Column: column, Old: []byte(text), New: []byte(now)})
			lines = append(lines, m.Line(*t, key, column, text, now))
			return nil
		})
		if err != nil {
			return nil, nil, err
		}
	}
	return all, lines, nil
}

// columnOf finds a column by its name in a card. The table's schema may be missing, and letter case
// may differ if the name is still unique.
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

// maxRows limits the rows of a table whose paths are updated. About 60 bytes are kept for each.
const maxRows = 1_000_000

// rowCount is kept for each distinct row: the number of equal rows, and a hash of the columns that
// do not change.
type rowCount struct {
	n    int
	rest uint64
}

// rewriteAll makes the planned changes, and records in the edits how the rows of a table differ
// then: each only in the given columns.
func rewriteAll(ctx context.Context, s Rewriter, stage string, all []*tableChanges) error {
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

func (r *tableChanges) rewrite(ctx context.Context, s Rewriter, stage string) error {
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
	rows, before := 0, map[digest.Sum]rowCount{}
	err := s.Rows(ctx, stage, r.table)(func(row dbprint.Row) error {
		if rows++; rows > maxRows {
			return errors.New("it has too many rows")
		}
		before[row.Hash] = rowCount{before[row.Hash].n + 1, rest(row)}
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
	more := errors.New("changing them makes the database change other values")
	if err := s.Rows(ctx, stage, r.table)(func(row dbprint.Row) error {
		was := before[row.Hash]
		if was.n > 0 {
			was.n--
			before[row.Hash] = was
			return nil
		}
		if _, twice := added[row.Hash]; twice {
			return errors.New("some of its rows are identical")
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
	return r.verify(ctx, s, stage)
}

// verify reads the changed texts again, because a server may truncate or convert them.
func (r *tableChanges) verify(ctx context.Context, s Rewriter, stage string) error {
	for column := range r.columns {
		left := map[string]int{}
		for _, e := range r.edits {
			if e.Column == column {
				left[strings.TrimRight(string(e.New), " ")]++ // padding is not part of the text
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
				return fmt.Errorf("the database does not keep a text in %s as it is", column) // the name may be masked, so it is not in the message
			}
		}
	}
	return nil
}

// originalHashes returns the original hashes of changed rows, by table and current hash.
func (m mover[F]) originalHashes() (map[string]map[digest.Sum]digest.Sum, error) {
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

// originalRows replaces the hashes of changed rows by their original hashes.
func originalRows(rows dbprint.Rows, was map[digest.Sum]digest.Sum) dbprint.Rows {
	return func(each func(dbprint.Row) error) error {
		return rows(func(r dbprint.Row) error {
			if old, changed := was[r.Hash]; changed {
				r.Hash = old
			}
			return each(r)
		})
	}
}

// restoreDigests replaces the digests of tables with updated paths by those before the update.
func (m mover[F]) restoreDigests(ctx context.Context, s Session[F], database string, f *dbprint.Fingerprint) error {
	turned, err := m.originalHashes()
	if err != nil {
		return err
	}
	for name, was := range turned {
		t := f.Table(name)
		if t == nil {
			continue // the missing table is reported anyway
		}
		var sum dbprint.Multiset
		if err := originalRows(s.Rows(ctx, database, *t), was)(func(r dbprint.Row) error {
			sum.Add(r.Hash)
			return nil
		}); err != nil {
			return err
		}
		t.Digest = sum.Digest()
	}
	return nil
}
