package probe

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/goccy/go-yaml"

	"movekit/internal/core/card"
	"movekit/internal/core/card/value"
	"movekit/internal/core/fault"
	"movekit/internal/core/machine"
	"movekit/test/fatal"
	"movekit/test/hivetest"
	"movekit/test/lay"
)

func computer(t *testing.T, system string, files map[string]string) machine.Computer {
	t.Helper()
	c, err := machine.Open(lay.Disk(t, system, files))
	fatal.If(t, err)
	return c
}

// lines compiles a pattern as in a card.
func lines(expr string) (p value.LinePattern) {
	yaml.Unmarshal([]byte("'"+expr+"'"), &p)
	return p
}

// TestSourcesOfWindows reads the registry of a disk: of the computer, of the first user who has the
// key, or of a given user.
func TestSourcesOfWindows(t *testing.T) {
	root := lay.Disk(t, "windows", map[string]string{"Users/anna/x": "", "Users/maren/x": "", "Users/zoe/x": "", "tide.exe": "no program", "dir.exe/x": "", "ProgramData/v.txt": "8.2\n"})
	hivetest.Lay(t, root, map[string]string{
		"Windows/System32/config/SOFTWARE": "[\\Ebb]\n@=\"own\"\n\"Version\"=\" 8.2 \"\n\"None\"=\"\"\n", "Users/maren/NTUSER.DAT": "[\\Software\\Ebb]\n\"Seat\"=\"7\"\n", "Users/zoe/NTUSER.DAT": "[\\Software\\Ebb]\n\"Seat\"=\"9\"\n\"Other\"=\"x\"\n",
	})
	c, err := machine.Open(root)
	fatal.If(t, err)
	key := func(key, value string) *card.Source { return &card.Source{Registry: key, Value: value} }
	for _, q := range []struct {
		s         *card.Source
		user      string
		want, how string
	}{
		{key(`HKLM\SOFTWARE\Ebb`, "version"), "", "8.2", `HKLM\SOFTWARE\Ebb, version`}, {key(`HKLM\SOFTWARE\Ebb`, ""), "", "own", `HKLM\SOFTWARE\Ebb`}, {key(`HKLM\SOFTWARE\Ebb`, "none"), "", "", ""}, {key(`HKLM\SOFTWARE\Ebb`, "gone"), "", "", ""}, {key(`HKLM\SOFTWARE\Gone`, "x"), "", "", ""},
		{key(`HKCU\Software\Ebb`, "Seat"), "", "7", `HKCU\Software\Ebb, Seat`}, {key(`hkcu\Software\Ebb`, "Other"), "", "x", `hkcu\Software\Ebb, Other`}, {key(`HKCU\Software\Ebb`, "Seat"), "zoe", "9", `HKCU\Software\Ebb, Seat`}, {key(`HKCU\Software\Ebb`, "Seat"), "anna", "", ""},
		{&card.Source{Registry: `HKLM\SOFTWARE\Ebb`, Value: "none", File: card.Path{Any: `%PROGRAMDATA%\v.txt`}}, "", "8.2", `C:\ProgramData\v.txt`}, {&card.Source{Package: "tide"}, "", "", ""}, {&card.Source{Exe: card.Path{Any: `C:\none.exe`}}, "", "", ""},
	} {
		got, err := Prober{Computer: c}.Read(t.Context(), q.s, machine.FindUser(c, q.user))
		if err != nil || got.Value != q.want || got.How != q.how {
			t.Errorf("%+v of %q: %+v %v", q.s, q.user, got, err)
		}
	}
	for _, exe := range []string{`C:\tide.exe`, `C:\dir.exe`, `D:\tide.exe`} {
		if got, err := (Prober{Computer: c}).Read(t.Context(), &card.Source{Exe: card.Path{Any: exe}}, nil); fault.KindOf(err) != fault.Unreadable && fault.KindOf(err) != fault.Missing {
			t.Errorf("%s: %+v %v", exe, got, err)
		}
	}
	broken := lay.Disk(t, "windows", map[string]string{"Windows/System32/config/SOFTWARE": "no hive"})
	if c, err = machine.Open(broken); err != nil {
		t.Fatal(err)
	}
	if got, err := (Prober{Computer: c}).Read(t.Context(), key(`HKLM\SOFTWARE\Ebb`, "x"), nil); fault.KindOf(err) != fault.Unreadable {
		t.Errorf("a broken hive: %+v %v", got, err)
	}
}

// TestSourcesOfMac reads applications on a Mac's disk, and when they were installed.
func TestSourcesOfMac(t *testing.T) {
	list := func(entries string) string { return `<plist version="1.0"><dict>` + entries + `</dict></plist>` }
	c := computer(t, "macos", map[string]string{
		"Applications/Tide.APP/Contents/Info.plist":  list("<key>CFBundleShortVersionString</key><string>8.2</string><key>CFBundleVersion</key><string>812</string>"),
		"Applications/Winch.app/Contents/Info.plist": list("<key>CFBundleVersion</key><string>4</string>"), "Applications/Bare.app/Contents/Info.plist": list(""), "Applications/Broken.app/Contents/Info.plist": "<plist>", "Applications/Folder/x": "",
	})
	at := time.Date(2024, 2, 3, 4, 5, 6, 0, time.UTC)
	os.Chtimes(filepath.Join(c.Root(), "Applications/Tide.APP"), at, at)
	for name, want := range map[string]string{"Tide.app": "8.2", "Winch.app": "4", "Bare.app": "", "None.app": ""} {
		got, err := Prober{Computer: c}.Read(t.Context(), &card.Source{Exe: card.Path{Any: "/Applications/" + name}}, nil)
		if err != nil || got.Value != want || (name == "Tide.app") != got.Changed.Equal(at) || want != "" && got.How != "/Applications/"+name && name != "Tide.app" {
			t.Errorf("%s: %+v %v", name, got, err)
		}
	}
	for _, name := range []string{"Broken.app", "Folder"} {
		if got, err := (Prober{Computer: c}).Read(t.Context(), &card.Source{Exe: card.Path{Any: "/Applications/" + name}}, nil); err == nil {
			t.Errorf("%s: %+v", name, got)
		}
	}
}

func TestSources(t *testing.T) {
	c := computer(t, "linux", map[string]string{
		"a.txt": "3.4.0\r\nsecond", "u16.txt": "\xff\xfeV\x00:\x00 \x008\x00.\x002\x00\r\x00\n\x00", "empty": "",
		"a.ini":    "top = 1\n[App Info]\nVersion=6.11b ; not a comment\nbroken line\nflag\n[a/b]\nx=1\n",
		"a.plist":  `<plist version="1.0"><dict><key>app</key><dict><key>parts</key><array><string>x</string><integer>7</integer></array><key>on</key><true/></dict></dict></plist>`,
		"a.json":   `{"app": {"version": "v14", "parts": [{"n": 7}], "big": 12345678901234567890}, "t": true}`,
		"a.xml":    `<?xml version="1.0" encoding="ISO-8859-1"?><r xmlns="urn:x"><app v="3.07.1.9"><name> Pontoon </name><x w="1" v="9"/></app><app v="4"/><two>a<!-- c -->b</two><top>t1<in>no</in>t2</top></r>`,
		"bad.json": `{"a"`, "bad.plist": "<plist><dict>", "bad.xml": "<a><b></a>",
		"var/lib/dpkg/status": "Package: other\nStatus: install ok installed\nVersion: 9\n\nPackage: pontoon\nStatus: install ok installed\nPriority: optional\nVersion: 1:6.11b-2+deb12u1\n\nPackage: plain\nStatus: install ok installed\nVersion: 4.0\n\nPackage: dash\nStatus: install ok installed\nVersion: -1\n\nPackage: gone\nStatus: deinstall ok config-files\nVersion: 5\n",
	})
	p := Prober{Computer: c}
	file := func(name, key string) *card.Source { return &card.Source{File: card.Path{Any: name}, Key: key} }
	for name, q := range map[string]struct {
		s    *card.Source
		want string
	}{
		"first line": {file("/a.txt", ""), "3.4.0"}, "not there": {file("/none", ""), ""}, "empty": {file("/empty", ""), ""},
		"pattern, UTF-16": {&card.Source{File: card.Path{Any: "/u16.txt"}, Pattern: lines(`V: (\S+)`)}, "8.2"}, "no match": {&card.Source{File: card.Path{Any: "/a.txt"}, Pattern: lines(`V: (\S+)`)}, ""},
		"ini": {file("/a.ini", "app info/VERSION"), "6.11b ; not a comment"}, "ini without section": {file("/a.ini", "top"), "1"}, "ini with / in the section": {file("/a.ini", "a/b/x"), "1"}, "ini, nothing": {file("/a.ini", "no/x"), ""},
		"json": {file("/a.json", "app/version"), "v14"}, "json list": {file("/a.json", "app/parts/0/n"), "7"}, "json large": {file("/a.json", "app/big"), "12345678901234567890"},
		"list": {file("/a.plist", "app/parts/0"), "x"}, "list number": {file("/a.plist", "app/parts/1"), "7"}, "list bool": {file("/a.plist", "app/on"), "true"}, "list object": {file("/a.plist", "app"), ""},
		"json bool": {file("/a.json", "t"), "true"}, "json object": {file("/a.json", "app"), ""}, "json beyond": {file("/a.json", "app/parts/9/n"), ""}, "json just beyond": {file("/a.json", "app/parts/1"), ""}, "json before": {file("/a.json", "app/parts/-1"), ""}, "json no number": {file("/a.json", "app/parts/x"), ""}, "json past a text": {file("/a.json", "t/x"), ""},
		"xml": {file("/a.xml", "r/app/name"), "Pontoon"}, "xml, in two": {file("/a.xml", "r/two"), "ab"}, "xml of another": {file("/a.xml", "r/name"), ""}, "xml attribute of another": {file("/a.xml", "r/app/x/@v"), "9"}, "xml text beside": {file("/a.xml", "r/top"), "t1t2"}, "xml attribute": {file("/a.xml", "r/app/@v"), "3.07.1.9"}, "xml, nothing": {file("/a.xml", "r/app/@w"), ""},
		"package": {&card.Source{Package: "pontoon"}, "6.11b"}, "package removed": {&card.Source{Package: "gone"}, ""}, "package unknown": {&card.Source{Package: "nope"}, ""},
		"registry on Linux": {&card.Source{Registry: `HKLM\X`}, ""}, "the package of no revision": {&card.Source{Package: "plain"}, "4.0"}, "a package of a dash": {&card.Source{Package: "dash"}, "-1"}, "a pattern of the second": {&card.Source{File: card.Path{Any: "/a.txt"}, Package: "other", Pattern: lines("^(9)$")}, "9"}, "the second way": {&card.Source{File: card.Path{Any: "/none"}, Package: "other"}, "9"},
		"a path for Windows": {&card.Source{File: card.Path{Windows: `C:\a`}}, ""}, "nothing asked": {nil, ""},
	} {
		got, err := p.Read(context.Background(), q.s, nil)
		if err != nil || got.Value != q.want || (q.want != "") != (got.How != "") {
			t.Errorf("%s: %+v %v, want %q", name, got, err, q.want)
		}
	}
	for _, name := range []string{"/bad.json", "/bad.xml", "/bad.plist"} {
		if got, err := p.Read(context.Background(), file(name, "a/b"), nil); fault.KindOf(err) != fault.Unreadable {
			t.Errorf("%s: %+v %v", name, got, err)
		}
	}
}

// TestExeVersion reads an executable from a C compiler.
func TestExeVersion(t *testing.T) {
	dir := t.TempDir()
	for _, tool := range []string{"x86_64-w64-mingw32-gcc", "x86_64-w64-mingw32-windres"} {
		if _, err := exec.LookPath(tool); err != nil {
			if os.Getenv("CI") == "true" {
				t.Fatalf("%s is not installed, and is needed with CI=true", tool)
			}
			t.Skipf("%s is not installed", tool)
		}
	}
	const rc = `1 VERSIONINFO
FILEVERSION 8,2,1,0
PRODUCTVERSION 8,2,0,0
BEGIN
 BLOCK "StringFileInfo" BEGIN BLOCK "040904b0" BEGIN
  VALUE "FileDescription", "Pontoon"
  %s
 END END
 BLOCK "VarFileInfo" BEGIN VALUE "Translation", 0x409, 1200 END
END
`
	os.WriteFile(filepath.Join(dir, "a.c"), []byte("int main(void) { return 0; }"), 0o600)
	made := func(name, values string) string {
		os.WriteFile(filepath.Join(dir, "a.rc"), []byte(strings.Replace(rc, "%s", values, 1)), 0o600)
		exe := filepath.Join(dir, name)
		for _, cmd := range [][]string{{"x86_64-w64-mingw32-windres", "a.rc", "-O", "coff", "-o", "a.res"}, {"x86_64-w64-mingw32-gcc", "-s", "a.c", "a.res", "-o", exe}} {
			c := exec.Command(cmd[0], cmd[1:]...)
			c.Dir = dir
			if out, err := c.CombinedOutput(); err != nil {
				t.Fatalf("%v: %v\n%s", cmd, err, out)
			}
		}
		return exe
	}
	both := made("both.exe", `VALUE "FileVersion", "8.2.1.0" VALUE "ProductVersion", "8_2 b"`)
	if v, err := ExeVersion(both); err != nil || v != "8_2 b" {
		t.Errorf("%q %v", v, err)
	}
	if v, err := ExeVersion(made("file.exe", `VALUE "FileVersion", "8.2.1.0"`)); err != nil || v != "8.2.1.0" {
		t.Errorf("%q %v", v, err)
	}
	data, err := os.ReadFile(both)
	fatal.If(t, err)
	// Cut off and changed at any byte, it gives an error or another text, and no panic.
	for i := 0; i < 400; i++ {
		bad := append([]byte{}, data...)
		if i%2 == 0 {
			bad = bad[:len(bad)*i/400]
		} else {
			for k := i * 7; k < len(bad); k += 401 {
				bad[k] ^= byte(i)
			}
		}
		name := filepath.Join(dir, "bad.exe")
		os.WriteFile(name, bad, 0o600)
		if v, err := ExeVersion(name); err == nil && v == "8_2 b" && i%2 == 0 && i < 200 {
			t.Errorf("%d of %d bytes give the version", len(bad), len(data))
		}
	}
}

func FuzzExeVersion(f *testing.F) {
	f.Add([]byte("MZ"))
	f.Add([]byte("MZ" + strings.Repeat("\x00", 58) + "\x40\x00\x00\x00PE\x00\x00\x64\x86\x01\x00" + strings.Repeat("\x00", 300)))
	name := filepath.Join(f.TempDir(), "x.exe")
	f.Fuzz(func(t *testing.T, data []byte) {
		os.WriteFile(name, data, 0o600)
		ExeVersion(name)
	})
}

func TestCommands(t *testing.T) {
	c, err := machine.Open("")
	fatal.If(t, err)
	dir := t.TempDir()
	tool := filepath.Join(dir, "pontoon tool")
	os.WriteFile(tool, []byte("#!/bin/sh\ncase \"$1\" in\n-v) echo \"Pontoon, version 4.1; $2\" ; exit 3;;\n-long) yes | head -c 300000;;\n-in) cat;;\nesac\n"), 0o755)
	source := func(args ...string) *card.Source {
		return &card.Source{Command: append([]string{tool}, args...), Pattern: lines(`version ([\d.]+)`)}
	}
	got, err := Prober{Computer: c}.Read(t.Context(), source("-v"), nil)
	if err != nil || got.Value != "" || len(got.Withheld) != 2 {
		t.Errorf("without agreement: %+v %v", got, err)
	}
	p := Prober{Computer: c, Commands: true}
	if got, err = p.Read(t.Context(), source("-v", "$(touch "+dir+"/shell)"), nil); err != nil || got.Value != "4.1" {
		t.Errorf("%+v %v", got, err)
	}
	if _, err := os.Stat(filepath.Join(dir, "shell")); err == nil {
		t.Error("a shell has read the arguments")
	}
	if out, err := p.Run(t.Context(), []string{tool, "-long"}, nil); err != nil || len(out) != commandText {
		t.Errorf("%d bytes, %v", len(out), err)
	}
	if out, err := p.Run(t.Context(), []string{tool, "-in"}, nil); err != nil || out != "" {
		t.Errorf("it was given input: %q %v", out, err)
	}
	if got, err := p.Read(t.Context(), &card.Source{Command: []string{filepath.Join(dir, "none")}}, nil); err != nil || got.Value != "" {
		t.Errorf("a program that is not there: %+v %v", got, err)
	}
	disk := Prober{Computer: computer(t, "linux", map[string]string{}), Commands: true}
	if got, _ := disk.Read(t.Context(), source("-v"), nil); got.Value != "" || got.Withheld == nil {
		t.Errorf("a command was run for a disk: %+v", got)
	}
}
