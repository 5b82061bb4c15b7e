package test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"movekit/test/fatal"
)

// TestRun does everything that is due with two commands, one on each computer, and stops where a person decides.
func TestRun(t *testing.T) {
	t.Parallel()
	dir := settled(t)
	os.RemoveAll(filepath.Join(dir, "kit"))
	must(t, 0, dir, "new", "kit", "--root", "old", "--cards", "diary.yaml", "--to", "NEW")
	if s := step(t, 0, dir, "old", "run"); !strings.Contains(s.err, "$ movekit pack --kit kit --root old") || !strings.Contains(s.out, "Next is unpack on NEW") {
		t.Errorf("on the old computer: %s%s", s.out, s.err)
	}
	s := step(t, 0, dir, "new", "run", "--existing", "set-aside")
	for _, said := range []string{"$ movekit unpack --existing set-aside", "$ movekit verify"} {
		if !strings.Contains(s.err, said) {
			t.Errorf("no %q on the new computer: %s%s", said, s.out, s.err)
		}
	}
	if !strings.Contains(s.out, "Next is retire on OLD") {
		t.Errorf("the end: %s", s.out)
	}
	// Data is renamed only when a person says so.
	if s := step(t, 0, dir, "old", "run"); !strings.Contains(s.out, "Next is `movekit retire`") || strings.Contains(s.err, "$ movekit retire") {
		t.Errorf("on the old computer again: %s%s", s.out, s.err)
	}
	// A step that is stopped ends the run with its exit code.
	other := settled(t)
	os.RemoveAll(filepath.Join(other, "kit"))
	must(t, 0, other, "new", "kit", "--root", "old", "--cards", "diary.yaml", "--to", "NEW")
	files, err := filepath.Glob(filepath.Join(other, "old/srv/*"))
	fatal.If(t, err)
	for _, f := range files {
		fatal.If(t, os.Rename(f, f+"-away"))
	}
	if s := step(t, 4, other, "old", "run"); !strings.Contains(s.err, "items-present") {
		t.Errorf("a step that is stopped: %s%s", s.out, s.err)
	}
}
