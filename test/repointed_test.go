package test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"movekit/test/lay"
)

// TestServedRepoint has columns of a server's database say where things are now: shown first,
// told apart from what somebody changes, given back by undo, and left alone where a trigger
// would run.
func TestServedRepoint(t *testing.T) { each(t, servedRepoint) }

func servedRepoint(t *testing.T, e engine) {
	dir, old, now := ledgerOffice(t, e)
	query(t, old, "ledger", "CREATE TABLE recent (id INTEGER NOT NULL PRIMARY KEY, path VARCHAR(200), note VARCHAR(200), seen INTEGER); COMMIT;")
	query(t, old, "ledger", "INSERT INTO recent VALUES (1, '/home/maren/Documents/a.tide', 'x', 0); INSERT INTO recent VALUES (2, '/srv/else', NULL, 0); INSERT INTO recent VALUES (3, 'file:///home/maren/Kai%20Nord/b.tide', '/home/maren/x', 0); INSERT INTO recent VALUES (4, NULL, NULL, 0); INSERT INTO recent VALUES (5, '/home/maren/Documents/a.tide', 'y', 0); COMMIT;")
	card, err := os.ReadFile(filepath.Join(dir, "ledger.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	lay.Out(t, dir, map[string]string{
		"old/etc/passwd": "maren:x:1000:1000::/home/maren:/bin/sh\n", "old/home/maren/x": "", "new/etc/passwd": "maren.holm:x:1000:1000::/home/maren.holm:/bin/sh\n", "new/home/maren.holm/x": "",
		"paths.yaml": strings.Replace(string(card), "    mask:", "    repoint: [recent.path]\n    mask:", 1),
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
	on(5, "unpack", "--user", "maren=maren.holm").tells(t, "are to be changed to where things are")
	s := on(0, "unpack", "--yes")
	for _, want := range []string{"-/home/maren/Documents/a.tide", "+/home/maren.holm/Documents/a.tide", "+file:///home/maren.holm/Kai%20Nord/b.tide"} {
		if !strings.Contains(s.err, want) {
			t.Errorf("the difference has no %q: %s", want, s.err)
		}
	}
	if !moved() || !strings.Contains(paths(), "/srv/else") || count(t, now, "ledger", "recent WHERE note = '/home/maren/x'") != "1" {
		t.Errorf("%s", paths())
	}
	if v := on(0, "verify", "--details"); !strings.Contains(v.out, "3 paths") {
		t.Errorf("verify: %s", v.out)
	}
	if s := on(0, "unpack"); !strings.Contains(s.out, "the same already") {
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
	if on(0, "unpack", "--no-repoint"); moved() {
		t.Errorf("left as they were: %s", paths())
	}
	on(0, "verify")
	on(0, "undo", "--yes")
	// A trigger would do more than that: only PostgreSQL can keep it from running.
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
