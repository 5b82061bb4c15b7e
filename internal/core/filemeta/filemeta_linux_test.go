package filemeta

import (
	"bytes"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"movekit/test/fatal"
)

// people are the users of a computer, by number and by name.
type people struct{ user, group int }

func (p people) User(uid int) string         { return named(uid == p.user, "maren") }
func (p people) Group(gid int) string        { return named(gid == p.group, "office") }
func (p people) UID(name string) (int, bool) { return p.user, name == "maren" }
func (p people) GID(name string) (int, bool) { return p.group, name == "office" }

func named(is bool, name string) string {
	if is {
		return name
	}
	return "#"
}

// onOld is an access list (acl(5)) in Linux's form, for user 1000 and group 2000. onNew is the same
// list on a computer where they have the numbers 70000 and 7.
const (
	onOld = "\x02\x00\x00\x00" + "\x01\x00\x06\x00\xff\xff\xff\xff" + "\x02\x00\x07\x00\xe8\x03\x00\x00" + "\x04\x00\x04\x00\xff\xff\xff\xff" +
		"\x08\x00\x05\x00\xd0\x07\x00\x00" + "\x10\x00\x07\x00\xff\xff\xff\xff" + "\x20\x00\x00\x00\xff\xff\xff\xff"
	onNew = "\x02\x00\x00\x00" + "\x01\x00\x06\x00\xff\xff\xff\xff" + "\x02\x00\x07\x00\x70\x11\x01\x00" + "\x04\x00\x04\x00\xff\xff\xff\xff" +
		"\x08\x00\x05\x00\x07\x00\x00\x00" + "\x10\x00\x07\x00\xff\xff\xff\xff" + "\x20\x00\x00\x00\xff\xff\xff\xff"
	byName = "owner::6\nuser:maren:7\nowner-group::4\ngroup:office:5\nmask::7\nother::0\n"
)

// TestAccessListsByName moves a Linux access list to a computer where the users have other numbers.
func TestAccessListsByName(t *testing.T) {
	was, is := people{1000, 2000}, people{70000, 7}
	for _, name := range []string{aclAccess, aclDefault} {
		text := xattrText(name, []byte(onOld), was)
		if string(text) != byName {
			t.Errorf("%s travels as %q", name, text)
		}
		if raw, err := xattrRaw(name, text, is); string(raw) != onNew || err != nil {
			t.Errorf("%s arrives as %q: %v", name, raw, err)
		}
		if raw, err := xattrRaw(name, text, nil); raw != nil || err == nil {
			t.Errorf("%s arrives where nobody is known: %q", name, raw)
		}
		for what, raw := range map[string]string{"of another version": "\x03" + onOld[1:], "cut short": "\x02\x00\x00", "empty": ""} {
			if text := xattrText(name, []byte(raw), was); text != nil {
				t.Errorf("%s %s travels as %q", name, what, text)
			}
		}
		if text := xattrText(name, []byte(onOld), nil); text != nil {
			t.Errorf("%s travels with no names: %q", name, text)
		}
		if text := xattrText(name, []byte(onOld[:len(onOld)-1]), was); !strings.HasSuffix(string(text), "mask::7\n") {
			t.Errorf("%s with half an entry travels as %q", name, text)
		}
	}
	if text := xattrText("user.note", []byte(onOld), nil); string(text) != onOld {
		t.Errorf("an attribute of a user was changed: %q", text)
	}
	if raw, err := xattrRaw("user.note", []byte("x"), nil); string(raw) != "x" || err != nil {
		t.Errorf("an attribute of a user arrives as %q: %v", raw, err)
	}
	for _, text := range []string{"user:tobias:7\n", "group:sailors:5\n", "user:maren:8\n", "user:maren:-1\n", "user:maren\n", "crew:maren:7\n", "user:maren:7:1\n", "x"} {
		if raw, err := aclRaw([]byte(text), is); raw != nil || err == nil {
			t.Errorf("%q is taken for an access list: %q", text, raw)
		}
	}
}

// TestDifferences checks the descriptions of differences.
func TestDifferences(t *testing.T) {
	for _, c := range []struct {
		was, is Metadata
		lists   bool
		want    string
	}{
		{Metadata{}, Metadata{}, true, ""},
		{Metadata{Attr: attrReadOnly | attrSystem}, Metadata{Attr: attrHidden}, false, "was marked read-only+system, is hidden"},
		{Metadata{Attr: attrHidden}, Metadata{}, true, "was marked hidden, is nothing"},
		{Metadata{ACL: "D:P"}, Metadata{}, false, ""},
		{Metadata{ACL: "D:P"}, Metadata{}, true, "had the access list D:P, has none"},
		{Metadata{}, Metadata{ACL: "D:P"}, true, "had the access list none, has D:P"},
	} {
		if got := Differ(c.was, c.is, c.lists); got != c.want {
			t.Errorf("%+v and %+v: %q, not %q", c.was, c.is, got, c.want)
		}
	}
	attrs := func(pairs ...string) (m Metadata) {
		m.Xattr = map[string][]byte{}
		for i := 0; i < len(pairs); i += 2 {
			m.Xattr[pairs[i]] = []byte(pairs[i+1])
		}
		return m
	}
	for _, c := range []struct {
		was, is Metadata
		want    string
	}{
		{Metadata{}, attrs(), ""}, {attrs("user.a", "1"), attrs("user.a", "1"), ""},
		{attrs("user.a", ""), Metadata{}, "has other extended attributes: user.a"},
		{Metadata{}, attrs("user.a", ""), "has other extended attributes: user.a"},
		{attrs("user.c", "1", "user.a", "1", "user.b", "1"), attrs("user.a", "2", "user.b", "1"), "has other extended attributes: user.a, user.c"},
	} {
		if got := DifferXattr(c.was, c.is); got != c.want {
			t.Errorf("%v and %v: %q, not %q", c.was, c.is, got, c.want)
		}
	}
}

// TestModes converts every mode to its chmod number and back.
func TestModes(t *testing.T) {
	for bits := range uint32(0o10000) {
		kept := bits &^ 0o4000 // what runs as another user does not travel
		if got := ModeOf(ModeFrom(bits)); got != kept {
			t.Fatalf("%o comes back as %o", bits, got)
		}
	}
	if m := ModeFrom(0o3751); m != 0o751|fs.ModeSetgid|fs.ModeSticky {
		t.Errorf("3751 is %v", m)
	}
}

// TestSettled sets the metadata of files, a folder and a link, and reads it back from the system.
func TestSettled(t *testing.T) {
	dir := t.TempDir()
	for _, name := range []string{"file", "plain"} {
		fatal.If(t, os.WriteFile(filepath.Join(dir, name), nil, 0o600))
	}
	os.Mkdir(filepath.Join(dir, "folder"), 0o700)
	os.Symlink("nowhere", filepath.Join(dir, "folder/link"))
	root, err := os.OpenRoot(dir)
	fatal.If(t, err)
	defer root.Close()
	at := time.Date(2019, 3, 4, 5, 6, 7, 800, time.UTC)
	me := Owner{os.Geteuid(), os.Getegid()}
	to := &me
	if me.UID == 0 {
		to = &Owner{1234, 5678}
	}
	note := bytes.Repeat([]byte("n"), 3000)
	g := Wanted{Path: "file", Mode: 0o640, ModTime: at, To: to, Metadata: Metadata{Xattr: map[string][]byte{"user.note": note, "security.label": []byte("x"), aclAccess: []byte(byName)}}}
	f, err := os.Open(filepath.Join(dir, "file"))
	fatal.If(t, err)
	defer f.Close()
	if unkept, err := Apply(f, g); err != nil || len(unkept) != 1 || !strings.HasPrefix(unkept[0], "file: "+aclAccess+": ") {
		t.Errorf("not kept: %q, %v", unkept, err)
	}
	if unkept, err := ApplyDir(root, Wanted{Path: "folder", Mode: fs.ModeSetgid | 0o750, ModTime: at, To: to}); unkept != nil || err != nil {
		t.Errorf("the folder: %q, %v", unkept, err)
	}
	if err := ApplyLink(root, Wanted{Path: "folder/link", ModTime: at, To: to}); err != nil {
		t.Error(err)
	}
	for name, mode := range map[string]fs.FileMode{"file": 0o640, "folder": fs.ModeDir | fs.ModeSetgid | 0o750, "folder/link": fs.ModeSymlink | 0o777} {
		info, err := os.Lstat(filepath.Join(dir, name))
		fatal.If(t, err)
		if s := StatOf(info); info.Mode() != mode || !info.ModTime().Equal(at) && name != "folder" || s.Owner != *to || s.Sparse || s.Shared != (Inode{}) {
			t.Errorf("%s is %v of %v: %+v", name, info.Mode(), info.ModTime(), s)
		}
	}
	if got, _ := Xattr(filepath.Join(dir, "file"), nil); len(got) != 1 || !bytes.Equal(got["user.note"], note) {
		t.Errorf("extended attributes: %q", got)
	}
	before, _ := os.Stat(filepath.Join(dir, "plain"))
	if f, err = os.OpenFile(filepath.Join(dir, "plain"), os.O_RDWR, 0); err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if unkept, err := Apply(f, Wanted{Path: "plain", Mode: 0o604}); unkept != nil || err != nil {
		t.Errorf("plain: %q, %v", unkept, err)
	}
	if after, _ := os.Stat(filepath.Join(dir, "plain")); after.Mode() != 0o604 || !after.ModTime().Equal(before.ModTime()) || StatOf(after).Owner != me {
		t.Errorf("plain is %v of %v", after.Mode(), after.ModTime())
	}
	for _, name := range []string{"plain", "nothing"} {
		if got, _ := Xattr(filepath.Join(dir, name), nil); got != nil {
			t.Errorf("%s has extended attributes: %q", name, got)
		}
	}
	if owner, ok := OwnerOf(filepath.Join(dir, "file")); owner != *to || !ok {
		t.Errorf("the file is of %v", owner)
	}
	if _, ok := OwnerOf(filepath.Join(dir, "nothing")); ok {
		t.Error("what is not there belongs to somebody")
	}
	if err := ApplyLink(root, Wanted{Path: "gone/link", ModTime: at}); err == nil {
		t.Error("a link in no folder was settled")
	}
	if _, err := ApplyDir(root, Wanted{Path: "gone", Mode: 0o700}); err == nil {
		t.Error("no folder was settled")
	}
	for _, see := range []func(string) error{Readable, Writable} {
		if err := see(dir); err != nil {
			t.Error(err)
		}
		if err := see(filepath.Join(dir, "nothing")); err == nil {
			t.Error("what is not there can be used")
		}
	}
}

// TestHolesAndNames detects files with holes, and files with several names.
func TestHolesAndNames(t *testing.T) {
	dir := t.TempDir()
	for name, size := range map[string]int64{"small": Hole - 1, "hole": Hole, "other": 9 * Hole} {
		f, err := os.Create(filepath.Join(dir, name))
		fatal.If(t, err)
		f.Truncate(size)
		f.Close()
	}
	os.WriteFile(filepath.Join(dir, "full"), bytes.Repeat([]byte("x"), 2*Hole), 0o600)
	os.Link(filepath.Join(dir, "full"), filepath.Join(dir, "full too"))
	os.Link(filepath.Join(dir, "other"), filepath.Join(dir, "other too"))
	seen := map[string]Stat{}
	entries, _ := os.ReadDir(dir)
	for _, e := range entries {
		info, err := e.Info()
		fatal.If(t, err)
		seen[e.Name()] = StatOf(info)
	}
	for name, sparse := range map[string]bool{"small": false, "hole": true, "other": true, "full": false} {
		if seen[name].Sparse != sparse {
			t.Errorf("%s has holes: %v", name, !sparse)
		}
	}
	if seen["full"].Shared != seen["full too"].Shared || seen["full"].Shared == seen["other"].Shared || seen["full"].Shared == (Inode{}) || seen["hole"].Shared != (Inode{}) {
		t.Errorf("names: %+v", seen)
	}
}

// TestManyAttributes reads more names than fit into the first buffer.
func TestManyAttributes(t *testing.T) {
	file := filepath.Join(t.TempDir(), "file")
	os.WriteFile(file, nil, 0o600)
	f, err := os.Open(file)
	fatal.If(t, err)
	defer f.Close()
	want := Metadata{Xattr: map[string][]byte{}}
	for i := range 12 {
		want.Xattr["user."+strings.Repeat(string(rune('a'+i)), 120)] = []byte{byte(i)}
	}
	if unkept, err := Apply(f, Wanted{Mode: 0o600, Metadata: want}); len(unkept) > 0 || err != nil {
		t.Fatalf("not kept: %q, %v", unkept, err)
	}
	is, _ := Xattr(file, nil)
	if d := DifferXattr(want, Metadata{Xattr: is}); d != "" {
		t.Error(d)
	}
}
