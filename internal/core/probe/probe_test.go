package probe

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/machine"
	"movekit/test/lay"

	"github.com/goccy/go-yaml"
)

func computer(t *testing.T, system string, files map[string]string) machine.Computer {
	t.Helper()
	c, err := machine.Open(lay.Disk(t, system, files))
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// lines reads a pattern as a card writes it.
func lines(expr string) (p card.LinePattern) {
	yaml.Unmarshal([]byte("'"+expr+"'"), &p)
	return p
}

func TestSources(t *testing.T) {
	c := computer(t, "linux", map[string]string{
		"a.txt": "3.4.0\r\nsecond", "u16.txt": "\xff\xfeV\x00:\x00 \x008\x00.\x002\x00\r\x00\n\x00", "empty": "",
		"a.ini":    "top = 1\n[App Info]\nVersion=6.11b ; not a comment\nbroken line\nflag\n[a/b]\nx=1\n",
		"a.plist":  `<plist version="1.0"><dict><key>app</key><dict><key>parts</key><array><string>x</string><integer>7</integer></array><key>on</key><true/></dict></dict></plist>`,
		"a.json":   `{"app": {"version": "v14", "parts": [{"n": 7}], "big": 12345678901234567890}, "t": true}`,
		"a.xml":    `<?xml version="1.0" encoding="ISO-8859-1"?><r xmlns="urn:x"><app v="3.07.1.9"><name> Pontoon </name></app><app v="4"/></r>`,
		"bad.json": `{"a"`, "bad.plist": "<plist><dict>", "bad.xml": "<a><b></a>",
		"var/lib/dpkg/status": "Package: other\nStatus: install ok installed\nVersion: 9\n\nPackage: pontoon\nStatus: install ok installed\nPriority: optional\nVersion: 1:6.11b-2+deb12u1\n\nPackage: gone\nStatus: deinstall ok config-files\nVersion: 5\n",
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
		"json bool": {file("/a.json", "t"), "true"}, "json object": {file("/a.json", "app"), ""}, "json beyond": {file("/a.json", "app/parts/9/n"), ""}, "json past a text": {file("/a.json", "t/x"), ""},
		"xml": {file("/a.xml", "r/app/name"), "Pontoon"}, "xml attribute": {file("/a.xml", "r/app/@v"), "3.07.1.9"}, "xml, nothing": {file("/a.xml", "r/app/@w"), ""},
		"package": {&card.Source{Package: "pontoon"}, "6.11b"}, "package removed": {&card.Source{Package: "gone"}, ""}, "package unknown": {&card.Source{Package: "nope"}, ""},
		"registry on Linux": {&card.Source{Registry: `HKLM\X`}, ""}, "the second way": {&card.Source{File: card.Path{Any: "/none"}, Package: "other"}, "9"},
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

// TestExeVersion reads an executable that a C compiler made.
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
	if err != nil {
		t.Fatal(err)
	}
	// Cut off and changed anywhere, it is an error or another text, and never
	// the end of the program.
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
	if err != nil {
		t.Fatal(err)
	}
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
