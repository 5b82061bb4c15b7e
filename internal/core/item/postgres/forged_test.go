//go:build unix

package postgres

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"movekit/internal/core/card"
	"movekit/internal/core/dbprint"
	"movekit/internal/core/fault"
	"movekit/internal/core/item/postgres/sqltext"
	"movekit/internal/core/item/served"
	"movekit/test/dbcases"
	"movekit/test/fatal"
)

// TestNothingIsSQL forges every sealed text that reaches the server, as somebody with the kit's
// passphrase could. No statement in it runs, and nothing is left on the server.
func TestNothingIsSQL(t *testing.T) {
	s := fresh(t, "forged", "CREATE ROLE forged_old LOGIN; CREATE TABLE a (n int); INSERT INTO a VALUES (1); CREATE SEQUENCE q; ALTER TABLE a OWNER TO forged_old; CREATE MATERIALIZED VIEW v AS SELECT n FROM a")
	dir := t.TempDir()
	fatal.If(t, os.Chmod(dir, 0o777))
	proof := filepath.Join(dir, "ran")
	evil := fmt.Sprintf("COPY (SELECT 1) TO PROGRAM 'touch %s'", proof)
	roles := func() string {
		return dbcases.SQL(t, now, "postgres", "SELECT string_agg(rolname || rolsuper || rolcreatedb, ' ' ORDER BY 1) FROM pg_roles")
	}
	before := roles()
	real, p, rows := sealed(t, s)
	to := server(t, now, "forged")
	for name, forge := range map[string]func(d *Sealed) string{
		"search path":        func(d *Sealed) string { d.Path = "public; " + evil; return "" },
		"quoted search path": func(d *Sealed) string { d.Path = `"public"; ` + evil; return "" },
		"statement":          func(*Sealed) string { return evil + ";\n" },
		"after SET":          func(*Sealed) string { return "SET client_encoding = 'UTF8'; " + evil + ";\n" },
		"after setval":       func(*Sealed) string { return "SELECT pg_catalog.setval('public.q', 1, true); " + evil + ";\n" },
		"in setval": func(*Sealed) string {
			return "SELECT pg_catalog.setval('public.q', 1, true), 'x');" + evil + ";--', 1, true);\n"
		},
		"setval of a query": func(*Sealed) string { return "SELECT pg_catalog.setval((SELECT 'public.q'), 1, true);\n" },
		"other setting":     func(*Sealed) string { return "SET session_preload_libraries = 'x';\n" },
		"COPY of a program": func(*Sealed) string {
			return "COPY public.a (n) FROM PROGRAM 'touch " + proof + "' --FROM stdin;\n\\.\n"
		},
		"COPY with two":   func(*Sealed) string { return "COPY public.a (n) FROM stdin; " + evil + " FROM stdin;\n\\.\n" },
		"grant of a role": func(*Sealed) string { return "GRANT pg_execute_server_program TO forged_old;\n" },
		"comment":         func(*Sealed) string { return "COMMENT ON LARGE OBJECT 1 IS E'x\\\\'; " + evil + " --';\n" },
		"owner":           func(*Sealed) string { return "ALTER LARGE OBJECT 1 OWNER TO postgres; " + evil + ";\n" },
		"endless statement": func(*Sealed) string {
			return "SELECT pg_catalog.lo_put('1', 0, '\\x" + strings.Repeat("00", sqltext.MaxStatement) + "');\n"
		},
		"materialized view": func(d *Sealed) string { d.Views = []string{"public.v; " + evil}; return "" },
		"role attribute": func(d *Sealed) string {
			d.Roles = []Role{{Name: "forged_a", May: []string{"SUPERUSER PASSWORD 'x'"}}}
			return "x"
		},
		"role validity": func(d *Sealed) string {
			d.Roles = []Role{{Name: "forged_b", May: []string{"VALID UNTIL '2030' SUPERUSER"}}}
			return "x"
		},
		"role that creates": func(d *Sealed) string { d.Roles = []Role{{Name: "forged_c", May: []string{"CREATEDB"}}}; return "x" },
		"role setting": func(d *Sealed) string {
			d.Roles = []Role{{Name: "forged_d", Settings: []string{"search_path=a; " + evil}}}
			return "x"
		},
		"role library": func(d *Sealed) string {
			d.Roles = []Role{{Name: "forged_e", Settings: []string{"session_preload_libraries=x"}}}
			return "x"
		},
		"member of superuser": func(d *Sealed) string {
			d.Roles = []Role{{Name: "forged_f", In: []Member{{"postgres", ""}}}}
			return "x"
		},
		"member with options": func(d *Sealed) string {
			d.Roles = []Role{{Name: "forged_g"}, {Name: "forged_h", In: []Member{{"forged_g", " WITH ADMIN OPTION; " + evil}}}}
			return "x"
		},
		"member of predefined": func(d *Sealed) string {
			d.Roles = []Role{{Name: "forged_i", In: []Member{{"pg_write_all_data", ""}}}}
			return "x"
		},
	} {
		d := *real
		data := forge(&d)
		p.Stage, p.Rows = "forged_stage", reader([]byte(data))
		if data == "" {
			p.Rows = reader(rows)
		}
		if _, err := to.Stage(t.Context(), &d, p); err == nil {
			t.Errorf("%s: it was loaded", name)
		}
		if _, err := os.Stat(proof); err == nil {
			t.Errorf("%s: a program ran", name)
			os.Remove(proof)
		}
		if got := dbcases.SQL(t, now, "postgres", "SELECT count(*) FROM pg_database WHERE datname = 'forged_stage'"); got != "0" {
			t.Errorf("%s: the staged database is left", name)
		}
		if after := roles(); after != before {
			t.Errorf("%s: the roles were %s, are %s", name, before, after)
			dbcases.SQL(t, now, "postgres", "DO $$ DECLARE r text; BEGIN FOR r IN SELECT rolname FROM pg_roles WHERE rolname LIKE 'forged%' LOOP EXECUTE 'DROP ROLE ' || r; END LOOP; END $$")
		}
	}
	// An ordinary database still moves, and its roles get no rights beyond it.
	d := *real
	d.Roles = []Role{{Name: "forged_old", Login: true, May: []string{"CREATEDB", "CONNECTION LIMIT 3"}, Settings: []string{`search_path="$user", public`, "work_mem=7MB", "session_preload_libraries=auto_explain"}, In: []Member{{"postgres", ""}, {"pg_write_all_data", ""}}}}
	p.Rows = reader(rows)
	notes, err := to.Stage(t.Context(), &d, p)
	fatal.If(t, err)
	if got := dbcases.SQL(t, now, "postgres", "SELECT rolcreatedb, rolconnlimit, array_to_string(rolconfig, ';'), (SELECT count(*) FROM pg_auth_members WHERE member = r.oid) FROM pg_roles r WHERE rolname = 'forged_old'"); got != `f|3|search_path="$user", public;work_mem=7MB|0` {
		t.Errorf("the role is %s", got)
	}
	for _, want := range []string{`it had "CREATEDB"`, "its setting session_preload_libraries=auto_explain was not copied", "member of postgres", "member of pg_write_all_data"} {
		if all := strings.Join(notes, "\n"); !strings.Contains(all, want) {
			t.Errorf("%q is not in the notes: %s", want, all)
		}
	}
	fatal.If(t, to.Drop(t.Context(), "forged_stage"))
}

// TestDefinitionsHaveNoRights moves a database whose constraints, triggers and views call functions
// that try to run a program and to create an administrator. They run as a guest.
func TestDefinitionsHaveNoRights(t *testing.T) {
	dir := t.TempDir()
	fatal.If(t, os.Chmod(dir, 0o777))
	proof := filepath.Join(dir, "ran")
	s := fresh(t, "rights", fmt.Sprintf(`CREATE FUNCTION evil(n int) RETURNS boolean LANGUAGE plpgsql AS $f$ DECLARE sql text; BEGIN
		IF current_database() = 'rights' THEN RETURN true; END IF;
		FOREACH sql IN ARRAY ARRAY['RESET ROLE', 'RESET SESSION AUTHORIZATION', 'SET SESSION AUTHORIZATION postgres', 'COPY (SELECT 1) TO PROGRAM ''touch %s''', 'CREATE ROLE rights_evil SUPERUSER', 'ALTER ROLE postgres PASSWORD ''x'''] LOOP
			BEGIN EXECUTE sql; EXCEPTION WHEN OTHERS THEN NULL; END;
		END LOOP; RETURN true; END $f$;
	CREATE TABLE checked (n int CHECK (evil(n))); INSERT INTO checked VALUES (1), (2);
	CREATE DOMAIN d AS int CHECK (evil(VALUE)); CREATE TABLE of_domain (n d); INSERT INTO of_domain VALUES (1);
	CREATE MATERIALIZED VIEW seen AS SELECT evil(n) FROM checked;
	CREATE TABLE parent (n int PRIMARY KEY); INSERT INTO parent VALUES (1);
	CREATE FUNCTION on_row() RETURNS trigger LANGUAGE plpgsql AS $f$ BEGIN PERFORM evil(1); RETURN NEW; END $f$;
	CREATE TRIGGER always BEFORE INSERT ON parent FOR EACH ROW EXECUTE FUNCTION on_row(); ALTER TABLE parent ENABLE ALWAYS TRIGGER always;
	CREATE FUNCTION on_event() RETURNS event_trigger LANGUAGE plpgsql AS $f$ BEGIN PERFORM evil(1); END $f$;
	CREATE EVENT TRIGGER on_all ON ddl_command_end EXECUTE FUNCTION on_event()`, proof))
	d, p, _ := sealed(t, s)
	roles := func() string {
		return dbcases.SQL(t, now, "postgres", "SELECT string_agg(rolname || rolsuper || coalesce(rolpassword, ''), ' ' ORDER BY 1) FROM pg_authid")
	}
	before := roles()
	asked := ""
	p.Stage, p.Allow = "rights_stage", func(question string) error { asked += question; return fmt.Errorf("no") }
	to := server(t, now, "rights")
	notes, err := to.Stage(t.Context(), d, p)
	fatal.If(t, err)
	if _, err := os.Stat(proof); err == nil {
		t.Error("a program ran")
	}
	if after := roles(); after != before {
		t.Errorf("the roles were %s, are %s", before, after)
	}
	if !strings.Contains(asked, "CREATE EVENT TRIGGER on_all") || !strings.Contains(fmt.Sprint(notes), "the event trigger on_all was not created, because it needs an administrator") {
		t.Errorf("asked %q, notes %q", asked, notes)
	}
	if got := dbcases.SQL(t, now, "rights_stage", "SELECT count(*), (SELECT pg_get_userbyid(relowner) FROM pg_class WHERE relname = 'checked'), (SELECT count(*) FROM seen) FROM checked"); got != "2|postgres|2" {
		t.Errorf("the table has %s", got)
	}
	fatal.If(t, to.Drop(t.Context(), "rights_stage"))
	if got := dbcases.SQL(t, now, "postgres", "SELECT count(*) FROM pg_roles WHERE rolname LIKE 'movekit%'"); got != "0" {
		t.Errorf("%s temporary roles are left", got)
	}
}

// TestQueriesOfCards runs queries that would make an administrator with a function, view, operator or
// aggregate of the database, or do more than read. None runs; harmless ones do.
func TestQueriesOfCards(t *testing.T) {
	s := fresh(t, "queries", `CREATE TYPE pier AS ENUM ('north', 'south'); CREATE TABLE boat (n int, at pier, name text); INSERT INTO boat VALUES (1, 'north', 'Wagtail'), (2, 'south', 'Tern');
		CREATE FUNCTION evil() RETURNS int LANGUAGE plpgsql IMMUTABLE AS $f$ BEGIN EXECUTE 'RESET ROLE'; EXECUTE 'CREATE ROLE queries_evil SUPERUSER'; RETURN 1; EXCEPTION WHEN read_only_sql_transaction THEN RAISE 'it ran'; END $f$;
		CREATE FUNCTION "count"(pier) RETURNS bigint LANGUAGE sql IMMUTABLE AS 'SELECT public.evil()::bigint';
		CREATE FUNCTION same(pier, pier) RETURNS boolean LANGUAGE sql IMMUTABLE AS 'SELECT public.evil() = 1'; CREATE OPERATOR = (LEFTARG = pier, RIGHTARG = pier, FUNCTION = same);
		CREATE FUNCTION add(int, int) RETURNS int LANGUAGE sql IMMUTABLE AS 'SELECT public.evil()'; CREATE AGGREGATE total(int) (SFUNC = add, STYPE = int, INITCOND = '0');
		CREATE DOMAIN checked AS int CHECK (evil() = VALUE); CREATE VIEW v AS SELECT evil() AS n; CREATE VIEW w AS SELECT n FROM v`)
	for _, query := range []string{
		"SELECT evil()", "SELECT count(*) FROM boat WHERE n = evil()", "SELECT n FROM w", "SELECT count(*) FROM w", "SELECT count('north'::pier)", "SELECT count(*) FROM boat WHERE at = 'north'", "SELECT total(n) FROM boat", "SELECT count(*) FROM boat WHERE (at, n) = ('north'::pier, 1)",
		"SELECT count(*) FROM boat WHERE n = 1::checked", "SELECT count(*) FROM evil()", "SELECT count(*) FROM boat GROUP BY evil() LIMIT 1", "WITH x AS (SELECT evil()) SELECT count(*) FROM x", "SELECT coalesce((SELECT evil()), 1)", "SELECT count(*) OVER (ORDER BY evil()) FROM boat LIMIT 1", "SELECT count(*) FILTER (WHERE n = evil()) FROM boat", "SELECT count(*) FROM unnest(ARRAY[evil()])", "SELECT count(*) FROM boat WHERE at IN ('north', 'south')", "SELECT 1) AS a, (SELECT evil()",
		"SELECT lo_import('/etc/passwd')::bigint", "SELECT count(*) FROM pg_ls_dir('/')", "SELECT pg_terminate_backend(1)::int", "SELECT length(set_config('a.b', 'c', false))", "SELECT length(query_to_xml('SELECT public.evil()', true, true, '')::text)",
	} {
		if n, err := s.Ask(t.Context(), s.name, query); err == nil || strings.Contains(err.Error(), "it ran") {
			t.Errorf("%s: %d %v", query, n, err)
		}
		s.Close()
	}
	for query, want := range map[string]int64{"SELECT count(*) FROM boat": 2, "SELECT sum(n) FROM boat WHERE lower(name) LIKE '%ta%' AND n BETWEEN 1 AND 5": 1, "WITH x AS (SELECT n FROM public.boat) SELECT max(n) FROM x;": 2, "SELECT count(DISTINCT at::text) FROM boat": 2} {
		if n, err := s.Ask(t.Context(), s.name, query); n != want || err != nil {
			t.Errorf("%s: %d %v", query, n, err)
		}
	}
}

// TestUpdatesRunNothing changes texts in tables whose checks, indexes, triggers or columns call a function
// of the database. It is never called, because it would run as an administrator.
func TestUpdatesRunNothing(t *testing.T) {
	s := fresh(t, "updates", `CREATE TABLE ran (n int); CREATE FUNCTION evil(text) RETURNS text LANGUAGE plpgsql IMMUTABLE AS $f$ BEGIN IF $1 = 'new' THEN INSERT INTO public.ran VALUES (1); END IF; RETURN $1; END $f$;
		CREATE FUNCTION same(text, text) RETURNS boolean LANGUAGE sql IMMUTABLE AS 'SELECT public.evil($1) = public.evil($2)'; CREATE OPERATOR === (LEFTARG = text, RIGHTARG = text, FUNCTION = same);
		CREATE FUNCTION on_row() RETURNS trigger LANGUAGE plpgsql AS $f$ BEGIN PERFORM public.evil(NEW.p); RETURN NEW; END $f$;
		CREATE TABLE "check" (p text CHECK (evil(p) <> '')); CREATE TABLE operator (p text CHECK (p === p)); CREATE TABLE "index" (p text); CREATE INDEX ON "index" (evil(p)); CREATE TABLE partial (p text); CREATE INDEX ON partial (p) WHERE evil(p) <> 'x';
		CREATE TABLE generated (p text, q text GENERATED ALWAYS AS (evil(p)) STORED); CREATE DOMAIN d AS text CHECK (evil(VALUE) <> ''); CREATE DOMAIN e AS d; CREATE TABLE domain (p e); CREATE TABLE trigger (p text); CREATE TRIGGER t BEFORE UPDATE ON trigger FOR EACH ROW EXECUTE FUNCTION on_row(); ALTER TABLE trigger ENABLE ALWAYS TRIGGER t;
		CREATE TABLE plain (p text UNIQUE CHECK (length(p) > 0), q text DEFAULT evil('old')); CREATE TRIGGER t BEFORE UPDATE ON plain FOR EACH ROW EXECUTE FUNCTION on_row()`)
	for _, table := range []string{"check", "operator", "index", "partial", "generated", "domain", "trigger", "plain"} {
		dbcases.SQL(t, old, s.name, `INSERT INTO "`+table+`" (p) VALUES ('old')`)
		err := s.Rewrite(t.Context(), s.name, dbprint.Table{Name: `public."` + table + `"`}, "p", map[string]string{"old": "new"})
		got := dbcases.SQL(t, old, s.name, `SELECT p || (SELECT count(*) FROM ran) FROM "`+table+`"`)
		if table == "plain" && (err != nil || got != "new0") || table != "plain" && (fault.KindOf(err) != fault.ServerRefused || got != "old0") {
			t.Errorf("%s: %v %s", table, err, got)
		}
	}
}

// TestLoginWithTooManyRights asks for another login if the one given cannot load a database with fewer
// rights than it has.
func TestLoginWithTooManyRights(t *testing.T) {
	d, _, _ := sealed(t, fresh(t, "toomany", "CREATE TABLE a (n int)"))
	for rights, ok := range map[string]bool{"CREATEDB": true, "SUPERUSER": true, "CREATEDB CREATEROLE": false, "CREATEDB IN ROLE pg_execute_server_program": false, "CREATEDB IN ROLE postgres": false} {
		dbcases.SQL(t, now, "postgres", "DROP ROLE IF EXISTS toomany; CREATE ROLE toomany LOGIN "+rights)
		to := at(t, served.Server{Kind: card.PostgreSQL, Host: now.Dir, Port: now.Port, User: "toomany", Database: "toomany"})
		lacks, err := to.Lacks(t.Context(), "toomany", d)
		if to.Close(); err != nil || strings.Contains(fmt.Sprint(lacks), "rights beyond its own databases") == ok {
			t.Errorf("%s: %q %v", rights, lacks, err)
		}
	}
	dbcases.SQL(t, now, "postgres", "DROP ROLE toomany")
}
