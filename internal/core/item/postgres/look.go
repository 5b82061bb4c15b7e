package postgres

import (
	"context"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"movekit/internal/core/dbprint"
	"movekit/internal/core/fault"
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
		if err := checkQuery(ctx, conn, query); err != nil {
			return err
		}
		n, err = dbprint.Limited(ctx, query, func(ctx context.Context) (n int64, err error) {
			err = conn.QueryRow(ctx, asSubquery(query)).Scan(&n)
			return n, err
		})
		return err
	})
	return n, err
}

// asSubquery returns a query that cannot do more than read.
func asSubquery(query string) string {
	return "SELECT * FROM (\n" + strings.TrimRight(strings.TrimSpace(query), ";") + "\n) AS movekit"
}

// The numbers of functions, operators and domains in a parse tree, as the server prints it (PostgreSQL
// source, src/backend/nodes/outfuncs.c).
var (
	functionIn = regexp.MustCompile(`:(?:funcid|aggfnoid|winfnoid|opfuncid|hashfuncid|negfuncid|startInRangeFunc|endInRangeFunc|tsmhandler) (\d+)`)
	operatorIn = regexp.MustCompile(`:(?:opno|eqop|sortop|opnos \(o) ([\d ]+)`)
	domainIn   = regexp.MustCompile(`\{COERCETODOMAIN `)
)

// checkQuery returns an error if an administrator would run code of the database, or a function that
// changes something, with a card's query. The server parses the query and replaces its views, and sends
// the result as a message. It does not run it. Only an administrator can create functions in C.
func checkQuery(ctx context.Context, conn *pgx.Conn, query string) error {
	var super bool
	if err := conn.QueryRow(ctx, "SELECT rolsuper FROM pg_catalog.pg_roles WHERE rolname = current_user").Scan(&super); err != nil || !super {
		return err
	}
	for _, set := range []string{"SAVEPOINT movekit", "SET LOCAL log_min_messages = panic", "SET LOCAL client_min_messages = log", "SET LOCAL debug_print_rewritten = on"} {
		if _, err := conn.Exec(ctx, set); err != nil {
			return err
		}
	}
	said := conn.PgConn().CustomData()
	said[notices] = ""
	if _, err := conn.Prepare(ctx, "movekit_query", asSubquery(query)); err != nil {
		return err
	}
	tree := said[notices].(string)
	for _, q := range []string{"DEALLOCATE movekit_query", "ROLLBACK TO SAVEPOINT movekit", "RELEASE SAVEPOINT movekit"} {
		if _, err := conn.Exec(ctx, q); err != nil {
			return err
		}
	}
	var called string
	const own = " AND (p.provolatile = 'v' OR p.oid >= 16384 AND (l.lanname NOT IN ('c', 'internal') OR EXISTS (SELECT FROM pg_catalog.pg_aggregate a WHERE a.aggfnoid = p.oid)))"
	err := conn.QueryRow(ctx, `SELECT coalesce(min(called), '') FROM (
		SELECT p.oid::pg_catalog.regprocedure::text AS called FROM pg_catalog.pg_proc p JOIN pg_catalog.pg_language l ON l.oid = p.prolang WHERE p.oid = ANY (pg_catalog.string_to_array($1, ' ')::pg_catalog.oid[])`+own+`
		UNION ALL SELECT o.oid::pg_catalog.regoperator::text FROM pg_catalog.pg_operator o JOIN pg_catalog.pg_proc p ON p.oid = o.oprcode JOIN pg_catalog.pg_language l ON l.oid = p.prolang WHERE o.oid = ANY (pg_catalog.string_to_array($2, ' ')::pg_catalog.oid[])`+own+`) found`, numbersIn(tree, functionIn), numbersIn(tree, operatorIn)).Scan(&called)
	switch {
	case err != nil:
		return err
	case !strings.Contains(tree, "{QUERY"):
		return fault.New(fault.ServerRefused, "the server does not show how it understands the card's query, so Move Kit does not run it as an administrator")
	case called != "":
		return fault.New(fault.BadCard, "the card's query calls %s, which could do anything as an administrator: %s", called, query)
	case domainIn.MatchString(tree):
		return fault.New(fault.BadCard, "the card's query converts a value to a domain, which could do anything as an administrator: %s", query)
	}
	return nil
}

func numbersIn(tree string, pattern *regexp.Regexp) string {
	var all []string
	for _, m := range pattern.FindAllStringSubmatch(tree, -1) {
		all = append(all, strings.Fields(m[1])...)
	}
	slices.Sort(all)
	return strings.Join(slices.Compact(all), " ")
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
