package postgres

import (
	"context"
	"strings"

	"github.com/jackc/pgx/v5"

	"movekit/internal/core/dbprint"
	"movekit/internal/core/fault"
	"movekit/internal/core/item/postgres/sqltext"
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
			cols[i] = sqltext.Quoted(k)
		}
		key = "pg_catalog.concat_ws(', ', " + strings.Join(cols, ", ") + ")"
	}
	rows, err := conn.Query(ctx, "SELECT "+key+", "+sqltext.Quoted(column)+"::text FROM ONLY "+t.Name+" WHERE "+sqltext.Quoted(column)+" IS NOT NULL")
	if err != nil {
		return s.explain(err)
	}
	var who, text string
	_, err = pgx.ForEachRow(rows, []any{&who, &text}, func() error { return each(who, text) })
	return s.explain(err)
}

// evaluated selects a function of the database that an update of a table runs: by a trigger that cannot
// be disabled, a check of the table or of a domain, an index or a generated column. Functions in C belong
// to extensions.
const evaluated = `WITH RECURSIVE kind AS (
		SELECT atttypid AS oid FROM pg_catalog.pg_attribute WHERE attrelid = $1::pg_catalog.regclass AND attnum > 0 AND NOT attisdropped
		UNION SELECT d.typbasetype FROM kind JOIN pg_catalog.pg_type d ON d.oid = kind.oid WHERE d.typbasetype <> 0),
	part AS (
		SELECT 'pg_catalog.pg_constraint'::pg_catalog.regclass AS classid, oid AS objid FROM pg_catalog.pg_constraint WHERE conrelid = $1::pg_catalog.regclass OR contypid IN (SELECT oid FROM kind)
		UNION ALL SELECT 'pg_catalog.pg_class'::pg_catalog.regclass, indexrelid FROM pg_catalog.pg_index WHERE indrelid = $1::pg_catalog.regclass
		UNION ALL SELECT 'pg_catalog.pg_attrdef'::pg_catalog.regclass, d.oid FROM pg_catalog.pg_attrdef d JOIN pg_catalog.pg_attribute a ON a.attrelid = d.adrelid AND a.attnum = d.adnum WHERE d.adrelid = $1::pg_catalog.regclass AND a.attgenerated <> ''
		UNION ALL SELECT 'pg_catalog.pg_trigger'::pg_catalog.regclass, oid FROM pg_catalog.pg_trigger WHERE tgrelid = $1::pg_catalog.regclass AND NOT tgisinternal AND tgenabled IN ('A', 'R')),
	used AS (
		SELECT d.refclassid, d.refobjid FROM part JOIN pg_catalog.pg_depend d USING (classid, objid)
		UNION ALL SELECT 'pg_catalog.pg_proc'::pg_catalog.regclass, o.oprcode FROM part JOIN pg_catalog.pg_depend d USING (classid, objid) JOIN pg_catalog.pg_operator o ON d.refclassid = 'pg_catalog.pg_operator'::pg_catalog.regclass AND o.oid = d.refobjid)
	SELECT p.oid::pg_catalog.regprocedure::text FROM used JOIN pg_catalog.pg_proc p ON used.refclassid = 'pg_catalog.pg_proc'::pg_catalog.regclass AND p.oid = used.refobjid JOIN pg_catalog.pg_language l ON l.oid = p.prolang
	WHERE p.oid >= 16384 AND l.lanname NOT IN ('c', 'internal') ORDER BY 1 LIMIT 1`

// Rewrite changes texts in a column. It disables the app's triggers, which needs an administrator, and
// runs nothing else of the database.
func (s *session) Rewrite(ctx context.Context, database string, t dbprint.Table, column string, now map[string]string) error {
	conn, err := s.on(ctx, database)
	if err != nil {
		return err
	}
	return s.explain(pgx.BeginFunc(ctx, conn, func(tx pgx.Tx) error {
		runs, err := texts(ctx, conn, evaluated, t.Name)
		if err != nil {
			return err
		}
		if len(runs) > 0 {
			return fault.New(fault.ServerRefused, "a check, an index or a trigger of it calls the function %s, which would run as an administrator", runs[0])
		}
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
			if _, err := tx.Exec(ctx, "UPDATE ONLY "+t.Name+" SET "+sqltext.Quoted(column)+" = $2 WHERE "+sqltext.Quoted(column)+"::text COLLATE \"C\" = $1", was, is); err != nil {
				return err
			}
		}
		return nil
	}))
}
