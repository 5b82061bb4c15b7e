package test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"movekit/internal/core/digest"
	"movekit/test/fatal"
	"movekit/test/lay"
)

// undoOffice creates two computers with an app and existing data on the new one, for every policy.
func undoOffice(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	lay.Out(t, dir, map[string]string{
		"old/computer.yaml": "name: OLD\nsystem: linux\nhardware-id: h-old\n", "new/computer.yaml": "name: NEW\nsystem: linux\nhardware-id: h-new\n",
		"old/srv/diary/a.txt": "lift of the Grey Wagtail\n", "old/srv/diary/sub/b.txt": "b\n", "old/srv/only/one.rec": "1\n", "old/srv/only/two.rec": "2\n", "old/srv/only/skip.log": "log\n", "old/etc/hoist.ini": "lang=sv\n", "old/srv/fresh/x.txt": "x\n",
		"new/srv/diary/a.txt": "another\n", "new/srv/only/one.rec": "theirs\n", "new/srv/only/other.txt": "not ours\n", "new/etc/hoist.ini": "lang=en\n",
		"hoist.yaml": `card: 1
name: hoist
title: Hoistbook
items:
  - {name: diary, kind: folder, path: /srv/diary}
  - {name: only, kind: folder, path: /srv/only, include: ["*.rec"]}
  - {name: settings, kind: file, path: /etc/hoist.ini}
  - {name: fresh, kind: folder, path: /srv/fresh, skip: ["*.log"]}
  - {name: berths, kind: sqlite, path: /srv/berths.db}
`,
	})
	lay.Database(t, filepath.Join(dir, "old/srv/berths.db"), "CREATE TABLE berth (id INTEGER PRIMARY KEY); INSERT INTO berth VALUES (1), (2)")
	lay.Database(t, filepath.Join(dir, "new/srv/berths.db"), "CREATE TABLE theirs (id INTEGER)")
	must(t, 0, dir, "new", "kit", "--root", "old", "--cards", "hoist.yaml", "--to", "NEW")
	step(t, 0, dir, "old", "pack")
	return dir
}

func TestUndo(t *testing.T) {
	t.Parallel()
	dir := undoOffice(t)
	before := picture(t, filepath.Join(dir, "new"))
	if s := step(t, 0, dir, "new", "undo"); strings.Contains(s.out, "undone") {
		t.Errorf("nothing was put here: %s", s.out)
	}
	step(t, 0, dir, "new", "unpack")
	if s := step(t, 0, dir, "new", "undo"); strings.Count(s.out, "undone") != 5 || strings.Count(s.out, "moved back") != 4 {
		t.Errorf("undo: %s", s.out)
	}
	if after := picture(t, filepath.Join(dir, "new")); before != after {
		t.Errorf("before\n%s\nafter\n%s", before, after)
	}
	if s := must(t, 0, dir, "status", "--kit", "kit"); strings.Contains(s.out, "set aside") {
		t.Errorf("status: %s", s.out)
	}
	// Data that was modified since is kept.
	step(t, 0, dir, "new", "unpack")
	lay.Out(t, dir, map[string]string{"new/srv/diary/today.txt": "worked in\n", "new/srv/only/one.rec": "worked in\n", "new/srv/fresh/app.log": "of here\n", "new/etc/hoist.ini": "lang=de\n"})
	if s := step(t, 0, dir, "new", "undo"); strings.Count(s.out, "was modified since") != 4 {
		t.Errorf("undo: %s", s.out)
	}
	after := picture(t, filepath.Join(dir, "new"))
	for line := range strings.Lines(before) {
		if !strings.Contains(after, line) {
			t.Errorf("%s is not back", line)
		}
	}
	if n := strings.Count(after, digest.Of([]byte("worked in\n")).String()); n != 2 {
		t.Errorf("what was worked in is there %d times:\n%s", n, after)
	}
	// Data that was here before, or was overwritten on request, stays.
	step(t, 2, dir, "new", "unpack", "--existing", "replace").tells(t, "cannot be undone")
	step(t, 0, dir, "new", "unpack", "--yes", "--existing", "replace")
	now := picture(t, filepath.Join(dir, "new"))
	if s := step(t, 0, dir, "new", "undo"); !strings.Contains(s.out, "the data here before was overwritten") {
		t.Errorf("undo: %s", s.out)
	}
	for line := range strings.Lines(now) {
		if !strings.Contains(line, "fresh") && !strings.Contains(picture(t, filepath.Join(dir, "new")), line) {
			t.Errorf("%s is gone", line)
		}
	}
	if s := step(t, 4, dir, "old", "undo"); !strings.Contains(s.err, "old computer") {
		t.Errorf("on the old computer: %s", s.err)
	}
}

// TestUndoKilled kills the program in the middle of an undo. The same command then succeeds.
func TestUndoKilled(t *testing.T) {
	t.Parallel()
	dir := undoOffice(t)
	for i := range 1000 {
		lay.Out(t, dir, map[string]string{fmt.Sprintf("old/srv/only/%d.rec", i): fmt.Sprint(i), fmt.Sprintf("new/srv/only/%d.rec", i): "theirs"})
	}
	step(t, 0, dir, "old", "pack")
	before := picture(t, filepath.Join(dir, "new"))
	for _, kills := range []int{0, 4, 4} {
		step(t, 0, dir, "new", "unpack")
		killedAnywhere(t, rand.New(rand.NewPCG(5, 5)), kills, kills/4, 500*time.Millisecond, dir, "undo", "--kit", "kit", "--root", "new")
		step(t, 0, dir, "new", "undo")
		if after := picture(t, filepath.Join(dir, "new")); before != after {
			t.Fatalf("killed %d times: before\n%s\nafter\n%s", kills, before, after)
		}
	}
}

// TestAnotherProfile has a profile of the same name that the app created on the new computer: the
// card's identity distinguishes them, before and after.
func TestAnotherProfile(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	lay.Out(t, dir, map[string]string{
		"old/computer.yaml": "name: OLD\nsystem: linux\nhardware-id: h-old\n", "new/computer.yaml": "name: NEW\nsystem: linux\nhardware-id: h-new\n",
		"p": passphrase + "\n", "old/srv/mail/a.default/id.ini": "Id=quay-7\n", "old/srv/mail/a.default/letters": "many", "old/srv/mail/b.other/id.ini": "Id=quay-8\n",
		"new/srv/mail/a.default/id.ini": "Id=fresh\n", "new/srv/mail/b.other/id.ini": "Id=quay-8\n", "new/srv/mail/b.other/more": "x",
		"mail.yaml": "card: 1\nname: mail\ntitle: Pier Mail\nitems: [{name: profile, kind: folder, path: /srv/mail, each: '*', identity: {file: id.ini, pattern: 'Id=(\\S+)'}}]\n",
	})
	must(t, 0, dir, "new", "kit", "--root", "old", "--cards", "mail.yaml", "--to", "NEW")
	step(t, 0, dir, "old", "pack")
	if s := step(t, 0, dir, "new", "ready"); strings.Count(s.out, "a different profile from the one in the kit") != 1 {
		t.Errorf("on the new one: %s", s.out)
	}
	if s := step(t, 3, dir, "new", "verify"); strings.Count(s.out, "it is a different profile with the same name") != 1 || !strings.Contains(s.out, "a.default: it is a different profile") {
		t.Errorf("before: %s", s.out)
	}
	if s := atTerminal(t, dir, "\n\n", "unpack", "--kit", "kit", "--root", "new", "--passphrase-file", "p"); strings.Count(s, "it is a different profile from the one in the kit") != 1 {
		t.Errorf("unpack: %s", s)
	}
	if s := step(t, 0, dir, "new", "verify", "--verbose"); strings.Count(s.out, "profile  ") < 2 {
		t.Errorf("after: %s", s.out)
	}
}

// TestServedEnd undoes the unpack of a server's database, packs it again after edits, replaces it
// on the new computer, and sets the old one aside, moves it back and removes it.
func TestServedEnd(t *testing.T) { each(t, servedEnd) }

func servedEnd(t *testing.T, e engine) {
	dir, old, now := ledgerOffice(t, e)
	step(t, 0, dir, "old", "pack")
	e.newDatabase(t, now, "ledger", "CREATE TABLE theirs (n INTEGER); COMMIT;")
	step(t, 0, dir, "new", "unpack")
	if s := step(t, 0, dir, "new", "undo"); !strings.Contains(s.out, "moved back") || count(t, now, "ledger", "theirs") != "0" || len(strings.Fields(e.there(t, now))) != 1 {
		t.Errorf("undo: %s\n%s", s.out, e.there(t, now))
	}
	step(t, 0, dir, "new", "unpack")
	query(t, now, "ledger", "UPDATE account SET name = 'worked in' WHERE id = 1; COMMIT;")
	if s := step(t, 0, dir, "new", "undo"); !strings.Contains(s.out, "was modified since") || count(t, now, "ledger", "theirs") != "0" {
		t.Errorf("undo: %s", s.out)
	}
	worked := strings.TrimSpace(strings.Replace(e.there(t, now)+"\n", "ledger\n", "", 1))
	if count(t, now, worked, "account WHERE name = 'worked in'") != "1" {
		t.Errorf("what was worked in: %q", worked)
	}
	step(t, 0, dir, "new", "unpack")
	before := e.there(t, now)
	query(t, old, "ledger", "UPDATE account SET name = 'late' WHERE id = 9; COMMIT;")
	step(t, 0, dir, "old", "pack")
	renewed := step(t, 0, dir, "new", "unpack")
	if got := e.there(t, now); got != before || e.theirs(t, now) != 1 || count(t, now, "ledger", "account WHERE name = 'late'") != "1" {
		t.Errorf("renewed: %q, before %q\n%s", got, before, renewed.out)
	}
	// Data that was modified is set aside.
	query(t, now, "ledger", "UPDATE account SET name = 'ours' WHERE id = 5; COMMIT;")
	query(t, old, "ledger", "UPDATE account SET name = 'later' WHERE id = 9; COMMIT;")
	step(t, 0, dir, "old", "pack")
	step(t, 0, dir, "new", "unpack")
	if got := e.there(t, now); len(strings.Fields(got)) != len(strings.Fields(before))+1 {
		t.Errorf("what was worked in is not kept: %q", got)
	}
	rows := all(t, old, "ledger")
	if all(t, now, "ledger") != rows {
		t.Error("the rows are not the same")
	}
	step(t, 4, dir, "old", "retire").tells(t, "verified")
	step(t, 0, dir, "new", "verify")

	query(t, old, "ledger", "UPDATE account SET name = 'too late' WHERE id = 9; COMMIT;")
	step(t, 4, dir, "old", "retire").tells(t, "old-unchanged")
	query(t, old, "ledger", "UPDATE account SET name = 'later' WHERE id = 9; COMMIT;")
	step(t, 0, dir, "old", "retire")
	if got := e.there(t, old); !strings.HasPrefix(got, "ledger_set_aside_") || all(t, old, got) != rows {
		t.Errorf("set aside: %q", got)
	}
	step(t, 0, dir, "old", "retire", "--back")
	if got := e.there(t, old); got != "ledger" || all(t, old, "ledger") != rows {
		t.Errorf("given back: %q", got)
	}
	step(t, 0, dir, "old", "retire")
	step(t, 4, dir, "old", "retire", "--remove", "--because", "sold", "--computer", "OLD").tells(t, "handed-over")
	must(t, 0, dir, "report", "--kit", "kit", "--to", "papers")
	step(t, 2, dir, "old", "retire", "--remove", "--because", "sold", "--computer", "NEW").tells(t, "--computer NAME")
	aside := e.there(t, old)
	query(t, old, aside, "UPDATE account SET name = 'much too late' WHERE id = 9; COMMIT;")
	if s := step(t, 0, dir, "old", "retire", "--remove", "--because", "sold", "--computer", "old"); !strings.Contains(s.out, "KEPT: changed since") || e.there(t, old) != aside {
		t.Errorf("what was modified since: %s", s.out)
	}
	query(t, old, aside, "UPDATE account SET name = 'later' WHERE id = 9; COMMIT;")
	if s := step(t, 0, dir, "old", "retire", "--remove", "--because", "sold", "--computer", "OLD"); !strings.Contains(s.out, "permanently removed") || e.there(t, old) != "" {
		t.Errorf("removed: %s; there is %q", s.out, e.there(t, old))
	}
	must(t, 0, dir, "close", "--kit", "kit", "--yes", "--keep-record", "papers/record")
	must(t, 0, dir, "inspect", "--kit", "papers/record")
	if s := must(t, 0, dir, "board", "papers"); !strings.Contains(s.out, "OLD to NEW") || !strings.Contains(s.out, "closed") {
		t.Errorf("the board: %s", s.out)
	}
	if left, _ := filepath.Glob(filepath.Join(dir, "kit", "*")); len(left) > 4 {
		t.Errorf("the kit still has %v", left)
	}
}

// TestGivenUp empties a kit whose move is not verified, with a reason. Nothing in it can be opened
// afterwards.
func TestGivenUp(t *testing.T) {
	t.Parallel()
	dir := office(t)
	made(t, dir)
	step(t, 0, dir, "old", "pack")
	must(t, 4, dir, "close", "--kit", "kit", "--yes").tells(t, "verified")
	must(t, 4, dir, "close", "--kit", "kit", "--yes", "--give-up", "--because", "the office closes").tells(t, "handed-over")
	must(t, 2, dir, "close", "--kit", "kit", "--yes", "--give-up", "--because", "the office closes", "--keep-record", "kit/record").tells(t, "is inside the kit")
	must(t, 0, dir, "report", "--kit", "kit", "--to", "papers")
	must(t, 2, dir, "close", "--kit", "kit", "--give-up", "--because", "the office closes").tells(t, "--yes")
	// A line that somebody added is ignored.
	journal, key := filepath.Join(dir, "kit/journal.jsonl"), filepath.Join(dir, "kit/key.age")
	whole, err := os.ReadFile(journal)
	fatal.If(t, err)
	os.WriteFile(journal, append(whole[:len(whole):len(whole)], []byte(`{"n":99,"event":"closed","prev":"","mac":""}`+"\n")...), 0o644)
	if s := run(t, dir, "close", "--kit", "kit", "--yes"); s.code != 1 {
		t.Errorf("closed by a forged line: %d %s", s.code, s.out)
	}
	if _, err := os.Stat(key); err != nil {
		t.Fatal("a forged line has destroyed the key")
	}
	os.WriteFile(journal, whole, 0o644)
	if s := must(t, 0, dir, "close", "--kit", "kit", "--yes", "--give-up", "--because", "the office closes"); !strings.Contains(s.out, "handover: ") || !strings.Contains(s.err, "flash stick") {
		t.Errorf("%s%s", s.out, s.err)
	}
	for _, args := range [][]string{{"unpack", "--root", "new"}, {"pack", "--root", "old"}, {"close"}} {
		if s := finish(t, command(t.Context(), dir, append(args, "--kit", "kit")...)); args[0] != "close" && (s.code != 1 || !strings.Contains(s.err, "is closed")) || args[0] == "close" && s.code != 0 {
			t.Errorf("%v on a closed kit: %d %s", args, s.code, s.err)
		}
	}
	if s := must(t, 0, dir, "status", "--kit", "kit"); !strings.Contains(s.out, "the kit is closed") {
		t.Errorf("next: %s", s.out)
	}
}
