package test

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"movekit/test/fatal"
	"movekit/test/lay"
)

// exportOffice has an app that exports one file per account.
func exportOffice(t *testing.T, exports string) string {
	t.Helper()
	dir := t.TempDir()
	lay.Out(t, dir, map[string]string{
		"old/computer.yaml": "name: OLD\nsystem: linux\nhardware-id: h-old\n", "new/computer.yaml": "name: NEW\nsystem: linux\nhardware-id: h-new\n", "new/srv/x": "",
		"old/srv/out/account 1.pox": "1", "old/srv/out/sub/account 2.pox": "2", "old/srv/out/readme.txt": "x",
		"card.yaml": `card: 1
name: pontoon
title: Pontoon Ledger
items:
  - {name: data, kind: sqlite, path: /srv/b.db}
  - name: accounts
    kind: exports
    path: /srv/out
    include: ['**/*.pox']
    exports: {` + exports + `, import: 'in Pontoon, File, Import'}
`})
	bookings(t, filepath.Join(dir, "old/srv/b.db")) // two boats
	must(t, 0, dir, "new", "kit", "--root", "old", "--cards", "card.yaml", "--yes")
	return dir
}

// TestUntrustedQueries checks that the queries of cards that are not the office's are shown once,
// and need consent.
func TestUntrustedQueries(t *testing.T) {
	t.Parallel()
	dir := exportOffice(t, "item: data, query: SELECT count(*) + 1 FROM boat")
	named := []string{"new", "other", "--root", "old", "--cards", "card.yaml"}
	must(t, 2, dir, named...).tells(t, "this run is non-interactive: Allow these queries?")
	must(t, 2, dir, "survey", "--root", "old", "--cards", "card.yaml").tells(t, "this run is non-interactive")
	must(t, 2, dir, "card", "add", "card.yaml").tells(t, "this run is non-interactive")
	if s := atTerminal(t, dir, "n\n", named...); !strings.Contains(s, "  SELECT count(*) + 1 FROM boat") || strings.Contains(s, "Created the kit") {
		t.Error(s)
	}
	if s := atTerminal(t, dir, "y\n", named...); !strings.Contains(s, "Created the kit") {
		t.Error(s)
	}
	must(t, 0, dir, "card", "add", "card.yaml", "--yes")
	if s := must(t, 0, dir, "survey", "--root", "old", "--cards", "card.yaml"); strings.Contains(s.err, "SELECT") {
		t.Errorf("the office's own: %s", s.err)
	}
}

func TestExports(t *testing.T) {
	t.Parallel()
	dir := exportOffice(t, "item: data, query: SELECT count(*) + 1 FROM boat")
	if s := step(t, 4, dir, "old", "pack"); !strings.Contains(s.err, "accounts has 2 exports, but 3") || !strings.Contains(s.err, "gate exports-present") {
		t.Error(s.err)
	}
	lay.Out(t, dir, map[string]string{"old/srv/out/account 3.pox": "3"})
	if s := step(t, 0, dir, "old", "survey"); !strings.Contains(s.out, "3 exports of 3") {
		t.Error(s.out)
	}
	step(t, 0, dir, "old", "pack")
	step(t, 2, dir, "new", "todo", "--tick", "1").tells(t, "not unpacked yet")
	if s := step(t, 0, dir, "new", "unpack"); !strings.Contains(s.out, "movekit todo pontoon") {
		t.Error(s.out)
	}
	if _, err := os.Stat(filepath.Join(dir, "new/srv/out/readme.txt")); err == nil {
		t.Error("what is no export has moved")
	}
	if s := must(t, 0, dir, "status", "--kit", "kit"); !strings.Contains(s.out, "movekit todo") {
		t.Error(s.out)
	}
	if s := step(t, 3, dir, "new", "verify"); !strings.Contains(s.out, "3 exports still to be imported by hand") || !strings.Contains(s.out, "movekit todo pontoon") {
		t.Error(s.out)
	}
	list := func(code int, args ...string) (done, files string) {
		t.Helper()
		var todos []struct {
			Number int
			File   string
			Done   bool
		}
		if err := json.Unmarshal([]byte(step(t, code, dir, "new", "todo", append(args, "--json")...).out), &todos); err != nil {
			t.Fatal(err)
		}
		for i, d := range todos {
			if d.Number != i+1 {
				t.Errorf("number %d comes at place %d", d.Number, i)
			}
			done += fmt.Sprint(d.Done, " ")
			files += d.File + ", "
		}
		return done, files
	}
	if done, files := list(5); done != "false false false " || files != "account 1.pox, account 3.pox, sub/account 2.pox, " {
		t.Errorf("%s %s", done, files)
	}
	if s := step(t, 5, dir, "new", "todo", "--tick", "1"); !strings.Contains(s.out, "in Pontoon, File, Import") || !strings.Contains(s.out, "1 of 3 are imported") {
		t.Error(s.out)
	}
	for _, bad := range []string{"4", "0", "2-1", "x", "1-", "1-9999999999"} {
		step(t, 2, dir, "new", "todo", "--tick", bad)
	}
	step(t, 2, dir, "old", "todo", "--tick", "2").tells(t, "imported on the new one")
	// An export with another name in the app is found by that name later.
	if s := step(t, 5, dir, "new", "todo", "--tick", "2=Pier D, 2026"); !strings.Contains(s.out, "imported as Pier D, 2026") {
		t.Errorf("under another name: %s", s.out)
	}
	if s := step(t, 5, dir, "new", "todo"); !strings.Contains(s.out, "imported as Pier D, 2026") {
		t.Errorf("its name is forgotten: %s", s.out)
	}
	for _, bad := range []string{"x=a", "2=", "1-2=a", "99=a"} {
		step(t, 2, dir, "new", "todo", "--tick", bad)
	}
	if done, _ := list(0, "--tick", "2,3", "--tick", "1-2"); done != "true true true " {
		t.Error(done)
	}
	step(t, 0, dir, "new", "verify")
	// Packed again with another file, all exports must be imported again, because they are new.
	lay.Out(t, dir, map[string]string{"old/srv/out/account 4.pox": "4"})
	step(t, 0, dir, "old", "pack")
	if done, _ := list(5); done != "false false false false " {
		t.Error(done)
	}
}

// TestExportsCounted queries the app's database for the records of each imported export, by its
// name in the app.
func TestExportsCounted(t *testing.T) {
	t.Parallel()
	dir := exportOffice(t, "item: data, query: SELECT count(*) FROM entry WHERE false, count: 'SELECT count(*) FROM entry WHERE account = {name}'")
	lay.Database(t, filepath.Join(dir, "old/srv/b.db"), "DROP TABLE IF EXISTS boat", "CREATE TABLE entry (account, n)", "INSERT INTO entry VALUES ('account 1', 1), ('account 1', 2), ('O''Hara', 3)")
	lay.Out(t, dir, map[string]string{"old/srv/out/O'Hara.pox": "3"})
	step(t, 0, dir, "old", "pack")
	step(t, 0, dir, "new", "unpack")
	// 1 is O'Hara, 2 account 1, and 3 account 2, which has no records.
	step(t, 5, dir, "new", "todo", "--tick", "2=Pier D")
	if s := step(t, 3, dir, "new", "verify"); !strings.Contains(s.out, "account 1.pox was imported as Pier D: 2 records then, 0 now") {
		t.Error(s.out)
	}
	lay.Database(t, filepath.Join(dir, "new/srv/b.db"), "UPDATE entry SET account = 'Pier D' WHERE account = 'account 1'")
	step(t, 0, dir, "new", "todo", "--tick", "1,3")
	s := step(t, 3, dir, "new", "verify", "--verbose") // the database is another now, and the exports are as they were
	if strings.Contains(s.out, "was imported as") || !strings.Contains(s.out, "records of Pier D") || !strings.Contains(s.out, "records of O'Hara") || !strings.Contains(s.out, "records of account 2") {
		t.Error(s.out)
	}
}

// TestExportsAreMade runs the app's command that makes its exports, after consent.
func TestExportsAreMade(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	home := filepath.Join(dir, "home")
	lay.Out(t, dir, map[string]string{"home/.out/a.pox": "1", "tool": "#!/bin/sh\necho 2 > \"$1/b c.pox\"\nenv > \"$1/../env.txt\"\n", "card.yaml": strings.ReplaceAll(`card: 1
name: pontoon
title: Pontoon Ledger
items:
  - {name: accounts, kind: exports, path: ~/.out, exports: {number: 2, make: [DIR/tool, DIR/home/.out], import: take it in}}
`, "DIR", dir)})
	os.Chmod(filepath.Join(dir, "tool"), 0o755)
	live := func(code int, args ...string) said {
		t.Helper()
		cmd := command(t.Context(), dir, args...)
		cmd.Env = append(cmd.Env, "HOME="+home)
		s := finish(t, cmd)
		if s.code != code {
			t.Fatalf("%v: exit %d, want %d\n%s%s", args, s.code, code, s.out, s.err)
		}
		return s
	}
	live(0, "new", "kit", "--cards", "card.yaml")
	if s := live(4, "pack", "--kit", "kit"); !strings.Contains(s.err, "2 are expected") {
		t.Error(s.err)
	}
	live(0, "pack", "--kit", "kit", "--run-commands")
	// The consent is remembered: the second pack makes them again.
	os.Remove(filepath.Join(home, ".out/b c.pox"))
	live(0, "pack", "--kit", "kit")
	if _, err := os.Stat(filepath.Join(home, ".out/b c.pox")); err != nil {
		t.Error(err)
	}
	if env, err := os.ReadFile(filepath.Join(home, "env.txt")); err != nil || strings.Contains(string(env), passphrase) || !strings.Contains(string(env), "HOME=") {
		t.Errorf("what the app's program is started with: %s %v", env, err)
	}
	os.Remove(filepath.Join(dir, "tool"))
	live(1, "pack", "--kit", "kit").tells(t, "could not make the exports")
}

// TestExportsAreLoaded imports exports with the app's own command, after consent. One that fails is named, and the rest is
// imported later.
func TestExportsAreLoaded(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	lay.Out(t, dir, map[string]string{"out/a.pox": "1", "out/b c.pox": "2", "tool": "#!/bin/sh\ncase \"$1\" in *b\\ c*) [ -e DIR/ready ] || { echo not ready; exit 3; };; esac\ncat \"$1\" >> DIR/app\n", "card.yaml": strings.ReplaceAll(`card: 1
name: pontoon
title: Pontoon Ledger
items:
  - {name: accounts, kind: exports, path: DIR/out, exports: {number: 2, load: [DIR/tool, '{file}'], import: take it in}}
`, "DIR", dir)})
	text, _ := os.ReadFile(filepath.Join(dir, "tool"))
	fatal.If(t, os.WriteFile(filepath.Join(dir, "tool"), []byte(strings.ReplaceAll(string(text), "DIR", dir)), 0o755))
	fatal.If(t, os.Chmod(filepath.Join(dir, "tool"), 0o755))
	must(t, 0, dir, "new", "kit", "--cards", "card.yaml", "--keep")
	must(t, 0, dir, "pack", "--kit", "kit")
	fatal.If(t, os.RemoveAll(filepath.Join(dir, "out")))
	must(t, 0, dir, "unpack", "--kit", "kit", "--yes")
	if s := must(t, 5, dir, "todo", "--kit", "kit", "--load"); !strings.Contains(s.err, "--run-commands") {
		t.Errorf("without consent: %s", s.err)
	}
	must(t, 1, dir, "todo", "--kit", "kit", "--load", "--run-commands").tells(t, "b c.pox")
	if s := must(t, 5, dir, "todo", "--kit", "kit"); !strings.Contains(s.out, "1 of 2 are imported") {
		t.Errorf("after one: %s", s.out)
	}
	lay.Out(t, dir, map[string]string{"ready": ""})
	must(t, 0, dir, "todo", "--kit", "kit", "--load", "--run-commands")
	if app, _ := os.ReadFile(filepath.Join(dir, "app")); string(app) != "12" {
		t.Errorf("the app has %q", app)
	}
	must(t, 0, dir, "verify", "--kit", "kit")
}
