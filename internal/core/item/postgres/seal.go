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
)

// Seal writes a database as it is at one moment: the schema as an archive of
// pg_dump (custom format) to schema, and the rows as SQL that psql loads
// between the archive's parts to data. The app may go on writing. It returns
// the fingerprint of the same moment.
//
// Tables are locked against being changed or dropped (ACCESS SHARE), not
// against being written to.
func (s *session) Seal(ctx context.Context, database string, counts []card.Count, schema, data io.Writer, progress func(int64)) (out *Sealed, err error) {
	out = &Sealed{}
	err = s.reading(ctx, database, "BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY", func(conn *pgx.Conn) error {
		return s.seal(ctx, conn, database, out, counts, schema, data, progress)
	})
	return out, err
}

func (s *session) seal(ctx context.Context, conn *pgx.Conn, database string, out *Sealed, counts []card.Count, schema, data io.Writer, progress func(int64)) error {
	var snapshot string
	if err := conn.QueryRow(ctx, "SELECT pg_catalog.pg_export_snapshot()").Scan(&snapshot); err != nil {
		return err
	}
	f, rels, err := s.take(ctx, conn, counts)
	if err != nil {
		return err
	}
	if err := s.facts(ctx, conn, out); err != nil {
		return err
	}
	if err := s.dumpSchema(ctx, database, snapshot, schema); err != nil {
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
	objects, err := largeObjects(ctx, conn, w)
	if err != nil {
		return err
	}
	if objects.Rows > 0 {
		f.Tables = append(f.Tables, objects)
	}
	for name, v := range f.Settings {
		if seq, ok := strings.CutPrefix(name, "sequence "); ok {
			fmt.Fprintf(w, "SELECT pg_catalog.setval(%s, %s);\n", literal(seq), v)
		}
	}
	f.Sort()
	out.Fingerprint = *f
	return w.Flush()
}

// Sealed is what a sealed database is known by, besides its rows.
type Sealed struct {
	dbprint.Fingerprint
	Number     int      `json:"server_version"` // 150004 is 15.4
	Encoding   string   `json:"encoding"`
	Collate    string   `json:"collate"`
	Ctype      string   `json:"ctype"`
	Owner      string   `json:"owner"`
	Extensions []string `json:"extensions,omitempty"`
	Roles      []Role   `json:"roles,omitempty"`    // that own something or may do something here
	Configs    []string `json:"configs,omitempty"`  // settings of the database, as name=value
	Grants     []string `json:"grants,omitempty"`   // on the database itself: PRIVILEGE TO ROLE
	Views      []string `json:"matviews,omitempty"` // materialized views that hold rows
}

// Role is a role of the old server, without its password.
type Role struct {
	Name  string   `json:"name"`
	Login bool     `json:"login,omitempty"`
	In    []string `json:"in,omitempty"` // roles that it is a member of
}

// facts fills in what the new server must have.
func (s *session) facts(ctx context.Context, conn *pgx.Conn, out *Sealed) (err error) {
	out.Number = s.number
	err = conn.QueryRow(ctx, "SELECT pg_catalog.pg_encoding_to_char(encoding), datcollate, datctype, pg_catalog.pg_get_userbyid(datdba) FROM pg_catalog.pg_database WHERE datname = pg_catalog.current_database()").
		Scan(&out.Encoding, &out.Collate, &out.Ctype, &out.Owner)
	if err != nil {
		return err
	}
	if out.Extensions, err = texts(ctx, conn, "SELECT extname FROM pg_catalog.pg_extension WHERE extname <> 'plpgsql' ORDER BY 1"); err != nil {
		return err
	}
	if out.Configs, err = texts(ctx, conn, "SELECT unnest(setconfig) FROM pg_catalog.pg_db_role_setting WHERE setrole = 0 AND setdatabase = (SELECT oid FROM pg_catalog.pg_database WHERE datname = pg_catalog.current_database())"); err != nil {
		return err
	}
	if out.Views, err = texts(ctx, conn, "SELECT pg_catalog.quote_ident(n.nspname) || '.' || pg_catalog.quote_ident(c.relname) FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace WHERE c.relkind = 'm' AND c.relispopulated AND "+notOurs("c")+" ORDER BY c.oid"); err != nil {
		return err
	}
	if out.Grants, err = texts(ctx, conn, `SELECT format('%s TO %s', privilege_type, CASE grantee WHEN 0 THEN 'PUBLIC' ELSE quote_ident(pg_catalog.pg_get_userbyid(grantee)) END)
		FROM pg_catalog.pg_database d, pg_catalog.aclexplode(d.datacl) WHERE d.datname = pg_catalog.current_database() ORDER BY 1`); err != nil {
		return err
	}
	// Every role that the database's objects depend on, and those whose roles
	// these are.
	rows, err := conn.Query(ctx, `WITH RECURSIVE used(oid) AS (
		SELECT refobjid FROM pg_catalog.pg_shdepend WHERE refclassid = 'pg_catalog.pg_authid'::regclass AND (dbid = (SELECT oid FROM pg_catalog.pg_database WHERE datname = pg_catalog.current_database())
			OR classid = 'pg_catalog.pg_database'::regclass AND objid = (SELECT oid FROM pg_catalog.pg_database WHERE datname = pg_catalog.current_database()))
		UNION SELECT datdba FROM pg_catalog.pg_database WHERE datname = pg_catalog.current_database()
		UNION SELECT m.roleid FROM pg_catalog.pg_auth_members m JOIN used u ON u.oid = m.member)
		SELECT rolname, rolcanlogin, array(SELECT pg_catalog.pg_get_userbyid(m.roleid) FROM pg_catalog.pg_auth_members m WHERE m.member = r.oid ORDER BY 1)::text[] FROM pg_catalog.pg_roles r WHERE oid IN (SELECT oid FROM used) AND rolname !~ '^pg_' AND oid <> 10 ORDER BY 1`)
	if err != nil {
		return err
	}
	out.Roles, err = pgx.CollectRows(rows, func(row pgx.CollectableRow) (r Role, err error) { return r, row.Scan(&r.Name, &r.Login, &r.In) })
	return err
}

// lock keeps tables from being changed or dropped until the snapshot is read,
// and sees that none was emptied or rewritten since the snapshot: that shows
// through every snapshot. pg_dump has let go of its own locks by then; a server
// may not have room for both.
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
		// The function looks at the present, not through the snapshot.
		now, err := texts(ctx, conn, "SELECT coalesce(pg_catalog.pg_relation_filenode(n::regclass)::text, '') FROM unnest($1::text[]) WITH ORDINALITY AS x(n, i) ORDER BY i", names)
		if err != nil {
			return err
		}
		for i, file := range now {
			if file != rels[i].file {
				return fault.New(fault.Changed, "the table %s was emptied or rewritten while the database was read", names[i])
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
		if ctx.Err() != nil {
			return fault.Wrap(fault.Stopped, ctx.Err(), "reading the schema of %s was stopped", s.Address())
		}
		return fault.Wrap(kindOfText(text), said(err, text), "%s cannot write the schema of %s", name, s.Address())
	}
	return nil
}

// sealRows writes the rows of a table, and takes their fingerprint.
func sealRows(ctx context.Context, conn *pgx.Conn, r *relation, w *bufio.Writer, progress func(int64)) error {
	fmt.Fprintf(w, "COPY %s%s FROM stdin;\n", r.Name, r.columns())
	if err := sumRows(ctx, conn, r, w, progress); err != nil {
		return err
	}
	_, err := w.WriteString("\\.\n\n")
	return err
}

// largeTable is under which name large objects are told of.
const largeTable = "large objects"

// lobPiece is how much of a large object is read at once, in bytes.
const lobPiece = 1 << 18

// largeObjects fingerprints the large objects, and writes them where w is
// given.
func largeObjects(ctx context.Context, conn *pgx.Conn, w *bufio.Writer) (dbprint.Table, error) {
	t := dbprint.Table{Name: largeTable, Columns: []string{"oid", "owner", "content"}, Key: []string{"oid"}}
	rows, err := conn.Query(ctx, "SELECT oid::int8, pg_catalog.pg_get_userbyid(lomowner), coalesce(array_to_string(lomacl, ','), '') FROM pg_catalog.pg_largeobject_metadata ORDER BY 1")
	if err != nil {
		return t, err
	}
	type object struct {
		OID        int64
		Owner, ACL string
	}
	all, err := pgx.CollectRows(rows, pgx.RowToStructByPos[object])
	if err != nil {
		return t, err
	}
	var sum dbprint.Multiset
	for _, o := range all {
		h := digest.New()
		fmt.Fprintf(h, "%d %s %s\n", o.OID, o.Owner, o.ACL)
		if w != nil {
			fmt.Fprintf(w, "SELECT pg_catalog.lo_create('%d');\nALTER LARGE OBJECT %d OWNER TO %s;\n", o.OID, o.OID, quoted(o.Owner))
		}
		for at := int64(0); ; at += lobPiece {
			var piece []byte
			if err := conn.QueryRow(ctx, "SELECT pg_catalog.lo_get($1::int8::oid, $2::int8, $3::int4)", o.OID, at, lobPiece).Scan(&piece); err != nil {
				return t, err
			}
			h.Write(piece)
			if w != nil && len(piece) > 0 {
				fmt.Fprintf(w, "SELECT pg_catalog.lo_put('%d', %d, '\\x%x');\n", o.OID, at, piece)
			}
			if len(piece) < lobPiece {
				break
			}
		}
		sum.Add(h.Sum())
		if w != nil && o.ACL != "" {
			grants, err := texts(ctx, conn, `SELECT format('GRANT %s ON LARGE OBJECT %s TO %s;', privilege_type, oid, CASE grantee WHEN 0 THEN 'PUBLIC' ELSE quote_ident(pg_catalog.pg_get_userbyid(grantee)) END)
				FROM pg_catalog.pg_largeobject_metadata m, pg_catalog.aclexplode(m.lomacl) WHERE m.oid = $1::int8::oid AND grantee <> lomowner`, o.OID)
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
