package test

import (
	"math/rand/v2"
	"path/filepath"
	"testing"
	"time"

	"movekit/test/lay"
)

// TestRetireKilled kills retire, and retire --back, at random moments: the old data is always
// complete under one of its names, and the same command completes the work.
func TestRetireKilled(t *testing.T) {
	t.Parallel()
	dir := office(t)
	names := []string{"a", "b", "c", "d", "e", "f"}
	cardText := "card: 1\nname: diary\ntitle: Hoistbook\nitems:\n  - {name: years, kind: folder, path: /srv/diary, each: '20??'}\n  - {name: some, kind: folder, path: /srv/some, include: ['*.rec']}\n"
	for _, n := range names {
		lay.Out(t, dir, map[string]string{"old/srv/some/" + n + ".rec": n, "old/srv/some/" + n + ".txt": "stays"})
		lay.Database(t, filepath.Join(dir, "old/srv/"+n+".db"), "CREATE TABLE t (x)", "INSERT INTO t VALUES ('"+n+"')")
		cardText += "  - {name: " + n + ", kind: sqlite, path: /srv/" + n + ".db}\n"
	}
	lay.Out(t, dir, map[string]string{"diary.yaml": cardText})
	made(t, dir)
	before := picture(t, filepath.Join(dir, "old"))
	step(t, 0, dir, "old", "pack")
	step(t, 0, dir, "new", "unpack")
	step(t, 0, dir, "new", "verify")
	random := rand.New(rand.NewPCG(4, 4))
	for round := range 2 {
		for _, back := range [][]string{nil, {"--back"}} {
			args := append([]string{"retire", "--kit", "kit", "--root", "old"}, back...)
			killedAnywhere(t, random, 8, 1, 300*time.Millisecond, dir, args...)
			for _, n := range names { // each database is there, under its own name or the other
				if all, _ := filepath.Glob(filepath.Join(dir, "old/srv/"+n+".db*")); len(all) < 1 {
					t.Fatalf("%s is gone", n)
				}
			}
			must(t, 0, dir, args...)
		}
		if now := picture(t, filepath.Join(dir, "old")); now != before {
			t.Errorf("round %d: given back it is\n%s\nand was\n%s", round, now, before)
		}
	}
}
