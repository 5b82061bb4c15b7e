package machine

import (
	"os"
	"path/filepath"
	"testing"

	"movekit/internal/core/fault"
	"movekit/test/lay"
)

// TestDrives has folders stand for the drives of a disk, and two drives change places.
func TestDrives(t *testing.T) {
	root, other := lay.Disk(t, "windows", map[string]string{"Users/Maren/x": "", "Daten/Alt/y": ""}), t.TempDir()
	lay.Out(t, other, map[string]string{"Boats/list.txt": "Tern", "out": "-> /etc"})
	c, err := Open(root)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := c.Locate(`D:\Boats`, nil); fault.KindOf(err) != fault.Missing {
		t.Errorf("a drive that is not there: %v", err)
	}
	if moved, err := c.SetDrive("d", other); err != nil || moved {
		t.Fatalf("mounted: %v %v", moved, err)
	}
	real, err := c.Locate(`D:\boats\LIST.TXT`, nil)
	if want, _ := filepath.EvalSymlinks(filepath.Join(other, "Boats/list.txt")); err != nil || real != want {
		t.Errorf("it is at %s (%v)", real, err)
	}
	if got := Spoken(c, real); got != `D:\Boats\list.txt` {
		t.Errorf("it is called %s", got)
	}
	if back, err := Real(c, `D:\Boats\list.txt`); err != nil || back != real {
		t.Errorf("the way back leads to %s (%v)", back, err)
	}
	if on, is := c.OnDrive(filepath.Join(filepath.Dir(filepath.Dir(real)), ".Hidden")); on != `D:\.Hidden` || !is {
		t.Errorf("what is hidden on it is called %s", on)
	}
	// A link stays on its drive.
	if out, err := c.Locate(`D:\out\passwd`, nil); err != nil || filepath.Dir(filepath.Dir(out)) == "/" {
		t.Errorf("a link leads to %s (%v)", out, err)
	}
	// What was on E: of another computer is on C: here, and what was on C: on D:.
	for letter, folder := range map[string]string{"E": `C:\Daten\Alt`, "C:": `D:\`} {
		if moved, err := c.SetDrive(letter, folder); err != nil || !moved {
			t.Fatalf("%s: %v %v", letter, moved, err)
		}
	}
	for path, want := range map[string]string{`E:\y`: `C:\Daten\Alt\y`, `C:\Boats\list.txt`: `D:\Boats\list.txt`} {
		real, err := c.Locate(path, nil)
		if err != nil || Spoken(c, real) != want {
			t.Errorf("%s is at %s (%v), want %s", path, Spoken(c, real), err, want)
		}
		if _, err := os.Stat(real); err != nil {
			t.Error(err)
		}
		if back, err := Real(c, want); err != nil || back != real {
			t.Errorf("the way back of %s leads to %s (%v)", want, back, err)
		}
	}
	for _, bad := range [][2]string{{"", other}, {"DD", other}, {"5", other}, {"F", filepath.Join(other, "none")}} {
		if _, err := c.SetDrive(bad[0], bad[1]); err == nil {
			t.Errorf("%v was taken", bad)
		}
	}
}
