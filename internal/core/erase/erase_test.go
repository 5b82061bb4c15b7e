package erase

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"movekit/internal/core/fault"
	"movekit/test/fatal"
	"movekit/test/lay"
)

// TestErase removes files and folders, never through a link, and can be repeated.
func TestErase(t *testing.T) {
	dir, outside := t.TempDir(), t.TempDir()
	lay.Out(t, dir, map[string]string{"key": "secret", "sealed/a/1": "x", "stays": "y"})
	lay.Out(t, outside, map[string]string{"safe": "z"})
	fatal.If(t, os.Symlink(outside, filepath.Join(dir, "sealed/link")))
	fatal.If(t, os.Link(filepath.Join(dir, "key"), filepath.Join(outside, "second name")))
	for range 2 {
		f := In(t.Context(), dir)
		fatal.If(t, f.Destroy("key"))
		fatal.If(t, f.Remove("sealed"))
	}
	if left, _ := os.ReadDir(dir); len(left) != 1 || left[0].Name() != "stays" {
		t.Errorf("left: %v", left)
	}
	if text, err := os.ReadFile(filepath.Join(outside, "safe")); string(text) != "z" {
		t.Errorf("outside: %q %v", text, err)
	}
	if text, _ := os.ReadFile(filepath.Join(outside, "second name")); len(text) != 6 || string(text) == "secret" {
		t.Errorf("the secret was not overwritten: %q", text)
	}
	ctx, stop := context.WithCancel(t.Context())
	stop()
	if err := In(ctx, dir).Remove("stays"); fault.KindOf(err) != fault.Stopped {
		t.Errorf("after a stop: %v", err)
	}
	if _, err := os.Stat(filepath.Join(dir, "stays")); err != nil {
		t.Errorf("removed after a stop: %v", err)
	}
}
