package firebird

import (
	"context"
	"database/sql"
	"encoding/hex"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"golang.org/x/sync/errgroup"

	"movekit/internal/core/card"
	"movekit/internal/core/dbprint"
	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
	"movekit/internal/core/item/served"
)

// Sealed has the sealed facts of a database, other than its rows.
type Sealed struct {
	dbprint.Fingerprint
	Version string   `json:"version"` // such as 3.0.11
	Users   []string `json:"users,omitempty"`
	Modules []string `json:"modules,omitempty"` // libraries with its functions
}

// look inspects the database.
func (c *tx) look(ctx context.Context) (*served.Look, error) {
	v, err := c.version(ctx)
	if err != nil {
		return nil, err
	}
	l := &served.Look{Engine: "Firebird " + v}
	facts, err := c.table(ctx, "SELECT MON$PAGE_SIZE * MON$PAGES, (SELECT count(*) FROM RDB$RELATIONS WHERE RDB$SYSTEM_FLAG = 0 AND RDB$VIEW_BLR IS NULL), MON$NEXT_TRANSACTION FROM MON$DATABASE")
	if err != nil {
		return nil, err
	}
	l.Bytes, _ = strconv.ParseInt(facts[0][0], 10, 64)
	l.Tables, _ = strconv.ParseInt(facts[0][1], 10, 64)
	// Reading starts a transaction too, so the transaction counter does not show changes.
	l.Stamp = time.Now().UTC().Format(time.RFC3339Nano)
	if l.Sessions, err = c.others(ctx); err != nil {
		return nil, err
	}
	l.Left, err = c.column(ctx, `SELECT 'rows of ' || trim(RDB$RELATION_NAME) || ': stored in the file ' || RDB$EXTERNAL_FILE FROM RDB$RELATIONS WHERE RDB$EXTERNAL_FILE IS NOT NULL
		UNION ALL SELECT 'column ' || trim(f.RDB$RELATION_NAME) || '.' || trim(f.RDB$FIELD_NAME) || ': an array, which is moved and not compared' FROM RDB$RELATION_FIELDS f JOIN RDB$FIELDS d ON d.RDB$FIELD_NAME = f.RDB$FIELD_SOURCE WHERE d.RDB$DIMENSIONS IS NOT NULL AND f.RDB$SYSTEM_FLAG = 0
		UNION ALL SELECT 'users and their passwords: create them again on the new server' FROM RDB$DATABASE`)
	return l, err
}

// others returns the other connections.
func (c *tx) others(ctx context.Context) ([]string, error) {
	return c.column(ctx, "SELECT DISTINCT coalesce(MON$REMOTE_PROCESS, 'a program') || ' as ' || trim(MON$USER) || coalesce(' from ' || MON$REMOTE_ADDRESS, '') FROM MON$ATTACHMENTS WHERE MON$ATTACHMENT_ID <> CURRENT_CONNECTION AND MON$SYSTEM_FLAG = 0")
}

// version returns the server's version, such as 3.0.11.
func (c *tx) version(ctx context.Context) (string, error) {
	v, err := c.column(ctx, "SELECT rdb$get_context('SYSTEM', 'ENGINE_VERSION') FROM RDB$DATABASE")
	if err != nil {
		return "", err
	}
	if major, _, _ := strings.Cut(v[0], "."); len(major) == 1 && major < "3" {
		return "", fault.New(fault.ServerRefused, "the server of %s is Firebird %s; 3 or newer is needed", c.server.Address(), v[0])
	}
	return v[0], nil
}

// number runs a card's query.
func (c *tx) number(ctx context.Context, query string) (int64, error) {
	names, err := served.CheckQuery(query)
	if err != nil {
		return 0, err
	}
	if called, err := c.called(ctx, func(kind, name string) bool {
		return kind != "2" && slices.ContainsFunc(names, func(n string) bool { return strings.EqualFold(n, name) })
	}); err != nil {
		return 0, err
	} else if called != "" {
		return 0, fault.New(fault.BadCard, "the card's query uses %s of the database, which could do anything as an administrator: %s", called, query)
	}
	return dbprint.Limited(ctx, query, func(ctx context.Context) (int64, error) {
		rows, err := c.table(ctx, query)
		if err != nil {
			return 0, err
		}
		return served.WholeNumber(rows, query)
	})
}

// activity returns counters that change when somebody writes. They start when the database is
// opened.
func (o *session) activity(ctx context.Context, database string) (counts string, writers []string, err error) {
	c, err := o.begin(ctx, database)
	if err != nil {
		return "", nil, err
	}
	defer c.close()
	n, err := c.table(ctx, "SELECT r.MON$RECORD_INSERTS, r.MON$RECORD_UPDATES, r.MON$RECORD_DELETES FROM MON$DATABASE d JOIN MON$RECORD_STATS r ON r.MON$STAT_ID = d.MON$STAT_ID")
	if err != nil {
		return "", nil, err
	}
	writers, err = c.column(ctx, "SELECT DISTINCT coalesce(a.MON$REMOTE_PROCESS, 'a program') || ' as ' || trim(a.MON$USER) FROM MON$TRANSACTIONS t JOIN MON$ATTACHMENTS a ON a.MON$ATTACHMENT_ID = t.MON$ATTACHMENT_ID WHERE t.MON$READ_ONLY = 0 AND t.MON$STATE = 1 AND a.MON$ATTACHMENT_ID <> CURRENT_CONNECTION AND a.MON$SYSTEM_FLAG = 0")
	return fmt.Sprint(n), writers, err
}

// Seal writes a backup and computes the fingerprint. Two connections cannot share a snapshot, so
// the server's counters are used to check that nobody wrote in between.
func (o *session) Seal(ctx context.Context, database string, counts []card.Count, _, to io.Writer, progress func(int64)) (*Sealed, error) {
	busy := func(who []string) error {
		return fault.New(fault.Changed, "%s was modified while it was being read (by %s): close the app on every computer", o.server.On(database).Address(), or(strings.Join(who, ", "), "gone again"))
	}
	keeper, err := o.begin(ctx, database) // the counters last while the database is open
	if err != nil {
		return nil, err
	}
	defer keeper.close()
	before, writers, err := o.activity(ctx, database)
	if err != nil {
		return nil, err
	}
	if len(writers) > 0 {
		return nil, busy(writers)
	}
	d := &Sealed{}
	work, within := errgroup.WithContext(ctx)
	work.Go(func() error {
		c, err := connect(within, o.server.On(database), "NONE")
		if err != nil {
			return err
		}
		defer c.close()
		return c.take(within, d, counts, nil)
	})
	work.Go(func() error {
		return o.backup(within, nil, counting{to, progress}, func(service string) []string {
			return []string{"-b", "-g", "-nodbtriggers", "-se", service, database, "stdout"}
		})
	})
	if err := work.Wait(); err != nil {
		return nil, err
	}
	after, writers, err := o.activity(ctx, database)
	if err == nil && after != before {
		err = busy(writers)
	}
	return d, err
}

type counting struct {
	io.Writer
	progress func(int64)
}

func (c counting) Write(p []byte) (int, error) {
	n, err := c.Writer.Write(p)
	if c.progress != nil {
		c.progress(int64(n))
	}
	return n, err
}

func (c *tx) take(ctx context.Context, d *Sealed, counts []card.Count, progress func(int64)) error {
	if err := c.schema(ctx, d); err != nil {
		return err
	}
	tables, err := c.tables(ctx)
	if err != nil {
		return err
	}
	for _, t := range tables {
		var line []byte
		if err := d.AddTable(t.Table, progress, func(each func([]byte) error) error {
			return c.rows(ctx, t, func(cells []any) error {
				line = t.appendRow(line[:0], cells)
				return each(line)
			})
		}); err != nil {
			return err
		}
	}
	d.Sort()
	return d.RunCounts(counts, func(query string) (int64, error) { return c.number(ctx, query) })
}

// table is a table whose rows are compared.
type table struct {
	dbprint.Table
	layouts []string // time formats, by column; "" for any other type
}

// layouts are the formats of dates and times, by RDB$FIELD_TYPE.
var layouts = map[string]string{
	"12": "2006-01-02", "13": "15:04:05.0000", "35": "2006-01-02 15:04:05.0000",
	"28": "15:04:05.0000 -07:00 MST", "29": "2006-01-02 15:04:05.0000 -07:00 MST",
}

// tables returns the tables with the columns that are compared, without computed columns and
// arrays.
func (c *tx) tables(ctx context.Context) ([]*table, error) {
	cols, err := c.table(ctx, `SELECT r.RDB$RELATION_NAME, f.RDB$FIELD_NAME, d.RDB$FIELD_TYPE, d.RDB$COMPUTED_BLR, d.RDB$DIMENSIONS FROM RDB$RELATIONS r
		JOIN RDB$RELATION_FIELDS f ON f.RDB$RELATION_NAME = r.RDB$RELATION_NAME JOIN RDB$FIELDS d ON d.RDB$FIELD_NAME = f.RDB$FIELD_SOURCE
		WHERE r.RDB$SYSTEM_FLAG = 0 AND r.RDB$VIEW_BLR IS NULL AND r.RDB$EXTERNAL_FILE IS NULL AND coalesce(r.RDB$RELATION_TYPE, 0) = 0 ORDER BY r.RDB$RELATION_NAME, f.RDB$FIELD_POSITION, f.RDB$FIELD_ID`)
	if err != nil {
		return nil, err
	}
	keys, err := c.table(ctx, "SELECT k.RDB$RELATION_NAME, s.RDB$FIELD_NAME FROM RDB$RELATION_CONSTRAINTS k JOIN RDB$INDEX_SEGMENTS s ON s.RDB$INDEX_NAME = k.RDB$INDEX_NAME WHERE k.RDB$CONSTRAINT_TYPE = 'PRIMARY KEY' ORDER BY 1, s.RDB$FIELD_POSITION")
	if err != nil {
		return nil, err
	}
	var out []*table
	for _, col := range cols {
		if len(out) == 0 || out[len(out)-1].Name != col[0] {
			out = append(out, &table{Table: dbprint.Table{Name: col[0]}})
		}
		t := out[len(out)-1]
		if col[3] == "" && col[4] == "" {
			t.Columns = append(t.Columns, col[1])
			t.layouts = append(t.layouts, layouts[col[2]])
		}
	}
	for _, k := range keys {
		if i := slices.IndexFunc(out, func(t *table) bool { return t.Name == k[0] }); i >= 0 {
			out[i].Key = append(out[i].Key, k[1])
		}
	}
	return out, nil
}

func quoted(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

// rows reads a table.
func (c *tx) rows(ctx context.Context, t *table, each func([]any) error) error {
	names := []string{"1"}
	for _, n := range t.Columns {
		names = append(names, quoted(n))
	}
	rows, err := c.QueryContext(ctx, "SELECT "+strings.Join(names, ",")+" FROM "+quoted(t.Name))
	if err != nil {
		return explain(c.server, err)
	}
	defer rows.Close()
	cells, into := make([]any, len(names)), make([]any, len(names))
	for i := range cells {
		into[i] = cell{&cells[i]}
	}
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return explain(c.server, err)
		}
		if err := each(cells[1:]); err != nil {
			return err
		}
	}
	return explain(c.server, rows.Err())
}

// cell receives a value from the driver without copying it.
type cell struct{ to *any }

// Scan stores a value.
func (c cell) Scan(v any) error {
	*c.to = v
	return nil
}

var _ sql.Scanner = cell{}

// appendRow writes a row in the form that is hashed: each cell starts with a letter for its type
// and, if it has no fixed length, its length.
func (t *table) appendRow(b []byte, cells []any) []byte {
	for i, v := range cells {
		switch v := v.(type) {
		case nil:
			b = append(b, 'n')
		case int64:
			b = append(strconv.AppendInt(append(b, 'i'), v, 10), ' ')
		case float64:
			b = append(strconv.AppendFloat(append(b, 'f'), v, 'e', -1, 64), ' ')
		case bool:
			b = append(strconv.AppendBool(append(b, 'b'), v), ' ')
		case time.Time:
			b = v.AppendFormat(append(b, 't'), t.layouts[i])
		case []byte:
			b = appendText(b, v)
		case string:
			b = appendText(b, []byte(v))
		default:
			b = appendText(b, fmt.Append(nil, v))
		}
	}
	return b
}

func appendText(b, v []byte) []byte {
	return append(append(strconv.AppendInt(append(b, 's'), int64(len(v)), 10), ' '), v...)
}

// shown formats a cell for display.
func (t *table) shown(i int, v any) string {
	switch v := v.(type) {
	case nil:
		return "NULL"
	case time.Time:
		return v.Format(t.layouts[i])
	case []byte:
		if utf8.Valid(v) && !strings.ContainsRune(string(v), 0) {
			return string(v)
		}
		return "x'" + hex.EncodeToString(v) + "'"
	}
	return strings.ToValidUTF8(fmt.Sprint(v), "�")
}

// readTable reads one table of the database.
func (c *tx) readTable(ctx context.Context, name string, each func(dbprint.Row) error) error {
	tables, err := c.tables(ctx)
	if err != nil {
		return err
	}
	at := slices.IndexFunc(tables, func(t *table) bool { return t.Name == name })
	if at < 0 {
		return fault.New(fault.BadDatabase, "the table is missing")
	}
	t := tables[at]
	var line []byte
	return c.rows(ctx, t, func(cells []any) error {
		line = t.appendRow(line[:0], cells)
		return each(dbprint.Row{Hash: digest.Of(line), Cells: func() (out []string) {
			for i, v := range cells {
				out = append(out, t.shown(i, v))
			}
			return out
		}})
	})
}
