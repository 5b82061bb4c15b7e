package postgres

import (
	"context"
	"encoding/hex"
	"regexp"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5"

	"movekit/internal/core/fault"
)

// The sealed facts and rows come from a kit, which somebody with its passphrase can forge. Nothing in
// them runs as SQL: statements are parsed into values, and built again here. Each is sent by the
// extended protocol, which accepts only one statement.

// execOne runs one statement. More than one is an error of the server.
func execOne(ctx context.Context, conn *pgx.Conn, sql string) error {
	return conn.PgConn().ExecParams(ctx, sql, nil, nil, nil, nil).Read().Err
}

// identifier matches a name as the server quotes it.
const identifier = `(?:[a-z_][a-z0-9_$]*|"(?:[^"]|"")+")`

// plain matches a name in a list that needs no quotes.
var plain = regexp.MustCompile(`^[\pL0-9_$+-]*$`)

// listOf returns the names in a list such as a search path, which the server writes quoted if needed,
// as literals. ok is false if it is not such a list.
func listOf(text string) (literals string, ok bool) {
	var out []string
	for rest := strings.TrimSpace(text); ; {
		name := ""
		if strings.HasPrefix(rest, `"`) {
			end := 1
			for ; end < len(rest); end++ {
				if rest[end] == '"' {
					if end+1 < len(rest) && rest[end+1] == '"' {
						end++
						continue
					}
					break
				}
			}
			if end >= len(rest) {
				return "", false
			}
			name, rest = strings.ReplaceAll(rest[1:end], `""`, `"`), rest[end+1:]
		} else {
			end := strings.IndexByte(rest+",", ',')
			name, rest = strings.TrimSpace(rest[:end]), rest[end:]
			if !plain.MatchString(name) {
				return "", false
			}
		}
		out = append(out, literal(name))
		if rest = strings.TrimSpace(rest); rest == "" {
			return strings.Join(out, ", "), true
		}
		if rest[0] != ',' {
			return "", false
		}
		rest = strings.TrimSpace(rest[1:])
	}
}

// setPath sets the search path of a session to that of the old database.
func setPath(ctx context.Context, conn *pgx.Conn, path string) error {
	list, ok := listOf(path)
	if !ok {
		return fault.New(fault.Hostile, "the sealed search path %q is not a list of names", path)
	}
	return execOne(ctx, conn, "SET search_path TO "+list)
}

// The statements in sealed rows, besides COPY.
var (
	fixed      = map[string]bool{"SET client_encoding = 'UTF8'": true, "SET standard_conforming_strings = on": true, "SET search_path = ''": true}
	copyIn     = regexp.MustCompile(`^COPY ` + identifier + `\.` + identifier + `(?: \(` + identifier + `(?:, ` + identifier + `)*\))? FROM stdin$`)
	copyTo     = regexp.MustCompile(`^COPY ` + identifier + `\.` + identifier)
	setValue   = regexp.MustCompile(`^SELECT pg_catalog\.setval\('((?:[^']|'')*)', (-?[0-9]+), (true|false)\)$`)
	createLob  = regexp.MustCompile(`^SELECT pg_catalog\.lo_create\('([0-9]+)'\)$`)
	putLob     = regexp.MustCompile(`^SELECT pg_catalog\.lo_put\('([0-9]+)', ([0-9]+), '\\x([0-9a-f]*)'\)$`)
	ownLob     = regexp.MustCompile(`^ALTER LARGE OBJECT [0-9]+ OWNER TO ` + identifier + `$`)
	grantLob   = regexp.MustCompile(`^GRANT (?:SELECT|UPDATE) ON LARGE OBJECT [0-9]+ TO (?:PUBLIC|` + identifier + `)(?: WITH GRANT OPTION)?$`)
	revokeLob  = regexp.MustCompile(`^REVOKE ALL ON LARGE OBJECT [0-9]+ FROM ` + identifier + `$`)
	commentLob = regexp.MustCompile(`^COMMENT ON LARGE OBJECT [0-9]+ IS E'(?:[^'\\]|''|\\.)*'$`)
)

// view matches the name of a materialized view.
var view = regexp.MustCompile(`^` + identifier + `\.` + identifier + `$`)

// replay carries out a statement of the sealed rows.
func replay(ctx context.Context, conn *pgx.Conn, sql string) error {
	number := func(text string) int64 { n, _ := strconv.ParseInt(text, 10, 64); return n }
	if m := setValue.FindStringSubmatch(sql); m != nil {
		_, err := conn.Exec(ctx, "SELECT pg_catalog.setval($1::text::regclass, $2, $3)", strings.ReplaceAll(m[1], "''", "'"), number(m[2]), m[3] == "true")
		return err
	}
	if m := createLob.FindStringSubmatch(sql); m != nil {
		_, err := conn.Exec(ctx, "SELECT pg_catalog.lo_create($1::int8::oid)", number(m[1]))
		return err
	}
	if m := putLob.FindStringSubmatch(sql); m != nil {
		data, err := hex.DecodeString(m[3])
		if err == nil {
			_, err = conn.Exec(ctx, "SELECT pg_catalog.lo_put($1::int8::oid, $2, $3)", number(m[1]), number(m[2]), data)
		}
		return err
	}
	if fixed[sql] {
		return nil // the session has these settings already
	}
	return execOne(ctx, conn, sql)
}

// isReplayed reports whether a line of the sealed rows, without its semicolon, is a statement that
// Seal writes.
func isReplayed(sql string) bool {
	for _, one := range []*regexp.Regexp{setValue, createLob, putLob, ownLob, grantLob, revokeLob, commentLob} {
		if one.MatchString(sql) {
			return true
		}
	}
	return fixed[sql]
}
