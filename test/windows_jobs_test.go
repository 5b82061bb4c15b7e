package test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"movekit/test/fatal"
	"movekit/test/lay"
)

// serviceSource is a Windows service that writes a line for each start into the file of its first argument.
const serviceSource = `#include <windows.h>
#include <stdio.h>
static SERVICE_STATUS is = {SERVICE_WIN32_OWN_PROCESS, SERVICE_RUNNING, SERVICE_ACCEPT_STOP};
static SERVICE_STATUS_HANDLE h;
static HANDLE done;
static char *log;
static DWORD WINAPI ctl(DWORD c, DWORD t, void *d, void *x) {
	if (c == SERVICE_CONTROL_STOP) SetEvent(done);
	return NO_ERROR;
}
static void WINAPI run(DWORD n, char **a) {
	done = CreateEventA(0, 1, 0, 0);
	h = RegisterServiceCtrlHandlerExA("", ctl, 0);
	SetServiceStatus(h, &is);
	FILE *f = fopen(log, "ab");
	if (f) { fputs("started\n", f); fclose(f); }
	WaitForSingleObject(done, INFINITE);
	is.dwCurrentState = SERVICE_STOPPED;
	SetServiceStatus(h, &is);
}
int main(int n, char **a) {
	log = a[1];
	SERVICE_TABLE_ENTRYA all[] = {{"", run}, {0, 0}};
	return !StartServiceCtrlDispatcherA(all);
}
`

// office is a Windows computer with drives that several of them share.
func (w *wine) drives(letters map[string]string) {
	w.t.Helper()
	w.start("wineserver", "-k")
	w.start("wineserver", "-w")
	for letter, folder := range letters {
		os.Remove(filepath.Join(w.prefix, "dosdevices", letter+":"))
		fatal.If(w.t, os.Symlink(folder, filepath.Join(w.prefix, "dosdevices", letter+":")))
	}
	w.start("wineserver", "-p")
}

// TestLiveWindows moves an app with a service, a second drive, settings of its user and registry keys from one live Windows
// to another.
func TestLiveWindows(t *testing.T) {
	t.Parallel()
	old, now := newWine(t), newWine(t)
	dir := t.TempDir()
	lay.Out(t, dir, map[string]string{"service.c": serviceSource, "stick/cards/quay.yaml": `card: 1
name: quay
title: Quay Tickets
programs: [quaysvc.exe]
items:
  - {name: data, kind: folder, path: 'F:\Quay Data'}
  - {name: settings, kind: folder, path: '%APPDATA%\Quay'}
  - {name: machine, kind: registry, key: 'HKLM\SOFTWARE\Mole Head\Quay'}
  - {name: user, kind: registry, key: 'HKCU\Software\Mole Head\Quay'}
  - {name: service, kind: service, job: {windows: QuayTickets}}
`, "old/Quay Data/tickets.dat": "17 tickets", "old/Quay Data/Fa. Mueller u. Co./Rechnung 2024.": "1", "new/.keep": ""})
	for _, w := range []*wine{old, now} {
		program := w.drive("Quay/quaysvc.exe")
		fatal.If(t, os.MkdirAll(filepath.Dir(program), 0o755))
		cc := exec.Command("x86_64-w64-mingw32-gcc", "-o", program, filepath.Join(dir, "service.c"))
		if out, err := cc.CombinedOutput(); err != nil {
			t.Fatalf("%v\n%s", err, out)
		}
	}
	old.drives(map[string]string{"f": filepath.Join(dir, "old"), "s": filepath.Join(dir, "stick")})
	now.drives(map[string]string{"f": filepath.Join(dir, "new"), "s": filepath.Join(dir, "stick")})
	tool := func(w *wine, name string, args ...string) string {
		t.Helper()
		out, _, err := w.start("wine", append([]string{name}, args...)...)
		if err != nil {
			t.Fatalf("%s %v: %v\n%s", name, args, err, out)
		}
		return out
	}
	const key = `HKLM\SYSTEM\CurrentControlSet\Services\QuayTickets`
	tool(old, "sc", "create", "QuayTickets", `binPath=C:\Quay\quaysvc.exe C:\Quay\log.txt`, "start=auto", "DisplayName=Quay Tickets Server")
	tool(old, "reg", "add", key+`\Parameters`, "/v", "Port", "/t", "REG_DWORD", "/d", "4711", "/f")
	tool(old, "reg", "add", `HKLM\SOFTWARE\Mole Head\Quay`, "/v", "Berths", "/d", "17", "/f")
	tool(old, "reg", "add", `HKCU\Software\Mole Head\Quay`, "/v", "Window", "/d", "big", "/f")
	profiles, _ := filepath.Glob(old.drive("users/*/AppData/Roaming"))
	for _, p := range profiles {
		lay.Out(t, p, map[string]string{"Quay/quay.ini": "[Last]\r\nBoat=Grey Wagtail\r\n"})
	}
	tool(old, "net", "start", "QuayTickets")
	starts := func(w *wine) int {
		data, _ := os.ReadFile(w.drive("Quay/log.txt"))
		return strings.Count(string(data), "started")
	}
	for range 100 {
		if starts(old) == 1 {
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	on := func(args ...string) []string { return append(args, "--kit", `S:\kit`) }
	mode := func(w *wine) string {
		out, _, _ := w.start("wine", "reg", "query", key, "/v", "Start")
		return out[strings.LastIndex(strings.TrimSpace(out), " ")+1:]
	}
	started := func(w *wine) bool {
		out, _, _ := w.start("wine", "net", "start")
		return strings.Contains(out, "Quay")
	}
	expect := func(w *wine, start string, running bool) {
		t.Helper()
		if got := strings.TrimSpace(mode(w)); got != start || started(w) != running {
			t.Fatalf("the service starts %s (not %s), and is running: %v", got, start, !running)
		}
	}
	expect(old, "0x2", true)
	old.run(0, "new", `S:\kit`, "--yes", "--cards", `S:\cards`, "--to", "NEW")
	old.run(0, on("pack", "--start-again")...) // a rehearsal
	expect(old, "0x2", true)
	if out := old.run(0, on("pack")...); !strings.Contains(out, "service of Quay Tickets is stopped on") {
		t.Errorf("pack does not name the service:\n%s", out)
	}
	expect(old, "0x4", false)
	now.run(0, on("unpack", "--override", "right-name", "--because", "both have one name")...)
	expect(now, "0x4", false)
	now.run(0, on("verify")...)
	expect(now, "0x2", true)
	if starts(now) != 1 {
		t.Errorf("the service ran %d times on the new computer", starts(now))
	}
	now.run(0, on("verify")...)
	// An independent look at what arrived.
	lay.Holds(t, filepath.Join(dir, "new/Quay Data"), map[string]string{"tickets.dat": "17 tickets", "Fa. Mueller u. Co./Rechnung 2024.": "1"})
	for _, k := range []string{`HKLM\SOFTWARE\Mole Head`, `HKCU\Software\Mole Head`, key + `\Parameters`} {
		if a, b := tool(old, "reg", "query", k, "/s"), tool(now, "reg", "query", k, "/s"); a != b {
			t.Errorf("%s:\n%s\nnot\n%s", k, b, a)
		}
	}
	if a, b := tool(old, "reg", "query", key, "/v", "ImagePath"), tool(now, "reg", "query", key, "/v", "ImagePath"); a != b {
		t.Errorf("%s\nnot\n%s", b, a)
	}
	old.run(0, on("retire")...)
	expect(old, "0x4", false)
	now.run(0, on("undo")...)
	if out, _, err := now.start("wine", "reg", "query", key); err == nil {
		t.Errorf("the service is still here:\n%s", out)
	}
	old.run(0, on("retire", "--back")...)
	expect(old, "0x2", true)
	if starts(old) != 3 {
		t.Errorf("the service ran %d times on the old computer", starts(old))
	}
}

// TestWindowsCheck runs the check that users run on a real Windows. Wine lacks streams, shadow copies and parts of schtasks.
func TestWindowsCheck(t *testing.T) {
	t.Parallel()
	w := newWine(t)
	out, _, _ := w.start("wine", w.exe, "demo", "--windows-check")
	for _, works := range []string{"names that end in a dot or a space, and long paths", "registry keys", "services"} {
		if !strings.Contains(out, works+": works") {
			t.Errorf("%s:\n%s", works, out)
		}
	}
	if !strings.Contains(out, "alternate data streams: not tried") {
		t.Errorf("streams:\n%s", out)
	}
	if n := strings.Count(out, ": works") + strings.Count(out, ": DOES NOT WORK: ") + strings.Count(out, ": not tried"); n != 7 {
		t.Errorf("%d features:\n%s", n, out)
	}
	t.Log(out)
	for _, key := range []string{`HKCU\Software\Move Kit Check`, `HKLM\SYSTEM\CurrentControlSet\Services\MoveKitCheck`} {
		if left, _, err := w.start("wine", "reg", "query", key); err == nil {
			t.Errorf("left behind: %s", left)
		}
	}
	if left, _ := filepath.Glob(w.drive("ProgramData/movekit-check-*")); len(left) > 0 {
		t.Errorf("left behind: %q", left)
	}
}
