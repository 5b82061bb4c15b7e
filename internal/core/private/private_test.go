package private

import (
	"os"
	"path/filepath"
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
