package test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestServedEnd takes the unpack of a server's database back, packs it once more after
// people went on working, renews it on the new computer, and sets the old one aside, gives
// it back and removes it.
func TestServedEnd(t *testing.T) { each(t, servedEnd) }

func servedEnd(t *testing.T, e engine) {
	dir, old, now := ledgerOffice(t, e)
	step(t, 0, dir, "old", "pack")
	e.newDatabase(t, now, "ledger", "CREATE TABLE theirs (n INTEGER); COMMIT;")
	step(t, 0, dir, "new", "unpack")
	if s := step(t, 0, dir, "new", "undo"); !strings.Contains(s.out, "has its name back") || count(t, now, "ledger", "theirs") != "0" || len(strings.Fields(e.there(t, now))) != 1 {
		t.Errorf("undo: %s\n%s", s.out, e.there(t, now))
	}
	step(t, 0, dir, "new", "unpack")
	query(t, now, "ledger", "UPDATE account SET name = 'worked in' WHERE id = 1; COMMIT;")
	if s := step(t, 0, dir, "new", "undo"); !strings.Contains(s.out, "was worked in since") || count(t, now, "ledger", "theirs") != "0" {
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
	// What somebody has worked in is set aside, as ever.
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
	step(t, 4, dir, "old", "retire").tells(t, "proven")
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
	step(t, 4, dir, "old", "retire", "--remove", "sold", "--computer", "OLD").tells(t, "handed-over")
	must(t, 0, dir, "report", "--kit", "kit", "--to", "papers")
	step(t, 2, dir, "old", "retire", "--remove", "sold", "--computer", "NEW").tells(t, "--computer NAME")
	aside := e.there(t, old)
	query(t, old, aside, "UPDATE account SET name = 'much too late' WHERE id = 9; COMMIT;")
	if s := step(t, 0, dir, "old", "retire", "--remove", "sold", "--computer", "old"); !strings.Contains(s.out, "KEPT: changed since") || e.there(t, old) != aside {
		t.Errorf("what was worked in since: %s", s.out)
	}
	query(t, old, aside, "UPDATE account SET name = 'later' WHERE id = 9; COMMIT;")
	if s := step(t, 0, dir, "old", "retire", "--remove", "sold", "--computer", "OLD"); !strings.Contains(s.out, "removed for good") || e.there(t, old) != "" {
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

// TestGivenUp empties a kit whose move is not proven, for a reason; nothing of it opens
// any more.
func TestGivenUp(t *testing.T) {
	t.Parallel()
	dir := office(t)
	made(t, dir)
	step(t, 0, dir, "old", "pack")
	must(t, 4, dir, "close", "--kit", "kit", "--yes").tells(t, "proven")
	must(t, 4, dir, "close", "--kit", "kit", "--yes", "--give-up", "the office closes").tells(t, "handed-over")
	must(t, 2, dir, "close", "--kit", "kit", "--yes", "--give-up", "the office closes", "--keep-record", "kit/record").tells(t, "is in the kit")
	must(t, 0, dir, "report", "--kit", "kit", "--to", "papers")
	must(t, 2, dir, "close", "--kit", "kit", "--give-up", "the office closes").tells(t, "--yes")
	// A line that somebody has added says nothing.
	journal, key := filepath.Join(dir, "kit/journal.jsonl"), filepath.Join(dir, "kit/key.age")
	whole, err := os.ReadFile(journal)
	if err != nil {
		t.Fatal(err)
	}
	os.WriteFile(journal, append(whole[:len(whole):len(whole)], []byte(`{"n":99,"event":"closed","prev":"","mac":""}`+"\n")...), 0o644)
	if s := run(t, dir, "close", "--kit", "kit", "--yes"); s.code != 1 {
		t.Errorf("closed by a forged line: %d %s", s.code, s.out)
	}
	if _, err := os.Stat(key); err != nil {
		t.Fatal("a forged line has destroyed the key")
	}
	os.WriteFile(journal, whole, 0o644)
	if s := must(t, 0, dir, "close", "--kit", "kit", "--yes", "--give-up", "the office closes"); !strings.Contains(s.out, "hand-over: ") || !strings.Contains(s.err, "flash stick") {
		t.Errorf("%s%s", s.out, s.err)
	}
	for _, args := range [][]string{{"unpack", "--root", "new"}, {"pack", "--root", "old"}, {"close"}} {
		if s := finish(t, command(t.Context(), dir, append(args, "--kit", "kit")...)); args[0] != "close" && (s.code != 1 || !strings.Contains(s.err, "is closed")) || args[0] == "close" && s.code != 0 {
			t.Errorf("%v on a closed kit: %d %s", args, s.code, s.err)
		}
	}
	if s := must(t, 0, dir, "next", "--kit", "kit"); !strings.Contains(s.out, "the kit is closed") {
		t.Errorf("next: %s", s.out)
	}
}
