//go:build unix

package postgres

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"movekit/internal/core/card"
	"movekit/internal/core/dbprint"
	"movekit/internal/core/fault"
	"movekit/internal/core/item/served"
	"movekit/internal/dbserver"
	"movekit/test/dbcases"
	"movekit/test/fatal"
)

var old, now *dbserver.Server

func TestMain(m *testing.M) { dbcases.Main(m, dbserver.Postgres, &old, &now) }

// database is a database with a session that lasts as long as the test.
type database struct {
	*session
	name string
}

func at(t *testing.T, s served.Server) database {
	o := Engine{}.Open(s, func() (string, error) { return t.TempDir(), nil }).(*session)
	t.Cleanup(o.Close)
	return database{o, s.Database}
}

func server(t *testing.T, s *dbserver.Server, name string) database {
	return at(t, served.Server{Kind: card.PostgreSQL, Host: s.Dir, Port: s.Port, User: "postgres", Database: name})
}

// print computes the fingerprint, and closes the connections.
func (d database) print(t *testing.T, counts ...card.Count) *dbprint.Fingerprint {
	t.Helper()
	f, err := d.Fingerprint(t.Context(), d.name, counts, nil)
	fatal.If(t, err)
	d.Close()
	return f
}

func reader(data []byte) func() (io.ReadCloser, error) {
	return func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(data)), nil }
}

// fresh creates an empty database on the old server.
func fresh(t *testing.T, name, text string) database {
	t.Helper()
	dbcases.SQL(t, old, "postgres", "DROP DATABASE IF EXISTS "+name)
	dbcases.SQL(t, old, "postgres", "CREATE DATABASE "+name)
	dbcases.SQL(t, old, name, text)
	return server(t, old, name)
}

func sealed(t *testing.T, s database, counts ...card.Count) (*Sealed, served.Loading, []byte) {
	t.Helper()
	return dbcases.Sealed(t, Engine{}, s.session, s.name, counts)
}

// moved moves a database to the new server, and returns both fingerprints and the rows.
func moved(t *testing.T, s database, counts ...card.Count) (*Sealed, *dbprint.Fingerprint, []byte) {
	t.Helper()
	d, p, rows := sealed(t, s, counts...)
	to := server(t, now, s.name)
	dbcases.Place(t, Engine{}, to.session, s.name, d, p, "")
	return d, to.print(t, counts...), rows
}

const everything = `
CREATE ROLE ledger_owner; CREATE ROLE "Front Desk" LOGIN; CREATE ROLE clerks; GRANT clerks TO "Front Desk";
CREATE SCHEMA books AUTHORIZATION ledger_owner;
CREATE EXTENSION IF NOT EXISTS plpgsql;
CREATE TYPE books.state AS ENUM ('open', 'it''s paid');
CREATE DOMAIN books.money AS numeric(12,2) CHECK (VALUE > -1000000);
CREATE TABLE books.account (id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY, name text NOT NULL UNIQUE, balance books.money DEFAULT 0, cents bigint GENERATED ALWAYS AS (balance * 100) STORED, state books.state);
INSERT INTO books.account (name, balance, state) SELECT 'boat ' || i, i * 1.25, CASE WHEN i % 2 = 0 THEN 'open'::books.state ELSE 'it''s paid' END FROM generate_series(1, 500) i;
CREATE TABLE books.entry (id serial, account bigint REFERENCES books.account, day date, note text) PARTITION BY RANGE (day);
CREATE TABLE books.entry_2025 PARTITION OF books.entry FOR VALUES FROM ('2025-01-01') TO ('2026-01-01');
CREATE TABLE books.entry_rest PARTITION OF books.entry DEFAULT;
INSERT INTO books.entry (account, day, note) SELECT 1 + i % 500, '2024-06-01'::date + i, repeat('n', i % 50) FROM generate_series(1, 900) i;
CREATE INDEX entry_day ON books.entry (day DESC) WHERE note <> '';
CREATE VIEW books.unpaid AS SELECT * FROM books.account WHERE state = 'open';
CREATE MATERIALIZED VIEW books.sums AS SELECT account, count(*) AS n FROM books.entry GROUP BY 1;
CREATE FUNCTION books.touch() RETURNS trigger LANGUAGE plpgsql AS $f$ BEGIN NEW.note := coalesce(NEW.note, 'it''s $$ new'); RETURN NEW; END $f$;
CREATE TRIGGER touch BEFORE INSERT ON books.account FOR EACH ROW WHEN (false) EXECUTE FUNCTION books.touch();
ALTER TABLE books.account ENABLE ROW LEVEL SECURITY; CREATE POLICY mine ON books.account FOR SELECT TO "Front Desk" USING (balance > 0);
ALTER TABLE books.account OWNER TO ledger_owner; GRANT SELECT, INSERT ON books.account TO clerks; GRANT CONNECT ON DATABASE everything TO clerks;
CREATE SEQUENCE "Odd ""seq""" INCREMENT 5 START 100; SELECT nextval('"Odd ""seq"""'), nextval('"Odd ""seq"""');
CREATE SEQUENCE unused;
CREATE TABLE "we.ird ""t" ("a b" int, "Ünï" text); INSERT INTO "we.ird ""t" VALUES (1, E'tab\tnew\nline back\\slash \\. end'), (NULL, NULL), (2, '');
CREATE TABLE parent (x int); CREATE TABLE child () INHERITS (parent); INSERT INTO parent VALUES (1); INSERT INTO child VALUES (2), (3);
CREATE TABLE nothing (); INSERT INTO nothing DEFAULT VALUES; INSERT INTO nothing DEFAULT VALUES;
CREATE UNLOGGED TABLE fast (x int); INSERT INTO fast VALUES (9);
SELECT lo_from_bytea(4711, decode(repeat('00ff10', 200000), 'hex')); ALTER LARGE OBJECT 4711 OWNER TO ledger_owner; GRANT SELECT ON LARGE OBJECT 4711 TO clerks; SELECT lo_create(4712);
ALTER DATABASE everything SET search_path TO books, public; ALTER DATABASE everything SET work_mem TO '7MB'; ALTER DATABASE everything OWNER TO ledger_owner;
COMMENT ON TABLE books.account IS 'it''s commented';
CREATE ACCESS METHOD heap2 TYPE TABLE HANDLER heap_tableam_handler; CREATE TABLE books.stored (n int) USING heap2;
`

func TestEverythingMoves(t *testing.T) {
	s := fresh(t, "everything", everything)
	d, f, data := moved(t, s, card.Count{Name: "accounts", Query: "SELECT count(*) FROM account"})
	if diffs := dbprint.Compare(&d.Fingerprint, f, d.Rewritten(f)); len(diffs) > 0 {
		t.Errorf("old and new differ: %+v", diffs)
	}
	if d.Counts[0].Value != 500 || f.Counts[0].Value != 500 || f.Rows() < 1400 {
		t.Errorf("counts %v %v, %d rows", d.Counts, f.Counts, f.Rows())
	}
	for query, want := range map[string]string{
		"SELECT count(*), sum(cents) FROM books.account": "500|15656250", "SELECT count(*) FROM books.entry_2025": "365", "SELECT sum(n) FROM books.sums": "900",
		`SELECT nextval('"Odd ""seq"""')`: "110", "SELECT nextval('unused')": "1", "SELECT nextval('books.entry_id_seq')": "901",
		`SELECT count(*) FROM "we.ird ""t" WHERE "Ünï" = E'tab\tnew\nline back\\slash \\. end'`: "1",
		"SELECT count(*) FROM ONLY parent": "1", "SELECT count(*) FROM parent": "3", "SELECT count(*) FROM nothing": "2",
		"SELECT md5(lo_get(4711)), length(lo_get(4712))": "77c48c4a8cf3ee2a8ddcd9e1aab8cdc8|0",
		"SHOW work_mem": "7MB", "SELECT amname FROM pg_am JOIN pg_class ON relam = pg_am.oid WHERE relname = 'stored'": "heap2", "SHOW search_path": "books, public", "SELECT pg_get_userbyid(datdba) FROM pg_database WHERE datname = 'everything'": "ledger_owner",
		"SELECT has_table_privilege('clerks', 'books.account', 'INSERT')": "t", "SELECT has_database_privilege('clerks', 'everything', 'CONNECT')": "t", "SELECT rolcanlogin FROM pg_roles WHERE rolname = 'Front Desk'": "t", "SELECT pg_has_role('Front Desk', 'clerks', 'member')": "t",
		"SELECT rolpassword IS NULL FROM pg_authid WHERE rolname = 'Front Desk'": "t", "SELECT obj_description('books.account'::regclass)": "it's commented",
		"SELECT lomacl::text FROM pg_largeobject_metadata WHERE oid = 4711": "{ledger_owner=rw/ledger_owner,clerks=r/ledger_owner}",
	} {
		if query == "SELECT md5(lo_get(4711)), length(lo_get(4712))" {
			want = dbcases.SQL(t, old, "everything", query)
		}
		if got := dbcases.SQL(t, now, "everything", query); got != want {
			t.Errorf("%s gives %q, want %q", query, got, want)
		}
	}
	if got := dbcases.SQL(t, now, "everything", "INSERT INTO books.account (name) VALUES ('next') RETURNING id"); got != "501" {
		t.Errorf("the next account is %s", got)
	}
	_, p, _ := sealed(t, s)
	byHand(t, s, d, p, data)
}

// byHand loads a sealed database without Move Kit, with pg_restore and psql.
func byHand(t *testing.T, s database, d *Sealed, p served.Loading, data []byte) {
	t.Helper()
	archive, err := s.archive(p.Schema)
	fatal.If(t, err)
	dbcases.SQL(t, now, "postgres", "CREATE DATABASE byhand")
	restore, err := program(t.Context(), "pg_restore", 12)
	fatal.If(t, err)
	to := server(t, now, "byhand")
	for _, section := range []string{"pre-data", "data", "post-data"} {
		program, args, in := restore, []string{"--section=" + section, "--exit-on-error", "-d", "byhand", archive}, io.Reader(nil)
		if section == "data" {
			program, args, in = filepath.Join(filepath.Dir(restore), "psql"), []string{"-X", "-v", "ON_ERROR_STOP=1", "-f", "-"}, bytes.NewReader(data)
		}
		if said, err := to.run(t.Context(), "byhand", in, io.Discard, program, args...); err != nil {
			t.Fatalf("%s: %v\n%s", section, err, said)
		}
	}
	f := to.print(t)
	for _, diff := range dbprint.Compare(&d.Fingerprint, f, d.Rewritten(f)) {
		if diff.Table != "" && diff.Table != "books.sums" {
			t.Errorf("loaded by hand: %+v", diff)
		}
	}
}

// TestChanges checks that every change of the definitions is detected.
func TestChanges(t *testing.T) {
	s := fresh(t, "changes", dbcases.Base[dbcases.PostgreSQL])
	dbcases.Changes(t, dbcases.PostgreSQL, func(t *testing.T, text string) { dbcases.SQL(t, old, "changes", text) }, func(t *testing.T) *dbprint.Fingerprint { return s.print(t) })
}

// TestSchemas moves the databases of real applications. A copy is the same by our comparison and by
// the engine's own dump.
func TestSchemas(t *testing.T) {
	dbcases.Schemas(t, dbcases.PostgreSQL, func(t *testing.T, text string) {
		s := fresh(t, "schema", "SET client_min_messages = error; "+text)
		d, f, _ := moved(t, s)
		if diffs := dbprint.Compare(&d.Fingerprint, f, d.Rewritten(f)); len(diffs) > 0 {
			t.Errorf("old and new differ: %+v", diffs)
		}
		dbcases.SameDumps(t, old, now, "schema", func(s string) string {
			return strings.ToLower(strings.NewReplacer("(", "", ")", "", "::text", "").Replace(s))
		})
	})
}

func TestCases(t *testing.T) {
	dbcases.Try(t, dbcases.PostgreSQL, func(t *testing.T, sql []string) {
		fresh(t, "cases", strings.Join(sql, ";\n"))
	}, func(t *testing.T, otherwise bool) *dbprint.Fingerprint {
		if otherwise {
			dbcases.SQL(t, old, "postgres", "ALTER DATABASE cases SET timezone TO 'Asia/Kathmandu'; ALTER DATABASE cases SET datestyle TO 'German'; ALTER DATABASE cases SET intervalstyle TO iso_8601; ALTER DATABASE cases SET bytea_output TO escape; ALTER DATABASE cases SET extra_float_digits TO -3; ALTER DATABASE cases SET lc_monetary TO 'C.UTF-8'")
		}
		return server(t, old, "cases").print(t)
	})
}

// TestEverythingMovesOrIsReported moves data outside of tables, and objects that need the database's own
// search path.
func TestEverythingMovesOrIsReported(t *testing.T) {
	dbcases.SQL(t, old, "postgres", `DROP DATABASE IF EXISTS told; CREATE DATABASE told TEMPLATE template0 ENCODING 'UTF8' LOCALE_PROVIDER icu ICU_LOCALE 'de-u-kn-true' LOCALE 'C.UTF-8'; COMMENT ON DATABASE told IS 'it''s told';
CREATE ROLE told_boss LOGIN SUPERUSER PASSWORD 'x'; CREATE ROLE told_group NOINHERIT CREATEDB; CREATE ROLE told_clerk LOGIN CONNECTION LIMIT 7 VALID UNTIL '2040-01-01'; GRANT told_group TO told_clerk WITH ADMIN OPTION; GRANT pg_read_server_files TO told_clerk; ALTER ROLE told_clerk SET work_mem TO '9MB'; ALTER ROLE told_clerk SET search_path TO app, public;
ALTER DATABASE told CONNECTION LIMIT 40; ALTER DATABASE told SET search_path TO app, public; ALTER ROLE told_clerk IN DATABASE told SET datestyle TO 'German'; ALTER DATABASE told SET "app.office" TO 'Tern Quay'`)
	dbcases.SQL(t, old, "told", `CREATE SCHEMA app; SET search_path TO app;
CREATE FUNCTION app.inner_one(text) RETURNS text IMMUTABLE LANGUAGE sql AS 'SELECT lower($1)'; CREATE FUNCTION app.outer_one(text) RETURNS text IMMUTABLE LANGUAGE plpgsql AS 'BEGIN RETURN inner_one($1); END';
CREATE TABLE boat (name text CHECK (outer_one(name) <> ''), n int); INSERT INTO boat VALUES ('Berth 10', 1), ('Berth 9', 2); CREATE UNIQUE INDEX ON boat (outer_one(name)); CREATE INDEX ON boat (n);
CREATE MATERIALIZED VIEW first AS SELECT 1 AS n; CREATE VIEW between AS SELECT * FROM first; CREATE MATERIALIZED VIEW last AS SELECT n, outer_one('X') AS x FROM between; CREATE MATERIALIZED VIEW empty AS SELECT 1 WITH NO DATA;
CREATE OR REPLACE VIEW between AS SELECT n FROM first; GRANT SELECT ON boat TO told_boss, told_clerk; CREATE SUBSCRIPTION sub CONNECTION 'dbname=nowhere' PUBLICATION p WITH (connect = false)`)
	partitions := "SELECT 0"
	if _, err := old.SQL("told", "CREATE SCHEMA part; CREATE EXTENSION pg_partman SCHEMA part"); err == nil {
		dbcases.SQL(t, old, "told", "CREATE TABLE app.log (day timestamptz NOT NULL) PARTITION BY RANGE (day); SELECT part.create_parent('app.log', 'day', 'native', 'monthly')")
		partitions = "SELECT count(*) FROM part.part_config"
	} else {
		t.Log("left out: the extension pg_partman is not installed")
	}
	s := server(t, old, "told")
	l, err := s.Look(t.Context(), "told")
	if err != nil || !strings.Contains(strings.Join(l.Left, "\n"), "subscription sub: moved disabled") || !strings.Contains(strings.Join(l.Left, "\n"), "passwords of roles") {
		t.Errorf("%+v %v", l, err)
	}
	d, p, _ := sealed(t, s)
	to := server(t, now, "told")
	notes := dbcases.Place(t, Engine{}, to.session, to.name, d, p, "")
	dbcases.Same(t, to.session, to.name, d, nil)
	made, err := to.Definitions(t.Context(), to.name)
	fatal.If(t, err)
	for _, change := range []string{"told_clerk CONNECTION LIMIT 8", "told_clerk NOLOGIN", "told_group SET work_mem TO '5MB'"} { // what somebody changes later is named
		dbcases.SQL(t, now, "told", "ALTER ROLE "+change)
		is, err := to.Definitions(t.Context(), to.name)
		fatal.If(t, err)
		role, _, _ := strings.Cut(change, " ")
		if diffs := fmt.Sprint(dbprint.Compare(made, is, nil)); !strings.Contains(diffs, "role "+role) {
			t.Errorf("%s: %s", change, diffs)
		}
	}
	dbcases.SQL(t, now, "told", "ALTER ROLE told_clerk LOGIN CONNECTION LIMIT 7; ALTER ROLE told_group RESET work_mem")
	to.Close()
	for _, want := range []string{"told_boss was created on the new server without a password", `it had "SUPERUSER" on the old server, but not here`, "told_clerk was created", "it was a member of pg_read_server_files on the old server, but is not here", "the index app.boat_outer_one_idx uses functions or types without their schema; it was created with the database's search path app, public"} {
		if !strings.Contains(notes, want) {
			t.Errorf("not told: %s\n%s", want, notes)
		}
	}
	for query, want := range map[string]string{
		"SELECT datlocprovider, daticulocale, datconnlimit FROM pg_database WHERE datname = 'told'": "i|de-u-kn-true|40", "SELECT shobj_description(oid, 'pg_database') FROM pg_database WHERE datname = 'told'": "it's told",
		"SELECT string_agg(name, ', ' ORDER BY name) FROM boat": "Berth 9, Berth 10", "SELECT x FROM last": "x", "SELECT count(*) FROM pg_class WHERE relname = 'empty' AND relispopulated": "0", "SHOW app.office": "Tern Quay",
		"SELECT rolconnlimit, rolvaliduntil::date, rolconfig, rolsuper FROM pg_roles WHERE rolname = 'told_clerk'": `7|2040-01-01|{work_mem=9MB,"search_path=app, public"}|f`, "SELECT rolsuper FROM pg_roles WHERE rolname = 'told_boss'": "f", "SELECT rolinherit, rolcreatedb FROM pg_roles WHERE rolname = 'told_group'": "f|f",
		"SELECT admin_option FROM pg_auth_members WHERE member = 'told_clerk'::regrole AND roleid = 'told_group'::regrole": "t", "SELECT setconfig FROM pg_db_role_setting WHERE setrole = 'told_clerk'::regrole AND setdatabase <> 0": `{"DateStyle=iso, DMY"}`, "SELECT subenabled FROM pg_subscription": "f",
		partitions: dbcases.SQL(t, old, "told", partitions),
	} {
		if strings.Contains(query, "setconfig") {
			want = dbcases.SQL(t, old, "told", query)
		}
		if got := dbcases.SQL(t, now, "told", query); got != want {
			t.Errorf("%s gives %q, want %q", query, got, want)
		}
	}
	// Row security that hides rows is an error, not fewer rows.
	dbcases.SQL(t, now, "told", "ALTER TABLE app.boat ENABLE ROW LEVEL SECURITY; GRANT USAGE ON SCHEMA app TO told_clerk; GRANT SELECT ON ALL TABLES IN SCHEMA app TO told_clerk")
	hidden := at(t, served.Server{Kind: card.PostgreSQL, Host: now.Dir, Port: now.Port, User: "told_clerk", Database: "told"})
	if _, err := hidden.Fingerprint(t.Context(), "told", nil, nil); fault.KindOf(err) != fault.ServerLogin {
		t.Errorf("hidden rows: %v (%s)", err, fault.KindOf(err))
	}
	// A server with a socket is addressed by the socket's folder.
	file := filepath.Join(t.TempDir(), "pass")
	fatal.If(t, os.WriteFile(file, []byte("/run/quay:5432:*:clerk:s3cret\n"), 0o600))
	t.Setenv("PGPASSFILE", file)
	if got := ofSocket(&pgx.ConnConfig{Config: pgconn.Config{Host: "/run/quay", Port: 5432, Database: "x", User: "clerk"}}); got != "s3cret" {
		t.Errorf("the password of a socket in another folder is %q", got)
	}
}

// TestOneMoment packs while the app writes to two tables that always agree.
func TestOneMoment(t *testing.T) {
	s := fresh(t, "busy", "CREATE TABLE a (n int); CREATE TABLE b (n int); CREATE TABLE pad AS SELECT repeat('x', 500) AS x FROM generate_series(1, 4000)")
	ctx, stop := context.WithCancel(t.Context())
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		for i := 0; ctx.Err() == nil; i++ {
			old.SQL("busy", fmt.Sprintf("BEGIN; INSERT INTO a SELECT %d FROM generate_series(1, 20); INSERT INTO b SELECT %d FROM generate_series(1, 20); COMMIT", i, i))
		}
	}()
	for range 2 {
		d, f, _ := moved(t, s)
		if len(dbprint.Compare(&d.Fingerprint, f, d.Rewritten(f))) > 0 {
			t.Error("what was sealed and its fingerprint are of two moments")
		}
		if x, y := f.Table("public.a"), f.Table("public.b"); x.Rows != y.Rows || x.Digest != y.Digest {
			t.Errorf("a has %d rows and b has %d", x.Rows, y.Rows)
		}
	}
	stop()
	<-ended
}

func TestDifferencesAreNamed(t *testing.T) {
	s := fresh(t, "diffs", "CREATE TABLE owner (id int PRIMARY KEY, name text, phone text); INSERT INTO owner VALUES (1, 'A', '1'), (2, E'B\tb', '2'), (3, NULL, '3'); CREATE TABLE log (line text); INSERT INTO log VALUES ('x'), ('x'), ('y'); CREATE INDEX i ON owner (name); CREATE SEQUENCE q")
	d, _, data := moved(t, s)
	dbcases.SQL(t, now, "diffs", "UPDATE owner SET phone = '9', name = 'C' WHERE id = 2; DELETE FROM owner WHERE id = 3; INSERT INTO owner VALUES (4, 'D', '4'); DELETE FROM log WHERE ctid = '(0,1)'; DROP INDEX i; SELECT nextval('q'); ALTER TABLE owner ALTER name SET NOT NULL; CREATE TABLE more (x int)")
	f := server(t, now, "diffs").print(t)
	var got []string
	for _, diff := range dbprint.Compare(&d.Fingerprint, f, d.Rewritten(f)) {
		got = append(got, strings.Trim(diff.Table+": "+diff.What, ": "))
		if !diff.Content {
			continue
		}
		table := *d.Table(diff.Table)
		rows, err := dbprint.DiffRows(table, sealedRows(reader(data), table.Name), server(t, now, "diffs").Rows(t.Context(), "diffs", table), func(c string) bool { return c == "phone" })
		fatal.If(t, err)
		got = append(got, rows...)
	}
	want := []string{"public.log: had 3 rows, has 2", "missing: line x", "public.owner: has the same number of rows, but different ones", `id 2: name was B\tb, is C; phone was •••, is •••`, "id 3: the row is missing", "id 4: the row is new",
		"public.more: the table was not in the sealed data", "table public.owner: the definition differs", "index public.i: missing", "sequence public.q was 1, false, is 1, true"}
	all := strings.Join(got, "\n")
	for _, w := range want {
		if !strings.Contains(all, w) {
			t.Errorf("not told: %s in\n%s", w, all)
		}
	}
}

func TestExistingDatabase(t *testing.T) {
	s := fresh(t, "inway", "CREATE TABLE a (n int); INSERT INTO a VALUES (1)")
	d, p, rows := sealed(t, s)
	dbcases.SQL(t, now, "postgres", "CREATE DATABASE inway")
	dbcases.SQL(t, now, "inway", "CREATE TABLE theirs (n int)")
	to := server(t, now, "inway")
	for range 2 { // an interrupted run has left a stage behind
		_, err := to.Stage(t.Context(), d, p)
		fatal.If(t, err)
	}
	if got := dbcases.SQL(t, now, "inway", "SELECT count(*) FROM theirs"); got != "0" {
		t.Error("staging has touched what was there")
	}
	fatal.If(t, dbcases.InPlace(t.Context(), to.session, to.name, p.Stage, "inway_aside"))
	if dbcases.SQL(t, now, "inway", "SELECT n FROM a") != "1" || dbcases.SQL(t, now, "inway_aside", "SELECT count(*) FROM theirs") != "0" {
		t.Error("what was there is not set aside")
	}
	// Rows that end early, or contain something else, leave no staged database.
	for _, bad := range []string{string(rows[:len(rows)/2]), "DROP DATABASE inway;\n", "COPY public.a (n) FROM stdin;\nnot a number\n\\.\n", "COPY public.a (n) FROM stdin;\n1\n"} {
		p.Rows = reader([]byte(bad))
		_, err := to.Stage(t.Context(), d, p)
		if err == nil || dbcases.SQL(t, now, "inway", "SELECT n FROM a") != "1" {
			t.Errorf("%.40q: %v", bad, err)
		}
	}
	if got := dbcases.SQL(t, now, "postgres", "SELECT count(*) FROM pg_database WHERE datname = 'inway_stage'"); got != "0" {
		t.Error("a staged database is left")
	}
	older := *d
	older.Number, older.Engine, older.Extensions, older.Collate = 990001, "PostgreSQL 99.1", []string{"no_such_extension 1.0"}, "xx_XX.UTF-8"
	lacks, err := to.Lacks(t.Context(), to.name, &older)
	if all := strings.Join(lacks, "; "); err != nil || len(lacks) != 3 || !strings.Contains(all, "99.1") || !strings.Contains(all, "no_such_extension") || !strings.Contains(all, "xx_XX.UTF-8") {
		t.Errorf("lacks %q %v", lacks, err)
	}
}

// cutting interrupts at the statement with the given number, and refuses all later ones if it
// simulates a kill.
type cutting struct {
	at, count int
	kill      bool
}

func (c *cutting) TraceQueryStart(ctx context.Context, _ *pgx.Conn, _ pgx.TraceQueryStartData) context.Context {
	if c.count++; c.count == c.at || c.kill && c.count > c.at {
		gone, cancel := context.WithCancel(ctx)
		cancel()
		return gone
	}
	return ctx
}

func (*cutting) TraceQueryEnd(context.Context, *pgx.Conn, pgx.TraceQueryEndData) {}

// TestInterrupted interrupts setting aside, placing and undoing a database at every statement. The
// existing database is always complete under one of its names (compared with the server's own
// dump), and the same command completes the work.
func TestInterrupted(t *testing.T) {
	s := fresh(t, "cutoff", "CREATE TABLE a (n int); INSERT INTO a VALUES (1)")
	d, p, _ := sealed(t, s)
	dbcases.SQL(t, now, "postgres", "CREATE DATABASE cutoff")
	dbcases.SQL(t, now, "cutoff", "CREATE TABLE theirs (n int PRIMARY KEY); INSERT INTO theirs VALUES (7); CREATE VIEW v AS SELECT * FROM theirs; COMMENT ON DATABASE cutoff IS 'theirs'; ALTER DATABASE cutoff SET work_mem TO '7MB'")
	dump := func(name string) string {
		text, err := now.Dump(name)
		fatal.If(t, err)
		return strings.ReplaceAll(strings.ReplaceAll(text, "cutoff_aside", "cutoff"), "'", "")
	}
	before := dump("cutoff")
	defer func() { tracer = nil }()
	for _, kill := range []bool{false, true} {
		for stop := 1; ; stop++ {
			to := server(t, now, "cutoff")
			_, err := to.Stage(t.Context(), d, p)
			fatal.If(t, err)
			to.Close()
			// try runs a command that may be interrupted, and runs it again.
			try := func(do func(s database) error) bool {
				cut := &cutting{at: stop, kill: kill}
				tracer = cut
				first := at(t, to.Server)
				err := do(first)
				first.Close()
				tracer = nil
				if err == nil {
					return false
				}
				again := at(t, to.Server)
				defer again.Close()
				whole := "cutoff"
				if there, err := again.Exists(t.Context(), "cutoff_aside"); err != nil || there {
					whole = "cutoff_aside"
				}
				again.Close()
				if is := dump(whole); is != before {
					t.Fatalf("cut off at %d, %s is not whole:\n%s", stop, whole, is)
				}
				if err := do(again); err != nil {
					t.Fatalf("cut off at %d, and then: %v", stop, err)
				}
				return true
			}
			stopped := try(func(s database) error {
				return dbcases.InPlace(t.Context(), s.session, "cutoff", p.Stage, "cutoff_aside")
			})
			if dbcases.SQL(t, now, "cutoff", "SELECT n FROM a") != "1" || dump("cutoff_aside") != before {
				t.Fatalf("cut off at %d", stop)
			}
			stopped = try(func(s database) error {
				// As undo does.
				there, err := s.Exists(t.Context(), "cutoff")
				if err != nil {
					return err
				}
				waits, err := s.Exists(t.Context(), "cutoff_aside")
				if err != nil || !waits {
					return err
				}
				if there {
					if err := s.Drop(t.Context(), "cutoff"); err != nil {
						return err
					}
				}
				return s.Rename(t.Context(), "cutoff_aside", "cutoff", served.InService)
			}) || stopped
			if is := dump("cutoff"); is != before {
				t.Fatalf("cut off at %d, it came back otherwise", stop)
			}
			if !stopped {
				break
			}
		}
	}
}

func TestServerRefuses(t *testing.T) {
	fresh(t, "shut", "CREATE TABLE a (n int); CREATE ROLE nobody_here LOGIN")
	for name, c := range map[string]struct {
		s    database
		kind fault.Kind
	}{
		"no such database": {server(t, old, "no_such"), fault.Missing}, "no such server": {at(t, served.Server{Host: "127.0.0.1", Port: "1", User: "x", Password: "s3cret", Database: "x"}), fault.ServerDown},
		"no such role": {at(t, served.Server{Host: old.Dir, Port: old.Port, User: "nobody_at_all", Password: "s3cret", Database: "shut"}), fault.ServerLogin}, "no socket": {at(t, served.Server{Host: "/nowhere", Port: "1", Database: "x"}), fault.ServerDown},
	} {
		if _, err := c.s.Look(t.Context(), c.s.name); fault.KindOf(err) != c.kind || strings.Contains(err.Error(), "s3cret") {
			t.Errorf("%s: %v (%s)", name, err, fault.KindOf(err))
		}
	}
	l, err := server(t, old, "shut").Look(t.Context(), "shut")
	for range 50 { // the server takes its time to let go of who made it
		if err != nil || len(l.Sessions) == 0 {
			break
		}
		time.Sleep(100 * time.Millisecond)
		l, err = server(t, old, "shut").Look(t.Context(), "shut")
	}
	if err != nil || l.Tables != 1 || l.Bytes == 0 || len(l.Sessions) != 0 || !strings.HasPrefix(l.Engine, "PostgreSQL ") {
		t.Errorf("%+v %v", l, err)
	}
	// Even an administrator's query may not read outside of the database.
	for _, query := range []string{"SELECT length(pg_read_file('/etc/passwd'))", "SELECT count(*) FROM pg_ls_dir('/')", "WITH x AS (DELETE FROM a RETURNING n) SELECT count(*) FROM x"} {
		if n, err := server(t, old, "shut").Ask(t.Context(), "shut", query); err == nil {
			t.Errorf("%s gives %d", query, n)
		}
	}
	if n, err := server(t, old, "shut").Ask(t.Context(), "shut", "SELECT count(*) FROM a -- all"); n != 0 || err != nil {
		t.Errorf("%d %v", n, err)
	}
	dbcases.Slow(t, "SELECT count(*) FROM generate_series(1, 1000000) a, generate_series(1, 1000000) b", func(ctx context.Context, query string) (int64, error) {
		return server(t, old, "shut").Ask(ctx, "shut", query)
	})
	// A role that may not read everything packs nothing.
	s := server(t, old, "shut")
	s.User = "nobody_here"
	if _, err := s.Seal(t.Context(), "shut", nil, io.Discard, io.Discard, nil); fault.KindOf(err) != fault.ServerLogin {
		t.Errorf("without the right to read: %v (%s)", err, fault.KindOf(err))
	}
	// A table that somebody has locked is waited for, and then reported.
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := server(t, old, "shut").Fingerprint(ctx, "shut", nil, nil); fault.KindOf(err) != fault.Stopped {
		t.Errorf("stopped: %v (%s)", err, fault.KindOf(err))
	}
}

// TestOverTheNetwork connects by host name, encrypted if the server supports it.
func TestOverTheNetwork(t *testing.T) {
	fresh(t, "named", "CREATE TABLE boat (n int); INSERT INTO boat VALUES (7)")
	cert, key := dbcases.Certificate(t, filepath.Join(old.Dir, "data"))
	set := func(on string) {
		for _, text := range []string{"ALTER SYSTEM SET ssl_cert_file = '" + cert + "'", "ALTER SYSTEM SET ssl_key_file = '" + key + "'", "ALTER SYSTEM SET ssl = " + on, "SELECT pg_reload_conf(), pg_sleep(0.5)"} {
			dbcases.SQL(t, old, "postgres", text)
		}
	}
	defer set("off")
	for on, want := range map[string]bool{"on": true, "off": false} {
		set(on)
		s := at(t, served.Server{Kind: card.PostgreSQL, Host: "localhost", Port: old.Port, User: "postgres", Database: "named"})
		conn, err := s.on(t.Context(), "named")
		fatal.If(t, err)
		var encrypted bool
		if err := conn.QueryRow(t.Context(), "SELECT ssl FROM pg_catalog.pg_stat_ssl WHERE pid = pg_catalog.pg_backend_pid()").Scan(&encrypted); err != nil || encrypted != want {
			t.Errorf("%s: %v %v", on, encrypted, err)
		}
		if _, print, _ := moved(t, s); print.Rows() != 1 {
			t.Errorf("%s: %+v", on, print)
		}
	}
}

// TestPasswordOfPrograms passes a password to the server's programs only in a private file, never
// in arguments or the environment.
func TestPasswordOfPrograms(t *testing.T) {
	script := filepath.Join(t.TempDir(), "program")
	fatal.If(t, os.WriteFile(script, []byte("#!/bin/sh\necho \"$@\"; env; echo FILE; ls -l $PGPASSFILE; cat $PGPASSFILE"), 0o755))
	var out bytes.Buffer
	s := at(t, served.Server{Host: "h", Port: "5432", User: "me", Password: `s3c:ret\word`, Database: "x"})
	_, err := s.run(t.Context(), "x", nil, &out, script, "-d", "x")
	fatal.If(t, err)
	before, file, _ := strings.Cut(out.String(), "FILE\n")
	if strings.Contains(before, "s3c") || !strings.HasPrefix(file, "-rw------- ") || !strings.HasSuffix(file, `*:*:*:*:s3c\:ret\\word`+"\n") {
		t.Errorf("%s", out.String())
	}
	_, name, _ := strings.Cut(before, "PGPASSFILE=")
	name, _, _ = strings.Cut(name, "\n")
	if _, err := os.Stat(name); name == "" || !os.IsNotExist(err) {
		t.Errorf("the file %q is left: %v", name, err)
	}
}

// TestConditions packs from servers with uncommon settings and by a login that may only read.
func TestConditions(t *testing.T) {
	const text = "CREATE TABLE boat (n int PRIMARY KEY, name text); INSERT INTO boat VALUES (1, 'Grey Wagtail'), (2, E'back\\\\slash'); CREATE TABLE berth (a int[]); INSERT INTO berth VALUES ('{1,NULL}')"
	reload := func(settings ...string) {
		for _, s := range append(settings, "SELECT pg_reload_conf(), pg_sleep(0.3)") {
			dbcases.SQL(t, old, "postgres", s)
		}
	}
	same := func(what string, s database) {
		t.Helper()
		d, print, _ := moved(t, s)
		if diffs := dbprint.Compare(&d.Fingerprint, print, d.Rewritten(print)); len(diffs) > 0 || print.Rows() != 3 {
			t.Errorf("%s: %+v", what, diffs)
		}
	}
	fresh(t, "conditions", text)
	// TLS is required of everybody who connects by network.
	cert, key := dbcases.Certificate(t, filepath.Join(old.Dir, "data"))
	hba := filepath.Join(old.Dir, "data/pg_hba.conf")
	was, err := os.ReadFile(hba)
	fatal.If(t, err)
	fatal.If(t, os.WriteFile(hba, []byte("local all all trust\nhostssl all all 127.0.0.1/32 trust\nhostssl all all ::1/128 trust\nhostnossl all all all reject\n"), 0o600))
	reload("ALTER SYSTEM SET ssl_cert_file = '"+cert+"'", "ALTER SYSTEM SET ssl_key_file = '"+key+"'", "ALTER SYSTEM SET ssl = on")
	same("TLS required", at(t, served.Server{Kind: card.PostgreSQL, Host: "localhost", Port: old.Port, User: "postgres", Database: "conditions"}))
	fatal.If(t, os.WriteFile(hba, was, 0o600))
	reload("ALTER SYSTEM RESET ALL")
	// Settings that change how text is read and written.
	reload("ALTER DATABASE conditions SET standard_conforming_strings = off", "ALTER DATABASE conditions SET array_nulls = off", "ALTER DATABASE conditions SET quote_all_identifiers = on", "ALTER DATABASE conditions SET datestyle = 'German'", "ALTER DATABASE conditions SET default_transaction_read_only = on")
	same("settings", server(t, old, "conditions"))
	reload("ALTER DATABASE conditions RESET ALL")
	// A login that may only read gets the same as an administrator.
	dbcases.SQL(t, old, "conditions", "DROP ROLE IF EXISTS reading; CREATE ROLE reading LOGIN IN ROLE pg_read_all_data")
	s := at(t, served.Server{Kind: card.PostgreSQL, Host: old.Dir, Port: old.Port, User: "reading", Database: "conditions"})
	same("a login that reads", s)
	// A table in a tablespace moves into the new server's default one.
	space := filepath.Join(old.Dir, "space")
	fatal.If(t, os.MkdirAll(space, 0o700))
	info, err := os.Stat(filepath.Join(old.Dir, "data"))
	fatal.If(t, err)
	owner := info.Sys().(*syscall.Stat_t)
	fatal.If(t, os.Chown(space, int(owner.Uid), int(owner.Gid)))
	dbcases.SQL(t, old, "postgres", "CREATE TABLESPACE quay LOCATION '"+space+"'")
	fresh(t, "spaced", text+"; ALTER TABLE boat SET TABLESPACE quay; CREATE INDEX there ON boat (name) TABLESPACE quay")
	spaced := server(t, old, "spaced")
	same("a tablespace", spaced)
	spaced.Close()
	dbcases.SQL(t, old, "postgres", "DROP DATABASE spaced")
	dbcases.SQL(t, old, "postgres", "DROP TABLESPACE quay")
}

// TestDropped removes a database that the server protects as a template, or in which somebody left a prepared transaction or a
// replication slot: it is removed, or stays and the message names the reason.
func TestDropped(t *testing.T) {
	s := fresh(t, "shielded", "CREATE TABLE a (n int)")
	d, p, _ := sealed(t, s)
	to := server(t, now, "shielded")
	dbcases.Place(t, Engine{}, to.session, to.name, d, p, "")
	dbcases.SQL(t, now, "postgres", "ALTER DATABASE shielded IS_TEMPLATE true")
	dbcases.Place(t, Engine{}, to.session, to.name, d, p, "shielded_before")
	if err := to.Drop(t.Context(), "shielded_before"); err != nil {
		t.Errorf("a template: %v", err)
	}
	other := at(t, served.Server{Kind: card.PostgreSQL, Host: now.Dir, Port: now.Port, User: "postgres", Database: "shielded"})
	_, err := other.on(t.Context(), "shielded")
	fatal.If(t, err)
	if err := to.Rename(t.Context(), "shielded", "elsewhere", served.AtRest); err == nil || !strings.Contains(err.Error(), "shielded") {
		t.Errorf("a database in use: %v", err)
	}
	other.Close()
	for range 50 {
		if err = to.Drop(t.Context(), "shielded"); err == nil {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	if there, _ := to.Exists(t.Context(), "shielded"); err != nil || there {
		t.Errorf("%v %v", there, err)
	}
}

// TestSecondConnection computes the same fingerprint with one connection and with two, although somebody writes meanwhile, and
// although the server allows no second one.
func TestSecondConnection(t *testing.T) {
	s := fresh(t, "second", "CREATE TABLE a (n int); CREATE TABLE b (n int); CREATE TABLE c (n int); INSERT INTO a SELECT generate_series(1, 20000); INSERT INTO b SELECT * FROM a; INSERT INTO c SELECT * FROM a;")
	want := s.print(t)
	if want.Rows() != 60000 {
		t.Fatalf("%d rows", want.Rows())
	}
	stop, done := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(done)
		for {
			select {
			case <-stop:
				return
			default:
				dbcases.SQL(t, old, "second", "BEGIN; INSERT INTO a VALUES (1); INSERT INTO b VALUES (1); INSERT INTO c VALUES (1); COMMIT;")
			}
		}
	}()
	for range 10 {
		f := s.print(t)
		if f.Tables[0].Rows != f.Tables[2].Rows || f.Tables[0].Digest != f.Tables[1].Digest || f.Tables[1].Digest != f.Tables[2].Digest {
			t.Errorf("the tables are of different moments: %+v", f.Tables)
		}
	}
	close(stop)
	<-done
	whole := s.print(t)
	fatal.If(t, s.inSnapshot(t.Context(), s.name, func(conn *pgx.Conn, snapshot string) error {
		rels, err := relations(t.Context(), conn)
		fatal.If(t, err)
		unreached := *s.session
		unreached.Port = "1"
		fatal.If(t, unreached.sumTables(t.Context(), conn, s.name, snapshot, rels, nil))
		for i, r := range rels {
			if !reflect.DeepEqual(r.Table, whole.Tables[i]) {
				t.Errorf("with one connection: %+v, not %+v", r.Table, whole.Tables[i])
			}
		}
		return nil
	}))
	s.Close()
}
