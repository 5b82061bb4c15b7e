package sqlite

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	engine "modernc.org/sqlite"

	"movekit/internal/core/card"
	"movekit/internal/core/dbprint"
	"movekit/internal/core/digest"
	"movekit/internal/core/pathmap"
)

// Take fingerprints a database within one transaction. temp is a private folder for a database that
// cannot be read in place. Path updates (turned, by table) are reversed.
func Take(ctx context.Context, name, temp string, counts []card.Count, turned map[string][]pathmap.Edit) (*dbprint.Fingerprint, error) {
	if encrypted, err := Encrypted(name); err == nil && encrypted {
		return takeEncrypted(name)
	}
	var f *dbprint.Fingerprint
	err := reading(ctx, name, temp, func(conn *sql.Conn) (err error) {
		if _, err := conn.ExecContext(ctx, "BEGIN"); err != nil {
			return err
		}
		defer conn.ExecContext(context.WithoutCancel(ctx), "ROLLBACK")
		f, err = take(ctx, conn, counts, turned, nil)
		return err
	})
	return f, err
}

// take fingerprints the database of a connection. If sums is not nil, take fills it with the sums
// of the index entries that the rows should have.
func take(ctx context.Context, conn *sql.Conn, counts []card.Count, turned map[string][]pathmap.Edit, sums entrySums) (*dbprint.Fingerprint, error) {
	f := &dbprint.Fingerprint{Engine: "SQLite", Settings: map[string]string{}}
	tables, err := readSchema(ctx, conn, f)
	if err != nil {
		return nil, err
	}
	for _, pragma := range []string{"user_version", "application_id", "encoding", "page_size", "auto_vacuum"} {
		var value string
		if err := conn.QueryRowContext(ctx, "PRAGMA "+pragma).Scan(&value); err != nil {
			return nil, err
		}
		f.Settings[pragma] = value
	}
	for _, t := range tables {
		got, err := readTable(ctx, conn, t, turned[t], sums)
		if err != nil {
			return nil, fmt.Errorf("table %s: %w", t, err)
		}
		f.Tables = append(f.Tables, got)
	}
	f.Sort()
	return f, f.RunCounts(counts, func(query string) (n int64, err error) { return number(ctx, conn, query) })
}

// readSchema fills in the schema objects, and returns the tables with rows. Virtual tables are
// represented by their shadow tables.
func readSchema(ctx context.Context, conn *sql.Conn, f *dbprint.Fingerprint) (tables []string, err error) {
	rows, err := conn.QueryContext(ctx, "SELECT type, name, tbl_name, coalesce(sql, '') FROM sqlite_schema")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var typ, name, table, text string
		if err := rows.Scan(&typ, &name, &table, &text); err != nil {
			return nil, err
		}
		virtual := strings.HasPrefix(strings.ToUpper(strings.TrimSpace(text)), "CREATE VIRTUAL")
		if typ == "table" && !virtual {
			tables = append(tables, name)
		}
		if !strings.HasPrefix(name, "sqlite_stat") { // they depend on the rows of ANALYZE
			f.Schema = append(f.Schema, dbprint.NewObject(typ, name, table+"\x00"+text, table+"\x00"+text))
		}
	}
	return tables, rows.Err()
}

// quoted quotes a name for SQL.
func quoted(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

// readTable computes the fingerprint of one table.
func readTable(ctx context.Context, conn *sql.Conn, table string, turned []pathmap.Edit, sums entrySums) (dbprint.Table, error) {
	t := dbprint.Table{Name: table}
	var err error
	if t.Columns, t.Key, err = columnsOf(ctx, conn, table); err != nil {
		return t, err
	}
	if len(turned) == 0 && len(t.Columns) > 0 && len(t.Columns) <= maxArguments {
		asked := []string{rowsFunction + "(" + strings.Join(stored(t), ", ") + ")"}
		var all []index
		known := false
		if sums != nil {
			if all, known, err = indexesOf(ctx, conn, table); err != nil {
				return t, err
			}
		}
		for _, x := range all {
			asked = append(asked, x.sum(""))
		}
		said := make([]string, len(asked))
		into := make([]any, len(asked))
		for i := range said {
			into[i] = &said[i]
		}
		if err := conn.QueryRowContext(ctx, "SELECT "+strings.Join(asked, ", ")+" FROM "+quoted(table)+" NOT INDEXED").Scan(into...); err != nil {
			return t, err
		}
		if known {
			sums[table] = map[string]string{}
			for i, x := range all {
				sums[table][x.name] = said[i+1]
			}
		}
		_, err := fmt.Sscan(said[0], &t.Rows, &t.Digest)
		return t, err
	}
	var sum dbprint.Multiset
	err = eachRow(ctx, conn, t, turned, func(r dbprint.Row) error {
		sum.Add(r.Hash)
		return nil
	})
	t.Rows, t.Digest = int64(sum.N), sum.Digest()
	return t, err
}

// Passing the values of a row to one of our own functions is faster than returning rows, because the
// engine takes a lock for each returned value.
const (
	rowsFunction = "movekit_rows"
	maxArguments = 100 // SQLITE_MAX_FUNCTION_ARG, which is larger in newer versions
)

func init() {
	engine.MustRegisterFunction(rowsFunction, &engine.FunctionImpl{NArgs: -1, VolatileArgs: true,
		MakeAggregate: func(engine.FunctionContext) (engine.AggregateFunction, error) { return &summed{}, nil }})
}

// summed sums rows while they are read.
type summed struct {
	sum dbprint.Multiset
	buf []byte
}

func (s *summed) Step(_ *engine.FunctionContext, values []driver.Value) (err error) {
	if s.buf, err = encodeRow(s.buf[:0], values); err == nil {
		s.sum.Add(digest.Of(s.buf))
	}
	return err
}

func (*summed) WindowInverse(*engine.FunctionContext, []driver.Value) error {
	return errors.New("rows cannot be removed")
}

func (s *summed) WindowValue(*engine.FunctionContext) (driver.Value, error) {
	return fmt.Sprintf("%d %s", s.sum.N, s.sum.Digest()), nil
}

func (*summed) Final(*engine.FunctionContext) {}

// stored returns the columns of a table as expressions for their stored values. A unary plus keeps
// the driver from converting times.
func stored(t dbprint.Table) []string {
	out := make([]string, len(t.Columns))
	for i, c := range t.Columns {
		out[i] = "+" + quoted(c)
	}
	return out
}

// eachRow calls each for every row of a table with its stored values, with path updates reversed.
func eachRow(ctx context.Context, conn *sql.Conn, t dbprint.Table, turned []pathmap.Edit, each func(dbprint.Row) error) error {
	turn := turner(t, turned)
	var buf []byte
	return eachValues(ctx, conn, t, func(values []driver.Value) (err error) {
		if turn != nil {
			turn(values)
		}
		if buf, err = encodeRow(buf[:0], values); err != nil {
			return err
		}
		return each(dbprint.Row{Hash: digest.Of(buf), Cells: func() []string { return cells(values) }})
	})
}

// eachValues calls each for the stored values of every row of a table.
func eachValues(ctx context.Context, conn *sql.Conn, t dbprint.Table, each func([]driver.Value) error) error {
	query := "SELECT " + strings.Join(stored(t), ", ") + " FROM " + quoted(t.Name)
	return conn.Raw(func(dc any) error {
		q, ok := dc.(driver.QueryerContext)
		if !ok {
			return errors.New("the database engine cannot be read row by row")
		}
		rows, err := q.QueryContext(ctx, query, nil)
		if err != nil {
			return err
		}
		defer rows.Close()
		values := make([]driver.Value, len(t.Columns))
		for {
			switch err := rows.Next(values); {
			case err == io.EOF:
				return nil
			case err != nil:
				return err
			}
			if err := each(values); err != nil {
				return err
			}
		}
	})
}

// cells formats values for display.
func cells(values []driver.Value) []string {
	out := make([]string, len(values))
	for i, v := range values {
		switch v := v.(type) {
		case nil:
			out[i] = "NULL"
		case []byte:
			out[i] = fmt.Sprintf("x'%x'", v[:min(len(v), 64)])
		case string:
			out[i] = strconv.Quote(v)
		default:
			out[i] = fmt.Sprint(v)
		}
	}
	return out
}

// Rows reads one table of a database, for dbprint.DiffRows. For temp see Snapshot, for turned see
// Take.
func Rows(ctx context.Context, name, temp string, t dbprint.Table, turned []pathmap.Edit) dbprint.Rows {
	return func(each func(dbprint.Row) error) error {
		return reading(ctx, name, temp, func(conn *sql.Conn) error { return eachRow(ctx, conn, t, turned, each) })
	}
}

// columnsOf returns a table's columns, including generated ones, and its primary key columns. The
// row numbers of a table without a key count as a column, because an app may store them
// (sqlite.org/lang_createtable.html#rowid).
func columnsOf(ctx context.Context, conn *sql.Conn, table string) (columns, key []string, err error) {
	rows, err := conn.QueryContext(ctx, "SELECT name, hidden, pk FROM pragma_table_xinfo(?) ORDER BY cid", table)
	if err != nil {
		return nil, nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var name string
		var hidden, pk int
		if err := rows.Scan(&name, &hidden, &pk); err != nil {
			return nil, nil, err
		}
		if hidden != 1 { // 1: hidden column of a virtual table
			columns = append(columns, name)
		}
		if pk > 0 {
			key = append(key, name)
		}
	}
	const number = "rowid"
	if len(key) == 0 && len(columns) > 0 && !strings.HasPrefix(table, "sqlite_") && !slices.ContainsFunc(columns, func(c string) bool { return strings.EqualFold(c, number) }) {
		columns, key = append([]string{number}, columns...), []string{number}
	}
	return columns, key, rows.Err()
}

// encodeRow encodes the values of a row so that different rows have different bytes: a letter for
// the storage class, then the value, with its length if that varies.
func encodeRow(b []byte, values []driver.Value) ([]byte, error) {
	for _, v := range values {
		switch v := v.(type) {
		case nil:
			b = append(b, 'n')
		case int64:
			b = binary.BigEndian.AppendUint64(append(b, 'i'), uint64(v))
		case float64:
			b = binary.BigEndian.AppendUint64(append(b, 'f'), math.Float64bits(v))
		case bool:
			n := byte(0)
			if v {
				n = 1
			}
			b = append(b, 'i', 0, 0, 0, 0, 0, 0, 0, n)
		case string:
			b = binary.BigEndian.AppendUint64(append(b, 't'), uint64(len(v)))
			b = append(b, v...)
		case []byte:
			b = binary.BigEndian.AppendUint64(append(b, 'b'), uint64(len(v)))
			b = append(b, v...)
		case time.Time:
			return nil, errors.New("the engine returned a time instead of the stored value")
		default:
			return nil, fmt.Errorf("the engine returned a value of the unknown type %T", v)
		}
	}
	return b, nil
}

// Ask returns the whole number that a query returns from a snapshot of a database. It leaves no
// trace. For temp see Snapshot.
func Ask(ctx context.Context, name, temp, query string) (n int64, err error) {
	err = reading(ctx, name, temp, func(conn *sql.Conn) (err error) {
		n, err = number(ctx, conn, query)
		return err
	})
	return n, err
}

// number runs a card's query, which may only read the database. The engine asks an authorizer about
// everything that a statement does (sqlite.org/c3ref/set_authorizer.html).
func number(ctx context.Context, conn *sql.Conn, query string) (n int64, err error) {
	allow := func(fn engine.AuthorizerFn) error {
		return conn.Raw(func(dc any) error {
			r, ok := dc.(engine.AuthorizerRegisterer)
			if !ok {
				return errors.New("the database engine does not support an authorizer")
			}
			return r.RegisterAuthorizer(fn)
		})
	}
	if err := allow(func(action engine.AuthorizerActionCode, which, what, _, _ string) engine.AuthorizerReturnCode {
		switch {
		case action == engine.AuthPragma && which == "data_version", // full-text tables check whether they changed
			action == engine.AuthSelect, action == engine.AuthRead, action == engine.AuthRecursive, action == engine.AuthFunction && !slices.Contains(outside, strings.ToLower(what)):
			return engine.AuthorizerOK
		}
		return engine.AuthorizerDeny
	}); err != nil {
		return 0, err
	}
	defer allow(nil) //nolint:errcheck // the connection is not used for anything else
	return dbprint.Limited(ctx, query, func(ctx context.Context) (n int64, err error) {
		err = conn.QueryRowContext(ctx, query).Scan(&n)
		return n, err
	})
}

// outside lists functions that access something outside the database.
var outside = []string{"load_extension", "readfile", "writefile", "edit", "fts3_tokenizer"}
