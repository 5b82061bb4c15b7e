package sqlite

import (
	"bytes"
	"cmp"
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"hash/maphash"
	"maps"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"
	engine "modernc.org/sqlite"

	"movekit/internal/core/card"
	"movekit/internal/core/dbprint"
	"movekit/internal/core/fault"
)

// The engine's integrity check looks up every row in every index, which takes most of its time.
// Instead, each index is read once from start to end: its entries must be in order, and have the
// same sum as those of its table. The other indexes are left to the engine's check.

// entriesFunction sums the entries of an index. Its first argument is their required order
// (index.order), or "" for none. The others are the values of an entry.
const entriesFunction = "movekit_entries"

func init() {
	seed := maphash.MakeSeed()
	engine.MustRegisterFunction(entriesFunction, &engine.FunctionImpl{NArgs: -1, VolatileArgs: true,
		MakeAggregate: func(engine.FunctionContext) (engine.AggregateFunction, error) { return &entries{seed: seed}, nil }})
}

// indexed is a column of an index: how its texts are compared, and whether it is descending.
type indexed struct {
	column  string
	collate byte // b, n or r: BINARY, NOCASE, RTRIM (sqlite.org/datatype3.html#collating_sequences)
	down    bool
}

// index is an index that can be compared with its table.
type index struct {
	name    string
	unique  bool
	columns []indexed // the last is the row number
}

// order describes an index for entriesFunction.
func (x index) order() string {
	out := []byte{'-'}
	if x.unique {
		out[0] = 'u'
	}
	for _, c := range x.columns {
		if out = append(out, c.collate); c.down {
			out[len(out)-1] -= 'a' - 'A'
		}
	}
	return string(out)
}

// sum returns the expression that sums its entries, with a required order or "".
func (x index) sum(order string) string {
	out := entriesFunction + "('" + order + "'"
	for _, c := range x.columns {
		out += ", +" + c.column
	}
	return out + ")"
}

// entrySums are sums of index entries, by table and index. A table with an index that cannot be
// compared is missing.
type entrySums map[string]map[string]string

// Whole fingerprints a snapshot, and checks its integrity with the engine. Of the indexes, only
// doubtful ones are checked by the engine. An encrypted database cannot be checked.
func Whole(ctx context.Context, name string, counts []card.Count) (f *dbprint.Fingerprint, err error) {
	if encrypted, err := Encrypted(name); err == nil && encrypted {
		return takeEncrypted(name)
	}
	const alone = "mode=ro&immutable=1"
	rows, found := entrySums{}, entrySums{}
	var tables []string
	work, within := errgroup.WithContext(ctx)
	work.Go(func() error {
		return with(within, name, alone, func(conn *sql.Conn) (err error) {
			if err := checkIntegrity(within, conn, "PRAGMA quick_check(5)"); err != nil {
				return err
			}
			tables, err = found.read(within, conn)
			return err
		})
	})
	work.Go(func() error {
		return with(within, name, alone, func(conn *sql.Conn) (err error) {
			f, err = take(within, conn, counts, nil, rows)
			return err
		})
	})
	if err := work.Wait(); err != nil {
		return nil, err
	}
	return f, with(ctx, name, alone, func(conn *sql.Conn) error {
		for _, t := range doubtful(tables, rows, found) {
			if err := checkIntegrity(ctx, conn, "PRAGMA integrity_check("+quoted(t)+")"); err != nil {
				return err
			}
		}
		return nil
	})
}

// doubtful returns the tables whose index entries do not match their rows.
func doubtful(tables []string, rows, found entrySums) []string {
	return slices.DeleteFunc(tables, func(t string) bool {
		return rows[t] != nil && found[t] != nil && maps.Equal(rows[t], found[t])
	})
}

// checkIntegrity runs an integrity check of the engine.
func checkIntegrity(ctx context.Context, conn *sql.Conn, check string) error {
	said, err := column(ctx, conn, check)
	if bad := slices.DeleteFunc(said, func(s string) bool { return s == "ok" }); err == nil && len(bad) > 0 {
		err = fault.New(fault.BadDatabase, "the engine's integrity check failed: %s", strings.Join(bad[:min(len(bad), 5)], "; "))
	}
	return err
}

// column returns the first column of a query as texts.
func column(ctx context.Context, conn *sql.Conn, query string, args ...any) (out []string, err error) {
	rows, err := conn.QueryContext(ctx, query, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var s string
		if err := rows.Scan(&s); err != nil {
			return nil, err
		}
		out = append(out, s)
	}
	return out, rows.Err()
}

// read reads every index that can be compared, and returns all tables.
func (e entrySums) read(ctx context.Context, conn *sql.Conn) (tables []string, err error) {
	if tables, err = column(ctx, conn, "SELECT name FROM pragma_table_list WHERE schema = 'main' AND type IN ('table', 'shadow') AND name <> 'sqlite_schema'"); err != nil {
		return nil, err
	}
	for _, t := range tables {
		all, known, err := indexesOf(ctx, conn, t)
		if err != nil {
			return nil, err
		}
		sums := map[string]string{}
		for _, x := range all {
			var sum string
			if err := conn.QueryRowContext(ctx, "SELECT "+x.sum(x.order())+" FROM "+quoted(t)+" INDEXED BY "+quoted(x.name)).Scan(&sum); err != nil {
				known = false
				break
			}
			sums[x.name] = sum
		}
		if known {
			e[t] = sums
		}
	}
	return tables, ctx.Err()
}

// indexesOf returns the indexes of a table. known is false if the table or one of its indexes
// cannot be compared here.
func indexesOf(ctx context.Context, conn *sql.Conn, table string) (all []index, known bool, err error) {
	var encoding string
	var keyed, plain int
	if err := conn.QueryRowContext(ctx, "PRAGMA encoding").Scan(&encoding); err != nil {
		return nil, false, err
	}
	if err := conn.QueryRowContext(ctx, "SELECT wr FROM pragma_table_list WHERE schema = 'main' AND name = ?", table).Scan(&keyed); err != nil || keyed != 0 {
		return nil, false, err
	}
	if err := conn.QueryRowContext(ctx, "SELECT count(*) FROM pragma_table_xinfo(?) WHERE lower(name) = 'rowid'", table).Scan(&plain); err != nil {
		return nil, false, err
	}
	rows, err := conn.QueryContext(ctx, `SELECT i.name, i."unique", i.partial, coalesce(x.name, ''), x.cid, x.coll, x."desc" FROM pragma_index_list(?) i, pragma_index_xinfo(i.name) x ORDER BY i.seq, x.seqno`, table)
	if err != nil {
		return nil, false, err
	}
	defer rows.Close()
	for rows.Next() {
		var name, col, coll string
		var unique, partial, down bool
		var cid int
		if err := rows.Scan(&name, &unique, &partial, &col, &cid, &coll, &down); err != nil {
			return nil, false, err
		}
		c := indexed{quoted(col), map[string]byte{"BINARY": 'b', "NOCASE": 'n', "RTRIM": 'r'}[strings.ToUpper(coll)], down}
		if cid == -1 {
			c.column = "rowid"
		}
		if cid < -1 || c.collate == 0 || partial || plain > 0 || encoding != "UTF-8" {
			return nil, false, nil
		}
		if len(all) == 0 || all[len(all)-1].name != name {
			all = append(all, index{name: name, unique: unique})
		}
		x := &all[len(all)-1]
		if x.columns = append(x.columns, c); len(x.columns) >= maxArguments {
			return nil, false, nil
		}
	}
	return all, true, rows.Err()
}

// entries sums the entries of an index while they are read.
type entries struct {
	seed   maphash.Seed
	n, sum uint64
	buf    []byte
	before []driver.Value
	wrong  string
}

func (e *entries) Step(_ *engine.FunctionContext, values []driver.Value) (err error) {
	order, _ := values[0].(string)
	if values = values[1:]; order != "" {
		if e.before != nil && e.wrong == "" && !follows(order, e.before, values) {
			e.wrong = fmt.Sprintf("out of order at entry %d", e.n)
		}
		e.keep(values)
	}
	if e.buf, err = encodeRow(e.buf[:0], values); err == nil {
		e.n++
		e.sum += maphash.Bytes(e.seed, e.buf)
	}
	return err
}

// keep copies an entry, because its texts and blobs are in the engine's memory.
func (e *entries) keep(values []driver.Value) {
	e.before = append(e.before[:0], values...)
	for i, v := range e.before {
		switch v := v.(type) {
		case string:
			e.before[i] = strings.Clone(v)
		case []byte:
			e.before[i] = bytes.Clone(v)
		}
	}
}

func (*entries) WindowInverse(*engine.FunctionContext, []driver.Value) error {
	return errors.New("entries cannot be removed")
}

func (e *entries) WindowValue(*engine.FunctionContext) (driver.Value, error) {
	return fmt.Sprintf("%d %x%s", e.n, e.sum, e.wrong), nil
}

func (*entries) Final(*engine.FunctionContext) {}

// follows reports whether an entry may come after another.
func follows(order string, before, values []driver.Value) bool {
	null := false
	for i, v := range values {
		if i == len(values)-1 && order[0] == 'u' && !null {
			return false // duplicates in a unique index
		}
		how := order[i+1]
		d := compare(before[i], v, how|('a'-'A'))
		if how < 'a' {
			d = -d
		}
		if d != 0 {
			return d < 0
		}
		null = null || v == nil
	}
	return false
}

// compare compares two values as the engine does (sqlite.org/datatype3.html, section 4.1).
func compare(a, b driver.Value, collate byte) int {
	if d := cmp.Compare(class(a), class(b)); d != 0 {
		return d
	}
	switch a := a.(type) {
	case int64:
		if b, ok := b.(int64); ok {
			return cmp.Compare(a, b)
		}
		return mixed(a, b.(float64))
	case float64:
		if b, ok := b.(float64); ok {
			return cmp.Compare(a, b)
		}
		return -mixed(b.(int64), a)
	case string:
		b := b.(string)
		switch collate {
		case 'n':
			a, b = lower(a), lower(b)
		case 'r':
			a, b = strings.TrimRight(a, " "), strings.TrimRight(b, " ")
		}
		return strings.Compare(a, b)
	case []byte:
		b, _ := b.([]byte)
		return bytes.Compare(a, b)
	}
	return 0
}

// class returns the sort position of a value's storage class.
func class(v driver.Value) int {
	switch v.(type) {
	case nil:
		return 0
	case int64, float64:
		return 1
	case string:
		return 2
	}
	return 3
}

// mixed compares an integer with a float exactly.
func mixed(i int64, f float64) int {
	switch {
	case f < -9223372036854775808.0:
		return 1
	case f >= 9223372036854775808.0:
		return -1
	}
	if d := cmp.Compare(i, int64(f)); d != 0 {
		return d
	}
	return cmp.Compare(float64(int64(f)), f)
}

// lower converts ASCII letters to lower case, as the engine does for NOCASE.
func lower(s string) string {
	out := []byte(s)
	for i, c := range out {
		if c >= 'A' && c <= 'Z' {
			out[i] = c + 'a' - 'A'
		}
	}
	return string(out)
}
