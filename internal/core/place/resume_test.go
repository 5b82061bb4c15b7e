package place_test

import (
	"errors"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"movekit/internal/core/journal"
	"movekit/internal/core/move"
	"movekit/internal/core/ready"
	"movekit/internal/core/run"
	"movekit/internal/core/seal"
	"movekit/test/fatal"
	"movekit/test/lay"
	"movekit/test/office"
)

// TestUndoWithoutAside deletes the data that unpack set aside: undo stops at a gate and changes
// nothing. With a reason it removes the unpacked data, and reports that nothing was moved back.
func TestUndoWithoutAside(t *testing.T) {
	t.Parallel()
	o := office.New(t, "items: [{name: diary, kind: folder, path: /srv/diary}, {name: boats, kind: sqlite, path: /srv/boats.db}]\n", "linux", map[string]string{"old/srv/diary/a": "x", "new/srv/diary/theirs": "t"})
	lay.Database(t, o.Dir+"/old/srv/boats.db", "CREATE TABLE boat (n)")
	lay.Database(t, o.Dir+"/new/srv/boats.db", "CREATE TABLE theirs (n)")
	lay.Out(t, o.Dir, map[string]string{"new/srv/boats.db-shm": "its side file stays when somebody deletes the database"})
	o.Pack()
	asides := map[string]string{}
	for _, i := range o.Unpack().Items {
		asides[i.Item] = i.Aside
	}
	fatal.If(t, errors.Join(os.RemoveAll(asides["diary"]), os.Remove(asides["boats"])))
	before := office.Files(t, o.Dir+"/new/srv")
	out := o.Only(o.Job(o.New).Undo(ctx))
	if office.Blocked(out) != "set-aside-exists" || !strings.Contains(out.Blocks[0].Why, "boats (it was at /srv/boats.db.set-aside-") || !strings.Contains(out.Blocks[0].Why, "diary (it was at /srv/diary.set-aside-") || !slices.Equal(office.Files(t, o.Dir+"/new/srv"), before) {
		t.Errorf("%+v, %q", out, office.Files(t, o.Dir+"/new/srv"))
	}
	// One of the two parts is enough for the undo.
	j := o.Job(o.New)
	j.Overrides = map[string]string{"set-aside-exists": "it is lost"}
	out = o.Only(j.Undo(ctx))
	for _, i := range out.Items {
		if i.Back != "" || i.Aside != "" {
			t.Errorf("told to be back: %+v", i)
		}
	}
	if got := office.Files(t, o.Dir+"/new/srv"); len(got) > 1 || len(got) == 1 && !strings.HasSuffix(got[0], "shm") {
		t.Errorf("left: %q", got)
	}
}

// TestUndoInterruptedThenAsideGone interrupts an undo after the unpacked data is moved out, and deletes
// the set-aside data: the next run reports it, changes nothing, and can be continued with a reason.
func TestUndoInterruptedThenAsideGone(t *testing.T) {
	t.Parallel()
	o := office.New(t, "items: [{name: letter, kind: file, path: /srv/letter.txt}]\n", "linux", map[string]string{"old/srv/letter.txt": "dear", "new/srv/letter.txt": "theirs"})
	o.Pack()
	aside := o.Unpack().Items[0].Aside
	_, err := move.New(o.Run(&office.Cut{Kit: o.Kit, After: 1}, o.New)).Undo(ctx)
	fatal.If(t, errors.Join(err, os.Remove(aside)))
	if out := o.Only(o.Job(o.New).Undo(ctx)); office.Blocked(out) != "set-aside-exists" {
		t.Fatalf("%+v", out)
	}
	j := o.Job(o.New)
	j.Overrides = map[string]string{"set-aside-exists": "it is lost"}
	o.Only(j.Undo(ctx))
	if got := office.Files(t, o.Dir+"/new/srv"); len(got) > 0 {
		t.Errorf("left: %q", got)
	}
}

// unreadable is a kit whose data cannot be read. Its lists can.
type unreadable struct{ run.Kit }

func (k unreadable) Open(app string, parts []seal.Part) (io.ReadCloser, error) {
	if !strings.Contains(parts[0].Name, ".list") {
		return nil, office.ErrPulled
	}
	return k.Kit.Open(app, parts)
}

// TestNothingMovesBeforeStaged damages the sealed content, so that staging fails: existing data and an earlier
// unpack's data keep their places.
func TestNothingMovesBeforeStaged(t *testing.T) {
	t.Parallel()
	o := office.New(t, several, "linux", map[string]string{"old/srv/diary/a": "x", "old/srv/letter.txt": "dear", "old/srv/mail/1.msg": "1", "new/srv/diary/theirs": "t", "new/srv/letter.txt": "theirs", "new/srv/mail/1.msg": "m"})
	lay.Database(t, o.Dir+"/old/srv/boats.db", "CREATE TABLE boat (n)")
	o.Pack()
	for round := range 2 {
		before := office.Files(t, o.Dir+"/new/srv")
		j := move.New(o.Run(unreadable{o.Kit}, o.New))
		if out, err := j.Unpack(ctx); err != nil || out[0].Err == nil {
			t.Fatalf("it was unpacked: %+v %v", out[0], err)
		}
		if got := office.Files(t, o.Dir+"/new/srv"); !slices.Equal(got, before) {
			t.Errorf("round %d: %q, before %q", round, got, before)
		}
		o.Unpack()
		lay.Out(t, o.Dir, map[string]string{"old/srv/diary/b": "later", "old/srv/letter.txt": "dear all", "old/srv/mail/2.msg": "2"})
		lay.Database(t, o.Dir+"/old/srv/boats.db", "INSERT INTO boat VALUES (1)")
		o.Pack()
	}
}

// TestSideFilesInterrupted interrupts the rename of a database with a log at each of its steps: a
// database without its log never has a name that an app could open.
func TestSideFilesInterrupted(t *testing.T) {
	t.Parallel()
	theirs := map[string]string{"new/srv/boats.db": "their database", "new/srv/boats.db-wal": "their log", "new/srv/boats.db-journal": "their journal"}
	for what, killed := range map[string]func(home, aside string){
		"before the old side files were removed": func(home, aside string) {
			fatal.If(t, errors.Join(os.Link(aside+"-wal", home+"-wal"), os.Link(aside+"-journal", home+"-journal")))
		},
		"before the database file was renamed": func(home, aside string) {
			fatal.If(t, errors.Join(os.Link(aside+"-wal", home+"-wal"), os.Rename(aside+"-journal", home+"-journal"), os.Rename(aside, home)))
		},
	} {
		o := office.New(t, "items: [{name: boats, kind: sqlite, path: /srv/boats.db}]\n", "linux", theirs)
		lay.Database(t, o.Dir+"/old/srv/boats.db", "CREATE TABLE boat (n)")
		o.Pack()
		killed(filepath.Join(o.Dir, "new/srv/boats.db"), o.Dir+"/new"+office.CutAt(o, (*move.Move).Unpack, journal.EventPlacing, 0, "boats").Placing.Aside)
		o.Unpack()
		if got, want := office.Files(t, o.Dir+"/new/srv"), []string{"boats.db", "boats.db(aside)", "boats.db(aside)journal", "boats.db(aside)wal"}; !slices.Equal(got, want) || !o.Verify().Equal() {
			t.Errorf("%s: %q, want %q", what, got, want)
		}
		o.Only(o.Job(o.New).Undo(ctx))
		for name, text := range theirs {
			if o.Text(name) != text {
				t.Errorf("%s: %s holds %q", what, name, o.Text(name))
			}
		}
	}
	// A log without its database would corrupt a database that is put beside it.
	o := office.New(t, "items: [{name: boats, kind: sqlite, path: /srv/boats.db}]\n", "linux", map[string]string{"new/srv/boats.db-wal": "a log alone"})
	lay.Database(t, o.Dir+"/old/srv/boats.db", "CREATE TABLE boat (n)")
	o.Pack()
	o.Unpack()
	if out := o.Verify(); !out.Equal() || o.Text("new/srv/boats.db-wal") != "" {
		t.Errorf("%+v", out.Items)
	}
}

// TestReturnReportsLaterData creates data at an item's old place after retire, and interrupts the
// return. The new data is reported and kept, and the retired data is back.
func TestReturnReportsLaterData(t *testing.T) {
	t.Parallel()
	for lines := range 4 {
		o := moved(t)
		o.Only(o.Job(o.Old).Retire(ctx))
		lay.Out(t, o.Dir, map[string]string{"old/srv/letter.txt": "made since"})
		j := move.New(o.Run(&office.Cut{Kit: o.Kit, After: lines}, o.Old))
		j.Items = []string{"app/letter"}
		_, err := j.Return(ctx)
		fatal.If(t, err)
		j = o.Job(o.Old)
		j.Items = []string{"app/letter"}
		out := o.Only(j.Return(ctx))
		kept := ""
		for _, name := range office.Files(t, o.Dir+"/old/srv") {
			if strings.HasPrefix(name, "letter.txt(") {
				kept = name
			}
		}
		if o.Text("old/srv/letter.txt") == "made since" || o.Text("old/srv/letter.txt") == "" || kept == "" {
			t.Errorf("%d lines: %q is %q", lines, o.Text("old/srv/letter.txt"), office.Files(t, o.Dir+"/old/srv"))
		}
		if i := out.Items[0]; i.Did == "returned" && i.Aside == "" {
			t.Errorf("%d lines: not reported: %+v", lines, i)
		}
	}
}

// TestUndoWithoutRename interrupts an unpack before it renamed anything, and then somebody creates the data:
// undo has nothing to undo, and does not ask to complete the unpack.
func TestUndoWithoutRename(t *testing.T) {
	t.Parallel()
	for _, theirs := range []string{"", "theirs"} {
		o := office.New(t, "items: [{name: letter, kind: file, path: /srv/letter.txt}]\n", "linux", map[string]string{"old/srv/letter.txt": "dear", "new/srv/x": ""})
		if theirs != "" {
			lay.Out(t, o.Dir, map[string]string{"new/srv/letter.txt": theirs})
		}
		o.Pack()
		out, err := move.New(o.Run(unreadable{o.Kit}, o.New)).Unpack(ctx)
		if err != nil || out[0].Err == nil {
			t.Fatalf("it was unpacked: %+v, %v", out[0], err)
		}
		lay.Out(t, o.Dir, map[string]string{"new/srv/letter.txt": "created since"})
		if did := o.Only(o.Job(o.New).Undo(ctx)).Items[0].Did; did != "nothing" || o.Text("new/srv/letter.txt") != "created since" {
			t.Errorf("existing data %q: undo did %q, and the file is %q", theirs, did, o.Text("new/srv/letter.txt"))
		}
	}
}

// TestReadyRenews announces that unmodified data from an earlier unpack is replaced, and not set aside.
func TestReadyRenews(t *testing.T) {
	t.Parallel()
	o := office.New(t, "items: [{name: letter, kind: file, path: /srv/letter.txt}]\n", "linux", map[string]string{"old/srv/letter.txt": "dear", "new/srv/x": ""})
	o.Pack()
	o.Unpack()
	lay.Out(t, o.Dir, map[string]string{"old/srv/letter.txt": "dear all"})
	o.Pack()
	for _, want := range []string{"unmodified data from an earlier unpack; unpack replaces it", "unpack sets it aside"} {
		r, err := o.Job(o.New).Ready(ctx)
		if err != nil || !slices.ContainsFunc(r.Checks, func(c ready.Check) bool { return strings.HasSuffix(c.Says, want) }) {
			t.Errorf("%+v, %v: want %q", r.Checks, err, want)
		}
		lay.Out(t, o.Dir, map[string]string{"new/srv/letter.txt": "edited here"})
	}
}
