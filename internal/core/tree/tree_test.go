package tree

import (
	"archive/tar"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
	"movekit/internal/core/filemeta"
	"movekit/test/fatal"
	"movekit/test/lay"
)

var ctx = context.Background()

// makeTree creates a folder with everything that an item can contain.
func makeTree(t *testing.T) string {
	t.Helper()
	root := filepath.Join(t.TempDir(), "item")
	for name, size := range map[string]int{
		"a": 10, "a b": 11, "a!": 12, "a.d/x": 13, "a/../a-b/y": 14, ".hidden/.deep/.file": 15, "empty.txt": 0,
		"Ærø/Übersicht – Krabbenkai.txt": 20, "日誌/記録.txt": 21, "big.bin": 3*blockSize + 17, "just.bin": blockSize, "cache/tile": 5,
		"name with \xff bytes": 9, "quote\"and\\slash": 8, "new\nline": 7, strings.Repeat("long-", 40) + "/" + strings.Repeat("name-", 40): 6,
	} {
		path := filepath.Join(root, name)
		os.MkdirAll(filepath.Dir(path), 0o755)
		fatal.If(t, os.WriteFile(path, bytes.Repeat([]byte{byte(size)}, size), 0o640))
		at := time.Unix(1_700_000_000+int64(size), 123_456_789)
		os.Chtimes(path, at, at)
	}
	os.MkdirAll(filepath.Join(root, "nothing", "in here"), 0o700)
	os.Symlink("a.d/x", filepath.Join(root, "link"))
	os.Symlink("../elsewhere/a", filepath.Join(root, "link-out"))
	os.Symlink("/etc/passwd", filepath.Join(root, "link-abs"))
	os.Symlink("a.d", filepath.Join(root, "link-dir"))
	os.Chmod(filepath.Join(root, "a"), 0o600)
	os.Chtimes(filepath.Join(root, "a.d"), time.Unix(1_600_000_000, 0), time.Unix(1_600_000_000, 0))
	return root
}

func archive(t *testing.T, s Source) (data, list []byte, st *Stats) {
	t.Helper()
	var d, l bytes.Buffer
	st, err := s.Archive(ctx, &d, &l, nil)
	fatal.If(t, err)
	return d.Bytes(), l.Bytes(), st
}

func reader(list []byte) *ListReader { return NewListReader(bytes.NewReader(list)) }

func stage(dir string, data, list []byte) error {
	_, err := Placing{}.Stage(ctx, dir, bytes.NewReader(data), reader(list), func() (*ListReader, error) { return reader(list), nil })
	return err
}

func TestTreeComesBackTheSame(t *testing.T) {
	root := makeTree(t)
	data, list, st := archive(t, Source{Root: root, Skip: []string{"cache/**"}})
	if st.LeftCount != 2 || st.Links != 2 {
		t.Errorf("%d links, left %v; want 2 links within and 2 that lead out", st.Links, st.Left)
	}
	_, err := CheckList(reader(list), "linux")
	fatal.If(t, err)
	dir := filepath.Join(t.TempDir(), "new")
	fatal.If(t, stage(dir, data, list))
	cmp, err := Comparing{Modes: true}.Compare(ctx, Source{Root: dir}, reader(list))
	if err != nil || !cmp.Equal() {
		t.Fatalf("%v %+v", err, cmp)
	}
	for _, name := range []string{"a", ".hidden/.deep/.file", "Ærø/Übersicht – Krabbenkai.txt", "a.d", "big.bin"} {
		was, _ := os.Stat(filepath.Join(root, name))
		is, err := os.Stat(filepath.Join(dir, name))
		if err != nil || !is.ModTime().Equal(was.ModTime()) || is.Mode() != was.Mode() {
			t.Errorf("%s: was %v %v, is %v (%v)", name, was.Mode(), was.ModTime(), is, err)
		}
	}
	if target, _ := os.Readlink(filepath.Join(dir, "link")); target != "a.d/x" {
		t.Errorf("the link leads to %q", target)
	}
	for _, gone := range []string{"link-out", "link-abs", "cache"} {
		if _, err := os.Lstat(filepath.Join(dir, gone)); err == nil {
			t.Errorf("%s was taken along", gone)
		}
	}
	if info, err := os.Stat(filepath.Join(dir, "nothing", "in here")); err != nil || info.Mode().Perm() != 0o700 {
		t.Errorf("the empty folder: %v %v", info, err)
	}
}

func TestWalkOrder(t *testing.T) {
	var paths []string
	Source{Root: makeTree(t)}.Walk(ctx, func(e Entry, _ string) error {
		paths = append(paths, e.Path)
		return nil
	}, nil)
	if paths[0] != "." || !slices.IsSortedFunc(paths, before) {
		t.Errorf("not in order: %q", paths)
	}
}

func TestIncludeAndSkip(t *testing.T) {
	root := makeTree(t)
	got := func(s Source) (paths []string) {
		s.Root = root
		s.Walk(ctx, func(e Entry, _ string) error {
			paths = append(paths, e.Path)
			return nil
		}, nil)
		return paths
	}
	if p := got(Source{Include: []string{"**/*.TXT"}, Skip: []string{"日誌/**"}, Fold: true}); !slices.Equal(p, []string{".", "empty.txt", "Ærø", "Ærø/Übersicht – Krabbenkai.txt"}) {
		t.Errorf("only text files: %q", p)
	}
	if p := got(Source{Include: []string{"none"}}); !slices.Equal(p, []string{"."}) {
		t.Errorf("nothing matches: %q", p)
	}
}

func TestDifferencesAreNamed(t *testing.T) {
	root := makeTree(t)
	data, list, _ := archive(t, Source{Root: root})
	for name, c := range map[string]struct {
		change func(dir string) error
		want   string
	}{
		"content": {func(d string) error { return os.WriteFile(d+"/a", bytes.Repeat([]byte{9}, 10), 0o600) }, "a has other content"},
		"size":    {func(d string) error { return os.WriteFile(d+"/a", nil, 0o600) }, "a had 10 bytes, has 0"},
		"missing": {func(d string) error { return os.Remove(d + "/a.d/x") }, "a.d/x is missing"},
		"more":    {func(d string) error { return os.WriteFile(d+"/zz", nil, 0o600) }, "zz was not in the sealed data"},
		"mode":    {func(d string) error { return os.Chmod(d+"/a", 0o644) }, "a had the permissions 0600, has 0644"},
		"type":    {func(d string) error { return errors.Join(os.Remove(d+"/a"), os.Mkdir(d+"/a", 0o755)) }, "a was a file, is a dir"},
		"link": {func(d string) error { return errors.Join(os.Remove(d+"/link"), os.Symlink("a", d+"/link")) },
			"link was a link to a.d/x, is a link to a"},
		"big": {func(d string) error { return flip(d+"/big.bin", 300_000) }, "big.bin has other content"},
	} {
		dir := filepath.Join(t.TempDir(), "new")
		fatal.If(t, errors.Join(stage(dir, data, list), c.change(dir)))
		cmp, err := Comparing{Modes: true}.Compare(ctx, Source{Root: dir}, reader(list))
		if err != nil || cmp.Count != 1 || cmp.Diffs[0].Path+" "+cmp.Diffs[0].What != c.want {
			t.Errorf("%s: %v %v", name, cmp.Diffs, err)
		}
	}
	cmp, err := Comparing{}.Compare(ctx, Source{Root: filepath.Join(t.TempDir(), "none")}, reader(list))
	if err != nil || cmp.Count < 20 || len(cmp.Diffs) != maxDiffs {
		t.Errorf("nothing there: %d differences, %d named, %v", cmp.Count, len(cmp.Diffs), err)
	}
}

func flip(name string, at int64) error {
	f, err := os.OpenFile(name, os.O_RDWR, 0)
	if err != nil {
		return err
	}
	defer f.Close()
	_, err = f.WriteAt([]byte{0xee}, at)
	return err
}

func TestFileThatChangesIsNotSealed(t *testing.T) {
	dir := t.TempDir()
	name := filepath.Join(dir, "growing.log")
	os.WriteFile(name, bytes.Repeat([]byte("x"), 20*blockSize), 0o600)
	var once sync.Once
	_, err := Source{Root: dir}.Archive(ctx, io.Discard, io.Discard, func(int64) {
		once.Do(func() {
			f, _ := os.OpenFile(name, os.O_APPEND|os.O_WRONLY, 0)
			f.WriteString("more")
			f.Close()
		})
	})
	if fault.KindOf(err) != fault.Changed {
		t.Errorf("a file that grew gave %v", err)
	}
	dir = t.TempDir()
	os.WriteFile(filepath.Join(dir, "x"), []byte("1"), 0o600)
	u := &unit{entry: Entry{Path: "x", Type: File, Size: 2, ModTime: time.Now()}, real: filepath.Join(dir, "x"), blocks: make(chan []byte, 2)}
	for _, size := range []int64{2, 0} {
		u.entry.Size = size
		if err := (Source{}).read(ctx, u); fault.KindOf(err) != fault.Changed {
			t.Errorf("a file of 1 byte that had %d gave %v", size, err)
		}
	}
	if os.Geteuid() != 0 {
		os.Chmod(filepath.Join(dir, "x"), 0)
		if _, err := (Source{Root: dir}).Archive(ctx, io.Discard, io.Discard, nil); fault.KindOf(err) != fault.Unreadable {
			t.Errorf("an unreadable file gave %v", err)
		}
	}
}

func lines(entries ...Entry) []byte {
	var b bytes.Buffer
	for _, e := range entries {
		line, _ := json.Marshal(e)
		b.Write(append(line, '\n'))
	}
	return b.Bytes()
}

func TestHostileListsAreRefused(t *testing.T) {
	dir, file := Entry{Path: ".", Type: Dir}, Entry{Path: "x", Type: File}
	at := func(p string) Entry { return Entry{Path: p, Type: File} }
	link := func(p, to string) Entry { return Entry{Path: p, Type: Link, Target: to} }
	for name, bad := range map[string][]Entry{
		"upwards":         {dir, at("../x")},
		"upwards inside":  {dir, at("a/../../x")},
		"absolute":        {dir, at("/etc/cron.d/x")},
		"not clean":       {dir, at("a//x")},
		"dot":             {dir, at("./x")},
		"nul":             {dir, at("a\x00b")},
		"empty":           {dir, at("")},
		"twice":           {dir, file, file},
		"order":           {dir, at("b"), at("a")},
		"link upwards":    {dir, link("l", "../..")},
		"link absolute":   {dir, link("l", "/etc")},
		"below a link":    {dir, link("l", "d"), at("l/x")},
		"hard upwards":    {dir, file, {Path: "y", Type: Hard, Target: "../x"}},
		"hard absolute":   {dir, file, {Path: "y", Type: Hard, Target: "/etc/shadow"}},
		"hard to itself":  {dir, file, {Path: "y", Type: Hard, Target: "y"}},
		"hard to a later": {dir, file, {Path: "y", Type: Hard, Target: "z"}, at("z")},
		"unknown type":    {dir, {Path: "x", Type: "device"}},
		"link to nothing": {dir, link("l", "")},
		"setgid file":     {dir, {Path: "x", Type: File, Mode: 0o755 | fs.ModeSetgid}},
		"negative size":   {dir, {Path: "x", Type: File, Size: -1}},
		"through a link":  {dir, {Path: "p/q/r", Type: Dir}, link("p/q/r/up", "../.."), link("x", "p/q/r/up/../..")},
	} {
		if _, err := CheckList(reader(lines(bad...)), "linux"); fault.KindOf(err) != fault.Hostile {
			t.Errorf("%s: %v", name, err)
		}
	}
	for _, p := range []string{"NUL", "con.txt", "a/aux", "COM1", "x:stream", "a?b", "end.", "end ", "back\\slash", "LPT¹.log"} {
		if _, err := CheckList(reader(lines(dir, at(p))), "windows"); fault.KindOf(err) != fault.Hostile {
			t.Errorf("on Windows %q: %v", p, err)
		}
	}
	for _, to := range []string{`C:\Windows`, "C:x", `\\server\share`, `\x`, `a\..\..\x`} {
		if _, err := CheckList(reader(lines(dir, link("l", to))), "windows"); fault.KindOf(err) != fault.Hostile {
			t.Errorf("on Windows a link to %q: %v", to, err)
		}
		if _, err := CheckList(reader(lines(dir, link("l", to))), "linux"); err != nil && runtime.GOOS != "windows" {
			t.Errorf("elsewhere it is a name: %v", err)
		}
	}
	for _, mode := range []uint32{0o4755, 0o10755, 1<<32 - 1} {
		if _, err := CheckList(reader(fmt.Appendf(nil, `{"path":".","type":"dir","mode":%d,"mtime":"2026-01-01T00:00:00Z"}`+"\n", mode)), "linux"); fault.KindOf(err) != fault.Damaged {
			t.Errorf("the mode %o: %v", mode, err)
		}
	}
	if _, err := CheckList(NewListReader(io.LimitReader(endless{}, maxLine*3)), "linux"); fault.KindOf(err) != fault.Hostile {
		t.Errorf("an endless line: %v", err)
	}
	twins := lines(dir, at("Readme"), at("readme"))
	if _, err := CheckList(reader(twins), "windows"); fault.KindOf(err) != fault.Hostile {
		t.Errorf("two names that are one on Windows: %v", err)
	}
	if _, err := CheckList(reader(twins), "linux"); err != nil {
		t.Errorf("elsewhere they are two: %v", err)
	}
	if st, err := CheckList(reader(lines(dir, at("a"), at("a/x"), at("console.txt"), link("e/f/g", "../../d"), link("e/f/h", ".."), at("nuller"), link("z", "a/x"))), "windows"); err != nil || st.Files != 4 {
		t.Errorf("a harmless list: %+v %v", st, err)
	}
}

// endless is a line without an end.
type endless struct{}

func (endless) Read(p []byte) (int, error) {
	for i := range p {
		p[i] = 'x'
	}
	return len(p), nil
}

// TestStageIsPrivate checks that nobody else can read a folder while it is staged.
func TestStageIsPrivate(t *testing.T) {
	root := t.TempDir()
	os.WriteFile(filepath.Join(root, "x"), []byte("secret"), 0o644)
	os.Chmod(root, 0o755)
	data, list, _ := archive(t, Source{Root: root})
	dir := filepath.Join(t.TempDir(), "new")
	var during fs.FileMode
	_, err := Placing{}.Stage(ctx, dir, bytes.NewReader(data), reader(list), func() (*ListReader, error) {
		info, err := os.Stat(dir)
		during = info.Mode().Perm()
		return reader(list), err
	})
	info, _ := os.Stat(dir)
	if err != nil || during != 0o700 || info.Mode().Perm() != 0o755 {
		t.Errorf("%v: %o while it is staged, then %o", err, during, info.Mode().Perm())
	}
}

// TestHostileStreams uses a valid list with a different tar stream.
func TestHostileStreams(t *testing.T) {
	content := []byte("hello")
	list := lines(Entry{Path: ".", Type: Dir, Mode: 0o755}, Entry{Path: "x", Type: File, Size: 5, Mode: 0o600, Hash: digest.Of(content)})
	for name, headers := range map[string][]tar.Header{
		"another place": {{Name: "./", Typeflag: tar.TypeDir}, {Name: "../x", Typeflag: tar.TypeReg, Size: 5}},
		"a link":        {{Name: "./", Typeflag: tar.TypeDir}, {Name: "x", Typeflag: tar.TypeSymlink, Linkname: "/etc/passwd"}},
		"a hard link":   {{Name: "./", Typeflag: tar.TypeDir}, {Name: "x", Typeflag: tar.TypeLink, Linkname: "/etc/passwd"}},
		"one more":      {{Name: "./", Typeflag: tar.TypeDir}, {Name: "x", Typeflag: tar.TypeReg, Size: 5}, {Name: "y", Typeflag: tar.TypeReg, Size: 5}},
		"one fewer":     {{Name: "./", Typeflag: tar.TypeDir}},
		"other size":    {{Name: "./", Typeflag: tar.TypeDir}, {Name: "x", Typeflag: tar.TypeReg, Size: 4}},
	} {
		var b bytes.Buffer
		tw := tar.NewWriter(&b)
		for _, h := range headers {
			tw.WriteHeader(&h)
			tw.Write(content[:h.Size])
		}
		tw.Close()
		parent := t.TempDir()
		if err := stage(filepath.Join(parent, "in"), b.Bytes(), list); fault.KindOf(err) != fault.Hostile {
			t.Errorf("%s: %v", name, err)
		}
		if found, _ := os.ReadDir(parent); len(found) != 1 {
			t.Errorf("%s wrote outside: %v", name, found)
		}
	}
	for name, c := range map[string]struct {
		want Entry
		says tar.Header
	}{
		"a folder of another name": {Entry{Path: "d", Type: Dir}, tar.Header{Name: "e/", Typeflag: tar.TypeDir}}, "a file for a folder": {Entry{Path: "d", Type: Dir}, tar.Header{Name: "d", Typeflag: tar.TypeReg}},
		"a link of another name": {Entry{Path: "l", Type: Link, Target: "x"}, tar.Header{Name: "m", Typeflag: tar.TypeSymlink, Linkname: "x"}}, "a link elsewhere": {Entry{Path: "l", Type: Link, Target: "x"}, tar.Header{Name: "l", Typeflag: tar.TypeSymlink, Linkname: "/etc"}},
		"a file for a link": {Entry{Path: "l", Type: Link, Target: "x"}, tar.Header{Name: "l", Typeflag: tar.TypeReg, Linkname: "x"}}, "another name elsewhere": {Entry{Path: "n", Type: Hard, Target: "a"}, tar.Header{Name: "n", Typeflag: tar.TypeLink, Linkname: "/etc/passwd"}},
		"another name of another": {Entry{Path: "n", Type: Hard, Target: "a"}, tar.Header{Name: "m", Typeflag: tar.TypeLink, Linkname: "a"}}, "a link for a name": {Entry{Path: "n", Type: Hard, Target: "a"}, tar.Header{Name: "n", Typeflag: tar.TypeSymlink, Linkname: "a"}}, "a folder for a file": {Entry{Path: "f", Type: File}, tar.Header{Name: "f", Typeflag: tar.TypeDir}},
	} {
		if agrees(&c.says, c.want) {
			t.Errorf("%s agrees with its list", name)
		}
	}
	var b bytes.Buffer
	tw := tar.NewWriter(&b)
	tw.WriteHeader(&tar.Header{Name: "./", Typeflag: tar.TypeDir})
	tw.WriteHeader(&tar.Header{Name: "x", Typeflag: tar.TypeReg, Size: 5})
	tw.Write([]byte("jello"))
	tw.Close()
	if err := stage(filepath.Join(t.TempDir(), "in"), b.Bytes(), list); fault.KindOf(err) != fault.Damaged {
		t.Errorf("other content: %v", err)
	}
}

func TestMergeLosesNothing(t *testing.T) {
	if runtime.GOOS == "windows" {
		t.Skip("links")
	}
	for policy, want := range map[Policy]struct {
		merged      Merged
		mine, aside string
	}{
		SetAside: {Merged{Placed: 2, Same: 2, Aside: 1}, "new", "old"},
		Skip:     {Merged{Placed: 1, Same: 2, Kept: 1}, "old", ""},
		Replace:  {Merged{Placed: 1, Same: 2, Replaced: 1}, "new", ""},
	} {
		parent := t.TempDir()
		from, target := filepath.Join(parent, "from"), filepath.Join(parent, "to")
		lay.Out(t, parent, map[string]string{"from/both": "new", "from/same": "same", "from/sub/fresh": "new", "to/both": "old", "to/same": "same", "to/only here": "old", "aside/both": "of before"})
		os.Symlink("same", filepath.Join(from, "link"))
		os.Symlink("same", filepath.Join(target, "link"))
		_, list, _ := archive(t, Source{Root: from})
		m, err := Merge(ctx, from, target, filepath.Join(parent, "aside"), reader(list), policy, nil, nil)
		if err != nil || *m != want.merged {
			t.Errorf("%s: %+v %v", policy, m, err)
		}
		for name, text := range map[string]string{"to/both": want.mine, "to/same": "same", "to/only here": "old", "to/sub/fresh": "new", "aside/both": "of before", "aside/both-2": want.aside} {
			got, _ := os.ReadFile(filepath.Join(parent, name))
			if string(got) != text {
				t.Errorf("%s: %s is %q, want %q", policy, name, got, text)
			}
		}
	}
	// A link in the target that leads outside is not followed.
	parent, outside := t.TempDir(), t.TempDir()
	from := filepath.Join(parent, "from")
	lay.Out(t, parent, map[string]string{"from/sub/x": "new", "to/y": "here"})
	_, list, _ := archive(t, Source{Root: from})
	os.Symlink(outside, filepath.Join(parent, "to", "sub"))
	Merge(ctx, from, filepath.Join(parent, "to"), filepath.Join(parent, "aside"), reader(list), SetAside, nil, nil)
	if found, _ := os.ReadDir(outside); len(found) > 0 {
		t.Errorf("written through a link: %v", found)
	}
}

func FuzzList(f *testing.F) {
	f.Add(lines(Entry{Path: ".", Type: Dir}, Entry{Path: "a/b", Type: File, Size: 3}))
	f.Add([]byte(`{"path":"\\udbff\\udfff","type":"file"}` + "\n"))
	f.Add([]byte("{}\n\n[]"))
	f.Fuzz(func(t *testing.T, data []byte) {
		if _, err := CheckList(reader(data), "linux"); err != nil {
			return
		}
		for l := reader(data); ; {
			e, err := l.Next()
			if err != nil {
				return
			}
			if e.Archived() && !filepath.IsLocal(filepath.FromSlash(e.Path)) {
				t.Fatalf("%q was let through", e.Path)
			}
		}
	})
}

// TestSetuid moves a setuid program: it loses the bit, and is listed.
func TestSetuid(t *testing.T) {
	dir := t.TempDir()
	name := filepath.Join(dir, "boat")
	fatal.If(t, os.WriteFile(name, []byte("x"), 0o755))
	fatal.If(t, os.Chmod(name, 0o755|fs.ModeSetuid))
	if info, err := os.Stat(name); err != nil || info.Mode()&fs.ModeSetuid == 0 {
		t.Skip("no file runs as another user here")
	}
	_, _, st := archive(t, Source{Root: dir})
	if st.Files != 1 || st.LeftCount != 1 || !strings.Contains(st.Left[0], "boat: it is moved without the setuid or setgid bit") {
		t.Errorf("%+v", st)
	}
}

// TestLongLine reads a line that is longer than the reader's buffer.
func TestLongLine(t *testing.T) {
	long := Entry{Path: strings.Repeat("d/", 40000) + "x", Type: File}
	list := reader(lines(Entry{Path: ".", Type: Dir}, long, Entry{Path: "z", Type: File}))
	for _, want := range []string{".", long.Path, "z"} {
		if e, err := list.Next(); err != nil || e.Path != want {
			t.Errorf("%.20s: %.20s %v", want, e.Path, err)
		}
	}
	if _, err := list.Next(); err != io.EOF {
		t.Errorf("after the last one: %v", err)
	}
}

// TestSameAs notices every kind of change of a file that was read.
func TestSameAs(t *testing.T) {
	name := filepath.Join(t.TempDir(), "x")
	fatal.If(t, os.WriteFile(name, []byte("five!"), 0o600))
	f, err := os.Open(name)
	fatal.If(t, err)
	defer f.Close()
	info, _ := f.Stat()
	e := Entry{Path: "x", Type: File, Size: 5, ModTime: info.ModTime()}
	if err := sameAs(f, e, 5); err != nil {
		t.Error(err)
	}
	later, longer := e, e
	later.ModTime, longer.Size = e.ModTime.Add(1), 6
	for what, err := range map[string]error{"read too little": sameAs(f, e, 4), "another time": sameAs(f, later, 5), "another size": sameAs(f, longer, 6), "grew": sameAs(f, longer, 5)} {
		if fault.KindOf(err) != fault.Changed {
			t.Errorf("%s: %v", what, err)
		}
	}
	dir, err := os.Open(filepath.Dir(name))
	fatal.If(t, err)
	defer dir.Close()
	of, _ := dir.Stat()
	if err := sameAs(dir, Entry{Size: of.Size(), ModTime: of.ModTime()}, of.Size()); fault.KindOf(err) != fault.Changed {
		t.Errorf("a folder now: %v", err)
	}
}

// TestHeaders uses names of owners only if both are known, and a format that can hold the entry's names.
func TestHeaders(t *testing.T) {
	at := time.Date(2026, 3, 2, 1, 2, 3, 4, time.UTC)
	for _, c := range []struct {
		e      Entry
		owner  string
		format tar.Format
	}{
		{Entry{Path: "a", Metadata: filemeta.Metadata{Owner: "maren", Group: "office"}}, "maren", tar.FormatPAX},
		{Entry{Path: "a", Metadata: filemeta.Metadata{Owner: "#1000", Group: "office"}}, "", tar.FormatPAX},
		{Entry{Path: "a", Metadata: filemeta.Metadata{Owner: "maren", Group: "#100"}}, "", tar.FormatPAX},
		{Entry{Path: "a\xff", Metadata: filemeta.Metadata{Owner: "maren", Group: "office"}}, "maren", tar.FormatGNU},
		{Entry{Path: "a", Type: Link, Target: "\xff", Metadata: filemeta.Metadata{Owner: "maren", Group: "office"}}, "maren", tar.FormatGNU},
	} {
		c.e.ModTime = at
		if h := header(c.e); h.Uname != c.owner || h.Format != c.format || (h.ModTime.Nanosecond() == 0) != (c.format == tar.FormatGNU) {
			t.Errorf("%+v: %+v", c.e, h)
		}
	}
}
