package test

import (
	"encoding/binary"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"movekit/test/lay"
)

// bytesList is a binary property list with a dictionary of one key and a string.
func bytesList(key, value string) string {
	text := func(s string) string {
		if len(s) < 15 {
			return string(rune(0x50|len(s))) + s
		}
		return "\x5f\x10" + string([]byte{byte(len(s))}) + s
	}
	out := "bplist00" + "\xd1\x01\x02"
	at := []int{8, len(out)}
	out += text(key)
	at = append(at, len(out))
	out += text(value)
	table := len(out)
	for _, n := range at {
		out += string([]byte{byte(n)})
	}
	out += "\x00\x00\x00\x00\x00\x00\x01\x01"
	for _, n := range []uint64{3, 0, uint64(table)} {
		out += string(binary.BigEndian.AppendUint64(nil, n))
	}
	return out
}

// shows checks that a command prints a text.
func shows(t *testing.T, s said, what string) {
	t.Helper()
	if !strings.Contains(s.out+s.err, what) {
		t.Errorf("%q is not shown:\n%s%s", what, s.out, s.err)
	}
}

const macID = "0A1B2C3D-1111-2222-3333-444455556666"

func infoPlist(version string) string {
	return `<?xml version="1.0" encoding="UTF-8"?><plist version="1.0"><dict><key>CFBundleVersion</key><string>812</string><key>CFBundleShortVersionString</key><string>` + version + `</string></dict></plist>`
}

// TestMac moves an app from a Mac's pulled disk to another Mac's disk, where its user has another
// name. The old computer is identified by its own files, the app's version is read from its
// Info.plist, paths in both formats of property lists are updated, and names that one disk stores
// decomposed are the same on the other.
func TestMac(t *testing.T) {
	t.Parallel()
	const support = "Library/Application Support/Tidewright"
	apart, composed := "Hafenu\u0308bersicht.tide", "Hafen\u00fcbersicht.tide"
	plain := `<plist version="1.0"><dict><key>Recent</key><array><string>/Users/maren/Documents/a.tide</string><string>file:///Users/maren/Documents/b%20c.tide</string></array></dict></plist>`
	dir := lay.Disk(t, "", map[string]string{
		"old/System/Library/x": "", "old/Users/Shared/x": "", "old/Applications/Tidewright.app/Contents/Info.plist": infoPlist("8.2.1"),
		"old/Library/Preferences/SystemConfiguration/preferences.plist":                      `<plist version="1.0"><dict><key>System</key><dict><key>System</key><dict><key>ComputerName</key><string>Quay Desk</string></dict></dict></dict></plist>`,
		"old/Users/maren/Library/Preferences/ByHost/com.tidewright.view." + macID + ".plist": "x",
		"old/Users/maren/" + support + "/" + apart:                                           "boats",
		"old/Users/maren/" + support + "/recent.plist":                                       plain,
		"old/Users/maren/" + support + "/window.plist":                                       bytesList("Folder", "/Users/maren/Documents"),
		"old/Users/maren/" + support + "/cache.plist":                                        bytesList("Count", "12"),
		"old/Users/maren/Library/Keychains/login.keychain-db":                                "x",
		"old/Library/LaunchAgents/com.tidewright.sync.plist":                                 `<plist version="1.0"><dict><key>ProgramArguments</key><array><string>/Applications/Tidewright.app/Contents/MacOS/sync</string></array></dict></plist>`,
		"new/System/Library/x":                                                               "", "new/Applications/Tidewright.app/Contents/Info.plist": infoPlist("8.4.0"), "new/Users/maren.holm/Documents/x": "",
		"new/computer.yaml": lay.Ident("macos", "QUAY-DESK-2", "FFFF2C3D-1111-2222-3333-444455556666"),
		"cards/tidewright.yaml": `card: 1
name: tidewright
title: Tidewright
version: {exe: {macos: /Applications/Tidewright.app}}
items:
  - {name: bookings, kind: folder, path: {macos: ~/Library/Application Support/Tidewright, windows: '%APPDATA%\Tidewright'}, update-paths: ['*.plist']}
`,
	})
	os.Remove(filepath.Join(dir, "computer.yaml"))
	shows(t, must(t, 0, dir, "new", "kit", "--cards", "cards", "--root", "old", "--to", "QUAY-DESK-2"), "Quay Desk (macos)")
	shows(t, must(t, 0, dir, "survey", "--kit", "kit", "--root", "old"), "/Users/maren/"+support)
	wide := must(t, 0, dir, "survey", "--wide", "--kit", "kit", "--root", "old")
	shows(t, wide, "the keychain, with passwords and certificates of apps")
	shows(t, wide, "started by the system: com.tidewright.sync")
	step(t, 0, dir, "old", "pack")
	shows(t, step(t, 0, dir, "new", "unpack", "--user", "maren=maren.holm", "--yes"), "/Users/maren.holm/Documents/a.tide")
	home := filepath.Join(dir, "new/Users/maren.holm", support)
	for name, want := range map[string]string{
		composed: "boats", "recent.plist": strings.ReplaceAll(plain, "/Users/maren/", "/Users/maren.holm/"),
		"window.plist": bytesList("Folder", "/Users/maren.holm/Documents"), "cache.plist": bytesList("Count", "12"),
	} {
		got, err := os.ReadFile(filepath.Join(home, name))
		if err != nil || string(got) != want && !(name == "window.plist" && strings.Contains(string(got), "/Users/maren.holm/Documents") && !strings.Contains(string(got), "/Users/maren/")) {
			t.Errorf("%s: %q %v", name, got, err)
		}
	}
	shows(t, step(t, 0, dir, "new", "verify"), "same")
	// The other disk decomposes names again, which is no difference. A different text is one.
	os.Rename(filepath.Join(home, composed), filepath.Join(home, apart))
	step(t, 0, dir, "new", "verify")
	lay.Out(t, home, map[string]string{"recent.plist": "x"})
	shows(t, step(t, 3, dir, "new", "verify"), "recent.plist")
	lay.Out(t, home, map[string]string{"recent.plist": strings.ReplaceAll(plain, "/Users/maren/", "/Users/maren.holm/")})
	step(t, 0, dir, "new", "undo", "--yes")
	if left, _ := os.ReadDir(home); len(left) != 0 {
		t.Errorf("undo left %v", left)
	}
}

// TestNamesOnAMac reports before a pack which names are equal on a Mac.
func TestNamesOnAMac(t *testing.T) {
	t.Parallel()
	dir := lay.Disk(t, "", map[string]string{
		"old/computer.yaml": lay.Ident("linux", "OLD", "1"), "old/srv/data/u\u0308ber": "a", "old/srv/data/\u00fcber": "b", "old/srv/data/Quay": "c", "old/srv/data/quay": "d",
		"cards/app.yaml": "card: 1\nname: app\ntitle: App\nitems: [{name: data, kind: folder, path: /srv/data}]\n",
	})
	must(t, 0, dir, "new", "kit", "--cards", "cards", "--root", "old", "--to", "MAC", "--to-system", "macos")
	s := step(t, 4, dir, "old", "pack")
	shows(t, s, "differs from it only in letter case or Unicode composition")
}
