package item_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"movekit/test/fatal"
	"movekit/test/office"
)

var ctx = context.Background()

// TestParents creates the folders above items, with the owners and permissions that they had, and
// verifies that the owner can use the items and that nobody else can.
func TestParents(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("needs an administrator")
	}
	t.Parallel()
	o := office.New(t, "items:\n  - {name: data, kind: folder, path: /srv/clinic/deep/data}\n  - {name: notes, kind: file, path: /srv/notes/n}\n", "linux", map[string]string{
		"old/srv/clinic/deep/data/x": "x", "old/srv/notes/n": "n", "new/srv/.keep": "",
		"old/etc/passwd": "root:x:0:0::/root:/bin/sh\nmaren:x:1001:1001::/home/maren:/bin/sh\n", "old/etc/group": "root:x:0:\nmaren:x:1001:\noffice:x:2001:\n",
		"new/etc/passwd": "root:x:0:0::/root:/bin/sh\nmaren:x:4001:4001::/home/maren:/bin/sh\n", "new/etc/group": "root:x:0:\nmaren:x:4001:\noffice:x:5001:\n",
	})
	at := func(names ...string) string { return filepath.Join(append([]string{o.Dir}, names...)...) }
	for name, c := range map[string]struct{ gid, mode int }{"clinic": {1001, 0o700}, "clinic/deep": {2001, 0o2750}, "clinic/deep/data": {1001, 0o755}, "notes": {1001, 0o755}, "notes/n": {1001, 0o644}} {
		fatal.If(t, os.Chown(at("old/srv", name), 1001, c.gid))
		fatal.If(t, syscall.Chmod(at("old/srv", name), uint32(c.mode)))
	}
	o.Pack()
	o.Unpack()
	is := func(name string) string {
		var st syscall.Stat_t
		fatal.If(t, syscall.Stat(at("new/srv", name), &st))
		return fmt.Sprintf("%d:%d %04o", st.Uid, st.Gid, st.Mode&0o7777)
	}
	for name, want := range map[string]string{"clinic": "4001:4001 0700", "clinic/deep": "4001:5001 2750", "clinic/deep/data": "4001:4001 0755", "notes": "4001:4001 0755"} {
		if got := is(name); got != want {
			t.Errorf("%s is %s, not %s", name, got, want)
		}
	}
	if v := o.Verify(); !v.Equal() {
		t.Errorf("%+v", v.Items)
	}
	for what, c := range map[string]struct {
		name     string
		uid      int
		mode     uint32
		says, it string
	}{
		"closed to its owner":  {"clinic", 0, 0o700, "its owner maren cannot open the folder", "data"},
		"open to all":          {"clinic", 4001, 0o755, "all users of this computer can read it", "data"},
		"not to be written by": {"notes", 0, 0o755, "its owner maren could write in the folder", "notes"},
	} {
		fatal.If(t, os.Chown(at("new/srv", c.name), c.uid, 4001*c.uid/4001))
		fatal.If(t, os.Chmod(at("new/srv", c.name), os.FileMode(c.mode)))
		if c.mode == 0o755 && c.name == "clinic" {
			fatal.If(t, os.Chmod(at("new/srv/clinic/deep"), 0o755))
		}
		v := o.Verify()
		for _, i := range v.Items {
			if differs := !i.Equal; differs != (i.Item == c.it) || differs && !strings.Contains(fmt.Sprint(i.Diffs), c.says) {
				t.Errorf("%s: %s: %q", what, i.Item, i.Diffs)
			}
		}
		fatal.If(t, os.Chown(at("new/srv", c.name), 4001, 4001))
		fatal.If(t, os.Chmod(at("new/srv/clinic"), 0o700))
		fatal.If(t, syscall.Chmod(at("new/srv/clinic/deep"), 0o2750))
	}
}

// TestUndoRemovesParents undoes the unpack of two apps with a common folder. Folders that unpack created
// are gone; those with other files, and those that were there before, stay.
func TestUndoRemovesParents(t *testing.T) {
	t.Parallel()
	o := office.New(t, "items:\n  - {name: one, kind: folder, path: /srv/new/deep/one}\n  - {name: two, kind: file, path: /srv/new/two}\n  - {name: three, kind: folder, path: /srv/empty/three}\n  - {name: four, kind: folder, path: /srv/used/four}\n", "linux",
		map[string]string{"old/srv/new/deep/one/x": "1", "old/srv/new/two": "2", "old/srv/empty/three/x": "3", "old/srv/used/four/x": "4", "new/srv/empty/.keep": ""})
	fatal.If(t, os.Remove(filepath.Join(o.Dir, "new/srv/empty/.keep")))
	o.Pack()
	if out := o.Unpack(); len(out.Blocks) > 0 {
		t.Fatalf("%+v", out.Blocks)
	}
	if o.Text("new/srv/new/deep/one/x") != "1" || o.Text("new/srv/used/four/x") != "4" {
		t.Fatal("it is not in place")
	}
	fatal.If(t, os.WriteFile(filepath.Join(o.Dir, "new/srv/used/mine"), nil, 0o644))
	o.Only(o.Job(o.New).Undo(ctx))
	for name, want := range map[string]bool{"new": false, "empty": true, "empty/three": false, "used": true, "used/four": false} {
		if _, err := os.Lstat(filepath.Join(o.Dir, "new/srv", name)); (err == nil) != want {
			t.Errorf("%s exists: %v", name, err == nil)
		}
	}
}
