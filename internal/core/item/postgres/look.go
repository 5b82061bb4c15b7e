package postgres

import (
	"context"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"

	"movekit/internal/core/dbprint"
	"movekit/internal/core/item/served"
)

// Look inspects a database.
func (s *session) Look(ctx context.Context, database string) (*served.Look, error) {
	conn, err := s.on(ctx, database)
	if err != nil {
		return nil, err
	}
	l := &served.Look{Engine: "PostgreSQL " + s.version}
	err = conn.QueryRow(ctx, `SELECT pg_catalog.pg_database_size(d.oid), (SELECT count(*) FROM pg_catalog.pg_class c WHERE c.relkind IN ('r','p') AND `+notOurs("c")+`),
		d.oid::text || ' ' || CASE WHEN pg_catalog.pg_is_in_recovery() THEN clock_timestamp()::text ELSE pg_catalog.pg_current_wal_insert_lsn()::text END
		FROM pg_catalog.pg_database d WHERE d.datname = pg_catalog.current_database()`).Scan(&l.Bytes, &l.Tables, &l.Stamp)
	if err != nil {
		return nil, s.explain(err)
	}
	if l.Sessions, err = texts(ctx, conn, `SELECT coalesce(nullif(application_name, ''), 'a program') || ' as ' || coalesce(usename, '?') || coalesce(' from ' || host(client_addr), '')
		FROM pg_catalog.pg_stat_activity WHERE datname = pg_catalog.current_database() AND pid <> pg_catalog.pg_backend_pid() AND backend_type = 'client backend' ORDER BY 1 LIMIT 20`); err != nil {
		return nil, s.explain(err)
	}
	if l.Left, err = unsupported(ctx, conn); err != nil {
		return nil, s.explain(err)
	}
	return l, nil
}

// Ask returns the whole number that a query returns. It prevents the query from changing anything.
func (s *session) Ask(ctx context.Context, database, query string) (n int64, err error) {
	err = s.reading(ctx, database, "BEGIN READ ONLY", func(c *pgx.Conn) (err error) {
		n, err = askIn(ctx, c, query)
		return err
	})
	return n, err
}

// askIn runs a card's query in a transaction. The query finds tables on the app's default search
// path.
func askIn(ctx context.Context, conn *pgx.Conn, query string) (n int64, err error) {
	err = inDefaultPath(ctx, conn, func() error {
		if err := dropRights(ctx, conn); err != nil {
			return err
		}
		n, err = dbprint.Limited(ctx, query, func(ctx context.Context) (n int64, err error) {
			err = conn.QueryRow(ctx, "SELECT * FROM (\n"+strings.TrimRight(strings.TrimSpace(query), ";")+"\n) AS movekit").Scan(&n)
			return n, err
		})
		if err != nil {
			return err
		}
		_, err = conn.Exec(ctx, "SET LOCAL ROLE NONE")
		return err
	})
	return n, err
}

// dropRights gives up administrator rights other than reading, for the rest of the transaction. Servers
// before version 14 have no role that reads everything, and with row security no role can.
func dropRights(ctx context.Context, conn *pgx.Conn) error {
	var may bool
	if err := conn.QueryRow(ctx, "SELECT rolsuper AND EXISTS (SELECT FROM pg_catalog.pg_roles WHERE rolname = 'pg_read_all_data') AND NOT EXISTS (SELECT FROM pg_catalog.pg_class WHERE relrowsecurity) FROM pg_catalog.pg_roles WHERE rolname = current_user").Scan(&may); err != nil {
		return err
	}
	if !may {
		return nil
	}
	_, err := conn.Exec(ctx, "SET LOCAL ROLE pg_read_all_data")
	return err
}

// inDefaultPath calls ask in a transaction with the app's default search path.
func inDefaultPath(ctx context.Context, conn *pgx.Conn, ask func() error) error {
	if _, err := conn.Exec(ctx, "SET LOCAL search_path TO DEFAULT"); err != nil {
		return err
	}
	if err := ask(); err != nil {
		return err
	}
	_, err := conn.Exec(ctx, "SET LOCAL search_path TO ''")
	return err
}

// unsupported lists content of the database that cannot be moved.
func unsupported(ctx context.Context, conn *pgx.Conn) ([]string, error) {
	return texts(ctx, conn, `SELECT 'foreign table ' || c.oid::regclass || ': its rows are on another server' FROM pg_catalog.pg_class c WHERE c.relkind = 'f'
		UNION ALL SELECT 'publication ' || pubname || ': moved without subscribers' FROM pg_catalog.pg_publication
		UNION ALL SELECT 'tablespace of ' || c.oid::regclass || ': moved to the default tablespace' FROM pg_catalog.pg_class c WHERE c.reltablespace <> 0 AND c.relkind IN ('r','i','m') AND `+notOurs("c")+`
		UNION ALL SELECT 'tablespace of the database: moved to the default tablespace' FROM pg_catalog.pg_database d JOIN pg_catalog.pg_tablespace t ON t.oid = d.dattablespace WHERE d.datname = pg_catalog.current_database() AND t.spcname <> 'pg_default'
		UNION ALL SELECT 'subscription ' || subname || ': moved disabled, with its login; enable it (ALTER SUBSCRIPTION ' || quote_ident(subname) || ' ENABLE) once the old one is gone' FROM pg_catalog.pg_subscription WHERE subdbid = (SELECT oid FROM pg_catalog.pg_database WHERE datname = pg_catalog.current_database())
		UNION ALL SELECT 'passwords of roles: set them again on the new server' FROM pg_catalog.pg_roles WHERE rolcanlogin AND oid <> 10 AND oid IN (SELECT refobjid FROM pg_catalog.pg_shdepend WHERE refclassid = 'pg_catalog.pg_authid'::regclass AND dbid = (SELECT oid FROM pg_catalog.pg_database WHERE datname = pg_catalog.current_database())) GROUP BY 1
		UNION ALL SELECT 'replication slot ' || slot_name FROM pg_catalog.pg_replication_slots WHERE database = pg_catalog.current_database()
		ORDER BY 1 LIMIT 20`)
}

// notOurs returns a condition that excludes objects of the server or of an extension.
func notOurs(alias string) string {
	return fmt.Sprintf(`%[1]s.relnamespace NOT IN (SELECT n.oid FROM pg_catalog.pg_namespace n WHERE n.nspname ~ '^pg_' OR n.nspname = 'information_schema')
		AND NOT EXISTS (SELECT FROM pg_catalog.pg_depend x WHERE x.classid = 'pg_catalog.pg_class'::regclass AND x.objid = %[1]s.oid AND x.deptype = 'e')`, alias)
}

// texts returns the first column of a query.
func texts(ctx context.Context, conn *pgx.Conn, query string, args ...any) ([]string, error) {
	rows, err := conn.Query(ctx, query, args...)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[string])
}
