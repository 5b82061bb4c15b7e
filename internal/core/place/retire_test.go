package place_test

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"movekit/internal/core/journal"
	"movekit/internal/core/move"
	"movekit/internal/core/run"
	"movekit/internal/core/spare"
	"movekit/internal/core/steps"
	"movekit/test/fatal"
	"movekit/test/lay"
	"movekit/test/office"
)

var ctx = context.Background()

const several = `items:
  - {name: diary, kind: folder, path: /srv/diary, skip: ["*.log"]}
  - {name: mail, kind: folder, path: /srv/mail, include: ["**/*.msg"]}
  - {name: letter, kind: file, path: /srv/letter.txt}
  - {name: boats, kind: sqlite, path: /srv/boats.db}
  - {name: inner, kind: sqlite, path: /srv/diary/in.log, optional: true}
`

// moved is an office whose move is verified.
func moved(t *testing.T) *office.Office {
	o := office.New(t, several, "linux", map[string]string{
		"old/srv/diary/a": "x", "old/srv/diary/deep/b": "y", "old/srv/diary/own.log": "o", "old/srv/letter.txt": "dear",
		"old/srv/mail/in/1.msg": "1", "old/srv/mail/2.msg": "2", "old/srv/mail/index.tmp": "i", "new/srv/.keep": "",
	})
	lay.Database(t, o.Dir+"/old/srv/boats.db", "CREATE TABLE boat (n)", "INSERT INTO boat VALUES (1), (2)")
	lay.Database(t, o.Dir+"/old/srv/diary/in.log", "CREATE TABLE boat (n)", "INSERT INTO boat VALUES (3)")
	o.Pack()
	o.Unpack()
	if out := o.Verify(); !out.Equal() {
		t.Fatalf("not proven: %+v", out)
	}
	return o
}

// TestRetire sets the old data aside, moves it back, and removes it, with every run interrupted
// again and again.
func TestRetire(t *testing.T) {
	t.Parallel()
	o := moved(t)
	old := filepath.Join(o.Dir, "old/srv")
	before := office.Files(t, old)
	out := office.WhateverCut(o, o.Old, (*move.Move).Retire)
	aside := []string{
		"boats.db(aside)", "boats.db.moved-to-NEW.txt", "diary(aside)/a", "diary(aside)/deep/b", "diary(aside)/in.log(aside)", "diary(aside)/in.log.moved-to-NEW.txt", "diary(aside)/own.log", "diary.moved-to-NEW.txt", "letter.txt(aside)",
		"letter.txt.moved-to-NEW.txt", "mail(aside)/2.msg", "mail(aside)/in/1.msg", "mail.moved-to-NEW.txt", "mail/index.tmp",
	}
	if got := office.Files(t, old); !slices.Equal(got, aside) {
		t.Fatalf("set aside: %q", got)
	}
	if note := o.Text("old/srv/diary.moved-to-NEW.txt"); !strings.Contains(note, "moved to the computer NEW, at\n  /srv/diary\n") || !strings.Contains(note, "\n  /srv/diary.set-aside-") || strings.Contains(note, o.Dir) {
		t.Errorf("the note says %s", note)
	}
	if s := o.Job(o.New).State; len(out.Items) != 5 || out.Items[0].Item != "diary" || s.Progress(o.Kit.Cards[0], steps.Retire) != steps.Yes || s.Next(o.Kit.Cards).Step != steps.Report {
		t.Errorf("%+v, next %v", out.Items, s.Next(o.Kit.Cards))
	}
	// Another run finds no change, and sets nothing aside twice.
	if again := o.Only(o.Job(o.Old).Retire(ctx)); slices.ContainsFunc(again.Items, func(i run.ItemOutcome) bool { return i.Did != "retired already" }) {
		t.Errorf("once more: %+v", again.Items)
	}

	// The app was started, and created new data in the old place.
	lay.Out(t, o.Dir, map[string]string{"old/srv/diary/empty": ""})
	office.WhateverCut(o, o.Old, (*move.Move).Return)
	back := slices.Sorted(slices.Values(append([]string{"diary(aside)/empty"}, before...)))
	if got := office.Files(t, old); !slices.Equal(got, back) {
		t.Fatalf("given back: %q", got)
	}
	if o.Job(o.Old).State.Progress(o.Kit.Cards[0], steps.Retire) != steps.No {
		t.Error("it still counts as set aside")
	}

	office.WhateverCut(o, o.Old, (*move.Move).Retire)
	remove := func(m *move.Move, c context.Context) ([]*run.Outcome, error) { return m.RemoveRetired(c, "sold") }
	if got := office.Blocked(o.Only(remove(o.Job(o.Old), ctx))); got != "handed-over" {
		t.Errorf("removing is stopped by %q", got)
	}
	_, err := o.Kit.Record(journal.Line{Event: journal.EventReported}, steps.Reported{To: "/srv/papers"})
	fatal.If(t, err)
	// Data that was modified since does not match the verified data.
	asides, _ := filepath.Glob(old + "/boats.db.set-aside-*")
	lay.Database(t, asides[0], "INSERT INTO boat VALUES (3)")
	out = office.WhateverCut(o, o.Old, remove)
	did := map[string]string{}
	for _, i := range out.Items {
		did[i.Item] = i.Did
	}
	if did["boats"] != "changed" || !strings.HasPrefix(did["diary"], "removed") || !strings.HasPrefix(did["mail"], "removed") || !strings.HasPrefix(did["inner"], "removed") {
		t.Errorf("removed: %v", did)
	}
	if got := office.Blocked(o.Only(o.Job(o.New).Undo(ctx))); got != "old-data-exists" {
		t.Errorf("taking it back on the new computer is stopped by %q", got)
	}
	left := []string{"boats.db(aside)", "boats.db.moved-to-NEW.txt", "diary(aside)/empty", "diary(aside)/in.log.moved-to-NEW.txt", "diary(aside)/own.log", "diary.moved-to-NEW.txt", "letter.txt.moved-to-NEW.txt", "mail.moved-to-NEW.txt", "mail/index.tmp"}
	if got := office.Files(t, old); !slices.Equal(got, left) {
		t.Errorf("left: %q", got)
	}
}

// TestRetireNeedsProof stops if data is not verified or not sealed.
func TestRetireNeedsProof(t *testing.T) {
	t.Parallel()
	o := moved(t)
	lay.Out(t, o.Dir, map[string]string{"old/srv/diary/later": "z"})
	out := o.Only(o.Job(o.Old).Retire(ctx))
	if office.Blocked(out) != "old-unchanged" || !strings.Contains(out.Blocks[0].Why, "later was not in the sealed data") {
		t.Errorf("%+v", out.Blocks)
	}
	if got := office.Blocked(o.Only(o.Job(o.New).Retire(ctx))); got != "old-computer" {
		t.Errorf("on the new computer: %q", got)
	}
	o.Pack() // another content, which is not proven
	if got := office.Blocked(o.Only(o.Job(o.Old).Retire(ctx))); got != "verified" {
		t.Errorf("not proven: %q", got)
	}
	if got := office.Files(t, filepath.Join(o.Dir, "old/srv")); slices.ContainsFunc(got, func(f string) bool { return strings.Contains(f, "aside") }) {
		t.Errorf("%q", got)
	}
	// One item alone.
	o.Unpack()
	o.Verify()
	j := o.Job(o.Old)
	j.Items = []string{"app/letter"}
	if out := o.Only(j.Retire(ctx)); len(out.Items) != 1 || o.Text("old/srv/diary/later") != "z" || o.Text("old/srv/letter.txt") != "" {
		t.Errorf("one alone: %+v", out.Items)
	}
}

// TestPackedAgain unpacks again after another pack: unmodified data is replaced, and nothing is set
// aside a second time.
func TestPackedAgain(t *testing.T) {
	t.Parallel()
	o := office.New(t, several, "linux", map[string]string{
		"old/srv/diary/a": "x", "old/srv/letter.txt": "dear", "old/srv/mail/1.msg": "1", "old/srv/mail/2.msg": "2",
		"new/srv/diary/theirs": "t", "new/srv/mail/1.msg": "other", "new/srv/mail/notes": "n", "new/srv/mail/9.msg": "their own", "new/srv/letter.txt": "their letter",
	})
	fleet := o.Dir + "/old/srv/boats.db"
	lay.Database(t, fleet, "CREATE TABLE boat (n)", "INSERT INTO boat VALUES (1)")
	lay.Database(t, o.Dir+"/new/srv/boats.db", "CREATE TABLE other (n)")
	o.Pack()
	o.Unpack()
	lay.Out(t, o.Dir, map[string]string{"new/srv/diary/app.log": "which the card leaves out"})
	first := office.Files(t, o.Dir+"/new/srv")
	lay.Out(t, o.Dir, map[string]string{"old/srv/diary/b": "later", "old/srv/mail/3.msg": "3", "old/srv/letter.txt": "dear all"})
	os.Remove(o.Dir + "/old/srv/mail/2.msg")
	lay.Database(t, fleet, "INSERT INTO boat VALUES (2)")
	o.Pack()
	// Somebody modified the letter meanwhile.
	later := time.Now().Add(time.Hour)
	lay.Out(t, o.Dir, map[string]string{"new/srv/letter.txt": "dear, corrected"})
	os.Chtimes(o.Dir+"/new/srv/letter.txt", later, later)
	out := office.WhateverCut(o, o.New, (*move.Move).Unpack)
	if out := o.Verify(); !out.Equal() {
		t.Fatalf("it differs: %+v", out.Items)
	}
	want := slices.Concat(slices.DeleteFunc(first, func(f string) bool { return f == "mail/2.msg" }), []string{"diary/b", "letter.txt(aside)", "mail/3.msg"})
	slices.Sort(want)
	if got := office.Files(t, o.Dir+"/new/srv"); !slices.Equal(got, want) {
		t.Errorf("after both: %q\nwant %q (%+v)", got, want, out.Items)
	}
	// Undo moves the original data back.
	office.WhateverCut(o, o.New, (*move.Move).Undo)
	for name, want := range map[string]string{"new/srv/diary/theirs": "t", "new/srv/mail/1.msg": "other", "new/srv/mail/notes": "n", "new/srv/mail/9.msg": "their own", "new/srv/diary/b": "", "new/srv/mail/3.msg": "", "new/srv/letter.txt": "dear, corrected"} {
		if got := o.Text(name); got != want {
			t.Errorf("%s holds %q after undo, want %q", name, got, want)
		}
	}
	// Unmodified data is recognised after another pack too.
	fatal.If(t, errors.Join(os.Remove(o.Dir+"/new/srv/mail/1.msg"), os.Remove(o.Dir+"/new/srv/mail/9.msg")))
	first = office.Files(t, o.Dir+"/new/srv")
	if out := o.Unpack(); out.Items[1].Aside != "" {
		t.Errorf("nothing was in the way, and is set aside: %+v", out.Items[1])
	}
	lay.Out(t, o.Dir, map[string]string{"old/srv/mail/1.msg": "one", "old/srv/diary/b": "latest", "old/srv/letter.txt": "dear both"})
	lay.Database(t, fleet, "INSERT INTO boat VALUES (3)")
	o.Pack()
	out = office.WhateverCut(o, o.New, (*move.Move).Undo)
	if got := office.Files(t, o.Dir+"/new/srv"); !slices.Equal(got, first) || o.Text("new/srv/letter.txt") != "dear, corrected" {
		t.Errorf("%q, before %q: %+v", got, first, out.Items)
	}
}

// TestPartInterrupted interrupts the steps for a part of a folder between the files. Existing files are
// set aside once, ours are removed, and undo restores the original files.
func TestPartInterrupted(t *testing.T) {
	t.Parallel()
	o := office.New(t, "items: [{name: mail, kind: folder, path: /srv/mail, include: ['*.msg']}]\n", "linux", map[string]string{
		"old/srv/mail/1.msg": "1", "old/srv/mail/2.msg": "2", "new/srv/mail/1.msg": "t1", "new/srv/mail/8.msg": "t8", "new/srv/mail/9.msg": "t9", "new/srv/mail/notes": "n",
	})
	at := func(name string) string { return filepath.Join(o.Dir, "new/srv", name) }
	cutOff := func(do func(*move.Move, context.Context) ([]*run.Outcome, error), event string, more int) *steps.Item {
		return office.CutAt(o, do, event, more, "mail")
	}
	// half undoes the end of a move from one folder to another: some files are back in the first
	// one.
	half := func(from, rest string, names ...string) {
		fatal.If(t, os.Rename(rest, rest+spare.StageEnding))
		for _, name := range names {
			fatal.If(t, os.Rename(filepath.Join(rest+spare.StageEnding, name), filepath.Join(from, name)))
		}
	}
	o.Pack()
	first := office.Files(t, at(""))
	half(at("mail"), o.Dir+"/new"+cutOff((*move.Move).Unpack, journal.EventPlacing, 0).Placing.Aside, "9.msg")
	for n, text := range []string{"2", "later"} {
		o.Unpack()
		if got, want := office.Files(t, at("")), []string{"mail(aside)/1.msg", "mail(aside)/8.msg", "mail(aside)/9.msg", "mail/1.msg", "mail/2.msg", "mail/notes"}; !slices.Equal(got, want) || o.Text("new/srv/mail/2.msg") != text || !o.Verify().Equal() {
			t.Errorf("unpacked %d: %q", n, got)
		}
		if n == 0 { // packed again, and cut off while ours of before is carried away
			lay.Out(t, o.Dir, map[string]string{"old/srv/mail/2.msg": "later"})
			o.Pack()
			half(at("mail"), o.Dir+"/new"+cutOff((*move.Move).Unpack, journal.EventPlacing, 0).Placing.Plan.Ops[0].To, "2.msg")
		}
	}
	back := o.Dir + "/new" + cutOff((*move.Move).Undo, journal.EventUndoing, 1).Undoing.Back + spare.StageEnding
	fatal.If(t, errors.Join(os.Mkdir(back, 0o755), os.Rename(at("mail/9.msg"), filepath.Join(back, "9.msg"))))
	if out := o.Only(o.Job(o.New).Undo(ctx)); !slices.Equal(office.Files(t, at("")), first) || o.Text("new/srv/mail/1.msg") != "t1" {
		t.Errorf("undone: %q, before %q: %+v", office.Files(t, at("")), first, out.Items)
	}
	// An app writes a file again while it is being set aside: the step completes, and both files
	// are kept.
	half(at("mail"), o.Dir+"/new"+cutOff((*move.Move).Unpack, journal.EventPlacing, 0).Placing.Aside, "9.msg")
	lay.Out(t, o.Dir, map[string]string{"new/srv/mail/8.msg": "written again"})
	o.Unpack()
	if got, want := office.Files(t, at("")), []string{"mail(aside)/1.msg", "mail(aside)/8.msg", "mail(aside)/8.msg(aside)", "mail(aside)/9.msg", "mail/1.msg", "mail/2.msg", "mail/notes"}; !slices.Equal(got, want) || !o.Verify().Equal() {
		t.Errorf("written again: %q", got)
	}
}

// TestKeptTwice undoes an unpack of data that was modified, is interrupted, and finds other data
// created there since.
func TestKeptTwice(t *testing.T) {
	t.Parallel()
	o := office.New(t, "items: [{name: letter, kind: file, path: /srv/letter.txt}]\n", "linux", map[string]string{"old/srv/letter.txt": "dear", "new/srv/.keep": ""})
	o.Pack()
	o.Unpack()
	for n, text := range []string{"dear, corrected", "another"} {
		lay.Out(t, o.Dir, map[string]string{"new/srv/letter.txt": text})
		out, err := move.New(o.Run(&office.Cut{Kit: o.Kit, After: 1 + 99*n}, o.New)).Undo(ctx)
		if fatal.If(t, err); n == 1 && (out[0].Items[0].Aside == "" || len(out[0].Items[0].Notes) != 1 || !slices.Equal(office.Files(t, o.Dir+"/new/srv"), []string{".keep", "letter.txt(aside)", "letter.txt(aside)"})) {
			t.Errorf("%+v, %q", out[0], office.Files(t, o.Dir+"/new/srv"))
		}
	}
}

// TestMountedElsewhere undoes an unpack after the computer's disk was mounted elsewhere.
func TestMountedElsewhere(t *testing.T) {
	t.Parallel()
	o := office.New(t, several, "linux", map[string]string{"old/srv/diary/a": "x", "old/srv/letter.txt": "dear", "old/srv/mail/1.msg": "1", "new/srv/diary/theirs": "t", "new/srv/letter.txt": "theirs"})
	lay.Database(t, o.Dir+"/old/srv/boats.db", "CREATE TABLE boat (n)")
	o.Pack()
	o.Unpack()
	for _, l := range o.Kit.Lines() {
		if strings.Contains(string(l.Data), o.Dir) {
			t.Errorf("the journal names the folder of the disk: %s %s", l.Event, l.Data)
		}
	}
	fatal.If(t, os.Rename(o.Dir+"/new", o.Dir+"/mnt"))
	// Another disk is at the old mount point meanwhile.
	lay.Out(t, o.Dir, map[string]string{"new/srv/diary/a": "x", "new/srv/letter.txt": "dear"})
	elsewhere := office.Open(t, o.Dir+"/mnt")
	o.Only(o.Job(elsewhere).Undo(ctx))
	if o.Text("mnt/srv/diary/theirs") != "t" || o.Text("mnt/srv/diary/a") != "" || o.Text("mnt/srv/letter.txt") != "theirs" || o.Text("new/srv/diary/a") != "x" || o.Text("new/srv/letter.txt") != "dear" {
		t.Errorf("%q and %q", office.Files(t, o.Dir+"/mnt"), office.Files(t, o.Dir+"/new"))
	}
}

// stopping is a context that ends after a number of calls of Err.
type stopping struct {
	context.Context
	left int
}

func (s *stopping) Err() error {
	if s.left--; s.left < 0 {
		return context.Canceled
	}
	return nil
}

// TestRetireHalfway interrupts retire and its way back anywhere, also between two files of one item. No run takes
// what is left in place for the whole item: pack stops, and the same command completes the work.
func TestRetireHalfway(t *testing.T) {
	t.Parallel()
	o := moved(t)
	before := office.Files(t, filepath.Join(o.Dir, "old/srv"))
	halves := 0
	for _, do := range []func(*move.Move, context.Context) ([]*run.Outcome, error){(*move.Move).Retire, (*move.Move).Return} {
		for k := 0; ; k++ {
			out, err := do(o.Job(o.Old), &stopping{ctx, k})
			if err == nil && out[0].Err == nil && len(out[0].Blocks) == 0 {
				break
			}
			if len(out) > 0 && len(out[0].Blocks) > 0 {
				t.Fatalf("after %d: %+v", k, out[0].Blocks)
			}
			mail := o.Job(o.Old).State.Items[steps.Key{App: "app", Item: "mail"}]
			_, one := os.Stat(o.Dir + "/old/srv/mail/2.msg")
			_, other := os.Stat(o.Dir + "/old/srv/mail/in/1.msg")
			got := office.Blocked(o.Pack())
			if half := (one == nil) != (other == nil); half {
				halves++
				if got != "not-set-aside" {
					t.Fatalf("after %d, pack of a half is stopped by %q: %+v", k, got, mail)
				}
			}
			if now := o.Job(o.Old).State.Items[steps.Key{App: "app", Item: "mail"}]; now.Sealed.Files != 2 {
				t.Fatalf("after %d, %d files are sealed", k, now.Sealed.Files)
			}
		}
	}
	if got := office.Files(t, filepath.Join(o.Dir, "old/srv")); !slices.Equal(got, before) {
		t.Errorf("given back: %q", got)
	}
	if halves < 2 {
		t.Errorf("cut between two files %d times", halves)
	}
}

// TestPackAfterRetire does not seal what somebody created in the place of retired data.
func TestPackAfterRetire(t *testing.T) {
	t.Parallel()
	o := moved(t)
	o.Only(o.Job(o.Old).Retire(ctx))
	if out := o.Pack(); len(out.Blocks) > 0 || slices.ContainsFunc(out.Items, func(i run.ItemOutcome) bool { return i.Did == "sealed" }) {
		t.Errorf("nothing is there: %+v", out)
	}
	lay.Out(t, o.Dir, map[string]string{"old/srv/mail/new.msg": "n", "old/srv/letter.txt": "new"})
	out := o.Pack()
	if office.Blocked(out) != "not-set-aside" || !strings.Contains(out.Blocks[0].Why, "mail (all of its data), letter (all of its data)") {
		t.Errorf("%+v", out)
	}
	o.Only(o.Job(o.Old).Return(ctx))
	if out := o.Pack(); len(out.Blocks) > 0 {
		t.Errorf("given back: %+v", out.Blocks)
	}
}
