package kit

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"movekit/internal/core/fault"
	"movekit/internal/core/journal"
	"movekit/test/fatal"
	"movekit/test/lay"
)

// TestInspectedFiles counts the files that an inspection reads, with and without those that are left for later.
func TestInspectedFiles(t *testing.T) {
	dir := madeKit(t)
	k, err := Open(dir)
	fatal.If(t, err)
	files, size := 0, int64(0)
	filepath.WalkDir(dir, func(path string, e os.DirEntry, err error) error {
		name, _ := filepath.Rel(dir, path)
		if _, known := k.sums[filepath.ToSlash(name)]; known {
			info, _ := e.Info()
			files, size = files+1, size+info.Size()
		}
		return err
	})
	in, err := Inspect(ctx, dir, nil, nil, nil, nil)
	if err != nil || in.Files != files || in.Bytes != size || k.TotalBytes(nil, nil) != size || !in.Whole() {
		t.Errorf("%d files of %d bytes, and %d bytes: %+v %v", files, size, k.TotalBytes(nil, nil), in, err)
	}
	parts, _ := filepath.Glob(filepath.Join(dir, SealedDir, "hoistbook", "*.001"))
	name := SealedDir + "/hoistbook/" + filepath.Base(parts[0])
	info, err := os.Stat(parts[0])
	fatal.If(t, err)
	later := map[string]int64{name: info.Size()}
	if got := k.TotalBytes(nil, later); got != size-info.Size() {
		t.Errorf("without one file: %d of %d bytes", got, size)
	}
	data, _ := os.ReadFile(parts[0])
	data[0] ^= 1
	fatal.If(t, os.WriteFile(parts[0], data, 0o644))
	if in, err := Inspect(ctx, dir, nil, nil, later, nil); err != nil || in.Files != files-1 || !in.Whole() {
		t.Errorf("the file is read: %+v %v", in, err)
	}
	for _, wrong := range [][]byte{data[1:], append(data, 0), nil} {
		if os.Remove(parts[0]); wrong != nil {
			os.WriteFile(parts[0], wrong, 0o644)
		}
		if d, err := k.Inspect(ctx, nil, later, nil); err != nil || len(d) != 1 || d[0].File != name || d[0].App != "hoistbook" {
			t.Errorf("a file of %d bytes: %v %v", len(wrong), d, err)
		}
	}
}

// TestUnreadableChecksums reports the checksums, and not every file that they do not list.
func TestUnreadableChecksums(t *testing.T) {
	dir := madeKit(t)
	lay.Out(t, dir, map[string]string{ChecksumsFile: "\x00 no checksums\n"})
	d := damage(t, dir)
	if len(d) != 1 || d[0].File != ChecksumsFile {
		t.Errorf("%v", d)
	}
}

// TestRecord stores the record of a kit. Its checksums and journal belong together.
func TestRecord(t *testing.T) {
	dir, to := madeKit(t), filepath.Join(t.TempDir(), "deep", "record")
	fatal.If(t, KeepRecord(dir, to))
	sums, err := readSums(to)
	fatal.If(t, err)
	for name := range sums {
		if name == journal.File || name == journal.HeadFile || strings.HasPrefix(name, SealedDir) || name == KeyFile {
			t.Errorf("it lists %s", name)
		}
	}
	for _, name := range []string{ManifestFile, ReadmeFile, CardsDir + "/hoistbook.yaml", "report/handover.txt"} {
		if sums[name] == "" {
			t.Errorf("it does not list %s", name)
		}
	}
	if log, err := journal.Read(to); err != nil || len(log.Lines) != 2 || len(log.Damage) > 0 {
		t.Errorf("%+v %v", log, err)
	}
}

// TestFolderOfNewKit creates a kit in a new or empty folder, or in one with files of the system only.
func TestFolderOfNewKit(t *testing.T) {
	for name, c := range map[string]struct {
		files map[string]string
		fine  bool
	}{
		"empty": {nil, true}, "of the system": {map[string]string{".DS_Store": "x"}, true}, "with a letter": {map[string]string{"letter.txt": "x"}, false},
		"with sealed data": {map[string]string{ManifestFile: "x", SealedDir + "/a/b": "x"}, false},
	} {
		dir := filepath.Join(t.TempDir(), "kit")
		fatal.If(t, os.Mkdir(dir, 0o755))
		lay.Out(t, dir, c.files)
		k, err := Create(dir, New{Tool: "test", Passphrase: pass, Work: 1, Old: Computer{Name: "OLD", System: "linux"}, New: Computer{Name: "NEW", System: "linux"}})
		if err == nil {
			k.Close()
		}
		if (err == nil) != c.fine || err != nil && fault.KindOf(err) != fault.Usage {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// TestNamesInManifest accepts names that file names can contain.
func TestNamesInManifest(t *testing.T) {
	for name, fine := range map[string]bool{"QUAY": true, "": true, strings.Repeat("q", 255): true, strings.Repeat("q", 256): false, "a/b": false, `a\b`: false, "a\x01": false} {
		for _, m := range []Manifest{{Old: Computer{Name: name}}, {New: Computer{Name: name}}, {Office: name}} {
			if m.ID = "0123456789abcdef"; m.usable() != fine {
				t.Errorf("%.20q: %v", name, !fine)
			}
		}
	}
	for _, id := range []string{"", "0123456789abcde", "0123456789ABCDEF", "../3456789abcdef"} {
		if m := (&Manifest{ID: id}); m.usable() {
			t.Errorf("the id %q is accepted", id)
		}
	}
}
