package filename

import (
	"strings"
	"testing"
)

// TestNames recognises names that a system forbids, and links that lead elsewhere.
func TestNames(t *testing.T) {
	for p, want := range map[string]string{
		"CONIN$.x": "CONIN$ is", "a/conout$": "CONOUT$ is", "prn": "PRN is", "COM10": "", "COMX": "", "LPT0": "LPT0 is", "com³ .x": "COM³ is", "ACOM1": "", ".": "", "..": "Windows forbids names that end", "a\x1f": "Windows forbids", "ä|": "Windows forbids |", "a\xff": "the name is not", "a/b.c/d": "",
	} {
		if got := OnWindows(p); (got == "") != (want == "") || !strings.HasPrefix(got, want) {
			t.Errorf("on Windows %q: %q", p, got)
		}
	}
	mac, windows, linux := On("macos"), On("windows"), On("linux")
	for i, p := range []string{"Übersee", "U\u0308BERSEE"} {
		if got := mac.Refuses(p); (got != "") != (i == 1) {
			t.Errorf("on macOS %q: %q", p, got)
		}
		if windows.Refuses(p) != "" || linux.Refuses(p) != "" {
			t.Errorf("elsewhere %q is refused", p)
		}
	}
	for target, want := range map[string]bool{"": false, "/x": false, "c:x": false, `\x`: false, "a\x00": false, "..": true, "../..": false, "../x": true, "../../x": false, "a/../b": false, "../a/..": false, "a..b": true, "x": true, "...": true} {
		if Within("a/link", target, true) != want {
			t.Errorf("a link to %q is within: %v", target, !want)
		}
	}
}

// TestOfSystem recognises what systems leave on a stick.
func TestOfSystem(t *testing.T) {
	for name, kept := range map[string]bool{"Thumbs.db": true, ".Trash-1000": true, "._kit.yaml": true, "thumbs": false, "trash": false} {
		if OfSystem(name) != kept {
			t.Errorf("%s is left by a system: %v", name, !kept)
		}
	}
}
