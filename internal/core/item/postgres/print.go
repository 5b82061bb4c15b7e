package postgres

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"strings"

	"github.com/jackc/pgx/v5"

	"movekit/internal/core/card"
	"movekit/internal/core/dbprint"
	"movekit/internal/core/digest"
)

// relation is a table whose rows are moved. Its name is as SQL writes it.
type relation struct {
	dbprint.Table
	file string // which file of the server holds its rows: another one after TRUNCATE and the like
}

// copyOut is the statement that gives a table's rows.
func (r relation) copyOut() string {
	return "COPY " + r.Name + r.columns() + " TO STDOUT"
}

// columns is the list of columns in a COPY. A table may have none.
func (r relation) columns() string {
	if len(r.Columns) == 0 {
		return ""
	}
	cols := make([]string, len(r.Columns))
	for i, c := range r.Columns {
		cols[i] = quoted(c)
	}
	return " (" + strings.Join(cols, ", ") + ")"
}

// relations returns the tables that hold rows: partitions, but not what is
// divided into them. Generated columns are computed again and do not move.
func relations(ctx context.Context, conn *pgx.Conn) ([]relation, error) {
	rows, err := conn.Query(ctx, `SELECT pg_catalog.quote_ident(n.nspname) || '.' || pg_catalog.quote_ident(c.relname),
		coalesce((SELECT array_agg(a.attname ORDER BY a.attnum) FROM pg_catalog.pg_attribute a WHERE a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped AND a.attgenerated = ''), '{}'),
		coalesce((SELECT array_agg(a.attname ORDER BY a.attnum) FROM pg_catalog.pg_index i JOIN pg_catalog.pg_attribute a ON a.attrelid = c.oid AND a.attnum = ANY (i.indkey) WHERE i.indrelid = c.oid AND i.indisprimary), '{}'), c.relfilenode::text
		FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace
		WHERE c.relkind = 'r' AND c.relpersistence <> 't' AND `+notOurs("c")+` ORDER BY 1`)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (r relation, err error) {
		return r, row.Scan(&r.Name, &r.Columns, &r.Key, &r.file)
	})
}

// objects returns the definitions of the schema, as the server itself writes
// them.
func objects(ctx context.Context, conn *pgx.Conn) ([]dbprint.Object, error) {
	rows, err := conn.Query(ctx, `
		WITH ours AS (SELECT c.oid, c.relname, c.relkind, n.nspname || '.' || c.relname AS name, c.relowner, c.relacl, c.relrowsecurity, c.relforcerowsecurity FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace WHERE `+notOurs("c")+`)
		SELECT 'column', o.name || '.' || a.attname, concat_ws(' ', pg_catalog.format_type(a.atttypid, a.atttypmod), CASE WHEN a.attnotnull THEN 'not null' END, 'identity', a.attidentity, 'generated', a.attgenerated,
			(SELECT pg_catalog.pg_get_expr(d.adbin, d.adrelid) FROM pg_catalog.pg_attrdef d WHERE d.adrelid = a.attrelid AND d.adnum = a.attnum),
			(SELECT l.collname FROM pg_catalog.pg_collation l WHERE l.oid = a.attcollation AND l.collname <> 'default'))
			FROM ours o JOIN pg_catalog.pg_attribute a ON a.attrelid = o.oid AND a.attnum > 0 AND NOT a.attisdropped WHERE o.relkind IN ('r','p','v','m','f','c')
		UNION ALL SELECT 'table', o.name, concat_ws(' ', o.relkind, o.relrowsecurity, o.relforcerowsecurity, pg_catalog.pg_get_userbyid(o.relowner), (SELECT string_agg(x::text, ',' ORDER BY x::text) FROM unnest(o.relacl) x), pg_catalog.pg_get_partkeydef(o.oid), (SELECT pg_catalog.pg_get_expr(c.relpartbound, c.oid) FROM pg_catalog.pg_class c WHERE c.oid = o.oid)) FROM ours o WHERE o.relkind IN ('r','p','f')
		UNION ALL SELECT 'view', o.name, pg_catalog.pg_get_viewdef(o.oid) FROM ours o WHERE o.relkind IN ('v','m')
		UNION ALL SELECT 'index', o.name, pg_catalog.pg_get_indexdef(o.oid) FROM ours o WHERE o.relkind IN ('i','I')
		UNION ALL SELECT 'sequence', o.name, concat_ws(' ', s.seqtypid::regtype, s.seqstart, s.seqincrement, s.seqmin, s.seqmax, s.seqcache, s.seqcycle) FROM ours o JOIN pg_catalog.pg_sequence s ON s.seqrelid = o.oid
		UNION ALL SELECT 'constraint', o.name || '.' || k.conname, pg_catalog.pg_get_constraintdef(k.oid) FROM ours o JOIN pg_catalog.pg_constraint k ON k.conrelid = o.oid WHERE k.contype <> 'n'
		UNION ALL SELECT 'trigger', o.name || '.' || t.tgname, pg_catalog.pg_get_triggerdef(t.oid) || ' ' || t.tgenabled::text FROM ours o JOIN pg_catalog.pg_trigger t ON t.tgrelid = o.oid WHERE NOT t.tgisinternal
		UNION ALL SELECT 'policy', o.name || '.' || p.polname, concat_ws(' ', p.polcmd, p.polpermissive, pg_catalog.pg_get_expr(p.polqual, p.polrelid), pg_catalog.pg_get_expr(p.polwithcheck, p.polrelid)) FROM ours o JOIN pg_catalog.pg_policy p ON p.polrelid = o.oid
		UNION ALL SELECT 'function', n.nspname || '.' || p.proname || '(' || pg_catalog.pg_get_function_identity_arguments(p.oid) || ')', CASE WHEN p.prokind IN ('f','p') THEN pg_catalog.pg_get_functiondef(p.oid) ELSE p.prosrc END
			FROM pg_catalog.pg_proc p JOIN pg_catalog.pg_namespace n ON n.oid = p.pronamespace WHERE n.nspname !~ '^pg_' AND n.nspname <> 'information_schema' AND NOT EXISTS (SELECT FROM pg_catalog.pg_depend x WHERE x.classid = 'pg_catalog.pg_proc'::regclass AND x.objid = p.oid AND x.deptype = 'e')
		UNION ALL SELECT 'type', n.nspname || '.' || t.typname, concat_ws(' ', t.typtype, pg_catalog.format_type(nullif(t.typbasetype, 0), t.typtypmod), t.typnotnull, t.typdefault, (SELECT string_agg(e.enumlabel, ',' ORDER BY e.enumsortorder) FROM pg_catalog.pg_enum e WHERE e.enumtypid = t.oid), (SELECT string_agg(pg_catalog.pg_get_constraintdef(k.oid), ',' ORDER BY k.conname) FROM pg_catalog.pg_constraint k WHERE k.contypid = t.oid AND k.contype <> 'n'))
			FROM pg_catalog.pg_type t JOIN pg_catalog.pg_namespace n ON n.oid = t.typnamespace WHERE t.typtype IN ('d','e') AND n.nspname !~ '^pg_' AND n.nspname <> 'information_schema' AND NOT EXISTS (SELECT FROM pg_catalog.pg_depend x WHERE x.classid = 'pg_catalog.pg_type'::regclass AND x.objid = t.oid AND x.deptype = 'e')
		UNION ALL SELECT 'extension', extname, '' FROM pg_catalog.pg_extension
		UNION ALL SELECT 'schema', nspname, concat_ws(' ', pg_catalog.pg_get_userbyid(nspowner), (SELECT string_agg(x::text, ',' ORDER BY x::text) FROM unnest(nspacl) x)) FROM pg_catalog.pg_namespace WHERE nspname !~ '^pg_' AND nspname <> 'information_schema'`)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (dbprint.Object, error) {
		var sort, name string
		var definition *string
		err := row.Scan(&sort, &name, &definition)
		if definition == nil {
			definition = new(string)
		}
		return dbprint.NewObject(sort, name, *definition), err
	})
}

// sequences returns the value of every sequence, as the arguments of setval.
func sequences(ctx context.Context, conn *pgx.Conn) (map[string]string, error) {
	names, err := texts(ctx, conn, `SELECT pg_catalog.quote_ident(n.nspname) || '.' || pg_catalog.quote_ident(c.relname) FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace WHERE c.relkind = 'S' AND `+notOurs("c")+` ORDER BY 1`)
	if err != nil {
		return nil, err
	}
	out := map[string]string{}
	for _, name := range names {
		var last int64
		var called bool
		if err := conn.QueryRow(ctx, "SELECT last_value, is_called FROM "+name).Scan(&last, &called); err != nil {
			return nil, err
		}
		out[name] = fmt.Sprintf("%d, %v", last, called)
	}
	return out, nil
}

// lines hashes the rows of a COPY, which come in pieces that need not end where
// a row does, and passes them on.
type lines struct {
	each func(line []byte) error // without the newline
	rest []byte
}

func (l *lines) Write(p []byte) (int, error) {
	n := len(p)
	for len(p) > 0 {
		i := bytes.IndexByte(p, '\n')
		if i < 0 {
			l.rest = append(l.rest, p...)
			break
		}
		line := p[:i]
		if len(l.rest) > 0 {
			l.rest = append(l.rest, line...)
			line = l.rest
		}
		if err := l.each(line); err != nil {
			return 0, err
		}
		l.rest, p = l.rest[:0], p[i+1:]
	}
	return n, nil
}

// Fingerprint takes that of a database as it is at one moment.
func (s *session) Fingerprint(ctx context.Context, database string, counts []card.Count, progress func(int64)) (f *dbprint.Fingerprint, err error) {
	err = s.reading(ctx, database, "BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY", func(conn *pgx.Conn) error {
		var rels []relation
		if f, rels, err = s.take(ctx, conn, counts); err != nil {
			return err
		}
		for _, r := range rels {
			if err := sumRows(ctx, conn, &r, nil, progress); err != nil {
				return err
			}
			f.Tables = append(f.Tables, r.Table)
		}
		objects, err := largeObjects(ctx, conn, nil)
		if err == nil && objects.Rows > 0 {
			f.Tables = append(f.Tables, objects)
		}
		f.Sort()
		return err
	})
	return f, err
}

// take fills in all of a fingerprint but the rows.
func (s *session) take(ctx context.Context, conn *pgx.Conn, counts []card.Count) (*dbprint.Fingerprint, []relation, error) {
	f := &dbprint.Fingerprint{Engine: "PostgreSQL " + s.version, Settings: map[string]string{}}
	rels, err := relations(ctx, conn)
	if err != nil {
		return nil, nil, err
	}
	if f.Schema, err = objects(ctx, conn); err != nil {
		return nil, nil, err
	}
	values, err := sequences(ctx, conn)
	if err != nil {
		return nil, nil, err
	}
	for name, v := range values {
		f.Settings["sequence "+name] = v
	}
	var encoding string
	if err := conn.QueryRow(ctx, "SELECT pg_catalog.pg_encoding_to_char(encoding) FROM pg_catalog.pg_database WHERE datname = pg_catalog.current_database()").Scan(&encoding); err != nil {
		return nil, nil, err
	}
	f.Settings["encoding"] = encoding
	err = f.TakeCounts(counts, func(query string) (n int64, err error) {
		err = askIn(ctx, conn, query, &n)
		return n, err
	})
	return f, rels, err
}

// sumRows reads a table and fills in its fingerprint; its rows go to out where
// that is given. No row is held whole.
func sumRows(ctx context.Context, conn *pgx.Conn, r *relation, out io.Writer, progress func(int64)) error {
	s := &summing{out: out, part: digest.New(), progress: progress}
	err := copyRows(ctx, conn, *r, s)
	r.Rows, r.Digest = int64(s.sum.N), s.sum.Digest()
	return err
}

// copyRows reads a table in COPY text format.
func copyRows(ctx context.Context, conn *pgx.Conn, r relation, to io.Writer) error {
	_, err := conn.PgConn().CopyTo(ctx, to, r.copyOut())
	if err != nil {
		return fmt.Errorf("the table %s: %w", r.Name, err)
	}
	return nil
}

// Rows reads one table of a database, for dbprint.DiffRows.
func (s *session) Rows(ctx context.Context, database string, t dbprint.Table) dbprint.Rows {
	return func(each func(dbprint.Row) error) error {
		conn, err := s.on(ctx, database)
		if err != nil {
			return err
		}
		return s.explain(copyRows(ctx, conn, relation{Table: t}, &lines{each: func(line []byte) error { return each(rowOf(line)) }}))
	}
}

// rowOf makes a row of a line of COPY text.
func rowOf(line []byte) dbprint.Row {
	return dbprint.Row{Hash: digest.Of(line), Cells: func() []string {
		cells := strings.Split(string(line), "\t")
		for i, c := range cells {
			if c == `\N` {
				cells[i] = "NULL"
			}
		}
		return cells
	}}
}
