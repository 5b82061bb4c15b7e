package test

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"movekit/internal/dbserver"
	"movekit/test/fatal"
	"movekit/test/lay"
)

// engine is a database engine under test.
type engine struct {
	kind    string
	start   func() (*dbserver.Server, error)
	login   string                                    // of the app's settings, besides the port
	host    func(*dbserver.Server) string             // as the settings name it
	name    func(*dbserver.Server, string) string     // of a database, as the settings name it
	admin   string                                    // a database to ask the server in
	create  func(*dbserver.Server, string) error      // makes a database
	there   func(*testing.T, *dbserver.Server) string // the databases, a line each
	streams int                                       // sealed files of a database
	tells   []string                                  // what unpack tells
}

var engines = []engine{
	{
		"postgresql", dbserver.Postgres, "user=postgres\npassword=s3cret-of-the-ledger\n", func(s *dbserver.Server) string { return s.Dir }, func(_ *dbserver.Server, name string) string { return name }, "postgres",
		func(s *dbserver.Server, name string) error {
			_, err := s.SQL("postgres", "CREATE DATABASE "+name)
			return err
		},
		func(t *testing.T, s *dbserver.Server) string {
			return query(t, s, "postgres", "SELECT datname FROM pg_database WHERE NOT datistemplate AND datname <> 'postgres'")
		}, 3, []string{"role pontoon_app was created on the new server without a password"},
	},
	{
		"mariadb", dbserver.MariaDB, "user=pontoon\npassword=s3cret-of-the-ledger\n", func(s *dbserver.Server) string { return s.Socket }, func(_ *dbserver.Server, name string) string { return name }, "mysql",
		func(s *dbserver.Server, name string) error {
			_, err := s.SQL("mysql", "CREATE DATABASE "+name+"; CREATE USER IF NOT EXISTS pontoon IDENTIFIED BY 's3cret-of-the-ledger'; GRANT ALL ON *.* TO pontoon WITH GRANT OPTION")
			return err
		},
		func(t *testing.T, s *dbserver.Server) string {
			return query(t, s, "mysql", "SELECT schema_name FROM information_schema.schemata WHERE schema_name NOT IN ('mysql', 'sys', 'performance_schema', 'information_schema')")
		}, 2, nil,
	},
	{
		"firebird", dbserver.Firebird, "user=" + dbserver.FirebirdUser + "\npassword=" + dbserver.FirebirdPassword + "\n", func(*dbserver.Server) string { return "127.0.0.1" }, func(s *dbserver.Server, name string) string { return s.Path(name) }, "",
		(*dbserver.Server).Create,
		func(_ *testing.T, s *dbserver.Server) string {
			files, _ := filepath.Glob(s.Path("*"))
			for i, f := range files {
				files[i] = strings.TrimSuffix(filepath.Base(f), ".fdb")
			}
			return strings.Join(files, "\n")
		}, 2, nil,
	},
}

// each runs a test for every installed engine. With CI=true all must be installed.
func each(t *testing.T, run func(t *testing.T, e engine)) {
	t.Parallel()
	for _, e := range engines {
		t.Run(e.kind, func(t *testing.T) {
			t.Parallel()
			run(t, e)
		})
	}
}

// servers starts an old and a new server.
func (e engine) servers(t *testing.T) (old, now *dbserver.Server) {
	t.Helper()
	for _, s := range []**dbserver.Server{&old, &now} {
		var err error
		if *s, err = e.start(); err != nil {
			if errors.Is(err, dbserver.ErrMissing) && os.Getenv("CI") != "true" {
				t.Skip(err)
			}
			t.Fatal(err)
		}
		t.Cleanup((*s).Stop)
	}
	return old, now
}

// query returns the result of a statement, without the heading that one client prints.
func query(t *testing.T, s *dbserver.Server, database, text string) string {
	t.Helper()
	out, err := s.SQL(database, text)
	fatal.If(t, err)
	if _, below, headed := strings.Cut(out, "===="); headed {
		out = strings.TrimLeft(below, "= \n")
	}
	return strings.TrimSpace(out)
}

func (e engine) newDatabase(t *testing.T, s *dbserver.Server, name, sql string) {
	t.Helper()
	fatal.If(t, e.create(s, name))
	query(t, s, name, sql)
}

// accounts is a table of 300 rows, and one that takes a while to load.
func accounts() string {
	var b strings.Builder
	b.WriteString("CREATE TABLE account (id INTEGER NOT NULL PRIMARY KEY, name VARCHAR(40), phone VARCHAR(20), unsent INTEGER);\nCREATE TABLE pad (i INTEGER, x VARCHAR(400));\nCOMMIT;\n")
	for i := range 300 {
		fmt.Fprintf(&b, "INSERT INTO account VALUES (%d, 'boat %d', '0%d', 0);\n", i+1, i+1, i+1)
	}
	b.WriteString("COMMIT;\n")
	for i := range 40 {
		fmt.Fprintf(&b, "INSERT INTO pad VALUES (%d, '%s');\n", i, strings.Repeat("mooring ", 1+i))
	}
	for n := 40; n < 5000; n *= 2 {
		fmt.Fprintf(&b, "INSERT INTO pad SELECT i + %d, x FROM pad;\n", n)
	}
	return strings.Replace(b.String(), "COMMIT;\nINSERT INTO account", "COMMIT;\nSTART;\nINSERT INTO account", 1) + "COMMIT;\n"
}

// all returns the rows of the accounts.
func all(t *testing.T, s *dbserver.Server, database string) string {
	t.Helper()
	return query(t, s, database, "SELECT name, phone, unsent FROM account ORDER BY id;")
}

// theirs returns the number of databases that have the existing data.
func (e engine) theirs(t *testing.T, s *dbserver.Server) (n int) {
	t.Helper()
	for _, name := range strings.Fields(e.there(t, s)) {
		if _, err := s.SQL(name, "SELECT count(*) FROM theirs;"); err == nil {
			n++
		}
	}
	return n
}

// count returns one number.
func count(t *testing.T, s *dbserver.Server, database, what string) string {
	t.Helper()
	return query(t, s, database, "SELECT count(*) FROM "+what+";")
}

// ledgerOffice creates two computers whose settings name their own server.
func ledgerOffice(t *testing.T, e engine) (dir string, old, now *dbserver.Server) {
	t.Helper()
	old, now = e.servers(t)
	dir = t.TempDir()
	ini := func(s *dbserver.Server) string {
		return fmt.Sprintf("[db]\nhost=%s\nport=%s\nname=%s\n%s", e.host(s), s.Port, e.name(s, "ledger"), e.login)
	}
	lay.Out(t, dir, map[string]string{
		"old/computer.yaml": "name: OLD\nsystem: linux\nhardware-id: h-old\n", "new/computer.yaml": "name: NEW\nsystem: linux\nhardware-id: h-new\n",
		"old/etc/pontoon.ini": ini(old), "new/etc/pontoon.ini": ini(now),
		"ledger.yaml": strings.ReplaceAll(`card: 1
name: pontoon
title: Pontoon Ledger
programs: [pontoon]
items:
  - name: ledger
    kind: KIND
    server:
      host: {file: /etc/pontoon.ini, key: db/host}
      port: {file: /etc/pontoon.ini, key: db/port}
      database: {file: /etc/pontoon.ini, key: db/name}
      user: {file: /etc/pontoon.ini, key: db/user}
      password: {file: /etc/pontoon.ini, key: db/password}
    mask: [account.phone]
    counts: [{name: accounts, query: SELECT count(*) FROM account}]
sync: [{about: bookings, item: ledger, query: SELECT count(*) FROM account WHERE unsent = 1}]
`, "KIND", e.kind),
	})
	sql := accounts()
	switch e.kind {
	case "postgresql":
		query(t, old, "postgres", "CREATE ROLE pontoon_app LOGIN PASSWORD 'x'")
		sql = strings.Replace(strings.Replace(sql, "COMMIT;\nSTART;", "ALTER TABLE account OWNER TO pontoon_app;\nBEGIN;", 1), "COMMIT;\nINSERT INTO pad", "INSERT INTO pad", 1)
	case "mariadb":
		sql = strings.Replace(sql, "START;", "SET autocommit=0;", 1)
	case "firebird":
		sql = strings.Replace(sql, "START;", "", 1)
	}
	e.newDatabase(t, old, "ledger", sql)
	must(t, 0, dir, "new", "kit", "--root", "old", "--cards", "ledger.yaml", "--to", "NEW", "--yes")
	return dir, old, now
}

func TestServedMove(t *testing.T) { each(t, servedMove) }

func servedMove(t *testing.T, e engine) {
	dir, old, now := ledgerOffice(t, e)
	query(t, old, "ledger", "UPDATE account SET unsent = 1 WHERE id = 3; COMMIT;")
	if s := step(t, 0, dir, "old", "survey"); !strings.Contains(s.out, "2 tables") || !strings.Contains(s.out, "1 record still to be sent") || strings.Contains(s.out, "s3cret") {
		t.Errorf("survey: %s%s", s.out, s.err)
	}
	query(t, old, "ledger", "UPDATE account SET unsent = 0; COMMIT;")
	before := all(t, old, "ledger")
	first := step(t, 0, dir, "old", "pack")
	// Later edits are detected, and edits that were reverted are not.
	if s := step(t, 0, dir, "old", "survey"); !strings.Contains(s.out, "unchanged since the pack") {
		t.Errorf("survey after the pack: %s%s", s.out, s.err)
	}
	query(t, old, "ledger", "UPDATE account SET phone = 'a phone of 7' WHERE id = 7; COMMIT;")
	if s := step(t, 0, dir, "old", "survey"); !strings.Contains(s.out, "changed: ledger, since the pack") || !strings.Contains(strings.ToLower(s.out), "id 7: phone was") || strings.Contains(s.out, "a phone of 7") {
		t.Errorf("survey of what is worked in: %s%s", s.out, s.err)
	}
	query(t, old, "ledger", "UPDATE account SET phone = '07' WHERE id = 7; COMMIT;")
	if s := step(t, 0, dir, "old", "survey", "--thorough"); !strings.Contains(s.out, "unchanged since the pack") {
		t.Errorf("survey of what was undone: %s%s", s.out, s.err)
	}
	// Every sealed file belongs to the kit, and damage to any of them is detected.
	if s := must(t, 0, dir, "inspect", "--kit", "kit"); strings.Contains(s.out, "not part of the kit") {
		t.Errorf("inspect: %s", s.out)
	}
	sealed, _ := filepath.Glob(filepath.Join(dir, "kit/sealed/pontoon/ledger.*"))
	if len(sealed) != e.streams {
		t.Errorf("sealed: %v", sealed)
	}
	for _, name := range sealed {
		data, _ := os.ReadFile(name)
		data[len(data)/2] ^= 1
		os.WriteFile(name, data, 0o644)
		must(t, 1, dir, "inspect", "--kit", "kit")
		data[len(data)/2] ^= 1
		os.WriteFile(name, data, 0o644)
	}
	e.newDatabase(t, now, "ledger", "CREATE TABLE theirs (n INTEGER); COMMIT;")
	if s := step(t, 0, dir, "new", "ready"); !strings.Contains(s.out, "there is other existing data") {
		t.Errorf("on the new one: %s", s.out)
	}
	u := step(t, 0, dir, "new", "unpack")
	for _, want := range append(e.tells, "ledger_set_aside_") {
		if !strings.Contains(u.out, want) {
			t.Errorf("unpack does not say %q: %s", want, u.out)
		}
	}
	if all(t, now, "ledger") != before {
		t.Error("the rows are not the same")
	}
	aside := ""
	for _, name := range strings.Fields(e.there(t, now)) {
		if strings.HasPrefix(name, "ledger_set") {
			aside = name
		}
	}
	if count(t, now, aside, "theirs") != "0" {
		t.Error("existing data lost")
	}
	if got := e.there(t, now); strings.Contains(got, "stage") {
		t.Errorf("staged databases were left: %s", got)
	}
	if s := step(t, 0, dir, "new", "verify"); !strings.Contains(s.out, "accounts") || !strings.Contains(s.out, "300") {
		t.Errorf("verify: %s", s.out)
	}
	if s := step(t, 0, dir, "new", "unpack"); !strings.Contains(s.out, "already the same") {
		t.Errorf("again: %s", s.out)
	}
	query(t, now, "ledger", "UPDATE account SET phone = '999', name = 'other' WHERE id = 7; DELETE FROM account WHERE id = 8; COMMIT;")
	if s := step(t, 3, dir, "new", "verify"); !strings.Contains(strings.ToLower(s.out), "id 7: name was boat 7, is other; phone was •••, is •••") || !strings.Contains(strings.ToLower(s.out), "id 8: the row is missing") {
		t.Errorf("verify: %s", s.out)
	}
	step(t, 0, dir, "new", "unpack", "--existing", "keep-both")
	if count(t, now, "ledger_from_OLD", "account") != "300" || count(t, now, "ledger", "account") != "299" {
		t.Error("keep-both")
	}
	// Data that was modified beside the other one is not lost if it is unpacked again.
	query(t, now, "ledger_from_OLD", "UPDATE account SET name = 'worked in' WHERE id = 1; COMMIT;")
	step(t, 0, dir, "new", "unpack", "--existing", "keep-both")
	worked := 0
	for _, name := range strings.Fields(e.there(t, now)) {
		if strings.HasPrefix(name, "ledger_from_OLD") && count(t, now, name, "account WHERE name = 'worked in'") == "1" {
			worked++
		}
	}
	if worked != 1 || count(t, now, "ledger_from_OLD", "account") != "300" {
		t.Errorf("what was worked in is there %d times", worked)
	}
	if all(t, old, "ledger") != before {
		t.Error("the old database was changed")
	}
	secrets := []string{"s3cret", dbserver.FirebirdPassword}
	filepath.WalkDir(filepath.Join(dir, "kit"), func(path string, f os.DirEntry, _ error) error {
		if data, err := os.ReadFile(path); err == nil && (strings.Contains(string(data), secrets[0]) || strings.Contains(string(data), secrets[1])) {
			t.Errorf("%s tells the password", path)
		}
		return nil
	})
	for _, secret := range secrets {
		if strings.Contains(first.out+first.err+u.out+u.err, secret) {
			t.Error("the screen tells the password")
		}
	}
}

// TestServedFaults stops servers, and kills the program, in the middle of the steps. The same
// command then succeeds.
func TestServedFaults(t *testing.T) { each(t, servedFaults) }

func servedFaults(t *testing.T, e engine) {
	dir, old, now := ledgerOffice(t, e)
	old.Halt()
	s := step(t, 4, dir, "old", "pack")
	if !strings.Contains(s.err, "does not answer") || strings.Contains(s.err, "s3cret") {
		t.Errorf("with the server down: %s", s.err)
	}
	fatal.If(t, old.Start())
	step(t, 0, dir, "old", "pack")
	old.Halt()
	if s := step(t, 5, dir, "old", "survey"); !strings.Contains(s.out, "unknown whether ledger changed since the pack") || strings.Contains(s.out, "no longer exists") {
		t.Errorf("whether it changed, with the server down: %s", s.out)
	}
	fatal.If(t, old.Start())
	e.newDatabase(t, now, "ledger", "CREATE TABLE theirs (n INTEGER); COMMIT;")
	// Killed at moments of the unpack, first early and then later.
	for _, wait := range []time.Duration{200, 400, 600, 800, 1100} {
		cmd := command(t.Context(), dir, "unpack", "--kit", "kit", "--root", "new")
		fatal.If(t, cmd.Start())
		time.Sleep(wait * time.Millisecond)
		cmd.Process.Kill()
		cmd.Wait()
	}
	now.Halt()
	if s := run(t, dir, "unpack", "--kit", "kit", "--root", "new"); s.code != 4 || !strings.Contains(s.err, "destination-ready: the server of "+string(e.kind)) || !strings.Contains(s.err, "does not answer") {
		t.Errorf("with the new server down: %d %s", s.code, s.err)
	}
	fatal.If(t, now.Start())
	step(t, 0, dir, "new", "unpack")
	step(t, 0, dir, "new", "verify")
	if theirs := e.theirs(t, now); theirs != 1 || count(t, now, "ledger", "account") != "300" {
		t.Errorf("existing data there %d times: %s", theirs, e.there(t, now))
	}
}

// TestPulledDrive checks that the settings of a pulled drive do not lead to the server of the
// computer that it is attached to.
func TestPulledDrive(t *testing.T) {
	t.Parallel()
	dir, old, _ := ledgerOffice(t, engines[0])
	os.Remove(filepath.Join(dir, "old/computer.yaml"))
	lay.Out(t, dir, map[string]string{"old/etc/hostname": "OLD", "old/etc/machine-id": "h-old"})
	for _, host := range []string{old.Dir, "localhost", "127.0.0.1", ""} {
		lay.Out(t, dir, map[string]string{"old/etc/pontoon.ini": fmt.Sprintf("[db]\nhost=%s\nport=%s\nname=ledger\nuser=postgres\n", host, old.Port)})
		if s := step(t, 5, dir, "old", "survey"); !strings.Contains(s.out, "can only be read by a running server") || strings.Contains(s.out, "2 tables") {
			t.Errorf("%q: %s", host, s.out)
		}
	}
}

// TestServedPathUpdates updates paths in columns of a server's database: shown first, distinguished
// from later edits, restored by undo, and not changed if a trigger would run.
func TestServedPathUpdates(t *testing.T) { each(t, servedRepoint) }

func servedRepoint(t *testing.T, e engine) {
	dir, old, now := ledgerOffice(t, e)
	query(t, old, "ledger", "CREATE TABLE recent (id INTEGER NOT NULL PRIMARY KEY, path VARCHAR(200), note VARCHAR(200), seen INTEGER); COMMIT;")
	query(t, old, "ledger", "INSERT INTO recent VALUES (1, '/home/maren/Documents/a.tide', 'x', 0); INSERT INTO recent VALUES (2, '/srv/else', NULL, 0); INSERT INTO recent VALUES (3, 'file:///home/maren/Kai%20Nord/b.tide', '/home/maren/x', 0); INSERT INTO recent VALUES (4, NULL, NULL, 0); INSERT INTO recent VALUES (5, '/home/maren/Documents/a.tide', 'y', 0); COMMIT;")
	card, err := os.ReadFile(filepath.Join(dir, "ledger.yaml"))
	fatal.If(t, err)
	lay.Out(t, dir, map[string]string{
		"old/etc/passwd": "maren:x:1000:1000::/home/maren:/bin/sh\n", "old/home/maren/x": "", "new/etc/passwd": "maren.holm:x:1000:1000::/home/maren.holm:/bin/sh\n", "new/home/maren.holm/x": "",
		"paths.yaml": strings.Replace(string(card), "    mask:", "    update-paths: [recent.path]\n    mask:", 1),
	})
	on := func(code int, args ...string) said {
		t.Helper()
		return must(t, code, dir, append(args, "--kit", "paths", "--root", "new")...)
	}
	paths := func() string {
		return strings.Join(strings.Fields(query(t, now, "ledger", "SELECT id, path FROM recent WHERE path IS NOT NULL ORDER BY id;")), " ")
	}
	moved := func() bool { return strings.Count(paths(), "/home/maren.holm/Documents/a.tide") == 2 }
	e.newDatabase(t, now, "other", "CREATE TABLE theirs (n INTEGER); COMMIT;")
	must(t, 0, dir, "new", "paths", "--root", "old", "--cards", "paths.yaml", "--to", "NEW", "--yes")
	must(t, 0, dir, "pack", "--kit", "paths", "--root", "old")
	on(5, "unpack", "--user", "maren=maren.holm").tells(t, "contain paths that must be updated")
	s := on(0, "unpack", "--yes")
	for _, want := range []string{"-/home/maren/Documents/a.tide", "+/home/maren.holm/Documents/a.tide", "+file:///home/maren.holm/Kai%20Nord/b.tide"} {
		if !strings.Contains(s.err, want) {
			t.Errorf("the difference has no %q: %s", want, s.err)
		}
	}
	if !moved() || !strings.Contains(paths(), "/srv/else") || count(t, now, "ledger", "recent WHERE note = '/home/maren/x'") != "1" {
		t.Errorf("%s", paths())
	}
	if v := on(0, "verify", "--verbose"); !strings.Contains(v.out, "updated paths") {
		t.Errorf("verify: %s", v.out)
	}
	if s := on(0, "unpack"); !strings.Contains(s.out, "already the same") {
		t.Errorf("again: %s", s.out)
	}
	query(t, now, "ledger", "UPDATE recent SET seen = 1 WHERE id = 3; COMMIT;")
	if v := on(3, "verify"); !strings.Contains(strings.ToLower(v.out), "id 3: ") || strings.Contains(strings.ToLower(v.out), "id 1: ") {
		t.Errorf("a row that somebody changed too: %s", v.out)
	}
	query(t, now, "ledger", "UPDATE recent SET seen = 0 WHERE id = 3; UPDATE recent SET path = '/home/else/a.tide' WHERE id = 1; COMMIT;")
	if v := on(3, "verify"); !strings.Contains(strings.ToLower(v.out), "id 1: ") || strings.Contains(strings.ToLower(v.out), "id 5: ") {
		t.Errorf("a path that somebody changed: %s", v.out)
	}
	query(t, now, "ledger", "UPDATE recent SET path = '/home/maren.holm/Documents/a.tide' WHERE id = 1; COMMIT;")
	on(0, "verify")
	on(0, "undo", "--yes")
	if got := e.there(t, now); strings.Contains(got, "ledger") {
		t.Errorf("undone: %s", got)
	}
	if on(0, "unpack", "--keep-paths"); moved() {
		t.Errorf("were not updated: %s", paths())
	}
	on(0, "verify")
	on(0, "undo", "--yes")
	// A trigger would change more. Only PostgreSQL can keep it from running.
	query(t, old, "ledger", map[string]string{
		"postgresql": "CREATE FUNCTION seen() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN NEW.seen := 1; RETURN NEW; END'; CREATE TRIGGER seen BEFORE UPDATE ON recent FOR EACH ROW EXECUTE FUNCTION seen()",
		"mariadb":    "CREATE TRIGGER seen BEFORE UPDATE ON recent FOR EACH ROW SET NEW.seen = 1",
		"firebird":   "SET TERM ^; CREATE TRIGGER seen FOR recent BEFORE UPDATE AS BEGIN NEW.seen = 1; END^ SET TERM ;^ COMMIT;",
	}[e.kind])
	must(t, 0, dir, "pack", "--kit", "paths", "--root", "old")
	s = on(0, "unpack", "--yes")
	if e.kind == "postgresql" != moved() || e.kind != "postgresql" && !strings.Contains(s.out+s.err, "it has the trigger") {
		t.Errorf("with a trigger: %s\n%s", paths(), s.out)
	}
	on(0, "verify")
	if got := e.there(t, now); strings.Contains(got, "stage") {
		t.Errorf("staged databases were left: %s", got)
	}
}

// TestServedServerKilled kills the server itself while the program packs, unpacks and verifies: each says that the server is gone,
// nothing half done counts as done, and the same command succeeds when the server is back.
func TestServedServerKilled(t *testing.T) { each(t, servedServerKilled) }

func servedServerKilled(t *testing.T, e engine) {
	dir, old, now := ledgerOffice(t, e)
	whole := map[string]time.Duration{}
	timed := func(code int, side, name string) {
		t.Helper()
		begun := time.Now()
		step(t, code, dir, side, name)
		whole[name] = time.Since(begun)
	}
	killed := func(s *dbserver.Server, side, name string) {
		t.Helper()
		for _, part := range []time.Duration{40, 60, 80} { // percent of the time that it takes
			cmd := command(t.Context(), dir, name, "--kit", "kit", "--root", side)
			var said bytes.Buffer
			cmd.Stderr = &said
			fatal.If(t, cmd.Start())
			time.Sleep(whole[name] * part / 100)
			fatal.If(t, s.Halt())
			err := cmd.Wait()
			fatal.If(t, s.Start())
			if err != nil && !strings.Contains(said.String(), "does not answer") && !strings.Contains(said.String(), "was lost") && !strings.Contains(said.String(), "says:") && !strings.Contains(said.String(), "gbak failed") {
				t.Errorf("%s without its server: %s", name, said.String())
			}
			if strings.Contains(said.String(), "s3cret") {
				t.Errorf("the password is shown: %s", said.String())
			}
		}
	}
	e.newDatabase(t, now, "other", "CREATE TABLE theirs (n INTEGER); COMMIT;") // and the login
	timed(0, "old", "pack")
	query(t, old, "ledger", "UPDATE account SET phone = '0999' WHERE id = 7; COMMIT;")
	killed(old, "old", "pack")
	step(t, 0, dir, "old", "pack")
	must(t, 0, dir, "inspect", "--kit", "kit")
	timed(0, "new", "unpack")
	step(t, 0, dir, "new", "undo", "--yes")
	killed(now, "new", "unpack")
	step(t, 0, dir, "new", "unpack")
	timed(0, "new", "verify")
	killed(now, "new", "verify")
	step(t, 0, dir, "new", "verify")
	if there := e.there(t, now); strings.Contains(there, "stage") || count(t, now, "ledger", "account WHERE phone = '0999'") != "1" {
		t.Errorf("on the new server: %s", there)
	}
}
