package journal

import (
	"errors"
	"os"
	"path/filepath"
	"testing"
)

// TestWriteBelow creates folders below an existing folder, and never that folder.
func TestWriteBelow(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "kit")
	for _, name := range []string{"README.txt", "report/handover.txt"} {
		if err := WriteBelow(dir, name, nil); !os.IsNotExist(err) {
			t.Errorf("%s without its folder: %v", name, err)
		}
	}
	if _, err := os.Stat(dir); err == nil {
		t.Error("the folder was created")
	}
	if err := os.Mkdir(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"README.txt", "report/handover.txt"} {
		if err := WriteBelow(dir, name, []byte(name)); err != nil {
			t.Error(err)
		}
		if data, _ := os.ReadFile(filepath.Join(dir, name)); string(data) != name {
			t.Errorf("%s has %q", name, data)
		}
	}
}

// TestMakeBelow creates only folders that are missing, and follows no link.
func TestMakeBelow(t *testing.T) {
	dir, outside := t.TempDir(), t.TempDir()
	for _, name := range []string{".", "./a/./b", "a/b/c", "a"} {
		if err := MakeBelow(dir, name); err != nil {
			t.Errorf("%s: %v", name, err)
		}
	}
	if _, err := os.Stat(filepath.Join(dir, "a/b/c")); err != nil {
		t.Error(err)
	}
	os.WriteFile(filepath.Join(dir, "file"), nil, 0o600)
	os.Symlink(outside, filepath.Join(dir, "link"))
	for _, name := range []string{"file", "file/x", "link", "link/x"} {
		if err := MakeBelow(dir, name); !errors.Is(err, errNotFolder) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if made, _ := os.ReadDir(outside); len(made) > 0 {
		t.Errorf("created outside: %v", made)
	}
}

// TestWriteFile leaves nothing behind if it fails, and replaces a file only as a whole.
func TestWriteFile(t *testing.T) {
	dir := t.TempDir()
	name := filepath.Join(dir, "a")
	for _, text := range []string{"one", "two"} {
		if err := WriteFile(name, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		if data, _ := os.ReadFile(name); string(data) != text {
			t.Errorf("%q, not %q", data, text)
		}
	}
	os.Mkdir(filepath.Join(dir, "folder"), 0o755)
	if err := WriteFile(filepath.Join(dir, "folder"), []byte("x"), 0o600); err == nil {
		t.Error("a folder was replaced")
	}
	if left, _ := os.ReadDir(dir); len(left) != 2 {
		t.Errorf("left: %v", left)
	}
	// A file of an earlier run that cannot be written to is an error, and stays.
	os.MkdirAll(filepath.Join(dir, "b"+Unfinished, "x"), 0o755)
	if err := WriteFile(filepath.Join(dir, "b"), []byte("x"), 0o600); err == nil {
		t.Error("written over a folder")
	}
}

// TestReadFile reads up to a limit.
func TestReadFile(t *testing.T) {
	name := filepath.Join(t.TempDir(), "a")
	os.WriteFile(name, []byte("12345"), 0o600)
	for limit, ok := range map[int64]bool{4: false, 5: true, 6: true} {
		if data, err := ReadFile(name, limit); (err == nil) != ok || ok && string(data) != "12345" {
			t.Errorf("limit %d: %q %v", limit, data, err)
		}
	}
	if _, err := ReadFile(name+"x", 5); !os.IsNotExist(err) {
		t.Errorf("a missing file: %v", err)
	}
	if _, err := ReadFile(filepath.Dir(name), 5); err == nil {
		t.Error("a folder was read")
	}
}
