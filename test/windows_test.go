package test

import (
	"context"
	"database/sql"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/goccy/go-yaml"

	"movekit/test/fatal"
	"movekit/test/lay"
)

// prng is the part of bcryptprimitives.dll that Go's runtime needs, and that Wine 8 lacks.
const prng = `#include <windows.h>
BOOLEAN NTAPI SystemFunction036(PVOID, ULONG);
__declspec(dllexport) BOOL WINAPI ProcessPrng(PBYTE data, SIZE_T size) { return SystemFunction036(data, (ULONG)size); }
`

// wine is a Windows computer that runs the Windows build.
type wine struct {
	t           *testing.T
	prefix, exe string
}

func newWine(t *testing.T) *wine {
	t.Helper()
	need(t, "wine", "x86_64-w64-mingw32-gcc")
	dir := t.TempDir()
	w := &wine{t, filepath.Join(dir, "prefix"), filepath.Join(dir, "movekit.exe")}
	fatal.If(t, build(w.exe, "windows"))
	lay.Out(t, dir, map[string]string{"prng.c": prng})
	w.start("wineserver", "-p") // a server that ends between two programs resets the next one's connection
	if _, _, err := w.start("wineboot", "-i"); err != nil {
		t.Skipf("Wine does not start here: %v", err)
	}
	// Drive Z: is this computer's whole disk, which would be searched. Drive E: is a second disk.
	exe := filepath.Join(w.prefix, "drive_c/movekit.exe")
	fatal.If(t, os.Rename(w.exe, exe))
	w.exe = `C:\movekit.exe`
	fatal.If(t, os.Remove(filepath.Join(w.prefix, "dosdevices/z:")))
	fatal.If(t, os.Mkdir(filepath.Join(dir, "second"), 0o755))
	fatal.If(t, os.Symlink(filepath.Join(dir, "second"), filepath.Join(w.prefix, "dosdevices/e:")))
	w.start("wineserver", "-k") // it reads the drives when it starts
	w.start("wineserver", "-w")
	w.start("wineserver", "-p")
	t.Cleanup(func() { w.start("wineserver", "-k") })
	dll := filepath.Join(w.prefix, "drive_c/windows/system32/bcryptprimitives.dll")
	if _, err := os.Stat(dll); err == nil {
		return w
	}
	cc := exec.Command("x86_64-w64-mingw32-gcc", "-shared", "-o", dll, filepath.Join(dir, "prng.c"), "-ladvapi32")
	if out, err := cc.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	return w
}

// start runs a program, for five minutes at most, and returns its output and exit code.
func (w *wine) start(name string, args ...string) (string, int, error) {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Minute) // also in a test's clean-up
	defer cancel()
	cmd := exec.CommandContext(ctx, name, args...)
	// Wine reads file names in the character set of the locale.
	cmd.Env = append(os.Environ(), "LC_ALL=C.UTF-8", "WINEPREFIX="+w.prefix, "WINEDEBUG=-all", "WINEDLLOVERRIDES=mscoree,mshtml=", "DISPLAY=", "MOVEKIT_PASSPHRASE="+passphrase, "MOVEKIT_KIT=", "HOME="+filepath.Dir(w.prefix))
	// A file: Wine's server outlives the program, and would keep a pipe open.
	said, err := os.CreateTemp(filepath.Dir(w.prefix), "said-")
	if err != nil {
		return "", -1, err
	}
	defer said.Close()
	cmd.Stdout, cmd.Stderr = said, said
	if info, err := os.Stat(w.drive("")); err == nil && info.IsDir() {
		cmd.Dir = w.drive("")
	}
	err = cmd.Run()
	out, _ := os.ReadFile(said.Name())
	code := -1
	if cmd.ProcessState != nil {
		code = cmd.ProcessState.ExitCode()
	}
	return string(out), code, err
}

// run runs the Windows build and expects an exit code.
func (w *wine) run(code int, args ...string) string {
	w.t.Helper()
	out, got, err := w.start("wine", append([]string{w.exe}, args...)...)
	if got != code {
		w.t.Fatalf("movekit.exe %v: exit %d, %v\n%s", args, got, err, out)
	}
	return out
}

func (w *wine) drive(name string) string { return filepath.Join(w.prefix, "drive_c", name) }

func TestWindowsBuild(t *testing.T) {
	t.Parallel()
	w := newWine(t)
	homes, _ := filepath.Glob(w.drive("users/*/AppData"))
	user := ""
	for _, h := range homes {
		if u := filepath.Base(filepath.Dir(h)); u != "Public" {
			user = u
		}
	}
	if user == "" {
		t.Fatalf("no profile under Wine: %v", homes)
	}
	lay.Out(t, w.drive(""), map[string]string{
		"ProgramData/Tide/version.txt": "8.2\r\n", "users/" + user + "/AppData/Roaming/Tide/settings.ini": "[a]\r\n",
		"users/" + user + "/AppData/Roaming/Tide/Übersicht/läuft.txt": "x", "users/" + user + "/AppData/Roaming/Tide/empty.txt": "",
		"users/" + user + "/AppData/Roaming/Tide/" + strings.Repeat("Anlegebuch Hafenbecken Nord/", 10) + "Winter.rec": "a path of more than 260 characters",
		// Names that Windows allows only in long paths.
		"users/" + user + "/AppData/Roaming/Tide/Rechnung 2024.": "1", "users/" + user + "/AppData/Roaming/Tide/leer ": "2", "users/" + user + "/AppData/Roaming/Tide/Fa. Mueller u. Co./Brief.txt": "3", "users/" + user + "/AppData/Roaming/Tide/Fa. Mueller u. Co./Ordner . ./x. ": "4",
		"new/computer.yaml": "name: NEW\nsystem: windows\nhardware-id: other\n", "new/Users/" + user + "/x": "",
		"new/ProgramData/Tide/version.txt": "8.4\r\n", "new/ProgramData/Tide/tide.db": "an empty one that the first start made",
		"cards/tide.yaml": `card: 1
name: tide
title: Tide App
version: {file: '%PROGRAMDATA%\Tide\version.txt'}
programs: [tide.exe]
items:
  - name: data
    kind: sqlite
    path: 'C:\ProgramData\Tide\tide.db'
    counts: [{name: boats, query: SELECT count(*) FROM boat}]
  - {name: settings, kind: folder, path: '%APPDATA%\Tide'}
`})
	db, err := sql.Open("sqlite", w.drive("ProgramData/Tide/tide.db"))
	fatal.If(t, err)
	for _, q := range []string{"CREATE TABLE boat (name TEXT)", "INSERT INTO boat VALUES ('Grey Wagtail'), ('Salt Thrift')"} {
		_, err := db.Exec(q)
		fatal.If(t, err)
	}
	db.Close()
	profile := w.drive("users/" + user + "/AppData/Roaming/Tide")
	os.WriteFile(filepath.Join(profile, "big.bin"), noise(3<<20), 0o644)
	filepath.WalkDir(profile, func(path string, _ os.DirEntry, _ error) error {
		at := time.Unix(1_700_000_000, 123_456_700) // Windows keeps times to 100 ns
		return os.Chtimes(path, at, at)
	})
	// Attributes that a user sets.
	attrib := func(words ...string) string {
		out, _, err := w.start("wine", append([]string{"attrib"}, words...)...)
		if err != nil {
			t.Fatalf("attrib: %v %s", err, out)
		}
		return out
	}
	marked := `C:\users\` + user + `\AppData\Roaming\Tide\empty.txt`
	attrib("+R", marked)
	kit := []string{"--kit", `C:\stick\kit`}
	on := func(args ...string) []string { return append(args, kit...) }
	w.run(0, "new", `C:\stick\kit`, "--yes", "--cards", `C:\cards`, "--to", "NEW")
	if out := w.run(0, on("survey")...); !strings.Contains(out, `C:\ProgramData\Tide\tide.db`) || !strings.Contains(out, "settings of "+user) {
		t.Errorf("survey: %s", out)
	}
	w.run(0, on("pack", "--part-size", "1000000")...)
	if out := w.run(0, on("pack")...); !strings.Contains(out, "kept, unchanged") {
		t.Errorf("packed twice: %s", out)
	}
	w.run(0, on("inspect")...)
	w.run(4, on("unpack")...) // this is the old computer
	out := w.run(0, on("unpack", "--root", `C:\new`)...)
	if !strings.Contains(out, `C:\new\ProgramData\Tide\tide.db`) {
		t.Errorf("unpack: %s", out)
	}
	out = w.run(0, on("verify", "--root", `C:\new`)...)
	if !strings.Contains(strings.Join(strings.Fields(out), " "), "2 boats") {
		t.Errorf("verify: %s", out)
	}
	same(t, profile, w.drive("new/Users/"+user+"/AppData/Roaming/Tide"))
	here := `C:\new\Users\` + user + `\AppData\Roaming\Tide\empty.txt`
	if got := attrib(here); !strings.Contains(strings.Fields(got)[0]+strings.Fields(got)[1], "R") {
		t.Errorf("it is not read-only: %s", got)
	}
	attrib("-R", here)
	if out := w.run(3, on("verify", "--root", `C:\new`)...); !strings.Contains(out, "empty.txt was marked read-only, is nothing") {
		t.Errorf("verify of another mark: %s", out)
	}
	attrib("+R", here)
	if aside, _ := filepath.Glob(w.drive("new/ProgramData/Tide/tide.db.set-aside-*")); len(aside) != 1 {
		t.Errorf("set aside: %v", aside)
	}
	// A safety copy is restored on the same computer, with attributes and access lists.
	w.run(0, "new", `C:\stick\copy`, "--yes", "--cards", `C:\cards`, "--keep")
	w.run(0, "pack", "--kit", `C:\stick\copy`)
	os.Remove(filepath.Join(profile, "settings.ini"))
	if out := w.run(0, "unpack", "--kit", `C:\stick\copy`); strings.Contains(out, "not kept") {
		t.Errorf("the copy: %s", out)
	}
	w.run(0, "verify", "--kit", `C:\stick\copy`)
	w.registry(on)
	w.keys()
	w.guide()
	// The Linux build can read the kit that Windows wrote.
	must(t, 0, t.TempDir(), "inspect", "--kit", w.drive("stick/kit"))
	must(t, 0, t.TempDir(), "verify", "--kit", w.drive("stick/kit"), "--root", w.drive("new"))
	w.run(0, on("report", "--to", `C:\handover`)...)
}

// guide makes a whole move with the guide, with answers from a file.
func (w *wine) guide() {
	w.t.Helper()
	answer := func(lines ...string) {
		data, _ := yaml.Marshal(map[string][]string{"prompts": lines})
		lay.Out(w.t, w.drive(""), map[string]string{"answers.yaml": string(data), "words.txt": passphrase + "\r\n"})
	}
	guided := func(more ...string) string {
		return w.run(0, append([]string{"--answers", `C:\answers.yaml`, "--passphrase-file", `C:\words.txt`, "--kit", `C:\stick\guided`}, more...)...)
	}
	os.RemoveAll(w.drive("guided")) // the new computer
	lay.Out(w.t, w.drive("guided"), map[string]string{"computer.yaml": "name: NEW\nsystem: windows\nhardware-id: third\n", "ProgramData/Tide/version.txt": "8.4\r\n", "Users/it/x": ""})
	users, _ := filepath.Glob(w.drive("new/Users/*"))
	for _, u := range users {
		lay.Out(w.t, w.drive("guided/Users"), map[string]string{filepath.Base(u) + "/x": ""})
	}
	answer()
	w.run(0, "new", `C:\stick\guided`, "--yes", "--cards", `C:\cards`, "--to", "NEW", "--passphrase-file", `C:\words.txt`)
	answer("", "", "q") // survey, pack
	if out := guided(); !strings.Contains(out, "$ movekit pack --kit") || !strings.Contains(out, "take the stick there") {
		w.t.Errorf("on the old computer: %s", out)
	}
	answer("", "", "", "q") // survey, unpack, verify
	if out := guided("--root", `C:\guided`); !strings.Contains(out, "is on NEW and identical (2 items)") || !strings.Contains(out, "Next is retire on") {
		w.t.Errorf("on the new one: %s", out)
	}
}

// keys moves keys of the running system's registry, and undoes it.
func (w *wine) keys() {
	w.t.Helper()
	reg := func(args ...string) string {
		out, _, err := w.start("wine", append([]string{"reg"}, args...)...)
		if err != nil {
			w.t.Fatalf("reg %v: %v\n%s", args, err, out)
		}
		return out
	}
	const key = `HKCU\Software\Harbour\Chartroom`
	reg("add", key, "/v", "Größe", "/d", "ä %A%", "/t", "REG_EXPAND_SZ", "/f")
	reg("add", key, "/ve", "/d", "own", "/f")
	reg("add", key+`\Recent`, "/v", "list", "/d", `a\0b`, "/t", "REG_MULTI_SZ", "/f")
	reg("add", key+`\Recent`, "/v", "blob", "/d", "00ff10", "/t", "REG_BINARY", "/f")
	reg("add", key+`\Recent\Empty`, "/f")
	reg("add", key+`\Window`, "/v", "x", "/d", "1", "/t", "REG_DWORD", "/f")
	lay.Out(w.t, w.drive(""), map[string]string{"keycards/chart.yaml": `card: 1
name: chartroom
title: Chartroom
items:
  - {name: settings, kind: registry, key: 'HKCU\Software\Harbour\Chartroom', skip: ['Window/**', Window]}
`})
	on := func(args ...string) []string { return append(args, "--kit", `C:\stick\keys`) }
	w.run(0, "new", `C:\stick\keys`, "--yes", "--cards", `C:\keycards`, "--keep")
	was := reg("query", key, "/s")
	w.run(0, on("pack")...)
	reg("add", key, "/v", "Größe", "/d", "other", "/f")
	reg("add", key+`\Recent`, "/v", "more", "/d", "1", "/t", "REG_QWORD", "/f")
	worked := reg("query", key, "/s")
	if out := w.run(3, on("verify")...); !strings.Contains(out, "Größe has another type") || !strings.Contains(out, `Recent\more was not in the sealed data`) {
		w.t.Errorf("verify of what was worked in: %s", out)
	}
	w.run(0, on("unpack")...)
	if now := reg("query", key, "/s"); now != was {
		w.t.Errorf("after unpack\n%s\nbefore\n%s", now, was)
	}
	w.run(0, on("verify")...)
	w.run(0, on("undo")...)
	if now := reg("query", key, "/s"); now != worked {
		w.t.Errorf("after undo\n%s\nbefore\n%s", now, worked)
	}
	if left := reg("query", `HKCU\Software\Harbour`, "/s"); strings.Contains(left, "set-aside") {
		w.t.Errorf("left behind: %s", left)
	}
}

// registry surveys with values of the running system's registry.
func (w *wine) registry(on func(...string) []string) {
	w.t.Helper()
	reg := func(key, name, value string) {
		if out, _, err := w.start("wine", "reg", "add", key, "/v", name, "/d", value, "/f"); err != nil {
			w.t.Fatalf("reg: %v\n%s", err, out)
		}
	}
	reg(`HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion\Uninstall\Tide`, "DisplayName", "Tide App")
	reg(`HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion\Uninstall\Pontoon`, "DisplayName", "Pontoon Ledger")
	reg(`HKLM\SOFTWARE\Mole Head\Tide`, "Version", "v8.2")
	reg(`HKCU\Software\Mole Head\Tide`, "Edition", "Härbour")
	lay.Out(w.t, w.drive(""), map[string]string{"live/tide.yaml": `card: 1
name: tide
title: Tide App
version:
  registry: 'HKLM\SOFTWARE\Mole Head\Tide'
  value: version
  edition: {registry: 'HKCU\Software\Mole Head\Tide', value: Edition}
requires:
  - {name: a driver, registry: 'HKLM\SOFTWARE\Mole Head'}
  - {name: a font, registry: 'HKLM\SOFTWARE\Font House'}
items:
  - {name: data, kind: sqlite, path: 'C:\ProgramData\Tide\tide.db'}
`})
	if out := w.run(0, "survey", "--yes", "--cards", `C:\live`); !strings.Contains(out, `Tide App, version v8.2 (Härbour)  read from HKLM\SOFTWARE\Mole Head\Tide, version`) {
		w.t.Errorf("survey: %s", out)
	}
	// A second disk is searched. Drives that are not this computer's own are named.
	lay.Database(w.t, filepath.Join(filepath.Dir(w.prefix), "second/Pontoon/ledger.db"), "CREATE TABLE entry (n)", "INSERT INTO entry VALUES (1)")
	out := w.run(0, "survey", "--wide", "--cards", `C:\live`, "--json")
	found, _, _ := strings.Cut(out, "covered_by_cards")
	for _, want := range []string{`E:\\Pontoon\\ledger.db`, `"what": "Pontoon Ledger"`, `"where": "HKLM\\SOFTWARE\\Mole Head"`} {
		if !strings.Contains(out, want) {
			w.t.Errorf("--wide does not tell %s:\n%.2000s", want, out)
		}
	}
	if strings.Contains(out, `"what": "Tide App"`) || strings.Contains(found, `"C:\\ProgramData\\Tide\\tide.db"`) {
		w.t.Errorf("--wide tells what the card covers:\n%.2000s", out)
	}
}
