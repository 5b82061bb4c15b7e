package postgres

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"strings"

	"github.com/jackc/pgx/v5"

	"movekit/internal/core/card"
	"movekit/internal/core/dbprint"
	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
	"movekit/internal/core/item/postgres/sqltext"
)

// Seal writes a snapshot of a database: the schema as an archive of pg_dump (custom format) to
// schema, and the rows to data, as SQL that psql loads between the archive's parts. The app may
// continue to write. It returns the fingerprint of the same snapshot.
//
// Tables are locked against being changed or dropped (ACCESS SHARE), not against writing.
func (s *session) Seal(ctx context.Context, database string, counts []card.Count, schema, data io.Writer, progress func(int64)) (out *Sealed, err error) {
	out = &Sealed{}
	err = s.inSnapshot(ctx, database, func(conn *pgx.Conn, snapshot string) error {
		return s.seal(ctx, conn, database, snapshot, out, counts, schema, data, progress)
	})
	return out, err
}

func (s *session) seal(ctx context.Context, conn *pgx.Conn, database, snapshot string, out *Sealed, counts []card.Count, schema, data io.Writer, progress func(int64)) error {
	f, rels, err := s.take(ctx, conn, database, snapshot, counts, schema)
	if err != nil {
		return err
	}
	if err := s.facts(ctx, conn, out); err != nil {
		return err
	}
	if err := lock(ctx, conn, rels); err != nil {
		return err
	}
	w := bufio.NewWriterSize(data, 1<<20)
	fmt.Fprintf(w, "-- The rows of the PostgreSQL database %s, as SQL for psql.\nSET client_encoding = 'UTF8';\nSET standard_conforming_strings = on;\nSET search_path = '';\n\n", strings.ToValidUTF8(database, "?"))
	for _, r := range rels {
		if err := sealRows(ctx, conn, &r, w, progress); err != nil {
			return err
		}
		f.Tables = append(f.Tables, r.Table)
	}
	objects, err := largeObjects(ctx, conn, w, nil)
	if err != nil {
		return err
	}
	if objects.Rows > 0 {
		f.Tables = append(f.Tables, objects)
	}
	for name, v := range f.Settings {
		if seq, ok := strings.CutPrefix(name, "sequence "); ok {
			fmt.Fprintf(w, "SELECT pg_catalog.setval(%s, %s);\n", sqltext.Literal(seq), v)
		}
	}
	f.Sort()
	out.Fingerprint = *f
	return w.Flush()
}

// Sealed has the sealed facts of a database, other than its rows.
type Sealed struct {
	dbprint.Fingerprint
	Number     int      `json:"server_version"` // 150004 is 15.4
	Collate    string   `json:"collate"`
	Ctype      string   `json:"ctype"`
	ICU        bool     `json:"icu,omitempty"`        // the ICU library is used for sorting
	Extensions []string `json:"extensions,omitempty"` // name and version
	Roles      []Role   `json:"roles,omitempty"`      // roles that own something or have rights here
	Path       string   `json:"search_path"`          // quoted for SQL
	Views      []string `json:"matviews,omitempty"`   // materialized views with rows, in order of dependency
}

// facts fills in the requirements for the new server.
func (s *session) facts(ctx context.Context, conn *pgx.Conn, out *Sealed) (err error) {
	out.Number = s.number
	err = conn.QueryRow(ctx, `SELECT datcollate, datctype, coalesce(to_jsonb(d)->>'datlocprovider', '') = 'i' OR EXISTS (SELECT FROM pg_catalog.pg_collation c WHERE c.collprovider = 'i' AND c.oid >= 16384)
		FROM pg_catalog.pg_database d WHERE datname = pg_catalog.current_database()`).Scan(&out.Collate, &out.Ctype, &out.ICU)
	if err != nil {
		return err
	}
	if out.Extensions, err = texts(ctx, conn, "SELECT extname || ' ' || extversion FROM pg_catalog.pg_extension WHERE extname <> 'plpgsql' ORDER BY 1"); err != nil {
		return err
	}
	if err := inDefaultPath(ctx, conn, func() error {
		return conn.QueryRow(ctx, "SELECT coalesce(nullif(pg_catalog.current_setting('search_path'), ''), '\"\"')").Scan(&out.Path)
	}); err != nil {
		return err
	}
	// A view that reads another depends on everything that one does, and on it, so it has more
	// dependencies.
	if out.Views, err = texts(ctx, conn, `WITH RECURSIVE uses(v, o) AS (SELECT DISTINCT r.ev_class, d.refobjid FROM pg_catalog.pg_rewrite r JOIN pg_catalog.pg_depend d ON d.classid = 'pg_catalog.pg_rewrite'::regclass AND d.objid = r.oid AND d.refclassid = 'pg_catalog.pg_class'::regclass AND d.refobjid <> r.ev_class),
		reads(v, o) AS (SELECT v, o FROM uses UNION SELECT r.v, u.o FROM reads r JOIN uses u ON u.v = r.o)
		SELECT pg_catalog.quote_ident(n.nspname) || '.' || pg_catalog.quote_ident(c.relname) FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace WHERE c.relkind = 'm' AND c.relispopulated AND `+notOurs("c")+`
		ORDER BY (SELECT count(*) FROM reads r JOIN pg_catalog.pg_class m ON m.oid = r.o AND m.relkind = 'm' WHERE r.v = c.oid), c.oid`); err != nil {
		return err
	}
	out.Roles, err = usedRoles(ctx, conn)
	return err
}

// lock keeps tables from being changed or dropped until the snapshot is read. It checks that none
// was emptied or rewritten since the snapshot, which no snapshot protects against. pg_dump has
// released its own locks by then, and a server may not have room for both.
func lock(ctx context.Context, conn *pgx.Conn, rels []relation) error {
	const many = 200 // tables in one statement
	for len(rels) > 0 {
		n := min(many, len(rels))
		names := make([]string, n)
		for i := range names {
			names[i] = rels[i].Name
		}
		if _, err := conn.Exec(ctx, "LOCK TABLE ONLY "+strings.Join(names, ", ONLY ")+" IN ACCESS SHARE MODE"); err != nil {
			return err
		}
		// The function reads the current state, not the snapshot.
		now, err := texts(ctx, conn, "SELECT coalesce(pg_catalog.pg_relation_filenode(n::regclass)::text, '') FROM unnest($1::text[]) WITH ORDINALITY AS x(n, i) ORDER BY i", names)
		if err != nil {
			return err
		}
		for i, file := range now {
			if file != rels[i].file {
				return fault.New(fault.Changed, "the table %s was emptied or rewritten while the database was being read", names[i])
			}
		}
		rels = rels[n:]
	}
	return nil
}

// dumpSchema runs pg_dump on the snapshot.
func (s *session) dumpSchema(ctx context.Context, database, snapshot string, to io.Writer) error {
	name, err := program(ctx, "pg_dump", s.number/10000)
	if err != nil {
		return err
	}
	text, err := s.run(ctx, database, nil, to, name, "--schema-only", "--format=custom", "--compress=0", "--no-tablespaces", "--snapshot="+snapshot, "--lock-wait-timeout=10000")
	if err != nil {
		return s.programFailed(err, text, "the schema of %s cannot be written by pg_dump")
	}
	return nil
}

// sealRows writes the rows of a table, and computes their fingerprint.
func sealRows(ctx context.Context, conn *pgx.Conn, r *relation, w *bufio.Writer, progress func(int64)) error {
	fmt.Fprintf(w, "COPY %s%s FROM stdin;\n", r.Name, r.columns())
	if err := sumRows(ctx, conn, r, w, progress); err != nil {
		return err
	}
	_, err := w.WriteString("\\.\n\n")
	return err
}

// largeTable is the table name under which large objects are reported.
const largeTable = "large objects"

// largeLine is a comment in the sealed rows with the digest of a large object.
const largeLine = "-- large object "

// largeRow returns a large object as a row: its number, and a digest of its content, owner, rights
// and comment.
func largeRow(oid string, of digest.Sum) dbprint.Row {
	return dbprint.Row{Hash: of, Cells: func() []string { return []string{oid, of.String()[:16]} }}
}

// largeObjects fingerprints the large objects, writes them to w if it is not nil, and calls each
// for every one.
func largeObjects(ctx context.Context, conn *pgx.Conn, w *bufio.Writer, each func(dbprint.Row) error) (dbprint.Table, error) {
	t := dbprint.Table{Name: largeTable, Columns: []string{"oid", "content, owner, rights or comment"}, Key: []string{"oid"}}
	rows, err := conn.Query(ctx, `SELECT oid::int8, pg_catalog.pg_get_userbyid(lomowner), coalesce((SELECT string_agg(x::text, ',' ORDER BY x::text) FROM unnest(nullif(lomacl, pg_catalog.acldefault('L', lomowner))) x), ''), coalesce(pg_catalog.obj_description(oid, 'pg_largeobject'), '') FROM pg_catalog.pg_largeobject_metadata ORDER BY 1`)
	if err != nil {
		return t, err
	}
	type object struct {
		OID                 int64
		Owner, ACL, Comment string
	}
	all, err := pgx.CollectRows(rows, pgx.RowToStructByPos[object])
	if err != nil {
		return t, err
	}
	var sum dbprint.Multiset
	for _, o := range all {
		h := digest.New()
		fmt.Fprintf(h, "%d %s %s %q\n", o.OID, o.Owner, o.ACL, o.Comment)
		if w != nil {
			fmt.Fprintf(w, "SELECT pg_catalog.lo_create('%d');\nALTER LARGE OBJECT %d OWNER TO %s;\n", o.OID, o.OID, sqltext.Quoted(o.Owner))
			if o.Comment != "" {
				fmt.Fprintf(w, "COMMENT ON LARGE OBJECT %d IS %s;\n", o.OID, sqltext.OneLine(o.Comment))
			}
		}
		for at := int64(0); ; at += sqltext.LobPiece {
			var piece []byte
			if err := conn.QueryRow(ctx, "SELECT pg_catalog.lo_get($1::int8::oid, $2::int8, $3::int4)", o.OID, at, sqltext.LobPiece).Scan(&piece); err != nil {
				return t, err
			}
			h.Write(piece)
			if w != nil && len(piece) > 0 {
				fmt.Fprintf(w, "SELECT pg_catalog.lo_put('%d', %d, '\\x%x');\n", o.OID, at, piece)
			}
			if len(piece) < sqltext.LobPiece {
				break
			}
		}
		one := h.Sum()
		sum.Add(one)
		if w != nil {
			fmt.Fprintf(w, "%s%d %s\n", largeLine, o.OID, one)
		}
		if each != nil {
			if err := each(largeRow(fmt.Sprint(o.OID), one)); err != nil {
				return t, err
			}
		}
		if w != nil && o.ACL != "" {
			fmt.Fprintf(w, "REVOKE ALL ON LARGE OBJECT %d FROM %s;\n", o.OID, sqltext.Quoted(o.Owner))
			grants, err := texts(ctx, conn, `SELECT format('GRANT %s ON LARGE OBJECT %s TO %s%s;', privilege_type, oid, CASE grantee WHEN 0 THEN 'PUBLIC' ELSE quote_ident(pg_catalog.pg_get_userbyid(grantee)) END, CASE WHEN is_grantable THEN ' WITH GRANT OPTION' END)
				FROM pg_catalog.pg_largeobject_metadata m, pg_catalog.aclexplode(m.lomacl) WHERE m.oid = $1::int8::oid`, o.OID)
			if err != nil {
				return t, err
			}
			for _, g := range grants {
				fmt.Fprintln(w, g)
			}
		}
	}
	t.Rows, t.Digest = int64(sum.N), sum.Digest()
	return t, nil
}
