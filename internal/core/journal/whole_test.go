package journal

import (
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
