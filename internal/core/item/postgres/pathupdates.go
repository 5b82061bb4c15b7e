package postgres

import (
	"context"
	"strings"

	"github.com/jackc/pgx/v5"

	"movekit/internal/core/dbprint"
)

// Texts reads a column of a table.
func (s *session) Texts(ctx context.Context, database string, t dbprint.Table, column string, each func(key, text string) error) error {
	conn, err := s.on(ctx, database)
	if err != nil {
		return err
	}
	key := "''"
	if len(t.Key) > 0 {
		cols := make([]string, len(t.Key))
		for i, k := range t.Key {
			cols[i] = quoted(k)
		}
		key = "pg_catalog.concat_ws(', ', " + strings.Join(cols, ", ") + ")"
	}
	rows, err := conn.Query(ctx, "SELECT "+key+", "+quoted(column)+"::text FROM ONLY "+t.Name+" WHERE "+quoted(column)+" IS NOT NULL")
	if err != nil {
		return s.explain(err)
	}
	var who, text string
	_, err = pgx.ForEachRow(rows, []any{&who, &text}, func() error { return each(who, text) })
	return s.explain(err)
}

// Rewrite changes texts in a column. It disables the app's triggers, which needs an administrator.
func (s *session) Rewrite(ctx context.Context, database string, t dbprint.Table, column string, now map[string]string) error {
	conn, err := s.on(ctx, database)
	if err != nil {
		return err
	}
	return s.explain(pgx.BeginFunc(ctx, conn, func(tx pgx.Tx) error {
		var triggers bool
		if err := tx.QueryRow(ctx, "SELECT EXISTS (SELECT FROM pg_catalog.pg_trigger WHERE tgrelid = $1::pg_catalog.regclass AND NOT tgisinternal)", t.Name).Scan(&triggers); err != nil {
			return err
		}
		if triggers {
			if _, err := tx.Exec(ctx, "SET LOCAL session_replication_role = replica"); err != nil {
				return err
			}
		}
		for was, is := range now {
			if _, err := tx.Exec(ctx, "UPDATE ONLY "+t.Name+" SET "+quoted(column)+" = $2 WHERE "+quoted(column)+"::text COLLATE \"C\" = $1", was, is); err != nil {
				return err
			}
		}
		return nil
	}))
}
