package test

import (
	"encoding/json"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"movekit/test/fatal"
	"movekit/test/lay"
)

// TestUnpackState packs a safety copy several times, and puts earlier states in place.
func TestUnpackState(t *testing.T) {
	t.Parallel()
	dir := office(t)
	must(t, 0, dir, "new", "kit", "--root", "old", "--cards", "diary.yaml", "--keep")
	lay.Out(t, dir, map[string]string{"old/srv/diary/2026/large.rec": strings.Repeat("berth", 100_000)})
	record := filepath.Join(dir, "old/srv/diary/2025/a.rec")
	var at []time.Time
	pack := func(text string, more ...string) {
		t.Helper()
		if data, _ := os.ReadFile(record); string(data) != text {
			fatal.If(t, os.WriteFile(record, []byte(text), 0o644))
		}
		step(t, 0, dir, "old", "pack", more...)
		at = append(at, time.Now())
		time.Sleep(1100 * time.Millisecond) // a state is named by its second
	}
	for n := range 5 {
		pack(fmt.Sprint("day ", n))
	}
	pack("day 4") // unchanged: no state
	var status struct {
		States []struct {
			At time.Time
		}
	}
	list := func() int {
		t.Helper()
		out := step(t, 0, dir, "old", "status", "--json")
		fatal.If(t, json.Unmarshal([]byte(out.out), &status))
		return len(status.States)
	}
	if n := list(); n != 3 {
		t.Fatalf("%d states", n)
	}
	must(t, 0, dir, "inspect", "--kit", "kit")
	here := func(want string) {
		t.Helper()
		data, _ := os.ReadFile(filepath.Join(dir, "new/srv/diary/2025/a.rec"))
		if string(data) != want {
			t.Errorf("in place is %q, not %q", data, want)
		}
		step(t, 0, dir, "new", "verify")
	}
	moment := func(n int) string { return at[n].Local().Format(time.DateTime) }
	step(t, 2, dir, "new", "unpack", "--state", moment(1)).tells(t, "its states are '"+status.States[2].At.Local().Format(time.DateTime))
	step(t, 2, dir, "new", "unpack", "--state", "yesterday").tells(t, "needs a date")
	step(t, 0, dir, "new", "unpack", "--state", moment(2))
	here("day 2")
	step(t, 0, dir, "new", "unpack") // the same state
	here("day 2")
	step(t, 0, dir, "new", "unpack", "--state", moment(3))
	here("day 3")
	step(t, 0, dir, "new", "unpack", "--state", at[5].Local().Format(time.DateOnly))
	here("day 4")
	step(t, 0, dir, "new", "unpack", "--state", moment(2))
	// Packing continues with the newest state, and the oldest one is dropped.
	pack("day 5")
	step(t, 0, dir, "new", "unpack")
	here("day 5")
	step(t, 2, dir, "new", "unpack", "--state", moment(2))
	step(t, 0, dir, "new", "unpack", "--state", moment(3))
	here("day 3")
	step(t, 0, dir, "new", "undo")
	if _, err := os.Lstat(filepath.Join(dir, "new/srv/diary")); !os.IsNotExist(err) {
		t.Error("undone, but the folder is still there")
	}
	// Fewer states need less space at once.
	sealed := func() int {
		files, _ := filepath.Glob(filepath.Join(dir, "kit/sealed/diary/*"))
		return len(files)
	}
	before := sealed()
	pack("day 5", "--states", "1")
	if list() != 1 || sealed() != before/3 {
		t.Errorf("%d states, %d sealed files of %d", list(), sealed(), before)
	}
	step(t, 0, dir, "new", "unpack", "--state", "newest")
	here("day 5")
	step(t, 2, dir, "old", "pack", "--states", "0").tells(t, "at least 1")
}

// TestUnpackStateOfMove refuses states for a kit that is a move.
func TestUnpackStateOfMove(t *testing.T) {
	t.Parallel()
	dir := office(t)
	made(t, dir)
	step(t, 2, dir, "old", "pack", "--states", "2").tells(t, "this kit is not one")
	step(t, 0, dir, "old", "pack")
	step(t, 2, dir, "new", "unpack", "--state", "newest").tells(t, "this kit is not one")
}

// TestStatesShareItems packs two items, of which one changes: the other is stored once. A state is complete only if every app
// was packed.
func TestStatesShareItems(t *testing.T) {
	t.Parallel()
	dir := office(t)
	lay.Out(t, dir, map[string]string{"old/srv/plans/plan": "quay", "two.yaml": `card: 1
name: plans
title: Quayplan
items:
  - {name: plans, kind: folder, path: /srv/plans}
  - {name: book, kind: file, path: /srv/book}
`, "old/srv/book": "a"})
	must(t, 0, dir, "new", "kit", "--root", "old", "--cards", "two.yaml", "--keep")
	step(t, 0, dir, "old", "pack")
	fatal.If(t, os.WriteFile(filepath.Join(dir, "old/srv/book"), []byte("b"), 0o644))
	step(t, 0, dir, "old", "pack")
	files, _ := filepath.Glob(filepath.Join(dir, "kit/sealed/plans/plans.tar*"))
	both, _ := filepath.Glob(filepath.Join(dir, "kit/sealed/plans/book*"))
	if len(files) != 1 || len(both) < 2 {
		t.Errorf("sealed: %v, %v", files, both)
	}
	// An item that a newer state no longer has, and one that an older state does not have yet.
	step(t, 0, dir, "new", "unpack", "--state", "newest", "--existing", "replace", "--yes")
	if data, _ := os.ReadFile(filepath.Join(dir, "new/srv/book")); string(data) != "b" {
		t.Errorf("the book is %q", data)
	}
	os.Remove(filepath.Join(dir, "kit", filepath.Join("sealed/plans", filepath.Base(both[0]))))
	if out := must(t, 1, dir, "inspect", "--kit", "kit"); !strings.Contains(out.out, filepath.Base(both[0])+": is missing") {
		t.Errorf("a file of an older state is missing: %s", out.out)
	}
}

// TestStatesShareParts changes a little of a large folder: the next state adds little to the kit, also after packs that were killed
// at random moments. Without the program, README.txt shows how to extract a state.
func TestStatesShareParts(t *testing.T) {
	t.Parallel()
	dir := office(t)
	for n := range 5 {
		fatal.If(t, os.WriteFile(filepath.Join(dir, fmt.Sprintf("old/srv/diary/scan-%d", n)), noise(9 << 20)[n:], 0o644))
	}
	must(t, 0, dir, "new", "kit", "--root", "old", "--cards", "diary.yaml", "--keep")
	step(t, 0, dir, "old", "pack")
	size := func() (n int64) {
		filepath.WalkDir(filepath.Join(dir, "kit/sealed"), func(_ string, e fs.DirEntry, err error) error {
			if info, ierr := e.Info(); err == nil && ierr == nil && !e.IsDir() {
				n += info.Size()
			}
			return err
		})
		return n
	}
	first := size()
	record := filepath.Join(dir, "old/srv/diary/2025/a.rec")
	fatal.If(t, os.WriteFile(record, []byte("changed"), 0o644))
	killedAnywhere(t, rand.New(rand.NewPCG(5, 5)), 8, 2, 600*time.Millisecond, dir, "pack", "--kit", "kit", "--root", "old")
	step(t, 0, dir, "old", "pack")
	if grown := size() - first; grown <= 0 || grown > 20<<20 {
		t.Errorf("the first state has %d bytes, the second adds %d", first, grown)
	}
	must(t, 0, dir, "inspect", "--kit", "kit")
	step(t, 0, dir, "new", "unpack", "--state", "newest")
	same(t, filepath.Join(dir, "old/srv/diary"), filepath.Join(dir, "new/srv/diary"))
	// A damaged section is sealed again.
	sections, _ := filepath.Glob(filepath.Join(dir, "kit/sealed/diary/diary.tar.*"))
	fatal.If(t, os.WriteFile(sections[0], []byte("spoilt"), 0o600))
	must(t, 1, dir, "inspect", "--kit", "kit")
	step(t, 0, dir, "old", "pack", "--states", "1")
	must(t, 0, dir, "inspect", "--kit", "kit")

	need(t, "age", "zstd", "tar", "script")
	readme, _ := os.ReadFile(filepath.Join(dir, "kit/README.txt"))
	_, line, _ := strings.Cut(string(readme), "for p in $(grep")
	line, _, _ = strings.Cut(line, "\n\n")
	line = "for p in $(grep" + strings.NewReplacer("APP", "diary", "ITEM", "diary").Replace(line)
	unwrap := exec.Command("script", "-qec", "age -d -o identity.txt key.age", "/dev/null") // age asks in a terminal
	unwrap.Dir, unwrap.Stdin = filepath.Join(dir, "kit"), strings.NewReader(passphrase+"\n")
	if out, err := unwrap.CombinedOutput(); err != nil {
		t.Fatalf("age: %v %s", err, out)
	}
	fatal.If(t, os.Mkdir(filepath.Join(dir, "kit/out"), 0o755))
	extract := exec.Command("bash", "-o", "pipefail", "-ec", line)
	extract.Dir = filepath.Join(dir, "kit")
	if out, err := extract.CombinedOutput(); err != nil {
		t.Fatalf("%s: %v %s", line, err, out)
	}
	same(t, filepath.Join(dir, "old/srv/diary"), filepath.Join(dir, "kit/out"))
}

// TestStatesAfterPathUpdates changes the number of states after an unpack has sealed path updates: every state that status lists can
// be unpacked.
func TestStatesAfterPathUpdates(t *testing.T) {
	t.Parallel()
	dir := office(t)
	lay.Out(t, dir, map[string]string{"old/srv/tide/tide.ini": "home=/srv/tide/berths\n", "old/srv/tide/day": "0", "tide.yaml": `card: 1
name: tide
title: Tidewright
items:
  - {name: settings, kind: folder, path: /srv/tide, update-paths: ['*.ini']}
`})
	must(t, 0, dir, "new", "kit", "--root", "old", "--cards", "tide.yaml", "--keep")
	for n := range 3 {
		lay.Out(t, dir, map[string]string{"old/srv/tide/day": fmt.Sprint(n)})
		step(t, 0, dir, "old", "pack")
		time.Sleep(1100 * time.Millisecond) // a state is named by its second
	}
	step(t, 0, dir, "new", "unpack", "--place", "tide/settings=/data/tide", "--yes")
	if data, _ := os.ReadFile(filepath.Join(dir, "new/data/tide/tide.ini")); string(data) != "home=/data/tide/berths\n" {
		t.Fatalf("the paths were not updated: %q", data)
	}
	step(t, 0, dir, "old", "pack", "--states", "2")
	must(t, 0, dir, "inspect", "--kit", "kit")
	var status struct {
		States []struct{ At time.Time }
	}
	out := step(t, 0, dir, "old", "status", "--json")
	fatal.If(t, json.Unmarshal([]byte(out.out), &status))
	if len(status.States) != 2 {
		t.Fatalf("states: %v", status.States)
	}
	for i, want := range []string{"1", "2"} {
		step(t, 0, dir, "new", "unpack", "--yes", "--state", status.States[i].At.Local().Format(time.DateTime))
		if data, _ := os.ReadFile(filepath.Join(dir, "new/data/tide/day")); string(data) != want {
			t.Errorf("state %d is day %q, want %q", i, data, want)
		}
	}
}
