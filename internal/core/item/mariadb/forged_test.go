//go:build unix

package mariadb

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"movekit/internal/core/fault"
	"movekit/internal/core/item/mariadb/schema"
	"movekit/test/dbcases"
	"movekit/test/fatal"
)

// TestNothingBeyondTheDatabase forges the statements of a sealed database, as somebody with the kit's
// passphrase could. Users, rights, settings, files and other databases of the server stay the same.
func TestNothingBeyondTheDatabase(t *testing.T) {
	s := fresh(t, "forged", "CREATE TABLE a (n int PRIMARY KEY); INSERT INTO a VALUES (1); CREATE VIEW v AS SELECT n FROM a; CREATE FUNCTION f() RETURNS int DETERMINISTIC RETURN 1")
	real, p, rows := sealed(t, s)
	dir := t.TempDir()
	fatal.If(t, os.Chmod(dir, 0o777))
	file := filepath.Join(dir, "out")
	dbcases.SQL(t, now, "mysql", "CREATE DATABASE IF NOT EXISTS victim; CREATE TABLE IF NOT EXISTS victim.t (n int); CREATE DATABASE IF NOT EXISTS forgedXstage")
	state := func() string {
		return dbcases.SQL(t, now, "mysql", "SELECT group_concat(user, '@', host, ' ' ORDER BY 1) FROM mysql.user") + dbcases.SQL(t, now, "mysql", "SELECT group_concat(grantee, privilege_type ORDER BY 1) FROM information_schema.user_privileges") +
			dbcases.SQL(t, now, "mysql", "SELECT @@global.max_connections, @@global.event_scheduler") + dbcases.SQL(t, now, "mysql", "SELECT group_concat(schema_name ORDER BY 1) FROM information_schema.schemata") +
			dbcases.SQL(t, now, "mysql", "SELECT count(*) FROM victim.t") + dbcases.SQL(t, now, "mysql", "SELECT group_concat(table_schema, '.', table_name ORDER BY 1) FROM information_schema.tables WHERE table_schema IN ('victim', 'forgedXstage', 'mysql')")
	}
	before := state()
	to := openAt(t, server(now, "forged"))
	for i, evil := range []string{
		"GRANT ALL PRIVILEGES ON *.* TO 'evil'@'%' IDENTIFIED BY 'x'", "CREATE USER evil", "SET GLOBAL max_connections = 7", "SELECT 'x' INTO OUTFILE '" + file + "'", "INSERT INTO victim.t VALUES (1)", "DROP DATABASE victim",
		"CREATE TABLE victim.other (n int)", "CREATE TABLE forgedXstage.t (n int)", "INSTALL SONAME 'x'", "CREATE FUNCTION x RETURNS STRING SONAME 'x.so'", "CREATE EVENT victim.e ON SCHEDULE EVERY 1 SECOND DO DELETE FROM victim.t",
		"CREATE VIEW v2 AS SELECT * FROM mysql.user", "CREATE TRIGGER victim.tr BEFORE INSERT ON victim.t FOR EACH ROW SET NEW.n = 0", "GRANT SELECT ON forged_stage.* TO 'evil'@'%'", "LOAD DATA INFILE '/etc/passwd' INTO TABLE a",
	} {
		for where, forge := range map[string]func(d *schema.Sealed){
			"table": func(d *schema.Sealed) { d.Make = append(d.Make, schema.Make{Name: "x", SQL: evil}) },
			"afterwards": func(d *schema.Sealed) {
				d.Make = append(d.Make, schema.Make{Name: "x", SQL: "CREATE TABLE x (n int)", After: evil})
			},
			"definition": func(d *schema.Sealed) {
				d.Defined = append(d.Defined, schema.Object{Sort: "FUNCTION", Name: "x", SQL: evil})
			},
			"database": func(d *schema.Sealed) { d.Charset = "utf8mb4; " + evil },
			"definer": func(d *schema.Sealed) {
				d.Defined = []schema.Object{{Sort: "VIEW", Name: "x", SQL: "CREATE VIEW x AS SELECT 1", Definer: "root@localhost " + evil}}
			},
			"session": func(d *schema.Sealed) {
				d.Defined = []schema.Object{{Sort: "VIEW", Name: "x", SQL: "CREATE VIEW x AS SELECT 1", Charset: "utf8; " + evil}}
			},
		} {
			d := *real
			d.Make, d.Defined = append([]schema.Make(nil), d.Make...), append([]schema.Object(nil), d.Defined...)
			forge(&d)
			p.Stage, p.Rows = "forged_stage", func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(rows)), nil }
			notes, err := to.Stage(t.Context(), &d, p)
			if err == nil && (where != "definition" || !strings.Contains(fmt.Sprint(notes), "was not created, because it needs rights outside its database")) {
				t.Errorf("%d, %s: it was loaded: %q", i, where, notes)
			}
			if err == nil {
				fatal.If(t, to.Drop(t.Context(), "forged_stage"))
			}
			if _, err := os.Stat(file); err == nil {
				t.Errorf("%d, %s: a file was written", i, where)
				os.Remove(file)
			}
			if after := state(); after != before {
				t.Fatalf("%d, %s: the server was\n%s\nis\n%s", i, where, before, after)
			}
		}
	}
}

// TestQueriesOfCards runs queries that call a function of the database, or do more than read. None runs;
// harmless ones do.
func TestQueriesOfCards(t *testing.T) {
	s := fresh(t, "queries", "CREATE TABLE boat (n int, name varchar(20)); INSERT INTO boat VALUES (1, 'Wagtail'), (2, 'Tern'); CREATE TABLE ran (n int); CREATE SEQUENCE q;"+
		"CREATE FUNCTION evil() RETURNS int RETURN (SELECT count(*) FROM ran) + sleep(0); CREATE FUNCTION `count`(n int) RETURNS int RETURN 7; CREATE VIEW v AS SELECT evil() AS n; CREATE VIEW w AS SELECT n FROM v")
	file := filepath.Join(t.TempDir(), "out")
	o := openAt(t, s)
	for _, query := range []string{
		"SELECT evil()", "SELECT `evil`()", "SELECT evil ()", "SELECT queries.evil()", "SELECT queries . count(1)", "SELECT queries.`count`(1)", "SELECT count (n) FROM boat", "SELECT count(*) FROM w", "SELECT n FROM V", "SELECT n FROM `w`", "SELECT n FROM queries.w", "WITH x AS (SELECT evil() AS n) SELECT count(*) FROM x",
		"SELECT 1 INTO OUTFILE '" + file + "'", "SELECT 1) a UNION (SELECT 2 INTO OUTFILE '" + file + "'", "SELECT 1 /*!50000 INTO OUTFILE '" + file + "' */", "SELECT length(load_file('/etc/passwd'))", "SELECT nextval(q)", "SELECT NEXT VALUE FOR q", "SELECT n FROM boat WHERE n = 1 FOR UPDATE", "SELECT count(*) FROM boat WHERE name = '\\' OR n = evil() OR name = '\\'", "SELECT @x := 1", "DELETE FROM boat", "SELECT 1; DELETE FROM boat", "SELECT 1 # x", "SELECT 1 -- x", "SELECT 1 LOCK IN SHARE MODE", "SELECT count(*) FROM boat WHERE name = _utf8'x'", "SELECT (1", "SELECT 1)",
	} {
		if n, err := o.Ask(t.Context(), s.Database, query); fault.KindOf(err) != fault.BadCard {
			t.Errorf("%s: %d %v", query, n, err)
		}
	}
	for query, want := range map[string]int64{"SELECT count(*) FROM boat": 2, "SELECT sum(n) FROM boat WHERE lower(name) LIKE '%ta%' AND (n BETWEEN 1 AND 5 OR n IN (7, 8));": 1, "WITH x AS (SELECT n FROM queries.boat) SELECT max(n) FROM x": 2, "SELECT COUNT(DISTINCT name) FROM boat WHERE name <> 'it''s'": 2} {
		if n, err := o.Ask(t.Context(), s.Database, query); n != want || err != nil {
			t.Errorf("%s: %d %v", query, n, err)
		}
	}
}

// TestLoginWithTooManyRights asks for another login if the one given cannot load a database with fewer
// rights than it has.
func TestLoginWithTooManyRights(t *testing.T) {
	d, _, _ := sealed(t, fresh(t, "toomany", "CREATE TABLE a (n int)"))
	for grant, ok := range map[string]bool{"ALL ON *.* TO toomany": false, "CREATE, FILE ON *.* TO toomany": false, "ALL ON *.* TO toomany WITH GRANT OPTION": true, "ALL ON toomany.* TO toomany": true} {
		dbcases.SQL(t, now, "mysql", "CREATE OR REPLACE USER toomany; GRANT "+grant)
		s := server(now, "toomany")
		s.User = "toomany"
		lacks, err := openAt(t, s).Lacks(t.Context(), "toomany", d)
		if err != nil || strings.Contains(fmt.Sprint(lacks), "has rights on all databases") == ok {
			t.Errorf("%s: %q %v", grant, lacks, err)
		}
	}
	dbcases.SQL(t, now, "mysql", "DROP USER toomany")
}
