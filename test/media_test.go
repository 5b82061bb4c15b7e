package test

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"movekit/test/fatal"
	"movekit/test/lay"
)

// onSmallMedia creates an office with 36 MB of data, a kit on a medium with 16 MB free, and two more media of 16 MB.
func onSmallMedia(t *testing.T) string {
	t.Helper()
	dir := office(t)
	for _, name := range []string{"first", "second", "third"} {
		at, size := filepath.Join(dir, name), "16m"
		if name == "first" {
			size = "300m" // it has the program, too
		}
		fatal.If(t, os.Mkdir(at, 0o755))
		if err := syscall.Mount("none", at, "tmpfs", 0, "size="+size); err != nil {
			t.Skipf("a small disk cannot be mounted here: %v", err)
		}
		t.Cleanup(func() { syscall.Unmount(at, syscall.MNT_DETACH) })
	}
	for n := range 4 {
		fatal.If(t, os.WriteFile(filepath.Join(dir, fmt.Sprintf("old/srv/diary/scan-%d", n)), noise(9 << 20)[n:], 0o644))
	}
	must(t, 0, dir, "new", "first/kit", "--root", "old", "--cards", "diary.yaml", "--to", "NEW")
	var free syscall.Statfs_t
	fatal.If(t, syscall.Statfs(filepath.Join(dir, "first"), &free))
	fatal.If(t, os.WriteFile(filepath.Join(dir, "first/films"), make([]byte, int64(free.Bavail)*free.Bsize-31<<20), 0o644)) // a twentieth stays free
	return dir
}

// TestSeveralMedia packs onto three media, at a terminal and without, and unpacks from them.
func TestSeveralMedia(t *testing.T) {
	t.Parallel()
	dir := onSmallMedia(t)
	onOld := func(name string, more ...string) []string {
		return append([]string{name, "--kit", "first/kit", "--root", "old"}, more...)
	}
	onNew := func(name string, more ...string) []string {
		return append([]string{name, "--kit", "first/kit", "--root", "new"}, more...)
	}
	must(t, 4, dir, onOld("pack")...).tells(t, "give a folder on it with --medium")
	must(t, 1, dir, onOld("pack", "--medium", "second/rest")...).tells(t, "is full") // not enough either
	if left, _ := filepath.Glob(filepath.Join(dir, "*/*/sealed/*/*.zst.age*")); len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
	lay.Out(t, dir, map[string]string{"third/other/file": "x"})
	out := atTerminal(t, dir, passphrase+"\nthird/other\nthird/rest\n", onOld("pack", "--medium", "second/rest")...)
	for _, want := range []string{"is full", "third/other is not empty", "sealed and verified", "written to first/kit, second/rest and third/rest; you can unplug the sticks"} {
		if !strings.Contains(strings.Join(strings.Fields(out), " "), want) {
			t.Errorf("no %q in %s", want, out)
		}
	}
	both := []string{"--medium", "second/rest", "--medium", "third/rest"}
	if s := must(t, 0, dir, onOld("pack", both...)...); !strings.Contains(s.out, "kept, unchanged") {
		t.Errorf("packed again: %s", s.out)
	}
	// Without the program: check each medium, and join the parts.
	first, _ := filepath.Glob(filepath.Join(dir, "first/kit/sealed/diary/diary.tar.zst.age.*"))
	others, _ := filepath.Glob(filepath.Join(dir, "*/rest/sealed/diary/diary.tar.zst.age.*"))
	if len(first) != 1 || len(others) != 2 {
		t.Fatalf("parts %v and %v", first, others)
	}
	if b3sum, err := exec.LookPath("b3sum"); err == nil {
		for _, at := range []string{"first/kit", "second/rest", "third/rest"} {
			check := exec.Command(b3sum, "-c", "CHECKSUMS.b3")
			check.Dir = filepath.Join(dir, at)
			if out, err := check.CombinedOutput(); err != nil || !bytes.Contains(out, []byte("sealed/diary/diary.tar.zst.age.00")) {
				t.Errorf("b3sum in %s: %v %s", at, err, out)
			}
		}
	}
	// A medium that is not connected. Connected disks are searched, so that it needs no flag.
	must(t, 0, dir, "inspect", "--kit", "first/kit")
	away, here := filepath.Join(dir, "third/drawer/rest"), filepath.Join(dir, "third/rest")
	fatal.If(t, os.Mkdir(filepath.Dir(away), 0o755))
	fatal.If(t, os.Rename(here, away))
	if s := must(t, 1, dir, "inspect", "--kit", "first/kit"); !strings.Contains(s.out, "not connected: medium 3, which has 1 sealed file") {
		t.Errorf("inspect: %s", s.out)
	}
	must(t, 1, dir, onNew("unpack")...).tells(t, "medium 3 of the kit is not connected")
	must(t, 2, dir, onNew("unpack", "--medium", "third/other")...).tells(t, "has no files of the kit")
	out = atTerminal(t, dir, passphrase+"\n\nthird/other\nthird/drawer/rest\n", onNew("unpack")...)
	for _, want := range []string{"Connect medium 3", "No connected disk has it", "third/other is not medium 3", "in place"} {
		if !strings.Contains(out, want) {
			t.Errorf("no %q in %s", want, out)
		}
	}
	fatal.If(t, os.Rename(away, here))
	same(t, filepath.Join(dir, "old/srv/diary"), filepath.Join(dir, "new/srv/diary"))
	must(t, 0, dir, onNew("verify")...)
	// Damage on another medium.
	part, _ := filepath.Glob(filepath.Join(here, "sealed/diary/*"))
	data, err := os.ReadFile(part[0])
	fatal.If(t, err)
	data[len(data)/2] ^= 1
	fatal.If(t, os.WriteFile(part[0], data, 0o600))
	if s := must(t, 1, dir, "inspect", "--kit", "first/kit"); !strings.Contains(s.out, "medium 3: sealed/diary/"+filepath.Base(part[0])+": was changed") {
		t.Errorf("inspect: %s", s.out)
	}
	// Closing empties all of them.
	fatal.If(t, os.Rename(here, away))
	must(t, 0, dir, "report", "--kit", "first/kit", "--to", "papers")
	s := must(t, 0, dir, "close", "--kit", "first/kit", "--yes", "--give-up", "--because", "a rehearsal")
	if !strings.Contains(s.err, "Not connected: medium 3.") {
		t.Errorf("closed: %s", s.err)
	}
	if left, _ := filepath.Glob(filepath.Join(dir, "second/rest/*")); len(left) > 0 {
		t.Errorf("left on the second medium: %v", left)
	}
}

// TestSeveralMediaKilled kills a pack onto two media at random moments, and completes it.
func TestSeveralMediaKilled(t *testing.T) {
	t.Parallel()
	dir := onSmallMedia(t)
	args := []string{"pack", "--kit", "first/kit", "--root", "old", "--medium", "second/rest", "--medium", "third/rest"}
	killedAnywhere(t, rand.New(rand.NewPCG(4, 4)), 12, 4, 900*time.Millisecond, dir, args...)
	must(t, 0, dir, args...)
	must(t, 0, dir, "inspect", "--kit", "first/kit")
	must(t, 0, dir, "unpack", "--kit", "first/kit", "--root", "new")
	same(t, filepath.Join(dir, "old/srv/diary"), filepath.Join(dir, "new/srv/diary"))
	for _, what := range []string{"*/*/sealed/*/*.unfinished", "*/*/*.unfinished"} {
		if left, _ := filepath.Glob(filepath.Join(dir, what)); len(left) > 0 {
			t.Errorf("left behind: %v", left)
		}
	}
	// A file that the journal does not know can belong to a newer copy of the kit.
	newer := filepath.Join(dir, "second/rest/sealed/diary/newer.zst.age")
	fatal.If(t, os.WriteFile(newer, []byte("newer"), 0o600))
	defer func() {
		if _, err := os.Stat(newer); err != nil {
			t.Error(err)
		}
	}()
	// Data that is packed again replaces the earlier parts on every medium.
	fatal.If(t, os.WriteFile(filepath.Join(dir, "old/srv/diary/scan-0"), noise(100), 0o644))
	fatal.If(t, os.WriteFile(filepath.Join(dir, "old/srv/diary/scan-1"), noise(101), 0o644))
	fatal.If(t, os.WriteFile(filepath.Join(dir, "old/srv/diary/scan-2"), noise(102), 0o644))
	fatal.If(t, os.WriteFile(filepath.Join(dir, "old/srv/diary/scan-3"), noise(103), 0o644))
	must(t, 0, dir, "unpack", "--kit", "first/kit", "--root", "new")
	fatal.If(t, os.Remove(filepath.Join(dir, "first/films")))
	must(t, 0, dir, args...)
	must(t, 0, dir, "inspect", "--kit", "first/kit")
	if left, _ := filepath.Glob(filepath.Join(dir, "*/rest/sealed/*/diary*")); len(left) > 0 {
		t.Errorf("earlier parts: %v", left)
	}
}
