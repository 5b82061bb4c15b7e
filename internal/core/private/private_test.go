package private

import (
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
)

// TestFolder checks that each run has its own folder, removes it, and that the next run removes the
// folder of a killed one.
func TestFolder(t *testing.T) {
	above := filepath.Join(t.TempDir(), "a", "private")
	one, two := &Folder{Above: above}, &Folder{Above: above}
	if err := one.Drop(); err != nil {
		t.Errorf("nothing was made: %v", err)
	}
	dir, err := one.Dir()
	again, _ := one.Dir()
	if err != nil || dir == "" || again != dir {
		t.Fatalf("%q %q %v", dir, again, err)
	}
	if info, err := os.Stat(dir); err != nil || info.Mode().Perm() != 0o700 {
		t.Errorf("others may look: %v %v", info.Mode(), err)
	}
	os.WriteFile(filepath.Join(dir, "snapshot"), []byte("x"), 0o600)
	other, err := two.Dir()
	if err != nil || other == dir {
		t.Fatalf("%q %v", other, err)
	}
	left := func() int {
		found, _ := filepath.Glob(filepath.Join(above, "run-*"))
		return len(found)
	}
	if two.Sweep(); left() != 2 {
		t.Errorf("%d folders are there, and two are in use", left())
	}
	third := &Folder{Above: above}
	if _, err := third.Dir(); err != nil {
		t.Fatal(err)
	}
	one.lock.Unlock() // as when it is killed, like those before and after in the alphabet
	for _, name := range []string{"run-", "run-z"} {
		os.Mkdir(filepath.Join(above, name), 0o700)
		os.WriteFile(filepath.Join(above, name, lockFile), nil, 0o600)
	}
	if two.Sweep(); left() != 2 {
		t.Errorf("%d folders are there, and two are in use", left())
	}
	if err := third.Drop(); err != nil || left() != 1 {
		t.Errorf("%d folders are there, and one is in use: %v", left(), err)
	}
	if err := two.Drop(); err != nil || left() != 0 {
		t.Errorf("%d folders are left: %v", left(), err)
	}
	if _, err := os.Stat(above); err == nil {
		t.Error("the folder above is left")
	}
	os.MkdirAll(filepath.Dir(above), 0o755)
	os.WriteFile(above, nil, 0o600)
	blocked := &Folder{Above: filepath.Join(above, "below a file")}
	if _, err := blocked.Dir(); err == nil {
		t.Error("a folder below a file")
	}
}

// TestOnlyMine rejects folders that another user can change or replace.
func TestOnlyMine(t *testing.T) {
	if runtime.GOOS == "windows" {
		t.Skip("Windows protects profiles by access lists")
	}
	base := t.TempDir()
	open, link := filepath.Join(base, "open"), filepath.Join(base, "link")
	for name, mode := range map[string]os.FileMode{"mine": 0o700, "shown": 0o755, "open": 0o777} {
		os.Mkdir(filepath.Join(base, name), 0o700)
		os.Chmod(filepath.Join(base, name), mode)
	}
	os.Mkdir(filepath.Join(open, "below"), 0o700)
	os.Symlink(open, link)
	for path, want := range map[string]bool{"mine": true, "mine/new/folder": true, "shown": false, "open": false, "open/below": false, "link": false, "link/below": false} {
		dir := filepath.Join(base, path)
		_, err := (&Folder{Above: dir}).Dir()
		if got := err == nil; got != want {
			t.Errorf("%s can be used: %v, %v", path, got, err)
		}
	}
	// A folder of another user in the place of the usual one, and no home at all.
	t.Setenv("XDG_CACHE_HOME", open)
	if dir, err := Cache(); err == nil && strings.HasPrefix(dir, open) {
		t.Errorf("the cache is in %s", dir)
	}
	t.Setenv("XDG_CACHE_HOME", "")
	t.Setenv("HOME", "")
	t.Setenv("TMPDIR", base)
	f := &Folder{}
	dir, err := f.Dir()
	if err != nil || !isPrivate(dir) {
		t.Errorf("without a home: %q %v", dir, err)
	}
	f.Drop()
}
