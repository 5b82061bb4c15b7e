package machine

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"movekit/internal/core/fault"
	"movekit/internal/core/registry"
	"movekit/test/fatal"
	"movekit/test/hivetest"
	"movekit/test/lay"
)

const config = "Windows/System32/config/"

// TestHives reads the computer, its users and its devices from the hives of a Windows disk.
func TestHives(t *testing.T) {
	root := t.TempDir()
	person := func(sid, path string) string {
		return `[\Microsoft\Windows NT\CurrentVersion\ProfileList\` + sid + "]\n\"ProfileImagePath\"=\"" + strings.ReplaceAll(path, `\`, `\\`) + "\"\n"
	}
	adapter := func(n, device, about string) string {
		return `[\ControlSet002\Control\Class\{4d36e972-e325-11ce-bfc1-08002be10318}\` + n + "]\n\"DeviceInstanceID\"=\"" + strings.ReplaceAll(device, `\`, `\\`) + "\"\n" + about
	}
	hivetest.Lay(t, root, map[string]string{
		config + "SOFTWARE": "[\\Microsoft\\Cryptography]\n\"MachineGuid\"=\"5c0e\"\n" + person("S-1-5-21-1-2-3-1002", `%SystemDrive%\Users\zoe`) + person("S-1-5-21-1-2-3-1001", `C:\Users\maren.TERNQUAY`) + person("S-1-12-1-7-8", `C:\Users\Anna`) +
			person("S-1-5-21-1-2-3-1003", `C:\Users\gone`) + person("S-1-5-18", `C:\Users\svc`) + person("S-1-5-21-1-2-3-1004", `C:\Users\Public`) + person("S-1-5-21-1-2-3-1005", `C:\Users\a file`) + person("S-1-5-21-1-2-3-1006", `%NOSUCH%\x`),
		config + "SYSTEM": "[\\Select]\n\"Current\"=dword:00000002\n[\\ControlSet001\\Control\\ComputerName\\ComputerName]\n\"ComputerName\"=\"OTHER\"\n[\\ControlSet002\\Control\\ComputerName\\ComputerName]\n\"ComputerName\"=\"QUAY-DESK-1\"\n[\\ControlSet002\\Enum\\USB\\VID_1D6B&PID_00FF]\n" +
			adapter("0000", `PCI\VEN_1`, "\"DriverDesc\"=\"Board\"\n") + "[\\ControlSet002\\Enum\\PCI\\VEN_1]\n\"ConfigFlags\"=dword:00000003\n" + adapter("0001", `usb\VID_2`, "") + "[\\ControlSet002\\Enum\\usb\\VID_2]\n\"ConfigFlags\"=dword:00000002\n" +
			adapter("0002", `ROOT\TUNNEL`, "") + adapter("0003", `SD\1`, "") + adapter("0004", `PCMCIA\1`, "") + adapter("0005", "", ""),
		"Users/maren.TERNQUAY/NTUSER.DAT":                                   "[\\Software\\Tide]\n\"Seat\"=\"7\"\n",
		"Users/maren.TERNQUAY/AppData/Local/Microsoft/Windows/UsrClass.dat": "[\\.tide]\n\"\"=\"x\"\n[\\Deep\\er]\n\"Is\"=\"deeper\"\n",
		"Users/Anna/NTUSER.DAT":                                             "[\\Software\\Tide]\n\"Seat\"=\"8\"\n",
	})
	lay.Out(t, root, map[string]string{"Users/zoe/x": "", "Users/svc/x": "", "Users/Public/x": "", "Users/a file": "", "Users/unlisted/x": ""})
	c, err := Open(root)
	fatal.If(t, err)
	for path, letter := range map[string]string{`a:\`: "A", "Z:": "Z", "@:": "", "[:": "", "A": "", "": "", "AB:": ""} {
		if got := letterOf(path); got != letter {
			t.Errorf("%s is on the drive %q", path, got)
		}
	}
	var people []string
	for _, u := range c.Users() {
		people = append(people, u.Name+" "+u.Account+" "+u.SID())
	}
	if got := strings.Join(people, ", "); c.Name() != "QUAY-DESK-1" || c.HardwareID() != "5c0e" || c.System() != Windows || got != "Anna Anna S-1-12-1-7-8, maren.TERNQUAY maren S-1-5-21-1-2-3-1001, zoe zoe S-1-5-21-1-2-3-1002" {
		t.Errorf("%s %s %s: %s", c.Name(), c.HardwareID(), c.System(), got)
	}
	maren, zoe := FindUser(c, "MAREN.ternquay"), FindUser(c, "zoe")
	for _, q := range []struct {
		key  string
		user *User
		name string
		want string
	}{
		{`HKCU\Software\Tide`, maren, "Seat", "7"}, {`hkcu\software\TIDE`, FindUser(c, "anna"), "seat", "8"}, {`HKCU\Software\Classes\Deep\er`, maren, "is", "deeper"}, {`HKLM\Software\Microsoft\Cryptography`, nil, "MachineGuid", "5c0e"},
		{`HKLM\SYSTEM\ControlSet001\Control\ComputerName\ComputerName`, nil, "ComputerName", "OTHER"}, {`HKLM\SYSTEM\CurrentControlSet\Control\ComputerName\ComputerName`, nil, "ComputerName", "QUAY-DESK-1"},
	} {
		k, err := c.Registry(q.key, q.user)
		if err != nil {
			t.Errorf("%s: %v", q.key, err)
			continue
		}
		if got := registry.Text(k, "", q.name); got != q.want {
			t.Errorf("%s, %s is %q", q.key, q.name, got)
		}
		k.Close()
	}
	for key, u := range map[string]*User{`HKCU\Software\Tide`: zoe, `HKCU\Software\ClassesOf`: maren, `HKLM\SAM\x`: nil, `HKLM\SOFTWARE\None`: nil, `HKLM\SYSTEM\CurrentControlSetOf\Control`: nil} {
		if _, err := c.Registry(key, u); !errors.Is(err, fs.ErrNotExist) {
			t.Errorf("%s: %v", key, err)
		}
	}
	if _, err := c.Registry(`HKCU\Software`, nil); fault.KindOf(err) != fault.NoUser {
		t.Errorf("of nobody: %v", err)
	}
	if _, err := c.Registry(`HKU\x`, nil); fault.KindOf(err) != fault.BadCard {
		t.Errorf("of no root: %v", err)
	}
	if _, err := c.Change(`HKLM\SOFTWARE\X`, nil, true); !errors.Is(err, registry.ErrOffline) {
		t.Errorf("changed: %v", err)
	}
	if got := fmt.Sprint(c.Adapters()); got != `[{Board false true} {usb\VID_2 true false} {SD\1 true false} {PCMCIA\1 true false}]` {
		t.Errorf("adapters: %s", got)
	}
	for id, want := range map[string]bool{"1d6b:00ff": true, "1D6B:00FF": true, "1d6b:0002": false} {
		if in, err := USB(c, id); in != want || err != nil {
			t.Errorf("%s is plugged in: %v, %v", id, in, err)
		}
	}
	lay.Out(t, root, map[string]string{IdentityFile: "name: GIVEN\n"})
	if given, err := Open(root); err != nil || given.Name() != "GIVEN" || given.HardwareID() != "5c0e" {
		t.Errorf("with its name told: %+v, %v", given, err)
	}
	if c.Notes() != nil || c.Accounts() != nil {
		t.Errorf("notes %q, accounts %v", c.Notes(), c.Accounts())
	}
}

// TestBrokenHives reports unreadable hives once.
func TestBrokenHives(t *testing.T) {
	root := t.TempDir()
	hivetest.Lay(t, root, map[string]string{config + "SOFTWARE": "[\\A]\n\"x\"=\"1\"\n"})
	name := filepath.Join(root, config, "SOFTWARE")
	data, _ := os.ReadFile(name)
	data[4]++
	os.WriteFile(name, data, 0o600)
	lay.Out(t, root, map[string]string{IdentityFile: lay.Ident("windows", "X", "h"), "Users/maren/NTUSER.DAT": "no hive", config + "SYSTEM": "none"})
	c, err := Open(root)
	fatal.If(t, err)
	for range 2 {
		if k, err := c.Registry(`HKLM\SOFTWARE\A`, nil); err != nil || registry.Text(k, "", "x") != "1" {
			t.Errorf("unfinished: %v", err)
		}
		for _, key := range []string{`HKCU\Software`, `HKLM\SYSTEM\A`, `HKLM\SYSTEM\CurrentControlSet\A`} {
			if _, err := c.Registry(key, FindUser(c, "maren")); fault.KindOf(err) != fault.Unreadable {
				t.Errorf("%s: %v", key, err)
			}
		}
	}
	if n := c.Notes(); len(n) != 3 || !strings.Contains(n[0], "SOFTWARE was not closed properly") {
		t.Errorf("notes %q", n)
	}
	if _, err := USB(c, "1:2"); err == nil {
		t.Error("what is plugged in is told by a broken hive")
	}
}

// TestMac reads the computer and its users from a Mac's disk.
func TestMac(t *testing.T) {
	const mine, other = "0A1B2C3D-0000-4000-8000-00000000ABCD", "11111111-0000-4000-8000-00000000ABCD"
	by := "Library/Preferences/ByHost/"
	c := makeDisk(t, map[string]string{
		"Library/Preferences/SystemConfiguration/preferences.plist": `<plist version="1.0"><dict><key>System</key><dict><key>System</key><dict><key>ComputerName</key><string>Quay Mac</string></dict></dict></dict></plist>`,
		by + "a." + strings.ToLower(mine) + ".plist":                "", "Users/maren/" + by + "b." + mine + ".plist": "", "Users/maren/" + by + "b." + other + ".plist": "", by + "c.1234.plist": "",
		"Users/Shared/x": "", "Users/Guest/x": "", "Users/.x/x": "", "Users/tobias.1/x": "",
	})
	if c.Name() != "Quay Mac" || c.HardwareID() != mine || c.System() != MacOS || len(c.Users()) != 2 || c.Users()[1].Account != "tobias.1" {
		t.Errorf("%s %s %s: %v", c.Name(), c.HardwareID(), c.System(), c.Users())
	}
	if os.Geteuid() == 0 {
		os.Chown(filepath.Join(c.Root(), "Users/maren"), 501, 20)
		a := c.Accounts()
		if uid, ok := a.UID("maren"); uid != 501 || !ok || a.User(501) != "maren" || a.User(0) != "root" || a.Group(20) != "staff" || a.Group(80) != "admin" || a.Group(0) != "wheel" {
			t.Errorf("accounts: %+v", a)
		}
		if gid, ok := a.PrimaryOf(501); gid != 20 || !ok {
			t.Errorf("the group of maren is %d", gid)
		}
		if _, ok := a.UID("tobias.1"); ok {
			t.Error("whose folder is root's has an account")
		}
	}
	if in, err := USB(c, "1d6b:0002"); in || err != nil {
		t.Errorf("plugged into a disk: %v %v", in, err)
	}
	if _, err := c.Registry(`HKLM\SOFTWARE\X`, nil); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("a registry: %v", err)
	}
	even := makeDisk(t, map[string]string{"System/Library/x": "", IdentityFile: "name: M\n", by + "a." + mine + ".plist": "", by + "a." + other + ".plist": "", "Users/x/y": ""})
	if even.HardwareID() != mine {
		t.Errorf("of two, the hardware is %s", even.HardwareID())
	}
	if _, err := Open(lay.Disk(t, "macos", map[string]string{IdentityFile: "system: macos\nname: M\n"})); fault.KindOf(err) != fault.Usage {
		t.Errorf("a Mac of no hardware: %v", err)
	}
}

// TestAccounts reads the owners of a Linux disk's files, by name and number.
func TestAccounts(t *testing.T) {
	c := makeDisk(t, map[string]string{
		IdentityFile: lay.Ident("linux", "X", "h"), "etc/passwd": "maren:x:1000:100::/home/maren:/bin/sh\nalias:x:1000:7::/:/bin/sh\nmaren:x:2000:1::/:/bin/sh\nodd:x:none:1::/:/bin/sh\nhalf:x:3000\n:x:4:4::/:/bin/sh\nnogroup:x:5:x::/:/bin/sh\n+::::::\n",
		"etc/group": "office:x:100:maren\nodd:x:y:\nshort:x:8\n",
	})
	a := c.Accounts()
	if again := c.Accounts(); again != a {
		t.Error("accounts are read twice")
	}
	for uid, want := range map[int]string{0: "root", 1000: "maren", 2000: "maren", 3000: "#3000", 4: "#4", 5: "nogroup"} {
		if got := a.User(uid); got != want {
			t.Errorf("the user %d is %s", uid, got)
		}
	}
	for gid, want := range map[int]string{0: "root", 100: "office", 7: "#7", 8: "#8"} {
		if got := a.Group(gid); got != want {
			t.Errorf("the group %d is %s", gid, got)
		}
	}
	for name, want := range map[string]int{"maren": 1000, "alias": 1000, "root": 0, "#77": 77, "#0": 0, "odd": -1, "half": -1, "#-1": -1, "#x": -1, "": -1, "office": -1, "#99999999999999": -1, "#4294967295": -1, "#4294967294": 4294967294} {
		if id, ok := a.UID(name); ok != (want >= 0) || ok && id != want {
			t.Errorf("the user %q is %d, %v", name, id, ok)
		}
	}
	if id, ok := a.GID("office"); id != 100 || !ok {
		t.Errorf("office is %d", id)
	}
	for uid, want := range map[int]int{1000: 7, 2000: 1, 5: -1, 77: -1} {
		if gid, ok := a.PrimaryOf(uid); ok != (want >= 0) || ok && gid != want {
			t.Errorf("the group of %d is %d, %v", uid, gid, ok)
		}
	}
}

// TestPlugged reads tokens, adapters and open files of a simulated Linux disk.
func TestPlugged(t *testing.T) {
	c := makeDisk(t, map[string]string{
		IdentityFile: lay.Ident("linux", "X", "h") + "firmware-id: f\nadapters: [{name: a, removable: true}]\nrunning: [{name: tide, pid: 7, open: [/srv/a/b, /etc/x]}, {name: idle, pid: 8}]\n", "etc/x": "",
		"sys/bus/usb/devices/1-1/idVendor": "1d6b\n", "sys/bus/usb/devices/1-1/idProduct": "0002\n", "sys/bus/usb/devices/1-2/idVendor": "1111\n", "sys/bus/usb/devices/1-2/idProduct": "2222\n",
	})
	for id, want := range map[string]bool{"1d6b:0002": true, "1111:2222": true, "1d6b:2222": false, "1111:0002": false} {
		if in, err := USB(c, id); in != want || err != nil {
			t.Errorf("%s is plugged in: %v, %v", id, in, err)
		}
	}
	at := func(p string) string { return filepath.Join(c.Root(), p) }
	if h, err := c.OpenFiles(t.Context(), []string{at("srv/a"), at("etc/x"), at("srv/other")}); err != nil || len(h) != 2 || h[0].Path != at("srv/a/b") || h[0].PID != 7 || h[1].Path != at("etc/x") {
		t.Errorf("held: %v %v", h, err)
	}
	if got := c.Adapters(); c.FirmwareID() != "f" || len(got) != 1 || got[0].Risk() != "is removable" {
		t.Errorf("firmware %q, adapters %v", c.FirmwareID(), got)
	}
	for a, want := range map[Adapter]string{{}: "", {Disabled: true}: "is disabled", {Removable: true, Disabled: true}: "is removable and disabled"} {
		if got := a.Risk(); got != want {
			t.Errorf("%+v %s", a, got)
		}
	}
	anna, other, nobody := &User{Name: "anna", Home: "/a"}, &User{Name: "anna", Home: "/b"}, (*User)(nil)
	if !anna.SameAs(other) || anna.SameAs(&User{Name: "zoe"}) || anna.SameAs(nil) || nobody.SameAs(anna) || !nobody.SameAs(nil) {
		t.Error("who is the same person")
	}
	if id := ID(c); len(id) != 32 || id != IDOf("h") || id == IDOf("g") {
		t.Errorf("the computer's id is %s", id)
	}
}

// TestProfiles finds profiles on another drive, profiles that the registry does not list, and folders of
// profiles that are elsewhere. One profile with two ids is one user.
func TestProfiles(t *testing.T) {
	root, other := t.TempDir(), t.TempDir()
	person := func(sid, path string) string {
		return `[\Microsoft\Windows NT\CurrentVersion\ProfileList\` + sid + "]\n\"ProfileImagePath\"=\"" + strings.ReplaceAll(path, `\`, `\\`) + "\"\n"
	}
	shell := func(pairs ...string) string {
		out := "[\\Software\\Microsoft\\Windows\\CurrentVersion\\Explorer\\User Shell Folders]\n"
		for i := 0; i < len(pairs); i += 2 {
			out += fmt.Sprintf("%q=%q\n", pairs[i], pairs[i+1])
		}
		return out
	}
	hivetest.Lay(t, root, map[string]string{
		config + "SOFTWARE":      "[\\Microsoft\\Cryptography]\n\"MachineGuid\"=\"5c0e\"\n" + person("S-1-5-21-1-2-3-1001", `D:\Users\jan`) + person("S-1-5-21-1-2-3-1002", `C:\Users\maren`) + person("S-1-5-21-1-2-3-1002.bak", `C:\Users\maren`) + person("S-1-5-21-1-2-3-1003.bak", `C:\Users\zoe`),
		config + "SYSTEM":        "[\\Select]\n\"Current\"=dword:00000001\n[\\ControlSet001\\Control\\ComputerName\\ComputerName]\n\"ComputerName\"=\"QUAY\"\n",
		"Users/maren/NTUSER.DAT": shell("AppData", `D:\Redirected\maren\Roaming`, "Personal", `%USERPROFILE%\OneDrive\Dokumente`, "Desktop", `%USERPROFILE%\Desktop`, "My Pictures", `\\SERVER\pictures\maren`),
		"Users/zoe/NTUSER.DAT":   shell("AppData", `%USERPROFILE%\AppData\Roaming`, "Local AppData", `%USERPROFILE%\AppData\Local`),
		"Users/old/NTUSER.DAT":   "[\\Software\\Tide]\n",
	})
	hivetest.Lay(t, other, map[string]string{"Users/jan/NTUSER.DAT": shell("AppData", `%USERPROFILE%\AppData\Roaming`)})
	lay.Out(t, root, map[string]string{"Users/maren/AppData/Roaming/Tide/old": "", "Users/nobody/x": ""})
	lay.Out(t, other, map[string]string{"Redirected/maren/Roaming/Tide/new": "", "Users/jan/AppData/Roaming/Tide/j": ""})
	c, err := Open(root)
	fatal.If(t, err)
	people := func() string {
		var out []string
		for _, u := range c.Users() {
			out = append(out, u.Name+" "+u.SID())
		}
		return strings.Join(out, ", ")
	}
	if got := people(); got != "maren S-1-5-21-1-2-3-1002, old , zoe S-1-5-21-1-2-3-1003" {
		t.Errorf("%s", got)
	}
	if notes := fmt.Sprint(c.Notes()); !strings.Contains(notes, `the profile D:\Users\jan is on the drive D, which is not connected`) {
		t.Errorf("%s", notes)
	}
	_, err = c.SetDrive("D", other)
	fatal.If(t, err)
	if got := people(); !strings.HasPrefix(got, "jan S-1-5-21-1-2-3-1001, maren ") || len(c.Notes()) > 0 {
		t.Errorf("%s %q", got, c.Notes())
	}
	other, _ = filepath.EvalSymlinks(other)
	root, _ = filepath.EvalSymlinks(root)
	for _, w := range [][3]string{
		{"maren", `%APPDATA%\Tide`, other + "/Redirected/maren/Roaming/Tide"}, {"maren", `%USERPROFILE%\AppData\Roaming\tide`, other + "/Redirected/maren/Roaming/Tide"}, {"maren", `%USERPROFILE%\Documents\x.txt`, root + "/Users/maren/OneDrive/Dokumente/x.txt"}, {"maren", `%LOCALAPPDATA%\Tide`, root + "/Users/maren/AppData/Local/Tide"},
		{"maren", `%USERPROFILE%\Documentsx`, root + "/Users/maren/Documentsx"}, {"maren", `%USERPROFILE%\Desktop`, root + "/Users/maren/Desktop"}, {"jan", `%APPDATA%\Tide`, other + "/Users/jan/AppData/Roaming/Tide"}, {"zoe", `%APPDATA%\Tide`, root + "/Users/zoe/AppData/Roaming/Tide"},
	} {
		if got, err := c.Locate(w[1], FindUser(c, w[0])); got != w[2] || err != nil {
			t.Errorf("%s of %s is %s, not %s: %v", w[1], w[0], got, w[2], err)
		}
	}
	if _, err := c.Locate(`%USERPROFILE%\Pictures\a`, FindUser(c, "maren")); fault.KindOf(err) != fault.Missing || !strings.Contains(fmt.Sprint(err), "SERVER") {
		t.Errorf("on a share: %v", err)
	}
	if path, owner := Term(c, other+"/Redirected/maren/Roaming/Tide/new"); path != `%APPDATA%\Tide\new` || owner == nil || owner.Name != "maren" {
		t.Errorf("%s of %v", path, owner)
	}
}
