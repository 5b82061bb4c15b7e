package test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"movekit/test/lay"
)

// settled makes an office whose user has another name on the new computer, where the app was
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
  - {name: settings, kind: folder, path: ~/.tide, repoint: ['*.ini']}
`})
	made(t, dir, "--cards", "settings.yaml")
	step(t, 0, dir, "old", "pack")
	return dir
}

// TestSettlingIn answers every question of a new computer at a terminal.
func TestSettlingIn(t *testing.T) {
	t.Parallel()
	dir := settled(t)
	s := step(t, 0, dir, "new", "survey", "--on-new", "--user", "maren=mholm", "--place", "diary/diary=/data/harbour")
	if words := strings.Join(strings.Fields(s.out), " "); !strings.Contains(words, "user maren ready is mholm here") || !strings.Contains(words, "it was /srv/diary and will be /data/harbour") {
		t.Errorf("survey of the new computer: %s", s.out)
	}
	s = step(t, 5, dir, "new", "unpack", "tide") // nobody is there who could agree
	s.tells(t, "paths in the settings settings of Tidewright are to be changed")
	ini := filepath.Join(dir, "new/home/mholm/.tide/tide.ini")
	text := func() string { data, _ := os.ReadFile(ini); return string(data) }
	if text() != "home=/home/mholm\n" {
		t.Errorf("nobody agreed: %q", text())
	}
	// Somebody who stops at the question has nothing done, and is asked again.
	out := atTerminal(t, dir, passphrase+"\nwhat\n\x03", "unpack", "--kit", "kit", "--root", "new")
	if !strings.Contains(out, "in the way:") || !strings.Contains(out, "Please answer") || text() != "home=/home/mholm\n" {
		t.Errorf("stopped: %s", out)
	}
	out = atTerminal(t, dir, passphrase+"\naside\ny\n", "unpack", "--kit", "kit", "--root", "new")
	for _, want := range []string{"@@ 1 @@", "-home=/home/maren/berths", "+home=/home/mholm/berths", "+data=/data/harbour/2025", "2 paths in its settings", "set aside what was there"} {
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
	// Each item for itself, by what was said; and no change where none is wanted.
	step(t, 0, dir, "new", "unpack", "tide/settings@maren", "--in-the-way", "tide=keep-both", "--no-repoint")
	if beside, _ := filepath.Glob(filepath.Join(dir, "new/home/mholm/.tide*")); len(beside) != 2 || !strings.HasPrefix(text(), "home=/home/maren/berths") {
		t.Errorf("beside: %v, %q", beside, text())
	}
	if numbered, _ := os.ReadFile(strings.TrimSuffix(ini, ".ini") + " (2).ini"); string(numbered) != "home=/home/mholm\n" {
		t.Errorf("what was there: %q", numbered)
	}
	step(t, 2, dir, "new", "unpack", "tide/none").tells(t, "has no item")
	step(t, 2, dir, "new", "unpack", "settings").tells(t, "name it tide/settings")
	step(t, 2, dir, "new", "unpack", "--place", "tide/settings=relative").tells(t, "nothing called tide/settings is sealed")
	step(t, 2, dir, "new", "unpack", "--place", "tide/settings@maren=relative").tells(t, "a whole path")
	step(t, 2, dir, "new", "unpack", "--in-the-way", "tide=away").tells(t, "set-aside, keep-both, skip or replace")
}

// TestPlaces says where many go, and one of them.
func TestPlaces(t *testing.T) {
	t.Parallel()
	dir := office(t)
	lay.Out(t, dir, map[string]string{"old/srv/diary/2024/c.rec": "old", "diary.yaml": "card: 1\nname: diary\ntitle: Hoistbook\nitems: [{name: years, kind: folder, path: /srv/diary, each: '20??'}]\n"})
	made(t, dir)
	if s := step(t, 0, dir, "old", "pack", "diary/years@2024"); !strings.Contains(s.out, "not chosen, and not sealed: Hoistbook: years@2025") {
		t.Errorf("a pack of one: %s", s.out)
	}
	if s := must(t, 0, dir, "report", "--kit", "kit", "--details"); !strings.Contains(s.out, "years@2025: not chosen when it was packed") {
		t.Errorf("the hand-over: %s", s.out)
	}
	if s := step(t, 0, dir, "old", "pack"); strings.Contains(s.out, "not chosen") {
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

// TestOpensByCommand has the app's own command show its data, on the computer itself.
func TestOpensByCommand(t *testing.T) {
	t.Parallel()
	dir := office(t)
	app := filepath.Join(dir, "hoist")
	lay.Out(t, dir, map[string]string{"hoist": "#!/bin/sh\necho \"records: $(ls " + dir + "/live | wc -l)\"\n", "diary.yaml": `card: 1
name: diary
title: Hoistbook
opens: {run: ['` + app + `'], pattern: 'records: ([1-9]\d*)'}
items:
  - {name: diary, kind: folder, path: /srv/diary}
`})
	os.Chmod(app, 0o755)
	made(t, dir)
	step(t, 0, dir, "old", "pack")
	live := func(code int, args ...string) said {
		t.Helper()
		cmd := command(t.Context(), dir, append(args, "--kit", "kit")...)
		cmd.Env = append(cmd.Env, "HOME="+filepath.Join(dir, "new"))
		s := finish(t, cmd)
		if s.code != code {
			t.Fatalf("%v: exit %d\n%s%s", args, s.code, s.out, s.err)
		}
		return s
	}
	live(4, "unpack") // the kit is for another computer
	name := []string{"--override", "right-name", "--because", "it stands for the new one here"}
	live(0, append([]string{"unpack", "--place", "diary/diary=" + filepath.Join(dir, "live")}, name...)...)
	if s := live(0, "verify"); !strings.Contains(s.out, "not tried: nobody has agreed") {
		t.Errorf("nobody agreed: %s", s.out)
	}
	if s := live(0, "verify", "--run-commands"); !strings.Contains(s.out, "opened: Hoistbook on ") || !strings.Contains(s.out, "saw 4") {
		t.Errorf("by its command: %s", s.out)
	}
	os.WriteFile(app, []byte("#!/bin/sh\necho no licence\n"), 0o755)
	if s := live(3, "verify"); !strings.Contains(s.out, "does not show it") {
		t.Errorf("an app that opens nothing: %s", s.out)
	}
}
