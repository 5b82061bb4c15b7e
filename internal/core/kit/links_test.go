package kit

import (
	"os"
	"path/filepath"
	"testing"

	"movekit/internal/core/fault"
	"movekit/internal/core/journal"
	"movekit/internal/core/seal"
	"movekit/test/fatal"
	"movekit/test/lay"
)

// TestPlantedLinks puts links into a kit, as somebody could who has the stick for a moment: no file outside of it is written,
// read or removed.
func TestPlantedLinks(t *testing.T) {
	t.Parallel()
	for _, folder := range []bool{true, false} {
		dir, outside := madeKit(t), t.TempDir()
		lay.Out(t, outside, map[string]string{"letter": "mine", "below/letter": "mine"})
		unchanged := func(what string) {
			t.Helper()
			for _, name := range []string{"letter", "below/letter"} {
				if data, err := os.ReadFile(filepath.Join(outside, name)); err != nil || string(data) != "mine" {
					t.Errorf("%s: %s is now %q, %v", what, name, data, err)
				}
			}
			if all, _ := filepath.Glob(filepath.Join(outside, "*")); len(all) != 2 {
				t.Errorf("%s: %v", what, all)
			}
		}
		fatal.If(t, os.Symlink(outside, filepath.Join(dir, SealedDir, "else")))
		fatal.If(t, os.Symlink(filepath.Join(outside, "letter"), filepath.Join(dir, ReportDir, "note.txt"+journal.Unfinished)))
		fatal.If(t, os.Symlink(filepath.Join(outside, "letter"), filepath.Join(dir, SealedDir, "hoistbook", "new.tar"+seal.Ending+".001"+seal.Unfinished)))
		k, err := Open(dir)
		fatal.If(t, err)
		fatal.If(t, k.Lock())
		fatal.If(t, k.Unlock(pass))
		fatal.If(t, k.WriteReport("note.txt", []byte("written")))
		w, err := k.Seal("hoistbook", "new.tar"+seal.Ending, seal.Options{PartSize: 400})
		fatal.If(t, err)
		_, err = w.Close()
		fatal.If(t, err)
		if _, err := k.Seal("else", "new.tar"+seal.Ending, seal.Options{}); err == nil {
			t.Error("sealed through a link")
		}
		fatal.If(t, k.Tidy())
		unchanged("tidied")
		if folder { // the folders of the kit themselves
			for _, name := range []string{SealedDir, ReportDir} {
				fatal.If(t, os.Rename(filepath.Join(dir, name), filepath.Join(dir, name+"-2")))
				fatal.If(t, os.Symlink(outside, filepath.Join(dir, name)))
			}
			if err := k.Tidy(); fault.KindOf(err) != fault.Hostile {
				t.Errorf("tidied: %v", err)
			}
			if err := k.WriteReport("note.txt", nil); err == nil {
				t.Error("wrote a report through a link")
			}
			if err := KeepRecord(dir, t.TempDir()); fault.KindOf(err) != fault.Hostile {
				t.Errorf("kept the record: %v", err)
			}
			unchanged("folders")
		}
		_, err = k.Record(journal.Line{Event: journal.EventClosed}, Closed{})
		fatal.If(t, err)
		fatal.If(t, k.Close())
		fatal.If(t, Empty(ctx, dir))
		unchanged("emptied")
		if _, err := os.Lstat(filepath.Join(dir, SealedDir)); !os.IsNotExist(err) {
			t.Errorf("not emptied: %v", err)
		}
	}
}
