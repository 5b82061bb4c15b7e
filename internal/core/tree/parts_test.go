package tree

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
	"movekit/internal/core/filemeta"
	"movekit/internal/core/filename"
	"movekit/internal/core/pathmap"
	"movekit/internal/core/spare"
	"movekit/test/fatal"
	"movekit/test/lay"
)

// TestCarry moves only a source's files, and continues after an interruption.
func TestCarry(t *testing.T) {
	dir := t.TempDir()
	from, to := filepath.Join(dir, "from"), filepath.Join(dir, "to")
	lay.Out(t, from, map[string]string{"a": "1", "sub/deep/b": "2", "sub/c.log": "3", "own/d": "4"})
	at := time.Date(2020, 1, 2, 3, 4, 5, 0, time.UTC)
	os.Chmod(filepath.Join(from, "own"), 0o500)
	os.Chtimes(filepath.Join(from, "own"), at, at)
	os.Chown(filepath.Join(from, "own"), 1234, 1234) // as root only
	was, _ := filemeta.OwnerOf(filepath.Join(from, "own"))
	s := Source{Root: from, Skip: []string{"**/*.log"}, Marked: true}
	for range 2 {
		yielded, err := Carry(t.Context(), s, to, Newcomer)
		if err != nil || len(yielded) > 0 {
			t.Fatal(yielded, err)
		}
		lay.Holds(t, from, map[string]string{"sub/c.log": "3"})
		lay.Holds(t, to, map[string]string{"a": "1", "sub/deep/b": "2", "own/d": "4"})
	}
	if info, err := os.Stat(filepath.Join(to, "own")); err != nil || info.Mode().Perm() != 0o500 || !info.ModTime().Equal(at) {
		t.Errorf("a folder is %v, %v", info, err)
	}
	if is, _ := filemeta.OwnerOf(filepath.Join(to, "own")); is != was {
		t.Errorf("a folder belonged to %v, and to %v now", was, is)
	}
	if _, err := os.Stat(filepath.Join(from, "own")); err == nil {
		t.Error("an empty folder is left")
	}
	lay.Out(t, from, map[string]string{"a": "another"})
	// A file that finds another one under its name keeps the name, or yields. Nothing is
	// overwritten.
	for yields, want := range map[Yields][2]string{Newcomer: {"1", "another"}, Resident: {"another", "1"}} {
		lay.Out(t, dir, map[string]string{fmt.Sprint(yields, "/from/a"): "another", fmt.Sprint(yields, "/to/a"): "1"})
		at := filepath.Join(dir, fmt.Sprint(yields))
		yielded, err := Carry(t.Context(), Source{Root: filepath.Join(at, "from")}, filepath.Join(at, "to"), yields)
		if err != nil || len(yielded) != 1 {
			t.Fatal(yielded, err)
		}
		a, _ := os.ReadFile(filepath.Join(at, "to/a"))
		b, _ := os.ReadFile(yielded[0])
		if [2]string{string(a), string(b)} != want {
			t.Errorf("%v: %q and %q, want %q", yields, a, b, want)
		}
	}
	if err := RemoveFiles(t.Context(), s, nil); err != nil {
		t.Error(err)
	}
	lay.Holds(t, from, map[string]string{"sub/c.log": "3"})
	if _, err := Carry(t.Context(), Source{Root: filepath.Join(dir, "none"), Marked: true}, to, Newcomer); err != nil {
		t.Errorf("nothing there: %v", err)
	}
	os.Symlink(t.TempDir(), filepath.Join(from, "own"))
	if _, err := Carry(t.Context(), Source{Root: to, Include: []string{"own/d"}}, from, Newcomer); runtime.GOOS != "windows" && fault.KindOf(err) != fault.CannotPlace {
		t.Errorf("through a link that leads out: %v", err)
	}
	lay.Holds(t, to, map[string]string{"a": "1", "sub/deep/b": "2", "own/d": "4"})
	unmarked := filepath.Join(dir, "unmarked")
	_, err := Carry(t.Context(), Source{Root: to}, unmarked, Newcomer)
	fatal.If(t, err)
	lay.Holds(t, unmarked, map[string]string{"a": "1", "sub/deep/b": "2", "own/d": "4"})
}

// TestLeftOut counts the files that patterns leave out, by folder, the largest first.
func TestLeftOut(t *testing.T) {
	dir := t.TempDir()
	lay.Out(t, dir, map[string]string{"a.tmp": "12345", "b.tmp": "1", "sub/x/c.tmp": "123", "sub/d.tmp": "1", "cache/e": strings.Repeat("x", 9000), "cache/deep/f": "1", "kept.rec": "1", "empty/x": ""})
	st, err := Source{Root: dir, Skip: []string{"cache", "empty"}, Include: []string{"*.rec"}}.Measure(t.Context(), nil, nil)
	if got, want := st.LeftOut.Lines(), []string{"cache/: 2 files, 9.0 kB", "./: 2 files, 6 B", "sub/: 2 files, 4 B", "empty/: 1 file, 0 B"}; err != nil || !slices.Equal(got, want) {
		t.Errorf("%q, %v", got, err)
	}
	var many LeftOut
	for i := range maxLeftOut + 2 {
		many.add(fmt.Sprintf("f%02d", i), true, 1, int64(100-i))
	}
	if got := many.Lines(); len(got) != maxLeftOut || got[maxLeftOut-2] != "f18/: 1 file, 82 B" || got[maxLeftOut-1] != "3 more: 3 files, 240 B" {
		t.Errorf("of many: %q", got)
	}
	just := LeftOut{}
	for i := range maxLeftOut {
		just.add(fmt.Sprintf("f%02d", i), true, 1, 5)
	}
	if got := just.Lines(); len(got) != maxLeftOut || got[0] != "f00/: 1 file, 5 B" || got[maxLeftOut-1] != "f19/: 1 file, 5 B" {
		t.Errorf("just all: %q", got)
	}
}

// TestStamp checks that the stamp changes with the item.
func TestStamp(t *testing.T) {
	dir := t.TempDir()
	lay.Out(t, dir, map[string]string{"sub/a": "1", "b": "22"})
	os.Link(filepath.Join(dir, "b"), filepath.Join(dir, "c"))
	stamp := func() string {
		t.Helper()
		st, err := Source{Root: dir}.Measure(t.Context(), nil, nil)
		fatal.If(t, err)
		return st.Stamp()
	}
	at := func(name string, year int) {
		os.Chtimes(filepath.Join(dir, name), time.Time{}, time.Date(year, 1, 1, 0, 0, 0, 0, time.UTC))
	}
	at("sub/a", 2020)
	at("b", 2020)
	seen := []string{stamp()}
	if at("sub", 2021); stamp() != seen[0] || !strings.HasPrefix(seen[0], "3 3 ") { // the time of a folder changes also with what the card leaves out
		t.Errorf("%q", seen[0])
	}
	for i, change := range []func(){
		func() { os.Rename(filepath.Join(dir, "c"), filepath.Join(dir, "d")) },
		func() { at("b", 2019) },
		func() { lay.Out(t, dir, map[string]string{"sub/a": "12"}); at("sub/a", 2020) },
		func() { os.Symlink("b", filepath.Join(dir, "l")) },
	} {
		if change(); slices.Contains(seen, stamp()) {
			t.Errorf("the %d. change makes no difference: %q", i+1, stamp())
		}
		seen = append(seen, stamp())
	}
}

// TestUncheckableNames returns an error for a name whose suffix makes it too long, and for
// a path below a file.
func TestUncheckableNames(t *testing.T) {
	file := filepath.Join(t.TempDir(), "file")
	if err := os.WriteFile(file, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	for _, target := range []string{filepath.Join(filepath.Dir(file), strings.Repeat("n", 250)), filepath.Join(file, "data")} {
		if runtime.GOOS == "windows" && filepath.Dir(target) == file {
			continue // there it is a name that nothing has
		}
		if name, err := spare.Aside(target, time.Now()); fault.KindOf(err) != fault.CannotPlace {
			t.Errorf("the free name is %q, and the error %v", name, err)
		}
	}
}

// TestSpecialFiles counts entries that are not moved, and leaves them out.
func TestSpecialFiles(t *testing.T) {
	dir := t.TempDir()
	lay.Out(t, dir, map[string]string{"ok": "1", "no:t": "2", "sub:/x": "3", "U\u0308": "4"})
	var met []string
	source := Source{Root: dir, Compose: true, Unfit: func(p string) string { return filename.OnWindows(p) }}
	st, err := source.Measure(t.Context(), func(e Entry, _ string) { met = append(met, string(e.Type)+" "+e.Path) }, nil)
	if want := []string{"dir .", "unfit no:t", "file ok", "unfit sub:", "file Ü"}; err != nil || !slices.Equal(met, want) || st.Files != 2 || st.LeftCount != 2 {
		t.Errorf("%q %+v %v", met, st, err)
	}
	var problems []string
	os.Chmod(filepath.Join(dir, "sub:"), 0)
	defer os.Chmod(filepath.Join(dir, "sub:"), 0o755)
	if _, err := (Source{Root: dir}).Measure(t.Context(), nil, func(p Problem) { problems = append(problems, filepath.Base(p.Path)) }); err != nil || os.Geteuid() != 0 && !slices.Equal(problems, []string{"sub:"}) {
		t.Errorf("%q %v", problems, err)
	}
	if _, err := (Source{Root: filepath.Join(dir, "ok")}).Measure(t.Context(), nil, nil); fault.KindOf(err) != fault.Missing {
		t.Errorf("a file that is to be a folder: %v", err)
	}
	count := Counter{Pattern: "**/*.rec"}
	for _, e := range []Entry{{Path: "a.rec", Type: File}, {Path: "b/c.rec", Type: Hard}, {Path: "d.rec", Type: Dir}, {Path: "e.rec", Type: Link}, {Path: "f.txt", Type: File}} {
		count.Add(e)
	}
	if count.N != 2 {
		t.Errorf("%d files are counted", count.N)
	}
}

// folk are the users of a computer: maren is 1000, the group office 100.
type folk struct{}

func (folk) User(uid int) string         { return map[int]string{0: "root", 1000: "maren"}[uid] }
func (folk) Group(gid int) string        { return map[int]string{0: "root", 100: "office"}[gid] }
func (folk) UID(name string) (int, bool) { return 1000, name == "maren" }
func (folk) GID(name string) (int, bool) { return 100, name == "office" }

// TestStaged puts a stream in place with owners, holes and other names, and without forbidden
// names. It lists metadata that was not restored.
func TestStaged(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("root gives files to others")
	}
	dir := t.TempDir()
	root := filepath.Join(dir, "item")
	lay.Out(t, root, map[string]string{"a": "1", "sub/b": "2", "No": "3", "nO": "4", "end.": "5", "last": "6"})
	f, _ := os.Create(filepath.Join(root, "holes"))
	f.WriteAt([]byte("x"), 5*filemeta.Hole)
	f.Truncate(20 * filemeta.Hole)
	f.Close()
	os.Link(filepath.Join(root, "a"), filepath.Join(root, "sub/a too"))
	os.Link(filepath.Join(root, "end."), filepath.Join(root, "sub/end too"))
	os.Symlink("a", filepath.Join(root, "link"))
	os.Chown(filepath.Join(root, "a"), 1000, 100)
	data, list, st := archive(t, Source{Root: root, Accounts: folk{}})
	if !st.Owners["maren"] || !st.Owners["root"] || st.Files != 9 || st.Links != 1 {
		t.Errorf("sealed: %+v", st)
	}
	to := filepath.Join(dir, "to")
	belongs := &Belonging{Accounts: folk{}, Of: func(e Entry) (filemeta.Owner, bool) {
		return filemeta.Owner{UID: 1000, GID: 100}, e.Owner == "maren" || e.Path == "link" || e.Path == "sub"
	}}
	var written atomic.Int64
	staged, err := Placing{Belongs: belongs, Lenient: "windows", Progress: func(n int64) { written.Add(n) }}.Stage(t.Context(), to, bytes.NewReader(data), reader(list), func() (*ListReader, error) { return reader(list), nil })
	if err != nil || staged.UnkeptCount != 3 || staged.Unkept[2] != "sub/end too: it is a hard link to end., which is left out" || staged.Files != 6 || written.Load() != 20*filemeta.Hole+4 {
		t.Fatalf("%+v, %d bytes, %v", staged, written.Load(), err)
	}
	var there []string
	filepath.WalkDir(to, func(p string, e fs.DirEntry, err error) error {
		info, _ := os.Lstat(p)
		rel, _ := filepath.Rel(to, p)
		there = append(there, fmt.Sprint(rel, " ", filemeta.StatOf(info).UID, " ", filemeta.StatOf(info).Sparse))
		return err
	})
	if want := []string{". 0 false", "No 0 false", "a 1000 false", "holes 0 true", "last 0 false", "link 1000 false", "sub 1000 false", "sub/a too 1000 false", "sub/b 0 false"}; !slices.Equal(there, want) {
		t.Errorf("placed %q", there)
	}
	compare := func(c Comparing) string {
		t.Helper()
		got, err := c.Compare(t.Context(), Source{Root: to, Accounts: folk{}}, reader(list))
		fatal.If(t, err)
		var out []string
		for _, d := range got.Diffs {
			out = append(out, d.Path+" "+d.What)
		}
		slices.Sort(out)
		return strings.Join(out, "; ")
	}
	if got := compare(Comparing{Lenient: "windows", Belongs: belongs, Modes: true}); got != "sub/end too is missing" { // its content has no user here
		t.Errorf("as it was: %s", got)
	}
	if got := compare(Comparing{}); got != "end. is missing; nO is missing; sub/end too is missing" {
		t.Errorf("without the names: %s", got)
	}
	filemeta.Apply(func() *os.File { f, _ := os.Open(filepath.Join(to, "last")); return f }(), filemeta.Wanted{Mode: 0o644, Metadata: filemeta.Metadata{Xattr: map[string][]byte{"user.x": []byte("1")}}})
	os.Chown(filepath.Join(to, "a"), 0, 100)
	os.Remove(filepath.Join(to, "sub/a too"))
	os.Link(filepath.Join(to, "sub/b"), filepath.Join(to, "sub/a too"))
	lay.Out(t, to, map[string]string{"more": ""})
	want := "a belongs to root:office, and should to maren:office; last has other extended attributes: user.x; more was not in the sealed data; sub/a too was a name, is a file; sub/b was a file, is a name; sub/end too is missing"
	if got := compare(Comparing{Lenient: "windows", Belongs: belongs, Modes: true}); got != want {
		t.Errorf("changed: %s", got)
	}
	if got := compare(Comparing{Lenient: "windows", Belongs: belongs, Others: true}); got != "a belongs to root:office, and should to maren:office; sub/a too was a name, is a file; sub/b was a file, is a name; sub/end too is missing" {
		t.Errorf("with others beside: %s", got)
	}
	os.Remove(filepath.Join(to, "sub/b"))
	os.Link(filepath.Join(to, "last"), filepath.Join(to, "sub/z"))
	if got, err := (Comparing{}).Compare(t.Context(), Source{Root: to}, reader(lines(Entry{Path: ".", Type: Dir}, Entry{Path: "sub", Type: Dir}, Entry{Path: "sub/z", Type: Hard, Target: "a"}))); err != nil || !slices.Contains(got.Diffs, Diff{"sub/z", "was a hard link to a, is a hard link to last"}) {
		t.Errorf("another name: %+v %v", got, err)
	}
	if (Comparing{Attr: true}).Differs(Entry{Metadata: filemeta.Metadata{Attr: 1}}, Entry{}) == "" || (Comparing{}).Differs(Entry{Metadata: filemeta.Metadata{Attr: 1}}, Entry{}) != "" || (Comparing{Modes: true}).Differs(Entry{Type: Link, Metadata: filemeta.Metadata{Xattr: map[string][]byte{"a": nil}}}, Entry{Type: Link}) != "" {
		t.Error("attributes")
	}
}

// TestReversedEdits compares files as they were before their paths were updated.
func TestReversedEdits(t *testing.T) {
	dir := t.TempDir()
	lay.Out(t, dir, map[string]string{"a.ini": "home=/home/mholm\n", "b.ini": "worked in"})
	was := []byte("home=/home/maren\n")
	entry := func(p string) Entry {
		info, _ := os.Stat(filepath.Join(dir, p))
		return Entry{Path: p, Type: File, Size: int64(len(was)), Hash: digest.Of(was), Mode: 0o640, ModTime: info.ModTime()}
	}
	edits := []pathmap.Edit{{At: 11, Old: []byte("maren"), New: []byte("mholm")}}
	b := entry("b.ini")
	b.Size = int64(len("worked in"))
	got, err := Comparing{Turned: map[string][]pathmap.Edit{"a.ini": edits, "b.ini": edits}}.Compare(t.Context(), Source{Root: dir}, reader(lines(Entry{Path: ".", Type: Dir}, entry("a.ini"), b)))
	if err != nil || got.Same != 2 || !slices.Equal(got.Diffs, []Diff{{"b.ini", "has other content"}}) {
		t.Errorf("%+v %v", got, err)
	}
	os.Remove(filepath.Join(dir, "a.ini"))
	os.Mkdir(filepath.Join(dir, "a.ini"), 0o755)
	stopped, stop := context.WithCancel(t.Context())
	stop()
	if _, err := (Comparing{}).Compare(stopped, Source{Root: dir}, reader(nil)); fault.KindOf(err) != fault.Stopped {
		t.Errorf("stopped: %v", err)
	}
}

// TestRemoved removes folders without write permission, and links but not their targets.
func TestRemoved(t *testing.T) {
	dir := t.TempDir()
	lay.Out(t, dir, map[string]string{"a/b/c": "1", "kept/d": "2", "file": "3"})
	os.Symlink(filepath.Join(dir, "kept"), filepath.Join(dir, "a/b/link"))
	os.Symlink(filepath.Join(dir, "kept"), filepath.Join(dir, "link"))
	os.Chmod(filepath.Join(dir, "a/b"), 0o500)
	for _, name := range []string{"a", "file", "link", "none", "kept/d/below"} {
		if err := RemoveTree(filepath.Join(dir, name)); err != nil {
			t.Errorf("%s: %v", name, err)
		}
	}
	lay.Holds(t, dir, map[string]string{"kept/d": "2"})
	if err := SyncTree(dir); err != nil {
		t.Error(err)
	}
	if err := errors.Join(unreadable("x", fs.ErrNotExist)); fault.KindOf(err) != fault.Changed {
		t.Errorf("gone meanwhile: %v", err)
	}
	if err := unreadable("x", fs.ErrPermission); fault.KindOf(err) != fault.Unreadable {
		t.Errorf("not to be read: %v", err)
	}
}

// FuzzDerived checks that a derived name is beside home, and starts with its name.
func FuzzDerived(f *testing.F) {
	for _, p := range []string{"/srv/a", "/srv/a.set-aside-20260101-000000", "/srv/a.set-aside-20260101-000000-2.movekit-part", "/srv/a.from-OLD", "/srv/b", "/srv/a/../b", "/srv.set-aside-20260101-000000/a", "/srv/a.0123456789abcdef.movekit-part", "/srv/a.moved-to-NEW.txt", "a", "/", ""} {
		f.Add("/srv/a", p)
	}
	f.Fuzz(func(t *testing.T, home, path string) {
		if home == "" || !filepath.IsAbs(home) || filepath.Clean(home) == "/" || !spare.Derived(home, path, false) {
			return
		}
		h, p := strings.Split(filepath.Clean(home), "/"), strings.Split(filepath.Clean(path), "/")
		if len(h) != len(p) {
			t.Fatalf("%q is derived from %q", path, home)
		}
		for i := range h {
			if p[i] != h[i] && !strings.HasPrefix(p[i], h[i]+".") {
				t.Errorf("%q is derived from %q", path, home)
			}
		}
	})
}

// TestLinksBack reads links that lead out of the item's folder and in again, or up after a folder's name.
// They are moved; links that lead elsewhere are not.
func TestLinksBack(t *testing.T) {
	if runtime.GOOS == "windows" {
		t.Skip("links need a right")
	}
	dir := t.TempDir()
	lay.Out(t, dir, map[string]string{"item/README": "1", "item/deep/x/y": "2", "item-2/README": "3", "other/deep/z": "4"})
	fatal.If(t, os.Symlink("../other/deep", filepath.Join(dir, "item/away")))
	want := map[string]string{}
	for i, c := range [][2]string{
		{"deep/../README", "README"}, {"../item/README", "README"}, {"../item", "."}, {"deep/x/../../deep", "deep"}, {"deep/..", "."}, {"../item/gone", "gone"}, {"./deep/../deep/./x", "deep/x"},
		{"../item-2/README", ""}, {"../other", ""}, {"away/../z", ""}, {"away/../../item/README", "README"}, {"gone/../README", ""}, {"../item/../other", ""}, {dir + "/item/README", ""},
	} {
		name := fmt.Sprintf("l%02d", i)
		fatal.If(t, os.Symlink(c[0], filepath.Join(dir, "item", name)))
		want[name] = c[1]
	}
	fatal.If(t, os.Symlink("../../item/README", filepath.Join(dir, "item/deep/l")))
	want["deep/l"] = "../README"
	want["away"] = ""
	fatal.If(t, Source{Root: filepath.Join(dir, "item")}.Walk(ctx, func(e Entry, _ string) error {
		if to, is := want[e.Path]; is && (to == "" && e.Type != Outside || to != "" && (e.Type != Link || e.Target != to)) {
			t.Errorf("%s is a %s to %q, not %q", e.Path, e.Type, e.Target, to)
		}
		return nil
	}, nil))
}
