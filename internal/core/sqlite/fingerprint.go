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
	"math/bits"
	"sort"
	"strings"
	"time"

	"movekit/internal/core/card"
	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
)

// Fingerprint is what two copies of a database are compared by. It does not
// depend on the order of rows, the page layout or the engine's version.
type Fingerprint struct {
	Tables []Table      `json:"tables"` // by name
	Schema string       `json:"schema"` // digest of every table, index, view and trigger
	User   int64        `json:"user_version"`
	App    int64        `json:"application_id"`
	Counts []CountValue `json:"counts,omitempty"` // in the order of the card
}

// Table is one table's share of a fingerprint.
type Table struct {
	Name   string `json:"name"`
	Rows   int64  `json:"rows"`
	Digest string `json:"digest"` // of its rows as a multiset, 256 bits, hex
}

// CountValue is a figure of the card.
type CountValue struct {
	Name  string `json:"name"`
	Value int64  `json:"value"`
}

// Rows is the number of rows of all tables.
func (f *Fingerprint) Rows() (n int64) {
	for _, t := range f.Tables {
		n += t.Rows
	}
	return n
}

// Take fingerprints a database within one transaction. temp is a private
// folder for a database that cannot be read in place.
func Take(ctx context.Context, name, temp string, counts []card.Count) (*Fingerprint, error) {
	var f *Fingerprint
	err := reading(ctx, name, temp, func(conn *sql.Conn) (err error) {
		if _, err := conn.ExecContext(ctx, "BEGIN"); err != nil {
			return err
		}
		defer conn.ExecContext(context.WithoutCancel(ctx), "ROLLBACK")
		f, err = take(ctx, conn, counts)
		return err
	})
	return f, err
}

func take(ctx context.Context, conn *sql.Conn, counts []card.Count) (*Fingerprint, error) {
	f := &Fingerprint{}
	tables, schema, err := readSchema(ctx, conn)
	if err != nil {
		return nil, err
	}
	f.Schema = schema
	for pragma, to := range map[string]*int64{"user_version": &f.User, "application_id": &f.App} {
		if err := conn.QueryRowContext(ctx, "PRAGMA "+pragma).Scan(to); err != nil {
			return nil, err
		}
	}
	for _, t := range tables {
		got, err := readTable(ctx, conn, t)
		if err != nil {
			return nil, fmt.Errorf("table %s: %w", t, err)
		}
		f.Tables = append(f.Tables, got)
	}
	for _, c := range counts {
		v := CountValue{Name: c.Name}
		if err := conn.QueryRowContext(ctx, c.Query).Scan(&v.Value); err != nil {
			return nil, fault.Wrap(fault.BadCard, err, "the card's count %q cannot be taken", c.Name)
		}
		f.Counts = append(f.Counts, v)
	}
	return f, nil
}

// readSchema returns the tables that hold rows, and the digest of the schema.
// Virtual tables are told of by their shadow tables.
func readSchema(ctx context.Context, conn *sql.Conn) (tables []string, sum string, err error) {
	rows, err := conn.QueryContext(ctx, "SELECT type, name, tbl_name, coalesce(sql, '') FROM sqlite_schema")
	if err != nil {
		return nil, "", err
	}
	defer rows.Close()
	var lines []string
	for rows.Next() {
		var typ, name, table, text string
		if err := rows.Scan(&typ, &name, &table, &text); err != nil {
			return nil, "", err
		}
		virtual := strings.HasPrefix(strings.ToUpper(strings.TrimSpace(text)), "CREATE VIRTUAL")
		counter := name == "sqlite_sequence"
		if typ == "table" && !virtual && (counter || !strings.HasPrefix(name, "sqlite_")) {
			tables = append(tables, name)
		}
		if !strings.HasPrefix(name, "sqlite_stat") {
			lines = append(lines, strings.Join([]string{typ, name, table, text}, "\x00"))
		}
	}
	sort.Strings(tables)
	sort.Strings(lines)
	return tables, digest.Of([]byte(strings.Join(lines, "\x01"))).String(), rows.Err()
}

// quoted writes a name as SQL does.
func quoted(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

func readTable(ctx context.Context, conn *sql.Conn, table string) (Table, error) {
	t := Table{Name: table}
	columns, err := columnsOf(ctx, conn, table)
	if err != nil {
		return t, err
	}
	// A unary plus gives the value as it is stored: the driver would make
	// times of columns that are declared so.
	exprs := make([]string, len(columns))
	for i, c := range columns {
		exprs[i] = "+" + quoted(c)
	}
	query := "SELECT " + strings.Join(exprs, ", ") + " FROM " + quoted(table)
	var sum multiset
	err = conn.Raw(func(dc any) error {
		q, ok := dc.(driver.QueryerContext)
		if !ok {
			return errors.New("the database engine cannot be read row by row")
		}
		rows, err := q.QueryContext(ctx, query, nil)
		if err != nil {
			return err
		}
		defer rows.Close()
		values := make([]driver.Value, len(columns))
		var buf []byte
		for {
			switch err := rows.Next(values); {
			case err == io.EOF:
				return nil
			case err != nil:
				return err
			}
			if buf, err = encodeRow(buf[:0], values); err != nil {
				return err
			}
			sum.add(digest.Of(buf))
		}
	})
	t.Rows, t.Digest = int64(sum.n), sum.digest()
	return t, err
}

// columnsOf returns a table's columns, the generated ones too.
func columnsOf(ctx context.Context, conn *sql.Conn, table string) ([]string, error) {
	rows, err := conn.QueryContext(ctx, "SELECT name, hidden FROM pragma_table_xinfo(?) ORDER BY cid", table)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []string
	for rows.Next() {
		var name string
		var hidden int
		if err := rows.Scan(&name, &hidden); err != nil {
			return nil, err
		}
		if hidden != 1 { // 1: hidden column of a virtual table
			out = append(out, name)
		}
	}
	return out, rows.Err()
}

// encodeRow writes the values of a row so that different rows have different
// bytes: a letter for the storage class, then the value, with its length
// where that varies.
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
			return nil, errors.New("the engine gave a time where a stored value was asked for")
		default:
			return nil, fmt.Errorf("the engine gave a value of the unknown type %T", v)
		}
	}
	return b, nil
}

// multiset sums hashes modulo 2^256, so that their order does not matter
// while how often each comes does. (Bellare and Micciancio, "A New Paradigm
// for Collision-Free Hashing", 1997, section 5: AdHASH.)
type multiset struct {
	n   uint64
	sum [4]uint64
}

func (m *multiset) add(h digest.Sum) {
	m.n++
	var carry uint64
	for i := range m.sum {
		m.sum[i], carry = bits.Add64(m.sum[i], binary.LittleEndian.Uint64(h[8*i:]), carry)
	}
}

func (m *multiset) digest() string {
	b := binary.LittleEndian.AppendUint64(nil, m.n)
	for _, w := range m.sum {
		b = binary.LittleEndian.AppendUint64(b, w)
	}
	return digest.Of(b).String()
}

// Diff is one place where two fingerprints differ.
type Diff struct {
	Table string `json:"table,omitempty"`
	What  string `json:"what"`
}

// Compare names every table, count and setting in which two fingerprints
// differ.
func Compare(old, new *Fingerprint) []Diff {
	var out []Diff
	differ := func(table, format string, args ...any) {
		out = append(out, Diff{table, fmt.Sprintf(format, args...)})
	}
	have := map[string]Table{}
	for _, t := range new.Tables {
		have[t.Name] = t
	}
	for _, o := range old.Tables {
		n, ok := have[o.Name]
		delete(have, o.Name)
		switch {
		case !ok:
			differ(o.Name, "the table is missing")
		case o.Rows != n.Rows:
			differ(o.Name, "had %d rows, has %d", o.Rows, n.Rows)
		case o.Digest != n.Digest:
			differ(o.Name, "has as many rows, but not the same ones")
		}
	}
	for _, t := range new.Tables {
		if _, extra := have[t.Name]; extra {
			differ(t.Name, "the table was not on the old computer")
		}
	}
	if old.Schema != new.Schema {
		differ("", "the schema (tables, indexes, views, triggers) is not the same")
	}
	if old.User != new.User {
		differ("", "user_version was %d, is %d", old.User, new.User)
	}
	if old.App != new.App {
		differ("", "application_id was %d, is %d", old.App, new.App)
	}
	return out
}

// Ask returns the whole number that a query gives of a database, which is
// read as it is at one moment, without a trace. temp is as for Snapshot.
func Ask(ctx context.Context, name, temp, query string) (n int64, err error) {
	err = reading(ctx, name, temp, func(conn *sql.Conn) error {
		return conn.QueryRowContext(ctx, query).Scan(&n)
	})
	return n, err
}
