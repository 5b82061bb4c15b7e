package test

import (
	"encoding/binary"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"movekit/test/fatal"
	"movekit/test/lay"
)

// settled creates an office whose user has another name on the new computer, where the app was
// started already.
func settled(t *testing.T) string {
	t.Helper()
	dir := office(t)
	lay.Out(t, dir, map[string]string{
		"old/home/maren/.tide/tide.ini": "home=/home/maren/berths\ndata=/srv/diary/2025\n", "new/home/mholm/.tide/tide.ini": "home=/home/mholm\n", "new/home/mholm/x": "",
		"settings.yaml": `card: 1
name: tide
title: Tidewright
version: {file: /opt/app/version}
items:
  - {name: settings, kind: folder, path: ~/.tide, update-paths: ['*.ini']}
`})
	made(t, dir, "--cards", "settings.yaml")
	step(t, 0, dir, "old", "pack")
	return dir
}

// TestNewComputerQuestions answers every question on a new computer at a terminal.
func TestNewComputerQuestions(t *testing.T) {
	t.Parallel()
	dir := settled(t)
	s := step(t, 0, dir, "new", "ready", "--user", "maren=mholm", "--place", "diary/diary=/data/harbour")
	if words := strings.Join(strings.Fields(s.out), " "); !strings.Contains(words, "user maren ready is mholm here") || !strings.Contains(words, "it moves from /srv/diary to /data/harbour") {
		t.Errorf("survey of the new computer: %s", s.out)
	}
	s = step(t, 5, dir, "new", "unpack", "tide") // nobody is there who could agree
	s.tells(t, "the settings settings of Tidewright contain paths")
	ini := filepath.Join(dir, "new/home/mholm/.tide/tide.ini")
	text := func() string { data, _ := os.ReadFile(ini); return string(data) }
	if text() != "home=/home/mholm\n" {
		t.Errorf("nobody agreed: %q", text())
	}
	// If the user interrupts the question, nothing is changed, and the question is asked again.
	out := atTerminal(t, dir, passphrase+"\nwhat\n\x03", "unpack", "--kit", "kit", "--root", "new")
	if !strings.Contains(out, "existing data:") || !strings.Contains(out, "Please press Enter") || text() != "home=/home/mholm\n" {
		t.Errorf("stopped: %s", out)
	}
	out = atTerminal(t, dir, passphrase+"\naside\ny\n", "unpack", "--kit", "kit", "--root", "new")
	for _, want := range []string{"@@ 1 @@", "-home=/home/maren/berths", "+home=/home/mholm/berths", "+data=/data/harbour/2025", "2 paths in its settings", "existing data was set aside"} {
		if !strings.Contains(out, want) {
			t.Errorf("no %q in %s", want, out)
		}
	}
	if text() != "home=/home/mholm/berths\ndata=/data/harbour/2025\n" {
		t.Errorf("the settings say %q", text())
	}
	step(t, 0, dir, "new", "verify")
	step(t, 0, dir, "new", "undo")
	if text() != "home=/home/mholm\n" {
		t.Errorf("after undo the settings say %q", text())
	}
	// Each item gets its own policy, and no paths are updated.
	step(t, 0, dir, "new", "unpack", "tide/settings@maren", "--existing", "tide=keep-both", "--keep-paths")
	if beside, _ := filepath.Glob(filepath.Join(dir, "new/home/mholm/.tide*")); len(beside) != 2 || !strings.HasPrefix(text(), "home=/home/maren/berths") {
		t.Errorf("beside: %v, %q", beside, text())
	}
	if numbered, _ := os.ReadFile(strings.TrimSuffix(ini, ".ini") + " (2).ini"); string(numbered) != "home=/home/mholm\n" {
		t.Errorf("what was there: %q", numbered)
	}
	step(t, 2, dir, "new", "unpack", "tide/none").tells(t, "has no item")
	step(t, 2, dir, "new", "unpack", "settings").tells(t, "use tide/settings")
	step(t, 2, dir, "new", "unpack", "--place", "tide/settings=relative").tells(t, "no sealed item tide/settings")
	step(t, 2, dir, "new", "unpack", "--place", "tide/settings@maren=relative").tells(t, "a full path")
	step(t, 2, dir, "new", "unpack", "--existing", "tide=away").tells(t, "set-aside, keep-both, skip or replace")
}

// TestPlaces chooses destinations for several items, and for one of them.
func TestPlaces(t *testing.T) {
	t.Parallel()
	dir := office(t)
	lay.Out(t, dir, map[string]string{"old/srv/diary/2024/c.rec": "old", "diary.yaml": "card: 1\nname: diary\ntitle: Hoistbook\nitems: [{name: years, kind: folder, path: /srv/diary, each: '20??'}]\n"})
	made(t, dir)
	if s := step(t, 0, dir, "old", "pack", "diary/years@2024"); !strings.Contains(s.out, "not selected, not sealed: Hoistbook: years@2025") {
		t.Errorf("a pack of one: %s", s.out)
	}
	if s := must(t, 0, dir, "report", "--kit", "kit", "--verbose"); !strings.Contains(s.out, "years@2025: not selected for the pack") {
		t.Errorf("the handover: %s", s.out)
	}
	if s := step(t, 0, dir, "old", "pack"); strings.Contains(s.out, "not selected") {
		t.Errorf("a pack of all: %s", s.out)
	}
	if s := step(t, 0, dir, "new", "unpack", "--place", "diary/years=/data", "--place", "diary/years@2024=/archive/2024"); !strings.Contains(s.out, "years@2024") {
		t.Errorf("unpack: %s", s.out)
	}
	for _, name := range []string{"data/2025/a.rec", "archive/2024/c.rec"} {
		if _, err := os.Stat(filepath.Join(dir, "new", name)); err != nil {
			t.Error(err)
		}
	}
	step(t, 0, dir, "new", "verify", "diary/years@2024")
	step(t, 0, dir, "new", "verify")
	os.WriteFile(filepath.Join(dir, "new/archive/2024/c.rec"), []byte("else"), 0o644)
	if s := step(t, 0, dir, "new", "verify", "diary/years@2025"); strings.Contains(s.out, "years@2024") || !strings.Contains(s.out, "(1 of 3 items)") {
		t.Errorf("verify of one says more than it saw: %s", s.out)
	}
	step(t, 3, dir, "new", "verify", "diary/years")
}

// owners creates an office in which two people and a service have files, and a new computer on
// which they have other numbers. maren has another name and home there. The service runs as a user
// who exists on this computer too.
func owners(t *testing.T, service *user.User) string {
	if os.Geteuid() != 0 {
		t.Skip("only root may give files to others")
	}
	dir := t.TempDir()
	lay.OpenTo(dir)
	lay.Out(t, dir, map[string]string{
		"old/computer.yaml": lay.Ident("linux", "OLD", "1"), "new/computer.yaml": lay.Ident("linux", "NEW", "2"),
		"old/etc/passwd": "root:x:0:0::/root:/bin/sh\nharbourd:x:6001:6001::/var/lib/harbour:/usr/sbin/nologin\nmaren:x:1000:1000::/home/maren:/bin/sh\ntobias:x:1001:1001::/home/tobias:/bin/sh\nclerk:x:1002:1002::/nowhere:/bin/sh\n",
		"old/etc/group":  "root:x:0:\nharbourd:x:6001:\nmaren:x:1000:\ntobias:x:1001:\nquay:x:2000:maren,tobias\n",
		"new/etc/passwd": fmt.Sprintf("root:x:0:0::/root:/bin/sh\nharbourd:x:%s:%s::/var/lib/harbour:/usr/sbin/nologin\nmlind:x:1500:1600::/people/mlind:/bin/sh\ntobias:x:1000:1000::/home/tobias:/bin/sh\nclerk:x:1002:1002::/nowhere:/bin/sh\n", service.Uid, service.Gid),
		"new/etc/group":  fmt.Sprintf("root:x:0:\nharbourd:x:%s:\nmlind:x:1600:\ntobias:x:1000:\nquay:x:3000:\n", service.Gid),
		"old/home/maren/.config/hoist/settings.ini": "sling=2\n", "old/home/maren/.config/hoist/keys/own.key": "k",
		"old/home/tobias/.config/hoist/settings.ini": "sling=3\n", "old/home/tobias/.config/hoist/lent": "of maren",
		"new/people/mlind/.keep": "", "new/home/tobias/.keep": "", "new/var/lib/.keep": "",
		"old/srv/diary/a.rec": "one", "old/srv/diary/deep/b.rec": "two", "old/srv/diary/latest": "-> deep/b.rec", "old/srv/diary/cache/tile.bin": strings.Repeat("t", 5000), "old/srv/diary/note.tmp": "x",
		"cards/hoist.yaml": `card: 1
name: hoist
title: Hoistbook
items:
  - {name: store, kind: folder, path: /var/lib/harbour/store}
  - {name: diary, kind: folder, path: /srv/diary, skip: [cache, "*.tmp"]}
  - {name: fleet, kind: sqlite, path: /srv/fleet.db}
  - {name: settings, kind: folder, path: $XDG_CONFIG_HOME/hoist}
`,
		"pass": passphrase + "\n",
	})
	lay.Database(t, dir+"/old/srv/fleet.db", "CREATE TABLE boat (n)", "INSERT INTO boat VALUES (1), (2)")
	own := func(name string, uid, gid int, mode os.FileMode) {
		path := filepath.Join(dir, name)
		fatal.If(t, os.Lchown(path, uid, gid))
		if mode != 0 {
			os.Chmod(path, mode)
		}
	}
	for _, p := range []string{"", "/.config", "/.config/hoist", "/.config/hoist/settings.ini"} {
		own("old/home/maren"+p, 1000, 1000, 0)
		own("old/home/tobias"+p, 1001, 1001, 0)
	}
	own("old/home/maren/.config/hoist/keys", 1000, 1000, 0o700)
	own("old/home/maren/.config/hoist/keys/own.key", 1000, 1000, 0o600)
	own("old/home/tobias/.config/hoist/lent", 1000, 2000, 0o640)
	own("new/people/mlind", 1500, 1600, 0o750)
	own("new/home/tobias", 1000, 1000, 0o750)
	own("old/srv/diary", 1002, 2000, 0o775|os.ModeSetgid)
	own("old/srv/diary/latest", 1001, 2000, 0)
	own("old/srv/diary/a.rec", 1000, 2000, 0o640)
	own("old/srv/fleet.db", 6001, 2000, 0o660)
	// Other metadata: another name of a file, holes, attributes, an access list, times.
	os.Link(dir+"/old/srv/diary/a.rec", dir+"/old/srv/diary/same.rec")
	f, err := os.Create(dir + "/old/srv/diary/holes.img")
	fatal.If(t, err)
	f.WriteAt([]byte("begin"), 0)
	f.WriteAt([]byte("end"), 8<<20)
	f.Truncate(12 << 20)
	f.Close()
	for name, value := range map[string][]byte{"user.berth": []byte("7"), "system.posix_acl_access": accessList(1001)} {
		if err := unix.Setxattr(dir+"/old/srv/diary/deep/b.rec", name, value, 0); err != nil {
			t.Skipf("the file system here takes no %s: %v", name, err)
		}
	}
	back := []unix.Timespec{{Sec: 1_700_000_000}, {Sec: 1_700_000_000}}
	unix.UtimesNanoAt(unix.AT_FDCWD, dir+"/old/srv/diary/latest", back, unix.AT_SYMLINK_NOFOLLOW)
	return dir
}

// accessList lets one more user read a file: the attribute of acl(5), with tags, permissions and
// numbers.
func accessList(uid uint32) []byte {
	const nobody = 1<<32 - 1
	raw := binary.LittleEndian.AppendUint32(nil, 2)
	for _, e := range []struct {
		tag, perm uint16
		id        uint32
	}{{1, 6, nobody}, {2, 4, uid}, {4, 4, nobody}, {0x10, 4, nobody}, {0x20, 0, nobody}} {
		raw = binary.LittleEndian.AppendUint16(binary.LittleEndian.AppendUint16(raw, e.tag), e.perm)
		raw = binary.LittleEndian.AppendUint32(raw, e.id)
	}
	return raw
}

// belongs returns the owner and permissions of a path.
func belongs(t *testing.T, path string) string {
	t.Helper()
	info, err := os.Lstat(path)
	fatal.If(t, err)
	st := info.Sys().(*syscall.Stat_t)
	return fmt.Sprintf("%d:%d %v", st.Uid, st.Gid, info.Mode())
}

// TestOwners moves data of two people and a service to a computer where they have other
// numbers, names and homes.
func TestOwners(t *testing.T) {
	t.Parallel()
	dir := owners(t, &user.User{Uid: "7001", Gid: "7001"})
	must(t, 0, dir, "new", "kit", "--cards", "cards", "--to", "NEW", "--root", "old", "--passphrase-file", "pass")
	os.MkdirAll(dir+"/old/var/lib/harbour/store", 0o755)
	os.Chmod(dir+"/old/var/lib/harbour/store", 0o700)
	os.Chown(dir+"/old/var/lib/harbour/store", 6001, 6001)
	for _, said := range []string{step(t, 0, dir, "old", "survey").out, step(t, 0, dir, "old", "pack").out} {
		for _, want := range []string{"left out", "diary: cache/: 1 file, 5.0 kB\n", "diary: ./: 1 file, 1 B\n"} {
			if !strings.Contains(said, want) {
				t.Errorf("%q is not said:\n%s", want, said)
			}
		}
	}
	stopped := step(t, 4, dir, "new", "unpack")
	stopped.tells(t, "users-known")
	stopped.tells(t, "maren")
	step(t, 0, dir, "new", "unpack", "--user", "maren=mlind")
	for name, want := range map[string]string{
		"people/mlind/.config":                    "1500:1600 drwxr-xr-x", // was missing, and is hers
		"people/mlind/.config/hoist":              "1500:1600 drwxr-xr-x",
		"people/mlind/.config/hoist/settings.ini": "1500:1600 -rw-r--r--",
		"people/mlind/.config/hoist/keys":         "1500:1600 drwx------",
		"people/mlind/.config/hoist/keys/own.key": "1500:1600 -rw-------",
		"home/tobias/.config":                     "1000:1000 drwxr-xr-x",
		"home/tobias/.config/hoist/settings.ini":  "1000:1000 -rw-r--r--",
		"home/tobias/.config/hoist/lent":          "1500:3000 -rw-r-----", // hers, in his folder
		"srv/diary":                               "1002:3000 dgrwxrwxr-x",
		"srv/diary/a.rec":                         "1500:3000 -rw-r-----",
		"srv/diary/latest":                        "1000:3000 Lrwxrwxrwx",
		"srv/diary/deep":                          "0:0 drwxr-xr-x",
		"srv/fleet.db":                            "7001:3000 -rw-rw----",
		"var/lib/harbour/store":                   "7001:7001 drwx------",
	} {
		if got := belongs(t, dir+"/new/"+name); got != want {
			t.Errorf("%s: %s, want %s", name, got, want)
		}
	}
	diary := dir + "/new/srv/diary/"
	a, _ := os.Stat(diary + "a.rec")
	if b, err := os.Stat(diary + "same.rec"); err != nil || !os.SameFile(a, b) {
		t.Error("another name of a file became another file")
	}
	if info, _ := os.Stat(diary + "holes.img"); info == nil || info.Size() != 12<<20 || info.Sys().(*syscall.Stat_t).Blocks*512 > 1<<20 {
		t.Errorf("the holes are filled: %+v", info)
	}
	if link, _ := os.Lstat(diary + "latest"); link.ModTime().Unix() != 1_700_000_000 {
		t.Errorf("the link is of %s", link.ModTime())
	}
	value := make([]byte, 100)
	if n, err := unix.Getxattr(diary+"deep/b.rec", "user.berth", value); err != nil || string(value[:n]) != "7" {
		t.Errorf("the attribute: %q, %v", value[:max(n, 0)], err)
	}
	if n, err := unix.Getxattr(diary+"deep/b.rec", "system.posix_acl_access", value); err != nil || string(value[:n]) != string(accessList(1000)) { // tobias
		t.Errorf("the access list: %x, %v", value[:max(n, 0)], err)
	}
	step(t, 0, dir, "new", "verify")
	// Each of these changes is detected and named.
	for name, c := range map[string]struct {
		do   func()
		says string
	}{
		"an owner":     {func() { os.Chown(diary+"a.rec", 0, 3000) }, "a.rec belongs to root:quay, and should to mlind:quay"},
		"a mode":       {func() { os.Chmod(diary+"deep", 0o700) }, "deep had the permissions 0755, has 0700"},
		"an attribute": {func() { unix.Removexattr(diary+"deep/b.rec", "user.berth") }, "deep/b.rec has other extended attributes: user.berth"},
		"a link":       {func() { os.Lchown(diary+"latest", 0, 0) }, "latest belongs to root:root, and should to tobias:quay"},
		"one more":     {func() { os.Remove(diary + "same.rec"); os.WriteFile(diary+"same.rec", []byte("one"), 0o640) }, "same.rec was a name, is a file"},
		"a database":   {func() { os.Chown(dir+"/new/srv/fleet.db", 0, 0) }, "the file belongs to root:root, and should to harbourd:quay"},
	} {
		c.do()
		said := step(t, 3, dir, "new", "verify", "--json")
		var out struct {
			Apps []struct {
				Items []struct{ Differences []string }
			}
		}
		fatal.If(t, json.Unmarshal([]byte(said.out), &out))
		if !strings.Contains(fmt.Sprint(out), c.says) {
			t.Errorf("%s: %q is not said: %v", name, c.says, out)
		}
	}
}

// TestServiceData moves the data folder of a real service that insists on its owner, and the
// service writes there on the new computer.
func TestServiceData(t *testing.T) {
	t.Parallel()
	service, err := user.Lookup("postgres")
	if err != nil {
		need(t, "pg_ctlcluster")
		t.Skip("no service is here")
	}
	dir := owners(t, service)
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/initdb")
	if len(found) == 0 {
		need(t, "pg_ctlcluster")
	}
	bin := filepath.Dir(found[len(found)-1])
	uid, _ := strconv.Atoi(service.Uid)
	gid, _ := strconv.Atoi(service.Gid)
	as := func(name string, args ...string) string {
		cmd := exec.Command(filepath.Join(bin, name), args...)
		cmd.Dir, cmd.Env = "/", []string{"PATH=/usr/bin:/bin", "LC_ALL=C"}
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}}
		out, err := cmd.CombinedOutput()
		if err != nil {
			t.Fatalf("%s: %v\n%s", name, err, out)
		}
		return string(out)
	}
	old, now := dir+"/old/var/lib/harbour/store", dir+"/new/var/lib/harbour/store"
	os.MkdirAll(old, 0o755)
	os.Chmod(old, 0o700)
	os.Chown(old, uid, gid)
	as("initdb", "-D", old, "-A", "trust", "-U", "harbour", "-N", "-E", "UTF8", "--locale=C.UTF-8")
	filepath.WalkDir(old, func(p string, _ os.DirEntry, err error) error { // to the service of the old computer
		if err == nil {
			err = os.Lchown(p, 6001, 6001)
		}
		fatal.If(t, err)
		return nil
	})
	must(t, 0, dir, "new", "kit", "--cards", "cards", "--to", "NEW", "--root", "old", "--passphrase-file", "pass")
	step(t, 0, dir, "old", "pack")
	step(t, 0, dir, "new", "unpack", "--user", "maren=mlind")
	socket := t.TempDir()
	lay.OpenTo(socket)
	os.Chmod(socket, 0o777)
	as("pg_ctl", "-D", now, "-w", "-l", filepath.Join(socket, "log"), "-o", "-k "+socket+" -c listen_addresses='' -c fsync=off", "start")
	defer as("pg_ctl", "-D", now, "-m", "fast", "-w", "stop")
	for deadline := time.Now().Add(20 * time.Second); ; time.Sleep(50 * time.Millisecond) {
		cmd := exec.Command("psql", "-XAtq", "-h", socket, "-U", "harbour", "-d", "postgres", "-c", "CREATE TABLE lift (n int); INSERT INTO lift VALUES (641); SELECT n FROM lift")
		out, err := cmd.CombinedOutput()
		if err == nil && strings.TrimSpace(string(out)) == "641" {
			return
		}
		if time.Now().After(deadline) {
			t.Fatalf("the service does not write: %v\n%s", err, out)
		}
	}
}
