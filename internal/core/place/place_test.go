//go:build unix

package place_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"movekit/internal/core/machine"
	"movekit/internal/core/run"
	"movekit/internal/core/tree"
	"movekit/test/fatal"
	"movekit/test/hivetest"
	"movekit/test/lay"
	"movekit/test/office"
)

// mounted mounts a file system for the time of a test.
func mounted(t *testing.T, at string, args ...string) {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Skip("only root may mount")
	}
	if out, err := exec.Command("mount", append(args, at)...).CombinedOutput(); err != nil {
		t.Skipf("nothing can be mounted here: %s", out)
	}
	t.Cleanup(func() { exec.Command("umount", at).Run() })
}

// TestDestinations sets data aside, or reports before anything is written why it cannot.
func TestDestinations(t *testing.T) {
	t.Parallel()
	const text = "items:\n  - {name: diary, kind: folder, path: /srv/data/diary}\n  - {name: letter, kind: file, path: /srv/data/letter.txt}\n"
	start := func(files map[string]string) *office.Office {
		all := map[string]string{"old/srv/data/diary/a": "x", "old/srv/data/letter.txt": "dear", "new/srv/.keep": ""}
		for name, text := range files {
			all[name] = text
		}
		o := office.New(t, text, "linux", all)
		o.Pack()
		return o
	}
	t.Run("another layer", func(t *testing.T) {
		o := start(map[string]string{"lower/data/diary/deep/theirs": "t", "lower/data/letter.txt": "theirs", "upper/.keep": "", "scratch/.keep": ""})
		os.Remove(o.Dir + "/scratch/.keep")
		os.Chmod(o.Dir+"/lower/data/diary/deep", 0o750)
		mounted(t, o.Dir+"/new/srv", "-t", "overlay", "overlay", "-o", "lowerdir="+o.Dir+"/lower,upperdir="+o.Dir+"/upper,workdir="+o.Dir+"/scratch")
		o.Unpack()
		if out := o.Verify(); !out.Equal() {
			t.Errorf("%+v", out.Items)
		}
		aside, _ := filepath.Glob(o.Dir + "/new/srv/data/diary.set-aside-*/deep")
		if len(aside) != 1 {
			t.Fatalf("set aside: %q", office.Files(t, o.Dir+"/new/srv"))
		}
		if info, _ := os.Stat(aside[0]); info.Mode().Perm() != 0o750 {
			t.Errorf("its folder is %v", info.Mode())
		}
		o.Only(o.Job(o.New).Undo(ctx))
		if got := office.Files(t, o.Dir+"/new/srv/data"); !slices.Equal(got, []string{"diary/deep/theirs", "letter.txt"}) || o.Text("new/srv/data/letter.txt") != "theirs" {
			t.Errorf("taken back: %q", got)
		}
	})
	t.Run("a mount point", func(t *testing.T) {
		o := start(map[string]string{"new/srv/data/diary/.keep": ""})
		mounted(t, o.Dir+"/new/srv/data/diary", "-t", "tmpfs", "tmpfs", "-o", "size=64k")
		stops(t, o, "destination-ready", "is a mount point")
	})
	t.Run("read-only", func(t *testing.T) {
		o := start(map[string]string{"new/srv/data/.keep": ""})
		mounted(t, o.Dir+"/new/srv/data", "-t", "tmpfs", "tmpfs", "-o", "ro,size=64k")
		stops(t, o, "destination-ready", "cannot be written to: read-only file system")
	})
	t.Run("a file for a folder", func(t *testing.T) {
		o := start(map[string]string{"new/srv/data": "a file"})
		stops(t, o, "destination-ready destination-ready", "is a file, and diary needs a folder there")
		if o.Text("new/srv/data") != "a file" {
			t.Error("it is gone")
		}
	})
	t.Run("open", func(t *testing.T) {
		o := start(map[string]string{"new/srv/data/diary/theirs": "t"})
		lay.Out(t, o.Dir, map[string]string{"new/computer.yaml": lay.Ident("linux", "NEW", "2") + "running: [{name: hoistbook, pid: 7, open: [/srv/data/diary/theirs]}]\n"})
		o.New = office.Open(t, o.Dir+"/new")
		stops(t, o, "files-closed", "hoistbook (process 7) has")
	})
	t.Run("a link", func(t *testing.T) {
		// Somebody moved the data to a larger disk: it goes there, and the link stays.
		c, err := machine.Open("")
		if err != nil {
			t.Fatal(err)
		}
		dir := t.TempDir()
		lay.Out(t, dir, map[string]string{"large/theirs": "t", "diary": "-> large"})
		o := office.New(t, "items: [{name: diary, kind: folder, path: "+dir+"/diary}]\n", "linux", map[string]string{"old" + dir + "/diary/a": "x"})
		o.New = c
		o.Pack()
		j := o.Job(c)
		j.Overrides = map[string]string{"right-name": "it is the tests' own"}
		o.Only(j.Unpack(ctx))
		if target, err := os.Readlink(dir + "/diary"); err != nil || target != "large" {
			t.Errorf("the link leads to %q, %v", target, err)
		}
		if got := office.Files(t, dir); !slices.Equal(got, []string{"diary", "large(aside)/theirs", "large/a"}) {
			t.Errorf("%q", got)
		}
	})
}

// stops checks that an unpack stops before anything is written.
func stops(t *testing.T, o *office.Office, gates, says string) {
	t.Helper()
	before := office.Files(t, o.Dir+"/new")
	out := o.Unpack()
	if office.Blocked(out) != gates || !strings.Contains(out.Blocks[0].Why, says) {
		t.Errorf("stopped by %+v", out.Blocks)
	}
	if got := office.Files(t, o.Dir+"/new"); !slices.Equal(got, before) {
		t.Errorf("something is written: %q, before %q", got, before)
	}
}

// TestMountPoint moves data from a second disk to a computer on which nothing is mounted there. It asks
// where the data goes, before it fills the system's disk.
func TestMountPoint(t *testing.T) {
	t.Parallel()
	const fstab = "# <file system> <mount point> <type>\nUUID=1 / ext4 defaults 0 1\nUUID=2 /var ext4 defaults 0 2\nUUID=3 /data\\040big ext4 defaults 0 2\n"
	for name, c := range map[string]struct {
		fstab  string
		drives map[string]string
		stops  bool
		at     string
	}{
		"nothing is mounted": {"UUID=1 / ext4 defaults 0 1\n", nil, true, ""},
		"the same disk":      {fstab, nil, false, "new/data big/store/x"},
		"another folder":     {"", map[string]string{"/data big": "/srv"}, false, "new/srv/store/x"},
		"the system's disk":  {"", map[string]string{"/data big": "/data big"}, false, "new/data big/store/x"},
	} {
		o := office.New(t, "items:\n  - {name: store, kind: folder, path: /data big/store}\n  - {name: home, kind: folder, path: /var/app}\n", "linux", map[string]string{"old/data big/store/x": "x", "old/var/app/y": "y", "old/etc/fstab": fstab, "new/etc/fstab": c.fstab})
		o.Pack()
		j := o.Job(o.New)
		j.Choices.Drives = c.drives
		fatal.If(t, j.Redirect())
		out := o.Only(j.Unpack(ctx))
		if stopped := office.Blocked(out) == "destination-ready"; stopped != c.stops || stopped && (!strings.Contains(out.Blocks[0].Why, "mounted at /data big") || strings.Contains(out.Blocks[0].Why, "home")) {
			t.Errorf("%s: %+v", name, out.Blocks)
		}
		if c.at != "" && o.Text(c.at) != "x" {
			t.Errorf("%s: it is not at %s", name, c.at)
		}
	}
}

// TestKeepBothTwice packs again after the data was put beside existing data. The copy is renewed; one that
// somebody modified stays, and is named.
func TestKeepBothTwice(t *testing.T) {
	t.Parallel()
	for _, edited := range []bool{false, true} {
		o := office.New(t, "items: [{name: one, kind: file, path: /srv/one}]\n", "linux", map[string]string{"old/srv/one": "first", "new/srv/one": "mine"})
		unpack := func() *run.Outcome {
			j := o.Job(o.New)
			j.Policies = map[string]tree.Policy{"": tree.KeepBoth}
			return o.Only(j.Unpack(ctx))
		}
		o.Pack()
		first := unpack().Items[0].To
		if edited {
			fatal.If(t, os.WriteFile(first, []byte("edited"), 0o644))
		}
		lay.Out(t, o.Dir, map[string]string{"old/srv/one": "second"})
		o.Pack()
		out := unpack()
		files, _ := filepath.Glob(filepath.Join(o.Dir, "new/srv/*"))
		data, _ := os.ReadFile(out.Items[0].To)
		if string(data) != "second" || o.Text("new/srv/one") != "mine" || len(files) != map[bool]int{false: 2, true: 3}[edited] || (out.Items[0].To == first) == edited {
			t.Errorf("edited %v: %q %+v", edited, files, out.Items)
		}
		if notes := strings.Join(out.Items[0].Notes, " "); strings.Contains(notes, "it was modified since") != edited {
			t.Errorf("edited %v: %q", edited, notes)
		}
		if v := o.Verify(); !v.Equal() {
			t.Errorf("edited %v: %+v", edited, v.Items)
		}
	}
}

// TestKeepBothPart keeps both versions of a part of a folder in that folder, and undoes that.
func TestKeepBothPart(t *testing.T) {
	t.Parallel()
	o := office.New(t, "items: [{name: records, kind: folder, path: /srv/d, include: ['*.rec']}]\n", "linux", map[string]string{
		"old/srv/d/a.rec": "old a", "old/srv/d/b.rec": "old b", "new/srv/d/a.rec": "new a", "new/srv/d/c.rec": "new c", "new/srv/d/other": "not moved"})
	o.Pack()
	j := o.Job(o.New)
	j.Policies = map[string]tree.Policy{"": tree.KeepBoth}
	out := o.Only(j.Unpack(ctx))
	for name, want := range map[string]string{"a.rec": "old a", "b.rec": "old b", "c.rec": "new c", "a (2).rec": "new a", "other": "not moved"} {
		if got := o.Text("new/srv/d/" + name); got != want {
			t.Errorf("%s: %q, want %q", name, got, want)
		}
	}
	if v := o.Verify(); !v.Equal() || out.Items[0].To != filepath.Join(o.Dir, "new/srv/d") {
		t.Errorf("%+v, in place at %s", v.Items, out.Items[0].To)
	}
	o.Only(o.Job(o.New).Undo(ctx))
	if got := o.Text("new/srv/d/a.rec") + o.Text("new/srv/d/c.rec"); got != "new anew c" {
		t.Errorf("after undo: %q", got)
	}
	if left, _ := filepath.Glob(filepath.Join(o.Dir, "new/srv/d/b.rec")); len(left) > 0 {
		t.Errorf("after undo: %q", left)
	}
}

// TestVirtualStore moves what an old Windows program "wrote" into Program Files: each user's own copy.
func TestVirtualStore(t *testing.T) {
	t.Parallel()
	o := office.New(t, `items:
  - {name: data, kind: folder, path: '%PROGRAMFILES(X86)%\Hoist\Data'}
  - {name: settings, kind: file, path: 'C:\ProgramData\Hoist\hoist.ini'}
  - {name: years, kind: folder, path: '%PROGRAMFILES%\Hoist', each: '20??'}
  - {name: own, kind: file, path: '%APPDATA%\hoist.ini'}
  - {name: keys, kind: registry, key: 'HKLM\SOFTWARE\Hoist', optional: true}
`, "windows", map[string]string{
		"old/computer.yaml":                                                           lay.Ident("windows", "OLD", "1"),
		"old/Program Files (x86)/Hoist/Data/a":                                        "as installed",
		"old/ProgramData/Hoist/hoist.ini":                                             "shared",
		"old/Users/maren/AppData/Roaming/x":                                           "",
		"old/Users/tobias/AppData/Roaming/hoist.ini":                                  "tobias",
		"old/Users/maren/AppData/Local/VirtualStore/Program Files (x86)/Hoist/Data/a": "maren's",
		"old/Users/maren/AppData/Local/VirtualStore/ProgramData/Hoist/hoist.ini":      "maren's settings",
		"old/Users/tobias/AppData/Local/VirtualStore/Program Files/Hoist/2025/b":      "tobias's",
		"new/Users/maren.holm/AppData/Roaming/x":                                      "", "new/Users/tobias/AppData/Roaming/x": "", "new/Program Files/x": "",
	})
	hivetest.Lay(t, filepath.Join(o.Dir, "old"), map[string]string{"Users/maren/AppData/Local/Microsoft/Windows/UsrClass.dat": "[\\VirtualStore\\MACHINE\\SOFTWARE\\Hoist]\n\"Yard\"=\"maren's yard\"\n"})
	o.Pack()
	j := o.Job(o.New)
	j.Choices.Users = map[string]string{"maren": "maren.holm"}
	j.Overrides = office.Alone()
	out := o.Only(j.Unpack(ctx))
	if len(out.Items) != 7 {
		t.Fatalf("%+v", out)
	}
	if keys := out.Items[6]; keys.User != "maren" || !strings.HasPrefix(keys.To, `HKCU\Software\Classes\VirtualStore\MACHINE\SOFTWARE\Hoist`) || keys.ManualStep == "" {
		t.Errorf("%+v", keys)
	}
	for name, want := range map[string]string{
		"Program Files (x86)/Hoist/Data/a": "as installed", "ProgramData/Hoist/hoist.ini": "shared", "Users/tobias/AppData/Roaming/hoist.ini": "tobias",
		"Users/maren.holm/AppData/Local/VirtualStore/Program Files (x86)/Hoist/Data/a": "maren's",
		"Users/maren.holm/AppData/Local/VirtualStore/ProgramData/Hoist/hoist.ini":      "maren's settings",
		"Users/tobias/AppData/Local/VirtualStore/Program Files/Hoist/2025/b":           "tobias's",
	} {
		if got := o.Text("new/" + name); got != want {
			t.Errorf("%s: %q, want %q", name, got, want)
		}
	}
	v := o.Verify()
	if len(v.Items) != 7 {
		t.Fatalf("%+v", v)
	}
	for _, i := range v.Items[:6] {
		if !i.Equal {
			t.Errorf("%+v", i)
		}
	}
}
