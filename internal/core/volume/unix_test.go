//go:build linux

package volume

import (
	"os"
	"path/filepath"
	"slices"
	"testing"
)

// TestVolumes finds the disk of existing and future paths.
func TestVolumes(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "file")
	os.WriteFile(file, nil, 0o600)
	want, err := Of(dir)
	if err != nil || want.ID == "" || want.Free == 0 || want.MaxFile != 0 {
		t.Fatalf("%+v %v", want, err)
	}
	for _, path := range []string{file, filepath.Join(dir, "a/b/c"), filepath.Join(file, "x")} {
		if v, err := Of(path); err != nil || v.ID != want.ID {
			t.Errorf("%s is on %+v, %v", path, v, err)
		}
	}
	if v, err := Of("/proc/self"); err != nil || v.ID == want.ID {
		t.Errorf("/proc is on %+v, %v", v, err)
	}
}

// TestMounts finds the root, and file systems that are no disks.
func TestMounts(t *testing.T) {
	root := slices.ContainsFunc(Mounts(), func(m Mount) bool { return m.Path == "/" && !m.Remote })
	proc := slices.ContainsFunc(Mounts(), func(m Mount) bool { return m.Path == "/proc" && m.Foreign })
	if !root || !proc || Remote(t.TempDir()) {
		t.Errorf("%+v", Mounts())
	}
}
