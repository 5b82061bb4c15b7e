package tree

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"

	"movekit/test/lay"
)

// TestWithdraw takes a merged folder back: what was there before is there again,
// what is not ours stays, and what was changed since is kept.
func TestWithdraw(t *testing.T) {
	dir := t.TempDir()
	lay.Out(t, dir, map[string]string{"old/a": "1", "old/sub/b": "2", "old/sub/c": "3", "old/d": "4"})
	var data, list bytes.Buffer
	if _, err := (Source{Root: filepath.Join(dir, "old")}).Archive(t.Context(), &data, &list, nil); err != nil {
		t.Fatal(err)
	}
	lay.Out(t, dir, map[string]string{
		"new/a": "1", "new/sub/b": "2", "new/sub/c": "worked in", "new/d": "not ours", "new/other": "theirs", // d was never put there: nothing was set aside for it
		"aside/a": "before a", "aside/sub/c": "before c",
	})
	for range 2 { // again, as after a run that was cut off
		w, err := Withdraw(t.Context(), filepath.Join(dir, "new"), filepath.Join(dir, "aside"), filepath.Join(dir, "kept"), NewListReader(bytes.NewReader(list.Bytes())))
		if err != nil {
			t.Fatal(err)
		}
		t.Logf("%+v", *w)
		for name, want := range map[string]string{"new/a": "before a", "new/sub/c": "before c", "new/d": "not ours", "new/other": "theirs", "kept/sub/c": "worked in"} {
			if got, err := os.ReadFile(filepath.Join(dir, name)); err != nil || string(got) != want {
				t.Errorf("%s is %q (%v)", name, got, err)
			}
		}
		for _, gone := range []string{"new/sub/b", "aside"} {
			if _, err := os.Lstat(filepath.Join(dir, gone)); !os.IsNotExist(err) {
				t.Errorf("%s is still there", gone)
			}
		}
	}
}
