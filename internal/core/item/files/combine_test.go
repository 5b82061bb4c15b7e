package files

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"movekit/internal/core/fault"
	"movekit/internal/core/filemeta"
	"movekit/test/lay"
)

// TestCombine adds missing files to a folder, and changes no existing file, whatever the names.
func TestCombine(t *testing.T) {
	dir := t.TempDir()
	from, to, outside := filepath.Join(dir, "from"), filepath.Join(dir, "to"), filepath.Join(dir, "outside")
	old := map[string]string{"same": "same", "new.txt": "new", "both.tar.gz": "theirs", "twice": "three", "sub/a": "a", "sub/b": "b", "file/deep/er/x": "x", "file/y": "y", "linked/z": "z", "folder": "a file", "fresh/empty/f": ""}
	lay.Out(t, from, old)
	os.Symlink("new.txt", filepath.Join(from, "link"))
	os.Symlink("new.txt", filepath.Join(from, "link too"))
	now := map[string]string{"same": "same", "both.tar.gz": "ours", "twice": "one", "twice (2)": "two", "sub/a": "other", "sub/own": "own", "file": "a file here", "folder/in": "it", "outside": "x"}
	lay.Out(t, to, now)
	os.Symlink(outside, filepath.Join(to, "linked"))
	os.Symlink("sub/a", filepath.Join(to, "link too"))
	lay.Out(t, outside, map[string]string{"kept": "kept"})
	at := time.Date(2020, 1, 2, 3, 4, 5, 0, time.UTC)
	for _, name := range []string{"new.txt", "fresh"} {
		os.Chmod(filepath.Join(from, name), 0o700)
		os.Chtimes(filepath.Join(from, name), at, at)
		os.Chown(filepath.Join(from, name), 1234, 1234) // as root only
	}
	want := map[string]string{"same": "same", "both.tar.gz": "ours", "twice": "one", "twice (2)": "two", "sub/a": "other", "sub/own": "own", "file": "a file here", "folder/in": "it", "outside": "x", "linked": "-> " + outside, "link too": "-> sub/a",
		"new.txt": "new", "both.tar (2).gz": "theirs", "twice (3)": "three", "sub/a (2)": "a", "sub/b": "b", "file (2)/deep/er/x": "x", "file (2)/y": "y", "linked (2)/z": "z", "folder (2)": "a file", "fresh/empty/f": "", "link": "-> new.txt"}
	for n, count := range []combined{{same: 1, added: 6, numbered: 4}, {same: 11}} { // again, as after a run that was cut off
		done, err := combine(t.Context(), from, to)
		if err != nil || *done != count {
			t.Errorf("the %d. time: %+v %v", n+1, done, err)
		}
		lay.Holds(t, to, want)
		lay.Holds(t, outside, map[string]string{"kept": "kept"})
		old["link"], old["link too"] = "-> new.txt", "-> new.txt"
		lay.Holds(t, from, old)
	}
	info, err := os.Stat(filepath.Join(to, "new.txt"))
	if err != nil || info.Mode() != 0o700 || !info.ModTime().Equal(at) {
		t.Errorf("a file is brought as %v of %v, %v", info.Mode(), info.ModTime(), err)
	}
	if info, _ := os.Stat(filepath.Join(to, "fresh")); info.Mode().Perm() != 0o700 {
		t.Errorf("a folder is brought as %v", info.Mode())
	}
	for _, name := range []string{"new.txt", "fresh"} {
		was, _ := filemeta.OwnerOf(filepath.Join(from, name))
		if is, _ := filemeta.OwnerOf(filepath.Join(to, name)); is != was {
			t.Errorf("%s belonged to %v, and to %v now", name, was, is)
		}
	}
	if _, err := combine(t.Context(), filepath.Join(dir, "none"), to); fault.KindOf(err) != fault.Missing {
		t.Errorf("from nowhere: %v", err)
	}
	if _, err := combine(t.Context(), from, filepath.Join(to, "same", "below a file")); fault.KindOf(err) != fault.CannotPlace {
		t.Errorf("to nowhere: %v", err)
	}
	fresh := filepath.Join(dir, "made")
	if done, err := combine(t.Context(), filepath.Join(from, "sub"), fresh); err != nil || done.added != 2 {
		t.Errorf("into a new folder: %+v %v", done, err)
	}
	lay.Holds(t, fresh, map[string]string{"a": "a", "b": "b"})
}
