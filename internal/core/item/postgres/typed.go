package postgres

import (
	"context"
	"encoding/hex"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5"

	"movekit/internal/core/fault"
	"movekit/internal/core/item/postgres/sqltext"
)

// The sealed facts and rows come from a kit, which somebody with its passphrase can forge. Nothing in
// them runs as SQL: statements are parsed into values, and built again here. Each is sent by the
// extended protocol, which accepts only one statement.

// execOne runs one statement. More than one is an error of the server.
func execOne(ctx context.Context, conn *pgx.Conn, sql string) error {
	return conn.PgConn().ExecParams(ctx, sql, nil, nil, nil, nil).Read().Err
}

// setPath sets the search path of a session to that of the old database.
func setPath(ctx context.Context, conn *pgx.Conn, path string) error {
	list, ok := sqltext.ListOf(path)
	if !ok {
		return fault.New(fault.Hostile, "the sealed search path %q is not a list of names", path)
	}
	return execOne(ctx, conn, "SET search_path TO "+list)
}

// replay carries out a statement of the sealed rows.
func replay(ctx context.Context, conn *pgx.Conn, sql string) error {
	number := func(text string) int64 { n, _ := strconv.ParseInt(text, 10, 64); return n }
	if m := sqltext.SetValue.FindStringSubmatch(sql); m != nil {
		_, err := conn.Exec(ctx, "SELECT pg_catalog.setval($1::text::regclass, $2, $3)", strings.ReplaceAll(m[1], "''", "'"), number(m[2]), m[3] == "true")
		return err
	}
	if m := sqltext.CreateLob.FindStringSubmatch(sql); m != nil {
		_, err := conn.Exec(ctx, "SELECT pg_catalog.lo_create($1::int8::oid)", number(m[1]))
		return err
	}
	if m := sqltext.PutLob.FindStringSubmatch(sql); m != nil {
		data, err := hex.DecodeString(m[3])
		if err == nil {
			_, err = conn.Exec(ctx, "SELECT pg_catalog.lo_put($1::int8::oid, $2, $3)", number(m[1]), number(m[2]), data)
		}
		return err
	}
	if sqltext.Fixed[sql] {
		return nil // the session has these settings already
	}
	return execOne(ctx, conn, sql)
}
