package postgres

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync/atomic"

	"github.com/jackc/pgx/v5"
	"golang.org/x/sync/errgroup"

	"movekit/internal/core/card"
	"movekit/internal/core/dbprint"
	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
	"movekit/internal/core/item/postgres/sqltext"
)

// relation is a table whose rows are moved. Its name is quoted for SQL.
type relation struct {
	dbprint.Table
	file string // the server's file with the rows, which changes after TRUNCATE and the like
	only string // WHERE ..., for an extension's table: excludes the extension's own rows
}

// copyOut returns the statement that reads a table's rows.
func (r relation) copyOut() string {
	if r.only == "" {
		return "COPY " + r.Name + r.columns() + " TO STDOUT"
	}
	return "COPY (SELECT " + strings.Trim(r.columns(), " ()") + " FROM ONLY " + r.Name + " " + r.only + ") TO STDOUT"
}

// columns returns the list of columns for COPY. A table may have none.
func (r relation) columns() string {
	if len(r.Columns) == 0 {
		return ""
	}
	cols := make([]string, len(r.Columns))
	for i, c := range r.Columns {
		cols[i] = sqltext.Quoted(c)
	}
	return " (" + strings.Join(cols, ", ") + ")"
}

// ofExtension is a condition for extension tables with user data (PostgreSQL documentation,
// 38.17.3).
const ofExtension = "c.oid IN (SELECT unnest(extconfig) FROM pg_catalog.pg_extension)"

// relations returns the tables that have rows, including partitions, but not partitioned tables.
// Generated columns are computed again and not moved.
func relations(ctx context.Context, conn *pgx.Conn) ([]relation, error) {
	rows, err := conn.Query(ctx, `SELECT pg_catalog.quote_ident(n.nspname) || '.' || pg_catalog.quote_ident(c.relname),
		coalesce((SELECT array_agg(a.attname ORDER BY a.attnum) FROM pg_catalog.pg_attribute a WHERE a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped AND a.attgenerated = ''), '{}'),
		coalesce((SELECT array_agg(a.attname ORDER BY a.attnum) FROM pg_catalog.pg_index i JOIN pg_catalog.pg_attribute a ON a.attrelid = c.oid AND a.attnum = ANY (i.indkey) WHERE i.indrelid = c.oid AND i.indisprimary), '{}'), c.relfilenode::text,
		coalesce((SELECT x.cond FROM pg_catalog.pg_extension e, unnest(e.extconfig, e.extcondition) x(oid, cond) WHERE x.oid = c.oid LIMIT 1), '')
		FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace
		WHERE c.relkind = 'r' AND c.relpersistence <> 't' AND (`+notOurs("c")+` OR `+ofExtension+`) ORDER BY 1`)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (r relation, err error) {
		return r, row.Scan(&r.Name, &r.Columns, &r.Key, &r.file, &r.only)
	})
}

// sequences reads the value of every sequence, as the arguments of setval.
func sequences(ctx context.Context, conn *pgx.Conn, f *dbprint.Fingerprint) error {
	names, err := texts(ctx, conn, `SELECT pg_catalog.quote_ident(n.nspname) || '.' || pg_catalog.quote_ident(c.relname) FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace WHERE c.relkind = 'S' AND (`+notOurs("c")+` OR `+ofExtension+`) ORDER BY 1`)
	if err != nil {
		return err
	}
	for _, name := range names {
		var last int64
		var called bool
		if err := conn.QueryRow(ctx, "SELECT last_value, is_called FROM "+name).Scan(&last, &called); err != nil {
			return err
		}
		f.Settings["sequence "+name] = fmt.Sprintf("%d, %v", last, called)
	}
	return nil
}

// Fingerprint computes the fingerprint of a snapshot of a database.
func (s *session) Fingerprint(ctx context.Context, database string, counts []card.Count, progress func(int64)) (f *dbprint.Fingerprint, err error) {
	err = s.inSnapshot(ctx, database, func(conn *pgx.Conn, snapshot string) error {
		var rels []relation
		if f, rels, err = s.take(ctx, conn, database, snapshot, counts, io.Discard); err != nil {
			return err
		}
		if err := s.sumTables(ctx, conn, database, snapshot, rels, progress); err != nil {
			return err
		}
		for _, r := range rels {
			f.Tables = append(f.Tables, r.Table)
		}
		objects, err := largeObjects(ctx, conn, nil, nil)
		if err == nil && objects.Rows > 0 {
			f.Tables = append(f.Tables, objects)
		}
		f.Sort()
		return err
	})
	return f, err
}

// sumTables fills in the fingerprints of tables. A second connection, which sees the same snapshot, takes every other table. If the
// server does not allow it, the first one reads all.
func (s *session) sumTables(ctx context.Context, conn *pgx.Conn, database, snapshot string, rels []relation, progress func(int64)) error {
	var next atomic.Int64
	sum := func(ctx context.Context, conn *pgx.Conn) error {
		for i := int(next.Add(1)) - 1; i < len(rels); i = int(next.Add(1)) - 1 {
			if err := sumRows(ctx, conn, &rels[i], nil, progress); err != nil {
				return err
			}
		}
		return nil
	}
	if len(rels) < 2 {
		return sum(ctx, conn)
	}
	work, within := errgroup.WithContext(ctx)
	work.Go(func() error { return sum(within, conn) })
	work.Go(func() error {
		second, err := s.connect(within, database)
		if err != nil {
			return nil
		}
		defer second.Close(context.WithoutCancel(within))
		for _, sql := range []string{beginSnapshot, "SET TRANSACTION SNAPSHOT " + sqltext.Literal(snapshot)} {
			if _, err := second.Exec(within, sql); err != nil {
				return nil
			}
		}
		return sum(within, second)
	})
	return work.Wait()
}

// beginSnapshot begins a transaction that reads one moment of a database.
const beginSnapshot = "BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY"

// inSnapshot calls read in such a transaction, with the name by which other connections can read the same moment.
func (s *session) inSnapshot(ctx context.Context, database string, read func(conn *pgx.Conn, snapshot string) error) error {
	return s.reading(ctx, database, beginSnapshot, func(conn *pgx.Conn) error {
		var name string
		if err := conn.QueryRow(ctx, "SELECT pg_catalog.pg_export_snapshot()").Scan(&name); err != nil {
			return err
		}
		return read(conn, name)
	})
}

// Definitions returns a fingerprint without rows and counts.
func (s *session) Definitions(ctx context.Context, database string) (f *dbprint.Fingerprint, err error) {
	err = s.inSnapshot(ctx, database, func(conn *pgx.Conn, snapshot string) error {
		f, _, err = s.take(ctx, conn, database, snapshot, nil, io.Discard)
		return err
	})
	return f, err
}

// take fills in a fingerprint except for the rows, from a connection's transaction, whose snapshot is exported. It writes the
// archive of the schema to schema.
func (s *session) take(ctx context.Context, conn *pgx.Conn, database, snapshot string, counts []card.Count, schema io.Writer) (*dbprint.Fingerprint, []relation, error) {
	f := &dbprint.Fingerprint{Engine: "PostgreSQL " + s.version, Settings: map[string]string{}}
	rels, err := relations(ctx, conn)
	if err != nil {
		return nil, nil, err
	}
	if f.Schema, err = s.objects(ctx, database, snapshot, schema); err != nil {
		return nil, nil, err
	}
	roles, err := roleObjects(ctx, conn)
	if err != nil {
		return nil, nil, err
	}
	f.Schema = append(f.Schema, roles...)
	if err := sequences(ctx, conn, f); err != nil {
		return nil, nil, err
	}
	views, err := texts(ctx, conn, "SELECT pg_catalog.quote_ident(n.nspname) || '.' || pg_catalog.quote_ident(c.relname) FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace WHERE c.relkind = 'm' AND c.relispopulated AND "+notOurs("c"))
	if err != nil {
		return nil, nil, err
	}
	for _, v := range views {
		f.Settings["materialized view "+v] = "filled"
	}
	err = f.RunCounts(counts, func(query string) (int64, error) {
		n, err := askIn(ctx, conn, query)
		return n, s.explain(err)
	})
	return f, rels, err
}

// sumRows reads a table and fills in its fingerprint. It writes the rows to out, if not nil. No row
// is held in memory as a whole.
func sumRows(ctx context.Context, conn *pgx.Conn, r *relation, out io.Writer, progress func(int64)) error {
	s := &summing{out: out, part: digest.New(), progress: progress}
	n, err := copyRows(ctx, conn, *r, s)
	r.Rows, r.Digest = int64(s.sum.N), s.sum.Digest()
	if err == nil && n != r.Rows {
		err = fault.New(fault.Internal, "the server sent %d rows of the table %s, but %d were read", n, r.Name, r.Rows)
	}
	return err
}

// copyRows reads a table in COPY text format, and returns the number of rows that the server counted.
func copyRows(ctx context.Context, conn *pgx.Conn, r relation, to io.Writer) (int64, error) {
	tag, err := conn.PgConn().CopyTo(ctx, to, r.copyOut())
	if err != nil {
		return 0, fmt.Errorf("the table %s: %w", r.Name, err)
	}
	return tag.RowsAffected(), nil
}

// Rows reads one table of a database, for dbprint.DiffRows.
func (s *session) Rows(ctx context.Context, database string, t dbprint.Table) dbprint.Rows {
	return func(each func(dbprint.Row) error) error {
		conn, err := s.on(ctx, database)
		if err != nil {
			return err
		}
		if t.Name == largeTable {
			_, err := largeObjects(ctx, conn, nil, each)
			return s.explain(err)
		}
		all, err := relations(ctx, conn)
		if err != nil {
			return s.explain(err)
		}
		at := slices.IndexFunc(all, func(r relation) bool { return r.Name == t.Name })
		if at < 0 {
			return fault.New(fault.BadDatabase, "the table is missing")
		}
		all[at].Table = t
		_, err = copyRows(ctx, conn, all[at], &sqltext.Lines{Each: func(line []byte) error { return each(sqltext.RowOf(line)) }})
		return s.explain(err)
	}
}
