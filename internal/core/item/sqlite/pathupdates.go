package sqlite

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"movekit/internal/core/dbprint"
	"movekit/internal/core/fault"
	"movekit/internal/core/pathmap"
)

// turner returns a function that restores the values of rows before their paths were updated, or
// nil if none were.
func turner(t dbprint.Table, edits []pathmap.Edit) func([]driver.Value) {
	if len(edits) == 0 {
		return nil
	}
	byRow := map[string][]pathmap.Edit{}
	for _, e := range edits {
		byRow[e.Row] = append(byRow[e.Row], e)
	}
	return func(values []driver.Value) {
		for _, e := range byRow[keyOf(t, values)] {
			i := slices.Index(t.Columns, e.Column)
			if i < 0 {
				continue // the column was removed since
			}
			if text, is := values[i].(string); is && text == string(e.New) {
				values[i] = string(e.Old)
			}
		}
	}
}

// keyOf formats the key of a row for display.
func keyOf(t dbprint.Table, values []driver.Value) string {
	var key []driver.Value
	for _, k := range t.Key {
		if i := slices.Index(t.Columns, k); i >= 0 {
			key = append(key, values[i])
		}
	}
	return strings.Join(cells(key), ", ")
}

// updatePaths updates paths in the columns that the card lists, in the staged database. Before the user
// is asked, it checks that nothing else differs.
func (m mover) updatePaths(ctx context.Context, stage string) (notes []string, err error) {
	paths := m.PathMapFor()
	if encrypted, err := Encrypted(stage); paths == nil || err != nil || encrypted {
		return nil, err
	}
	old, err := m.sealed()
	if err != nil {
		return nil, err
	}
	err = with(ctx, stage, "mode=rw&_pragma=busy_timeout(5000)", func(conn *sql.Conn) error {
		if _, err := conn.ExecContext(ctx, "BEGIN IMMEDIATE"); err != nil {
			return err
		}
		defer conn.ExecContext(context.WithoutCancel(ctx), "ROLLBACK") //nolint:errcheck // after COMMIT it does nothing
		r := pathUpdater{conn: conn, paths: paths, line: m.Line, turned: map[string][]pathmap.Edit{}}
		for _, table := range tablesOf(m.Item.UpdatePaths) {
			if err := r.table(ctx, table, m.Item.UpdatePaths); err != nil {
				notes = append(notes, fmt.Sprintf("the paths in the table %s were not updated: %v", table, err))
				return nil
			}
		}
		now, err := take(ctx, conn, nil, r.turned, nil)
		if err != nil {
			return err
		}
		bare := *old
		bare.Counts = nil
		if diffs := dbprint.Compare(&bare, now, nil); len(diffs) > 0 {
			notes = append(notes, "its paths were not updated: changing them makes the database change other values ("+diffs[0].What+")")
			return nil
		}
		agreed, err := m.PathUpdates.Agreed(ctx, m.Instance, r.edits, r.lines)
		if err == nil && agreed {
			_, err = conn.ExecContext(ctx, "COMMIT")
		}
		return err
	})
	if err != nil {
		return notes, err
	}
	for _, side := range SideFiles(stage) {
		// The engine empties its log when it closes the database. A log that is not empty has
		// changes.
		if info, err := os.Stat(side); err == nil && info.Size() > 0 && !strings.HasSuffix(side, "-shm") {
			return notes, fault.New(fault.CannotPlace, "the database engine left changes in %s", side)
		}
		os.Remove(side) //nolint:errcheck // it is empty
	}
	f, err := os.OpenFile(stage, os.O_RDWR, 0)
	if err == nil {
		err = f.Sync()
		f.Close()
	}
	if err != nil {
		return notes, fault.Wrap(fault.CannotPlace, err, "cannot write the database")
	}
	return notes, nil
}

// Limits for searching paths.
const (
	maxSearched = 256 << 20 // bytes of a database
	maxRows     = 200_000   // rows of a table
)

// Holding returns the columns (TABLE.COLUMN) that contain paths of a map. For temp see Take.
func Holding(ctx context.Context, name, temp string, paths *pathmap.Map) (out []string, err error) {
	if info, err := os.Stat(name); err != nil || info.Size() > maxSearched {
		return nil, err
	}
	err = reading(ctx, name, temp, func(conn *sql.Conn) error {
		tables, err := readSchema(ctx, conn, &dbprint.Fingerprint{})
		if err != nil {
			return err
		}
		for _, table := range tables {
			t := dbprint.Table{Name: table}
			if t.Columns, t.Key, err = columnsOf(ctx, conn, table); err != nil {
				return err
			}
			if strings.Contains(table, ".") || strings.HasPrefix(table, "sqlite_") {
				continue
			}
			rows, found := 0, map[int]bool{}
			err := eachValues(ctx, conn, t, func(values []driver.Value) error {
				if rows++; rows > maxRows {
					return errEnough
				}
				for i, v := range values {
					if text, is := v.(string); is && !found[i] && len(text) < 4096 {
						_, n := paths.Text(text)
						found[i] = n > 0
					}
				}
				return nil
			})
			if err != nil && !errors.Is(err, errEnough) {
				return err
			}
			for i, c := range t.Columns {
				if found[i] {
					out = append(out, table+"."+c)
				}
			}
		}
		return nil
	})
	return out, err
}

var errEnough = errors.New("enough rows were read")

// tablesOf returns the tables of columns (TABLE.COLUMN).
func tablesOf(columns []string) (out []string) {
	for _, c := range columns {
		if table := c[:strings.LastIndex(c, ".")]; !slices.Contains(out, table) {
			out = append(out, table)
		}
	}
	return out
}

// pathUpdater updates the paths in columns.
type pathUpdater struct {
	conn   *sql.Conn
	paths  *pathmap.Map
	line   func(t dbprint.Table, key, column, old, now string) pathmap.Line
	edits  []pathmap.Edit
	lines  []pathmap.Line
	turned map[string][]pathmap.Edit // the edits by table
}

// table updates one table. Rows are identified by their keys.
func (r *pathUpdater) table(ctx context.Context, table string, named []string) error {
	t := dbprint.Table{Name: table}
	var err error
	if t.Columns, t.Key, err = columnsOf(ctx, r.conn, table); err != nil {
		return err
	}
	if len(t.Columns) == 0 {
		return fmt.Errorf("there is no such table")
	}
	if len(t.Key) == 0 {
		return fmt.Errorf("it has no primary key")
	}
	wanted := map[int]bool{}
	for _, c := range named {
		if column, is := strings.CutPrefix(c, table+"."); is {
			i := slices.Index(t.Columns, column)
			if i < 0 {
				return fmt.Errorf("it has no column %s", column)
			}
			wanted[i] = true
		}
	}
	type row struct{ was, now []driver.Value }
	var rows []row
	err = eachValues(ctx, r.conn, t, func(values []driver.Value) error {
		now := slices.Clone(values)
		for i := range wanted {
			if text, is := values[i].(string); is {
				now[i], _ = r.paths.Text(text)
			}
		}
		if !slices.EqualFunc(now, values, func(a, b driver.Value) bool {
			x, is := a.(string)
			y, too := b.(string)
			return !is || !too || x == y
		}) {
			rows = append(rows, row{slices.Clone(values), now})
		}
		return nil
	})
	if err != nil {
		return err
	}
	for _, row := range rows {
		for i, c := range t.Columns {
			was, is := row.was[i].(string)
			if !is || row.now[i] == row.was[i] {
				continue
			}
			now := row.now[i].(string)
			e := pathmap.Edit{In: table, Row: keyOf(t, row.now), Column: c, Old: []byte(was), New: []byte(now)}
			r.edits, r.turned[table] = append(r.edits, e), append(r.turned[table], e)
			r.lines = append(r.lines, r.line(t, keyOf(t, row.was), c, was, now))
		}
		if err := r.update(ctx, t, row.was, row.now); err != nil {
			return err
		}
	}
	return nil
}

// update writes one row.
func (r *pathUpdater) update(ctx context.Context, t dbprint.Table, was, now []driver.Value) error {
	var set, where []string
	var args, key []any
	for i, c := range t.Columns {
		if text, is := now[i].(string); is && now[i] != was[i] {
			set, args = append(set, quoted(c)+" = ?"), append(args, text)
		}
		if slices.Contains(t.Key, c) {
			where, key = append(where, quoted(c)+" IS ?"), append(key, was[i])
		}
	}
	_, err := r.conn.ExecContext(ctx, "UPDATE "+quoted(t.Name)+" SET "+strings.Join(set, ", ")+" WHERE "+strings.Join(where, " AND "), append(args, key...)...)
	return err
}
