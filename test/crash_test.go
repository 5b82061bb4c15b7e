package test

import (
	"context"
	"database/sql"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"movekit/test/fatal"
	"movekit/test/lay"

	_ "modernc.org/sqlite" // the apps' databases
)

// killed runs the program and kills it after a while. It reports whether it was still running.
func killed(t *testing.T, after time.Duration, dir string, args ...string) bool {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), after)
	defer cancel()
	err := command(ctx, dir, args...).Run() // a done context sends SIGKILL
	return err != nil && ctx.Err() != nil
}

// killedAnywhere starts a command several times and kills each run at a random moment. A minimum
// number must still have been running.
func killedAnywhere(t *testing.T, random *rand.Rand, starts, least int, whole time.Duration, dir string, args ...string) {
	t.Helper()
	const first = 40 * time.Millisecond
	hits, within := 0, first
	for range starts {
		if killed(t, time.Duration(random.Int64N(int64(within))), dir, args...) {
			hits++
			within = min(within*3/2, whole)
		} else {
			within = first // the command came to its end
		}
	}
	if hits < least {
		t.Errorf("%s was killed only %d times", args[0], hits)
	}
}

// TestKilledAtAnyMoment kills pack and unpack at random moments, again and again, and then runs the
// same command to its end.
func TestKilledAtAnyMoment(t *testing.T) {
	t.Parallel()
	dir := office(t)
	for i := range 300 {
		lay.Out(t, dir, map[string]string{fmt.Sprintf("old/srv/diary/many/%03d.rec", i): strings.Repeat("lift ", i*20)})
	}
	for i := range 6 {
		os.WriteFile(filepath.Join(dir, fmt.Sprintf("old/srv/diary/big-%d", i)), noise(9<<20), 0o640)
	}
	lay.Out(t, dir, map[string]string{"new/srv/diary/own.rec": "mine"})
	made(t, dir)
	for _, s := range [][]string{{"pack", "old"}, {"unpack", "new"}} {
		args := []string{s[0], "--kit", "kit", "--root", s[1], "--part-size", "20000000"}
		if s[0] == "unpack" {
			args = args[:5]
		}
		killedAnywhere(t, rand.New(rand.NewPCG(9, 9)), 12, 4, 1500*time.Millisecond, dir, args...)
		must(t, 0, dir, args...)
		must(t, 0, dir, "inspect", "--kit", "kit")
	}
	same(t, filepath.Join(dir, "old/srv/diary"), filepath.Join(dir, "new/srv/diary"))
	step(t, 0, dir, "new", "verify")
	own, _ := filepath.Glob(filepath.Join(dir, "new/srv/diary.set-aside-*/own.rec"))
	if len(own) != 1 {
		t.Errorf("what was there before is at %v", own)
	}
	left, _ := filepath.Glob(filepath.Join(dir, "*/*/*movekit-part*"))
	more, _ := filepath.Glob(filepath.Join(dir, "kit/sealed/*/*unfinished*"))
	if len(left)+len(more) > 0 {
		t.Errorf("left behind: %v %v", left, more)
	}
}

// TestLiveComputer packs a real folder and a real database of this computer that a running program
// has open, and unpacks them onto another computer's disk.
func TestLiveComputer(t *testing.T) {
	t.Parallel()
	need(t, "sleep")
	dir := t.TempDir()
	home := filepath.Join(dir, "home")
	lay.Out(t, dir, map[string]string{
		"home/.config/tideapp/settings.ini": "[a]\nb=1\n", "home/.config/tideapp/.state": "x",
		"new/computer.yaml": "name: NEW\nsystem: linux\nhardware-id: other\n", "new/home/home/.profile": "",
		"tide.yaml": `card: 1
name: tide
title: Tide App
programs: [tide-app-test]
items:
  - name: data
    kind: sqlite
    path: $XDG_DATA_HOME/tideapp/tide.db
    counts: [{name: boats, query: SELECT count(*) FROM boat}]
  - {name: settings, kind: folder, path: $XDG_CONFIG_HOME/tideapp}
`})
	name := filepath.Join(home, ".local/share/tideapp/tide.db")
	os.MkdirAll(filepath.Dir(name), 0o755)
	db, err := sql.Open("sqlite", name)
	fatal.If(t, err)
	defer db.Close()
	db.SetMaxOpenConns(1)
	for _, q := range []string{"PRAGMA journal_mode=WAL", "CREATE TABLE boat (name TEXT)", "INSERT INTO boat VALUES ('Grey Wagtail'), ('Salt Thrift')"} {
		_, err := db.Exec(q)
		fatal.If(t, err)
	}
	if raw, _ := os.ReadFile(name); strings.Contains(string(raw), "Wagtail") {
		t.Fatal("the rows are in the database file already")
	}
	live := func(code int, args ...string) said {
		t.Helper()
		cmd := command(t.Context(), dir, append(args, "--kit", "kit")...)
		cmd.Env = append(cmd.Env, "HOME="+home, "XDG_CONFIG_HOME=", "XDG_DATA_HOME=")
		s := finish(t, cmd)
		if s.code != code {
			t.Fatalf("%v: exit %d\n%s%s", args, s.code, s.out, s.err)
		}
		return s
	}
	live(0, "new", filepath.Join(dir, "kit"), "--cards", "tide.yaml", "--to", "NEW", "--yes")
	before := picture(t, home)
	sleep, _ := exec.LookPath("sleep")
	app := filepath.Join(dir, "tide-app-test")
	data, _ := os.ReadFile(sleep)
	os.WriteFile(app, data, 0o755)
	running := exec.Command(app, "60")
	fatal.If(t, running.Start())
	s := live(4, "pack")
	if !strings.Contains(s.err, fmt.Sprintf("tide-app-test (process %d, since ", running.Process.Pid)) {
		t.Errorf("the running app is not named: %s", s.err)
	}
	running.Process.Kill()
	running.Wait()
	live(0, "pack")
	// The engine marks its readers in the -shm file, which contains no data.
	mark := regexp.MustCompile(`(?m)^".*-shm".*$`)
	if after := mark.ReplaceAllString(picture(t, home), ""); after != mark.ReplaceAllString(before, "") {
		t.Errorf("packing changed the computer:\n%s\n%s", before, after)
	}
	me := "home"
	if u, err := user.Current(); err == nil && u.Uid != "0" {
		me = u.Username
	}
	live(4, "unpack", "--root", "new", "--user", me+"=nobody-here")
	live(0, "unpack", "--root", "new", "--user", me+"=home")
	s = live(0, "verify", "--root", "new")
	if !strings.Contains(strings.Join(strings.Fields(s.out), " "), "2 boats") {
		t.Errorf("verify: %s", s.out)
	}
	same(t, filepath.Join(home, ".config/tideapp"), filepath.Join(dir, "new/home/home/.config/tideapp"))
}
