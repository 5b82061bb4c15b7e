// Package dbcases has values that are easily confused. Every engine's fingerprint must distinguish
// them.
package dbcases

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"movekit/internal/core/dbprint"
	"movekit/internal/core/fault"
)

// Engine is an engine that the cases are run on.
type Engine int

// The engines.
const (
	SQLite Engine = iota
	PostgreSQL
	MariaDB
	Firebird
)

// value is a value of a type. by has the form for an engine that writes a value differently; ""
// leaves the value out.
type value struct {
	sql string
	by  map[Engine]string
}

type sort struct {
	name   string
	types  [4]string // by engine; "" where it has none
	values []value
}

func plain(values ...string) (out []value) {
	for _, v := range values {
		out = append(out, value{sql: v})
	}
	return out
}

var sorts = []sort{
	{"text", [4]string{"TEXT", "text", "text CHARACTER SET utf8mb4", "VARCHAR(40) CHARACTER SET UTF8"},
		append(plain("NULL", "''", "' '", "'  '", "'NULL'", "'x'", "'X'", "'x '", "'ä'", "'1'", "'1.0'", "'it''s'", "'a,b'", "'(1)'", "'😀'"),
			value{"", map[Engine]string{SQLite: "'a' || char(776)", PostgreSQL: `E'a\u0308'`, MariaDB: "convert(x'61CC88' using utf8mb4)", Firebird: "_UTF8 x'61CC88'"}},
			value{"", map[Engine]string{SQLite: "'a' || char(10) || 'b'", PostgreSQL: `E'a\nb'`, MariaDB: `'a\nb'`, Firebird: "'a' || ascii_char(10) || 'b'"}},
			value{"", map[Engine]string{SQLite: `'a\nb'`, PostgreSQL: `'a\nb'`, MariaDB: `'a\\nb'`, Firebird: `'a\nb'`}},
			value{"", map[Engine]string{SQLite: `'\N'`, PostgreSQL: `'\N'`, MariaDB: `'\\N'`, Firebird: `'\N'`}})},
	{"double", [4]string{"REAL", "float8", "double", "DOUBLE PRECISION"},
		append(plain("NULL", "0", "0.1", "0.30000000000000004", "0.3", "1e-300", "1e300", "-1e300"), value{"", map[Engine]string{PostgreSQL: "'-0'"}}, // the others have one zero

			value{"", map[Engine]string{PostgreSQL: "'NaN'"}}, value{"", map[Engine]string{PostgreSQL: "'Infinity'", SQLite: "9e999"}})},
	{"single", [4]string{"", "float4", "float", "FLOAT"}, plain("NULL", "0.1", "0.10000001", "16777216", "1.5e-30")},
	{"decimal", [4]string{"", "numeric(12,4)", "decimal(12,4)", "DECIMAL(12,4)"}, plain("NULL", "0", "0.1", "0.0001", "-0.1", "99999999.9999", "100", "10")},
	{"integer", [4]string{"INTEGER", "bigint", "bigint", "BIGINT"}, plain("NULL", "0", "1", "-1", "9223372036854775807", "-9223372036854775807", "10", "100")},
	{"unsigned", [4]string{"", "", "bigint unsigned", ""}, plain("0", "18446744073709551615", "9223372036854775808")},
	{"bytes", [4]string{"BLOB", "bytea", "longblob", "BLOB"},
		append(plain("NULL"),
			value{"x''", map[Engine]string{PostgreSQL: `'\x'`, Firebird: "''"}}, value{"x'00'", map[Engine]string{PostgreSQL: `'\x00'`}}, value{"x'0000'", map[Engine]string{PostgreSQL: `'\x0000'`}},
			value{"x'20'", map[Engine]string{PostgreSQL: `'\x20'`}}, value{"x'ff'", map[Engine]string{PostgreSQL: `'\xff'`}}, value{"x'3030'", map[Engine]string{PostgreSQL: `'\x3030'`}})},
	{"moment", [4]string{"", "timestamp", "datetime(6)", "TIMESTAMP"}, plain("NULL", "'2026-03-29 01:30:00'", "'2026-03-29 02:30:00'", "'2026-03-29 01:30:00.0001'", "'1899-12-30 00:00:00'", "'9999-12-31 23:59:59'")},
	{"moment with zone", [4]string{"", "timestamptz", "timestamp(6) NULL", ""}, append(plain("NULL", "'2026-03-29 00:30:00'", "'2026-03-29 01:30:00.000001'"), value{"", map[Engine]string{PostgreSQL: "'infinity'", MariaDB: "'0000-00-00 00:00:00'"}})},
	{"day", [4]string{"", "date", "date", "DATE"}, append(plain("NULL", "'2026-03-29'", "'2026-03-30'", "'1752-09-14'"), value{"", map[Engine]string{MariaDB: "'2026-02-31'"}}, value{"", map[Engine]string{MariaDB: "'2026-00-00'"}})},
	{"time", [4]string{"", "time", "time(3)", "TIME"}, append(plain("NULL", "'01:30:00'", "'01:30:00.001'"), value{"", map[Engine]string{MariaDB: "'-838:59:59'"}})},
	{"truth", [4]string{"", "bool", "tinyint(1)", "BOOLEAN"}, plain("NULL", "true", "false")},
	{"padded", [4]string{"", "char(3)", "char(3)", "CHAR(3)"}, plain("NULL", "''", "'a'", "'ab'", "'A'")},
	{"bits", [4]string{"", "bit(3)", "bit(3)", ""}, plain("NULL", "B'101'", "B'001'")},
	{"interval", [4]string{"", "interval", "", ""}, plain("'1 month'", "'30 days'", "'720 hours'")},
	{"jsonb", [4]string{"", "jsonb", "", ""}, plain(`'{"a":1}'`, `'{"a":1.0}'`, "'null'", "NULL")},
	{"json", [4]string{"", "json", "json", ""}, plain(`'{"a":1}'`, `'{"a": 1}'`, "'null'", "NULL")},
	{"list", [4]string{"", "text[]", "", ""}, plain("'{}'", "'{NULL}'", `'{"NULL"}'`, "'{a,b}'", "NULL")},
	{"choice", [4]string{"", "", "enum('a','b','NULL')", ""}, plain("'a'", "'b'", "'NULL'", "NULL")},
	{"choices", [4]string{"", "", "set('a','b')", ""}, plain("''", "'a'", "'a,b'", "NULL")},
	{"network", [4]string{"", "inet", "", ""}, plain("'::1'", "'127.0.0.1'")},
}

// Try creates a table for every value, and checks that no two values of one type have the same
// digest, that the order of rows does not matter, and that their number does. fresh creates a new
// database from statements; take computes its fingerprint, and with otherwise again with other
// session settings.
func Try(t *testing.T, e Engine, fresh func(t *testing.T, statements []string), take func(t *testing.T, otherwise bool) *dbprint.Fingerprint) {
	for _, s := range sorts {
		if s.types[e] == "" {
			continue
		}
		t.Run(s.name, func(t *testing.T) {
			var values, sql []string
			for _, v := range s.values {
				text, own := v.by[e]
				if !own {
					text = v.sql
				}
				if text != "" {
					values = append(values, text)
				}
			}
			for i, v := range values {
				sql = append(sql, fmt.Sprintf("CREATE TABLE c%02d (v %s)", i, s.types[e]), fmt.Sprintf("INSERT INTO c%02d VALUES (%s)", i, v))
			}
			fresh(t, sql)
			f := take(t, false)
			if len(f.Tables) != len(values) {
				t.Fatalf("%d tables of %d", len(f.Tables), len(values))
			}
			seen := map[string]string{}
			for i, v := range values {
				d := f.Tables[i].Digest
				if other, same := seen[d]; same {
					t.Errorf("%s and %s have one digest", v, other)
				}
				seen[d] = v
			}
			for _, d := range dbprint.Compare(f, take(t, true), nil) {
				if d.Table != "" {
					t.Errorf("other settings make a difference: %+v", d)
				}
			}
		})
	}
	if e == SQLite {
		return // every row has a number there: none is there twice
	}
	t.Run("rows", func(t *testing.T) {
		digests := map[string]string{}
		for _, rows := range []string{"1 2 2", "2 1 2", "1 1 2"} {
			sql := []string{"CREATE TABLE c (v INTEGER)"}
			for v := range strings.FieldsSeq(rows) {
				sql = append(sql, "INSERT INTO c VALUES ("+v+")")
			}
			fresh(t, sql)
			f := take(t, false)
			at := slices.IndexFunc(f.Tables, func(t dbprint.Table) bool { return strings.HasSuffix(strings.ToLower(t.Name), "c") })
			digests[rows] = f.Tables[at].Digest
		}
		if digests["1 2 2"] != digests["2 1 2"] || digests["1 2 2"] == digests["1 1 2"] {
			t.Errorf("the order of rows, or not how often each is there: %v", digests)
		}
	})
}

// Slow runs a query that does not end. It must be stopped in time, and reported as the card's
// query.
func Slow(t *testing.T, query string, ask func(ctx context.Context, query string) (int64, error)) {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), time.Second)
	defer cancel()
	begun := time.Now()
	if n, err := ask(ctx, query); fault.KindOf(err) != fault.BadCard || !strings.Contains(err.Error(), "because it took longer") {
		t.Errorf("%d %v (%s)", n, err, fault.KindOf(err))
	}
	if took := time.Since(begun); took > 10*time.Second {
		t.Errorf("it was stopped after %s", took)
	}
}
