package test

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"movekit/test/fatal"
	"movekit/test/lay"
)

// atTerminal runs the program at a terminal, with somebody typing.
func atTerminal(t *testing.T, dir, typed string, args ...string) string {
	t.Helper()
	need(t, "script")
	for i, a := range args {
		args[i] = "'" + a + "'"
	}
	cmd := exec.CommandContext(t.Context(), "script", "-qec", program+" "+strings.Join(args, " "), "/dev/null")
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "MOVEKIT_PASSPHRASE=", "MOVEKIT_KIT=", "TERM=xterm", "XDG_CACHE_HOME="+filepath.Join(dir, "cache"))
	in, err := cmd.StdinPipe()
	fatal.If(t, err)
	s := &screen{}
	cmd.Stdout, cmd.Stderr = s, s
	fatal.If(t, cmd.Start())
	ended := make(chan struct{})
	go func() {
		defer in.Close()
		for line := range strings.Lines(typed) {
			if !s.asks(ended) {
				return
			}
			in.Write([]byte(line))
		}
		s.asks(ended) // what nobody answers
	}()
	cmd.Wait()
	close(ended)
	return s.text()
}

// screen is what a terminal shows.
type screen struct {
	mu       sync.Mutex
	shown    []byte
	answered int // how much of it was there when something was typed last
}

func (s *screen) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.shown = append(s.shown, p...)
	return len(p), nil
}

func (s *screen) text() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return string(s.shown)
}

// question is how the program's questions end.
var question = regexp.MustCompile(`(: |\? |\[y/N\] )$`)

// asks waits for the next question, and a moment more: a terminal hides what is typed only
// once the question stands there. It is false when the program has ended, or asks nothing for
// a minute.
func (s *screen) asks(ended <-chan struct{}) bool {
	for range 3000 {
		s.mu.Lock()
		asked := question.Match(s.shown[s.answered:])
		s.mu.Unlock()
		select {
		case <-ended:
			return false
		case <-time.After(map[bool]time.Duration{true: 100 * time.Millisecond, false: 20 * time.Millisecond}[asked]):
		}
		if asked {
			s.mu.Lock()
			s.answered = len(s.shown)
			s.mu.Unlock()
			return true
		}
	}
	return false
}

func TestPassphraseAtTheTerminal(t *testing.T) {
	t.Parallel()
	dir := office(t)
	out := atTerminal(t, dir, passphrase+"\n"+passphrase+"\n", "new", "kit", "--root", "old", "--cards", "diary.yaml", "--type-passphrase")
	if !strings.Contains(out, "Made the kit") || strings.Contains(out, passphrase) {
		t.Fatalf("typed twice: %s", out)
	}
	out = atTerminal(t, dir, "not-this-one\n"+passphrase+"\n", "pack", "--kit", "kit", "--root", "old")
	if !strings.Contains(out, "Try again") || !strings.Contains(out, "sealed, read back") {
		t.Errorf("wrong, then right: %s", out)
	}
	if out = atTerminal(t, dir, "one-passphrase-here\nand-another-here\n", "new", "k2", "--root", "old", "--cards", "diary.yaml", "--type-passphrase"); !strings.Contains(out, "not the same") {
		t.Errorf("two that differ: %s", out)
	}
	// One that the tool makes is shown once, opens the kit, and is nowhere in it.
	out = atTerminal(t, dir, "", "new", "k3", "--root", "old", "--cards", "diary.yaml")
	_, rest, _ := strings.Cut(out, "apart from the kit:")
	words := strings.Fields(rest)
	if len(words) == 0 || strings.Count(words[0], "-") < 5 {
		t.Fatalf("no passphrase is shown: %s", out)
	}
	lay.Out(t, dir, map[string]string{"p": words[0] + "\n"})
	cmd := command(t.Context(), dir, "pack", "--kit", "k3", "--root", "old", "--passphrase-file", "p")
	if s := finish(t, cmd); s.code != 0 {
		t.Errorf("the passphrase that was shown: %s", s.err)
	}
	for _, bare := range []string{"", "short"} {
		cmd := command(t.Context(), dir, "new", "k4", "--root", "old", "--cards", "diary.yaml", "--type-passphrase")
		cmd.Env = append(cmd.Env, "MOVEKIT_PASSPHRASE="+bare)
		if s := finish(t, cmd); s.code != 2 {
			t.Errorf("passphrase %q: exit %d\n%s", bare, s.code, s.err)
		}
	}
}

// TestInterrupted ends a pack in the middle in every way that there is. What it
// wrote in the kit and beside it goes with it; a run that was killed leaves some,
// which the next command removes.
func TestInterrupted(t *testing.T) {
	t.Parallel()
	dir := office(t)
	os.WriteFile(filepath.Join(dir, "old/srv/diary/big"), noise(60<<20), 0o600)
	lay.Database(t, filepath.Join(dir, "old/srv/log.db"), "CREATE TABLE log (x); INSERT INTO log WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i+1 FROM n WHERE i<40) SELECT randomblob(1000000) FROM n")
	text, _ := os.ReadFile(filepath.Join(dir, "diary.yaml"))
	os.WriteFile(filepath.Join(dir, "diary.yaml"), append(text, "  - {name: log, kind: sqlite, path: /srv/log.db}\n"...), 0o600)
	made(t, dir)
	there := func(pattern string) bool {
		found, _ := filepath.Glob(filepath.Join(dir, pattern))
		return len(found) > 0
	}
	for _, c := range []struct {
		signal syscall.Signal
		when   string // the file after whose appearance it is sent
	}{
		{syscall.SIGINT, "kit/sealed/diary/diary.*unfinished"}, {syscall.SIGTERM, "cache/movekit/private/run-*/*"}, {syscall.SIGHUP, "kit/sealed/diary/log.*unfinished"}, {syscall.SIGKILL, "kit/sealed/diary/log.*unfinished"},
	} {
		cmd := command(t.Context(), dir, "pack", "--kit", "kit", "--root", "old")
		go func() {
			for !there(c.when) {
				time.Sleep(time.Millisecond)
			}
			cmd.Process.Signal(c.signal)
		}()
		s := finish(t, cmd)
		if c.signal == syscall.SIGKILL {
			if !there("cache/movekit/private/run-*") || s.code != -1 {
				t.Fatalf("nothing is left of a killed run (exit %d), and nothing is tested", s.code)
			}
			must(t, 0, dir, "survey", "--cards", "diary.yaml", "--root", "old")
		} else if s.code != 1 {
			t.Fatalf("%s: exit %d: %s", c.signal, s.code, s.err)
		} else {
			s.tells(t, "stopped")
		}
		if there("cache/movekit/private/run-*") || c.signal != syscall.SIGKILL && there("kit/sealed/diary/*unfinished") {
			t.Errorf("%s: something is left", c.signal)
		}
	}
	step(t, 0, dir, "old", "pack")
}

// TestUnreadable packs as a user who may not read everything.
func TestUnreadable(t *testing.T) {
	t.Parallel()
	if os.Getuid() != 0 {
		t.Skip("only root can become another user")
	}
	dir := office(t)
	os.Chmod(filepath.Join(dir, "old/srv/diary/2025/b.rec"), 0)
	lay.OpenTo(dir)
	os.Chmod(filepath.Dir(program), 0o755)
	made(t, dir)
	exec.Command("chown", "-R", "65534", filepath.Join(dir, "kit")).Run()
	os.MkdirAll(filepath.Join(dir, "cache"), 0o777)
	os.Chmod(filepath.Join(dir, "cache"), 0o777)
	as := func(args ...string) said {
		cmd := command(t.Context(), dir, append(args, "--kit", "kit", "--root", "old")...)
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
		return finish(t, cmd)
	}
	if s := as("survey"); s.code != 5 || !strings.Contains(s.out+s.err, "b.rec: permission denied") {
		t.Errorf("the survey: %d %s%s", s.code, s.out, s.err)
	}
	s := as("pack")
	if s.code != 4 {
		t.Fatalf("exit %d: %s", s.code, s.err)
	}
	s.tells(t, "b.rec: permission denied")
	if s := must(t, 0, dir, "status", "--kit", "kit"); !strings.Contains(s.out, "next: movekit pack") {
		t.Errorf("status: %s", s.out)
	}
}

// TestNewIsKilled kills the making of a kit, and makes it again.
func TestNewIsKilled(t *testing.T) {
	t.Parallel()
	dir := office(t)
	hits := 0
	for i := range 10 {
		if killed(t, time.Duration(5+i*25)*time.Millisecond, dir, "new", "kit", "--root", "old", "--cards", "diary.yaml") {
			hits++
			continue
		}
		break
	}
	if hits == 0 {
		t.Error("never killed")
	}
	if s := run(t, dir, "new", "kit", "--root", "old", "--cards", "diary.yaml"); s.code != 0 && !strings.Contains(s.err, "not empty") {
		t.Fatalf("made again: %s", s.err)
	}
	step(t, 0, dir, "old", "pack")
	must(t, 0, dir, "inspect", "--kit", "kit")
}
