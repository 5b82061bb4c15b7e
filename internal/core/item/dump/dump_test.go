package dump

import (
	"os"
	"path/filepath"
	"testing"

	"movekit/internal/core/card"
	"movekit/internal/core/item"
	"movekit/internal/core/machine"
	"movekit/internal/core/run"
	"movekit/test/fatal"
	"movekit/test/lay"
)

// live is a simulated computer on which programs can be run.
type live struct{ machine.Computer }

func (live) Root() string                                        { return "" }
func (live) Locate(path string, _ *machine.User) (string, error) { return path, nil }

// TestLoadInterrupted finishes a load that was interrupted while it removed its marks, whichever are left.
func TestLoadInterrupted(t *testing.T) {
	c, err := machine.Open(lay.Disk(t, "linux", nil))
	fatal.If(t, err)
	for _, left := range [][]string{{saving, partial, loaded}, {partial, loaded}, {loaded}, {partial}} {
		dir := t.TempDir()
		yes, err := os.Executable()
		fatal.If(t, err)
		h := run.NewHost(live{c})
		h.Commands = true
		m := mover{o: &item.Instance{Host: h, Path: filepath.Join(dir, "boats-database"), Item: &card.Item{Name: "database", Dump: &card.Dump{Exists: card.Command{yes, "-test.run=^$"}}}}}
		spare := m.o.Path + ".set-aside-1"
		for _, mark := range left {
			fatal.If(t, os.Mkdir(spare+mark, 0o700))
		}
		if is, err := m.State(t.Context(), m.o.Path, spare, false); is != item.Between || err != nil {
			t.Errorf("with %v it is at %s, %v", left, is, err)
		}
		fatal.If(t, m.MoveIn(t.Context(), spare, m.o.Path, false))
		if is, err := m.State(t.Context(), m.o.Path, spare, false); is != item.AtHome || err != nil {
			t.Errorf("after %v it is at %s, %v", left, is, err)
		}
		if all, _ := os.ReadDir(dir); len(all) > 0 {
			t.Errorf("after %v, %v is left", left, all)
		}
	}
}
