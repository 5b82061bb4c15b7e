package machine

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"movekit/internal/core/fault"
	"movekit/test/fatal"
	"movekit/test/lay"
)

// makeDisk creates a computer's disk: files by name, with links as "-> target".
func makeDisk(t *testing.T, files map[string]string) Computer {
	t.Helper()
	root := t.TempDir()
	lay.Out(t, root, files)
	c, err := Open(root)
	fatal.If(t, err)
	return c
}

func TestWindowsDisk(t *testing.T) {
	c := makeDisk(t, map[string]string{
		IdentityFile:                      "name: QUAY-DESK-1\nsystem: windows\nhardware-id: h1\nrunning: [{name: Tide.EXE, pid: 7}]\n",
		"users/Maren/appdata/ROAMING/T/x": "", "users/Default/x": "", "users/Public/x": "", "ProgramData/T/v.txt": "\xff\xfeV\x00:\x00 \x008\x00.\x002\x00\r\x00\n\x00",
		"WINDOWS/x": "",
	})
	if len(c.Users()) != 1 || c.Users()[0].Name != "Maren" || FindUser(c, "maren") == nil {
		t.Errorf("users %v", c.Users())
	}
	u := &c.Users()[0]
	for path, want := range map[string]string{
		`%APPDATA%\T\x`: "users/Maren/appdata/ROAMING/T/x", `%AppData%\T\New`: "users/Maren/appdata/ROAMING/T/New",
		`%PROGRAMDATA%\t\V.TXT`: "ProgramData/T/v.txt", `C:\programdata\T`: "ProgramData/T", `c:/Windows/x`: "WINDOWS/x",
		`%USERPROFILE%`: "users/Maren", `%PROGRAMFILES(X86)%\T`: "Program Files (x86)/T",
	} {
		if got, err := c.Locate(path, u); err != nil || got != filepath.Join(c.Root(), want) {
			t.Errorf("%s leads to %s (%v), want %s", path, got, err, want)
		}
	}
	for _, bad := range []string{`D:\data`, `~/x`, `%NOSUCH%\x`} {
		if got, err := c.Locate(bad, u); err == nil {
			t.Errorf("%s leads to %s", bad, got)
		}
	}
	if r, _ := c.Running(t.Context(), []string{"tide", "other"}); len(r) != 1 || r[0].PID != 7 {
		t.Errorf("running %v", r)
	}
}

func TestLinuxDisk(t *testing.T) {
	c := makeDisk(t, map[string]string{
		"etc/hostname": "quay\n", "etc/machine-id": "0123\n",
		"etc/passwd":   "zoe:x:1001:1001::/home/zoe:/bin/bash\nhalf:x:1002:1002::/home/half\nall:x:1003:1003::/:/bin/sh\nshut:x:1004:1004::/home/shut:/bin/false\ngone:x:1005:1005::/home/gone:/bin/sh\ndaemon:x:999:999::/home/zoe:/bin/sh\nroot:x:0:0::/root:/bin/bash\nmaren:x:1000:1000::/home/maren:/bin/bash\nwww:x:33:33::/var/www:/usr/sbin/nologin\nnobody:x:65534:65534::/nonexistent:/bin/sh\n",
		"home/maren/x": "", "root/x": "", "var/www/x": "", "home/zoe/x": "", "home/half/x": "", "home/shut/x": "",
		"data/conf/t/x": "", "home/maren/.config": "-> /data/conf", "home/maren/up": "-> ../../../../../etc", "a": "-> b", "b": "-> a",
	})
	if u := c.Users(); len(u) != 3 || u[0].Name != "maren" || u[1].Name != "root" || u[2].Name != "zoe" || c.Name() != "quay" || c.HardwareID() != "0123" {
		t.Errorf("%s %s users %v", c.Name(), c.HardwareID(), c.Users())
	}
	u := FindUser(c, "maren")
	for path, want := range map[string]string{
		"$XDG_CONFIG_HOME/t/x": "data/conf/t/x", "~/.config/t": "data/conf/t", "~/up/hostname": "etc/hostname", "/var/www": "var/www",
		"$XDG_DATA_HOME/t": "home/maren/.local/share/t", `~/a\b`: `home/maren/a\b`, `$HOME/a\b`: `home/maren/a\b`, `/srv/a\b`: `srv/a\b`,
	} {
		if got, err := c.Locate(path, u); err != nil || got != filepath.Join(c.Root(), want) {
			t.Errorf("%s leads to %s (%v), want %s", path, got, err, want)
		}
	}
	if _, err := c.Locate("/a/x", nil); err == nil {
		t.Error("a circle of links leads somewhere")
	}
	if !PerUser("~/x") || PerUser("/x") || len(Profiles(c, "~/x")) != 3 || Profiles(c, "/x")[0] != nil {
		t.Error("who a path stands for")
	}
}

func TestNotADisk(t *testing.T) {
	if _, err := Open(filepath.Join(t.TempDir(), "none")); fault.KindOf(err) != fault.Missing {
		t.Errorf("nothing there: %v", err)
	}
	if _, err := Open(t.TempDir()); fault.KindOf(err) != fault.Usage {
		t.Errorf("an empty folder: %v", err)
	}
	dir := t.TempDir()
	os.WriteFile(filepath.Join(dir, IdentityFile), []byte("name: [\n"), 0o600)
	if _, err := Open(dir); fault.KindOf(err) != fault.Usage {
		t.Errorf("a broken identity: %v", err)
	}
}

func TestLiveComputer(t *testing.T) {
	home := t.TempDir()
	t.Setenv("HOME", home)
	t.Setenv("XDG_CONFIG_HOME", filepath.Join(home, "conf"))
	c, err := Open("")
	fatal.If(t, err)
	for _, u := range c.Users() {
		if u.Home == home {
			if got, err := c.Locate("$XDG_CONFIG_HOME/t", &u); err != nil || got != filepath.Join(home, "conf", "t") {
				t.Errorf("leads to %s (%v)", got, err)
			}
			return
		}
	}
	t.Errorf("the home of who runs this is not among %v", c.Users())
}

func TestNamesOfProfiles(t *testing.T) {
	for folder, want := range map[string]string{
		"maren": "maren", "maren.TERNQUAY": "maren", "maren.000": "maren", "maren.TERNQUAY.001": "maren", "m.sandvoll": "m.sandvoll", "m.sandvoll.QUAY-1": "m.sandvoll",
		"Maren Sandvoll": "Maren Sandvoll", ".QUAY": ".QUAY", "a.1234": "a", "maren.oak": "maren.oak",
	} {
		if got := account(folder); got != want {
			t.Errorf("%s is %s, want %s", folder, got, want)
		}
	}
	c := makeDisk(t, map[string]string{IdentityFile: "name: X\nsystem: windows\nhardware-id: h\n", "Users/maren.TERNQUAY/x": "", "Users/tobias.000/x": "", "Users/tobias.QUAY/x": "", "Users/ove/x": ""})
	for old, want := range map[string]string{"maren": "maren.TERNQUAY", "Maren.OLD": "maren.TERNQUAY", "OVE": "ove", "tobias": "", "nobody": ""} {
		u := Counterpart(c, old)
		if (u == nil) != (want == "") || u != nil && u.Name != want {
			t.Errorf("%s is %v here, want %q", old, u, want)
		}
	}
}

func TestTermInvertsLocate(t *testing.T) {
	w := makeDisk(t, map[string]string{IdentityFile: "name: X\nsystem: windows\nhardware-id: h\n", "Users/maren/AppData/Roaming/T/x": "", "Users/Public/P/x": "", "ProgramData/T/x": "", "Program Files (x86)/T/x": "", "Data/x": ""})
	l := makeDisk(t, map[string]string{"etc/hostname": "q", "etc/machine-id": "1", "etc/passwd": "maren:x:1000:1::/home/maren:/bin/sh\n", "home/maren/.config/t/x": "", "home/maren/y": "", "srv/t/x": ""})
	for _, q := range []struct {
		c          Computer
		rel, want  string
		user, said string
	}{
		{w, "Users/maren/AppData/Roaming/T/x", `%APPDATA%\T\x`, "maren", `C:\Users\maren\AppData\Roaming\T\x`}, {w, "Users/maren", `%USERPROFILE%`, "maren", `C:\Users\maren`},
		{w, "ProgramData/T", `%PROGRAMDATA%\T`, "", `C:\ProgramData\T`}, {w, "Program Files (x86)/T", `%PROGRAMFILES(X86)%\T`, "", `C:\Program Files (x86)\T`}, {w, "Users/Public/P", `%PUBLIC%\P`, "", `C:\Users\Public\P`}, {w, "Data/x", `C:\Data\x`, "", `C:\Data\x`},
		{l, "home/maren/.config/t/x", "$XDG_CONFIG_HOME/t/x", "maren", "/home/maren/.config/t/x"}, {l, "home/maren/y", "~/y", "maren", "/home/maren/y"}, {l, "srv/t/x", "/srv/t/x", "", "/srv/t/x"}, {l, ".hold/x", "/.hold/x", "", "/.hold/x"}, {w, ".hold/x", `C:\.hold\x`, "", `C:\.hold\x`}, {w, ".", `C:\`, "", `C:\`},
	} {
		real := filepath.Join(q.c.Root(), q.rel)
		got, u := Term(q.c, real)
		if got != q.want || (u == nil) != (q.user == "") || u != nil && u.Name != q.user || DisplayPath(q.c, real) != q.said {
			t.Errorf("%s is %q of %v, spoken %q", q.rel, got, u, DisplayPath(q.c, real))
		}
		if back, err := q.c.Locate(got, u); err != nil || back != real {
			t.Errorf("%s leads back to %s (%v)", got, back, err)
		}
	}
	if DisplayPath(l, "/elsewhere") != "/elsewhere" {
		t.Error("a path beside the disk")
	}
}

// FuzzIdentity reads forged identity files. None causes a panic, and an accepted one has a name and
// an id.
func FuzzIdentity(f *testing.F) {
	f.Add([]byte("name: OLD\nsystem: linux\nhardware-id: a\nusers: [{name: maren}]\nrunning: [{name: x, pid: 7, open: ['/srv/x']}]\n"))
	f.Add([]byte("name: [a]\n"))
	dir := f.TempDir()
	f.Fuzz(func(t *testing.T, data []byte) {
		fatal.If(t, os.WriteFile(filepath.Join(dir, IdentityFile), data, 0o600))
		if c, err := Open(dir); err == nil && (c.Name() == "" || c.HardwareID() == "" || c.System() == "") {
			t.Errorf("a computer without name or id: %q", data)
		}
	})
}

// TestMacNames finds names in both Unicode forms on a Mac's disk, where they are one name, and not on
// others.
func TestMacNames(t *testing.T) {
	for system, want := range map[string]bool{"macos": true, "windows": false, "linux": false} {
		c, err := Open(lay.Disk(t, system, map[string]string{"Users/maren/Bu\u0308ro/Re\u0301sume\u0301": "x", "Data/Büro 2/y": "y"}))
		fatal.If(t, err)
		for path, is := range map[string]string{"/Users/maren/Büro/Résumé": "Users/maren/Bu\u0308ro/Re\u0301sume\u0301", "/Data/BU\u0308RO 2/y": "Data/Büro 2/y"} {
			at, err := c.Locate(path, nil)
			if _, there := os.Stat(at); err != nil || (there == nil) != want || want && !strings.HasSuffix(at, is) {
				t.Errorf("%s: %s is at %q: %v", system, path, at, err)
			}
		}
	}
}

// TestShares rejects paths on other computers, which are not folders of the disk.
func TestShares(t *testing.T) {
	c, err := Open(lay.Disk(t, "windows", map[string]string{"Users/Maren/x": "", "SERVER/share/y": "", "Daten/z": ""}))
	fatal.If(t, err)
	for _, path := range []string{`\\SERVER\share\y`, `//SERVER/share/y`, `\\?\UNC\SERVER\share\y`, `\\SERVER`, `\\?\Volume{1}\y`} {
		if at, err := c.Locate(path, nil); fault.KindOf(err) != fault.Missing || !strings.Contains(err.Error(), "is not on this computer, but on") || !strings.Contains(err.Error(), "kind network") {
			t.Errorf("%s is at %q: %v", path, at, err)
		}
	}
	want, err := c.Locate(`C:\Daten\z`, nil)
	fatal.If(t, err)
	for _, path := range []string{`\\?\C:\Daten\z`, `\\.\c:\Daten\z`} {
		if at, err := c.Locate(path, nil); at != want || err != nil {
			t.Errorf("%s is at %q: %v", path, at, err)
		}
	}
}

// TestDrives maps folders to the drives of a disk, and swaps two drives.
func TestDrives(t *testing.T) {
	root, other := lay.Disk(t, "windows", map[string]string{"Users/Maren/x": "", "Daten/Alt/y": ""}), t.TempDir()
	lay.Out(t, other, map[string]string{"Boats/list.txt": "Tern", "out": "-> /etc"})
	c, err := Open(root)
	fatal.If(t, err)
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
	if got := DisplayPath(c, real); got != `D:\Boats\list.txt` {
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
	// Drive E: of another computer is C: here, and its C: is D:.
	for letter, folder := range map[string]string{"E": `C:\Daten\Alt`, "C:": `D:\`} {
		if moved, err := c.SetDrive(letter, folder); err != nil || !moved {
			t.Fatalf("%s: %v %v", letter, moved, err)
		}
	}
	for path, want := range map[string]string{`E:\y`: `C:\Daten\Alt\y`, `C:\Boats\list.txt`: `D:\Boats\list.txt`} {
		real, err := c.Locate(path, nil)
		if err != nil || DisplayPath(c, real) != want {
			t.Errorf("%s is at %s (%v), want %s", path, DisplayPath(c, real), err, want)
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

// TestFirmware reads the UUID of an SMBIOS table in the layout of DMTF DSP0134.
func TestFirmware(t *testing.T) {
	structure := func(kind byte, data string, texts ...string) string {
		return string([]byte{kind, byte(4 + len(data)), 7, 0}) + data + strings.Join(texts, "\x00") + "\x00\x00"
	}
	bios := structure(0, strings.Repeat("b", 20), "The vendor", "1.2")
	system := func(id string) string { return structure(1, "\x01\x02\x03\x04"+id+"\x06\x00\x00", "a", "b") }
	id := "0123456789abcdef"
	for name, c := range map[string]struct{ table, want string }{
		"second":            {bios + system(id) + structure(127, ""), "30313233343536373839616263646566"},
		"first":             {system(id), "30313233343536373839616263646566"},
		"none":              {bios + structure(127, ""), ""},
		"not set":           {system(strings.Repeat("\xff", 16)), ""},
		"nought":            {system(strings.Repeat("\x00", 16)), ""},
		"of old, without":   {structure(1, "\x01\x02\x03\x04", "a"), ""},
		"cut off":           {(bios + system(id))[:len(bios)+9], ""},
		"texts without end": {bios[:len(bios)-2], ""},
		"of no length":      {"\x05\x00\x00\x00rest", ""},
		"of four bytes":     {structure(127, "") + system(id), "30313233343536373839616263646566"}, "just long enough": {structure(1, "\x01\x02\x03\x04"+id), "30313233343536373839616263646566"},
		"a byte too short": {structure(1, "\x01\x02\x03\x04"+id[:15]), ""}, "all of it": {"\x01\x18\x07\x00\x01\x02\x03\x04" + id, "30313233343536373839616263646566"}, "without texts": {"\x05\x04\x00\x00\x00\x00" + system(id), "30313233343536373839616263646566"},
		"empty": {"", ""},
	} {
		if got := smbiosUUID([]byte(c.table)); got != c.want {
			t.Errorf("%s: %q, want %q", name, got, c.want)
		}
	}
}

// TestInside checks whether a path is in a folder, however it is spelled.
func TestInside(t *testing.T) {
	dir := t.TempDir()
	lay.Out(t, dir, map[string]string{"kit/a": "x", "link": "-> kit", "kitten/b": "y"})
	t.Chdir(dir)
	for path, want := range map[string]bool{
		"kit": true, "kit/a": true, "kit/new/deep": true, "link/new": true, dir + "/kit/none": true, "./kit/../kit/x": true,
		"kitten": false, "kitten/none": false, ".": false, "kit/../other": false, "/none": false,
	} {
		for _, outer := range []string{"kit", dir + "/kit", "link"} {
			if got := Inside(path, outer); got != want {
				t.Errorf("%s in %s: %t", path, outer, got)
			}
		}
	}
}

// TestRealInvertsDisplayPath writes paths in a computer's own terms, and converts them back to the real
// path. A path in a journal leads nowhere else.
func TestRealInvertsDisplayPath(t *testing.T) {
	for _, system := range []string{"windows", "linux"} {
		root := lay.Disk(t, system, map[string]string{"srv/data/a": "x", "srv/out": "-> /etc", "etc/hosts": "h"})
		c, err := Open(root)
		fatal.If(t, err)
		path := filepath.Join(c.Root(), "srv", "data", "new")
		if got, err := Real(c, DisplayPath(c, path)); err != nil || got != path {
			t.Errorf("%s: %q, %v", system, got, err)
		}
		for _, bad := range []string{"/../../../etc/passwd", "/srv/../../x", "/srv/out/hosts", `C:\..\..\x`} {
			if got, err := Real(c, bad); err == nil && !strings.HasPrefix(got, c.Root()+"/") {
				t.Errorf("%s: %s leads to %s", system, bad, got)
			}
		}
		if _, err := Real(c, `D:\data`); err == nil && system == "windows" {
			t.Error("a drive that is not there was found")
		}
		if got, err := Real(c, "postgresql:x@h:5432/ledger"); err != nil || got != "postgresql:x@h:5432/ledger" {
			t.Errorf("an address became %q, %v", got, err)
		}
	}
}
