package test

import (
	"context"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"movekit/test/fatal"
	"movekit/test/lay"
)

// atTerminal runs the program in a terminal, with a user who types.
func atTerminal(t *testing.T, dir, typed string, args ...string) string {
	t.Helper()
	lines := slices.Collect(strings.Lines(typed))
	return conversation(t, dir, func(string) (string, bool) {
		if len(lines) == 0 {
			return "", false
		}
		line := lines[0]
		lines = lines[1:]
		return strings.ReplaceAll(line, "⏎", "\n"), true // several lines at once, as if pasted
	}, args...)
}

// conversation runs the program in a pseudo-terminal and answers its questions, until the answers end. answer gets what was
// shown since the last one.
func conversation(t *testing.T, dir string, answer func(shown string) (string, bool), args ...string) string {
	t.Helper()
	need(t, "script")
	for i, a := range args {
		args[i] = "'" + a + "'"
	}
	ctx, cancel := context.WithTimeout(t.Context(), 3*time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, "script", "-qec", program+" "+strings.Join(args, " "), "/dev/null")
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
		for from := 0; s.asks(ended); {
			shown := s.text()
			line, more := answer(shown[from:])
			if !more {
				return
			}
			from = len(shown)
			in.Write([]byte(line))
		}
	}()
	cmd.Wait()
	close(ended)
	if ctx.Err() != nil {
		t.Fatalf("the program did not end: %s", s.text())
	}
	return s.text()
}

// screen is the text on a terminal.
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

// question matches the end of the program's questions.
var question = regexp.MustCompile(`(: |\? |\[[yY]/[nN](/all)?\] )$`)

// asks waits for the next question, and a moment more: a terminal hides typed text only once the
// question is shown. It returns false if the program has ended, or asks nothing for a minute.
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
	if !strings.Contains(out, "Created the kit") || strings.Contains(out, passphrase) {
		t.Fatalf("typed twice: %s", out)
	}
	out = atTerminal(t, dir, "not-this-one\n"+passphrase+"\n", "pack", "--kit", "kit", "--root", "old")
	if !strings.Contains(out, "Try again") || !strings.Contains(out, "sealed and verified") {
		t.Errorf("wrong, then right: %s", out)
	}
	if out = atTerminal(t, dir, "one-passphrase-here\nand-another-here\n", "new", "k2", "--root", "old", "--cards", "diary.yaml", "--type-passphrase"); !strings.Contains(out, "passphrases differ") {
		t.Errorf("two that differ: %s", out)
	}
	// A generated passphrase is shown once, opens the kit, and is nowhere in it.
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

// TestInterrupted interrupts a pack in every way. The files that it wrote in the kit and beside it
// are removed; a killed run leaves some, which the next command removes.
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

// TestUnreadable packs as a user without full read rights.
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

// methodsOffice creates two computers with an app whose licences are moved by hand.
func methodsOffice(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	lay.Out(t, dir, map[string]string{
		"old/computer.yaml": "name: OLD\nsystem: linux\nhardware-id: h-old\n", "new/computer.yaml": "name: NEW\nsystem: linux\nhardware-id: h-new\n", "new/srv/.keep": "",
		"old/srv/data": "x\n", "old/srv/reg.ini": "[reg]\nkey=HB3-SECRET-4471\nname=Harbour office\n", "proof.png": "picture", "p": passphrase + "\n",
		"hoist.yaml": `card: 1
name: hoist
title: Hoistbook
items: [{name: data, kind: file, path: /srv/data}]
licences:
  - name: registration
    method: key
    serial: {file: /srv/reg.ini, key: reg/key}
    code: {file: /srv/reg.ini, key: reg/name}
  - name: seat
    method: guided
    transfers: 1
    single-sync: true
    deactivate: {steps: [{do: Release the seat., ask: How many are free?, answer: "^[0-9]+$"}]}
    activate: {steps: [{do: Take the seat., evidence: true}]}
`,
	})
	must(t, 0, dir, "new", "kit", "--root", "old", "--cards", "hoist.yaml", "--to", "NEW")
	step(t, 0, dir, "old", "pack")
	return dir
}

// TestAnswersFromAFile moves licences with answers from a file.
func TestAnswersFromAFile(t *testing.T) {
	t.Parallel()
	dir := methodsOffice(t)
	s := step(t, 5, dir, "old", "deactivate", "--yes")
	s.tells(t, "is a manual step")
	lay.Out(t, dir, map[string]string{"no.yaml": "steps: {hoist: {registration: {deactivate: [no]}}}"})
	step(t, 5, dir, "old", "deactivate", "--yes", "--answers", "no.yaml").tells(t, "and not done")
	lay.Out(t, dir, map[string]string{"some.yaml": "steps: {hoist: {registration: {deactivate: [done]}}}"})
	if s := step(t, 5, dir, "old", "deactivate", "--yes", "--answers", "some.yaml"); !strings.Contains(s.err, "none to step 1 of 1") {
		t.Errorf("too few: %s", s.err)
	}
	for name, text := range map[string]string{"list.yaml": "[1, 2]", "broken.yaml": "hoist: ["} {
		lay.Out(t, dir, map[string]string{name: text})
		must(t, 2, dir, "deactivate", "--kit", "kit", "--root", "old", "--yes", "--answers", name)
	}
	lay.Out(t, dir, map[string]string{"wrong.yaml": "steps: {hoist: {seat: {deactivate: [several]}}}", "all.yaml": "steps:\n  hoist:\n    registration: {activate: [done, Harbour office]}\n    seat:\n      deactivate: [2]\n      activate: [{answer: done, evidence: proof.png}]\n"})
	if s := step(t, 5, dir, "old", "deactivate", "--yes", "--answers", "wrong.yaml"); !strings.Contains(s.err, "does not match") {
		t.Errorf("wrong: %s", s.err)
	}
	if s := step(t, 0, dir, "old", "deactivate", "--yes", "--answers", "all.yaml"); strings.Count(s.out, "deactivated") < 3 {
		t.Errorf("deactivate: %s", s.out)
	}
	if s := step(t, 0, dir, "old", "status", "--check"); strings.Count(s.out, "activate on NEW") != 2 {
		t.Errorf("status: %s", s.out)
	}
	step(t, 0, dir, "new", "unpack")
	screen := step(t, 0, dir, "new", "activate", "--yes", "--answers", "all.yaml")
	if v := step(t, 0, dir, "new", "verify"); strings.Count(v.out, "moved") != 2 {
		t.Errorf("verify: %s", v.out)
	}
	var status struct {
		Licences []struct {
			Licence, Old, New, Next string
			Left                    int    `json:"transfers_left"`
			By                      string `json:"seen_by"`
		}
	}
	j := step(t, 0, dir, "new", "status", "--check", "--json")
	err := json.Unmarshal([]byte(j.out), &status)
	all := status.Licences
	if err != nil || len(all) != 2 {
		t.Fatalf("%v: %s", err, j.out)
	}
	if all[1].New != "active" || all[1].Old != "deactivated" || all[1].Left != 0 || all[1].Next != "" || !strings.Contains(all[1].By, "proof.png") || !strings.Contains(all[0].By, `who answered "Harbour office"`) {
		t.Errorf("%+v", all)
	}
	for _, said := range []said{step(t, 0, dir, "old", "retire"), must(t, 0, dir, "report", "--kit", "kit")} {
		if !strings.Contains(strings.ToLower(said.out), "only one copy") {
			t.Errorf("nobody is told that one copy may sync: %s", said.out)
		}
	}
	// In a terminal the user is asked once, and can postpone the step.
	at := []string{"verify", "--kit", "kit", "--root", "new", "--passphrase-file", "p"}
	if s := atTerminal(t, dir, "later\n", at...); !strings.Contains(s, "is signed in to it on OLD") || !strings.Contains(s, "only one copy of Hoistbook may sync: make sure") {
		t.Errorf("put off: %s", s)
	}
	if s := atTerminal(t, dir, "\n", at...); strings.Contains(s, "only one copy of Hoistbook may sync: make sure") {
		t.Errorf("seen to: %s", s)
	}
	for _, said := range []said{step(t, 0, dir, "new", "verify"), must(t, 0, dir, "report", "--kit", "kit")} {
		if strings.Contains(strings.ToLower(said.out), "only one copy") {
			t.Errorf("it was seen to: %s", said.out)
		}
	}
	if back := step(t, 0, dir, "old", "retire", "--back"); !strings.Contains(back.out, "moved back") || strings.Contains(back.out, "only one copy") {
		t.Errorf("what is taken back is spoken of as set aside: %s", back.out)
	}
	filepath.WalkDir(filepath.Join(dir, "kit"), func(path string, e os.DirEntry, _ error) error {
		if data, err := os.ReadFile(path); err == nil && strings.Contains(string(data), "SECRET-4471") {
			t.Errorf("%s tells the key", path)
		}
		return nil
	})
	if strings.Contains(s.out+s.err+screen.out+screen.err+j.out, "SECRET-4471") {
		t.Error("the screen tells the key")
	}
}

// TestGuidedAtATerminal stops the steps at a terminal, continues them, and shows the key when it is
// needed.
func TestGuidedAtATerminal(t *testing.T) {
	t.Parallel()
	dir := methodsOffice(t)
	if s := atTerminal(t, dir, "\nstop\n", "deactivate", "--kit", "kit", "--root", "old", "--yes", "--passphrase-file", "p"); !strings.Contains(s, "step 1 of 1") || !strings.Contains(s, "postponed") {
		t.Errorf("left: %s", s)
	}
	if s := atTerminal(t, dir, "2\n", "deactivate", "--kit", "kit", "--root", "old", "--yes", "--passphrase-file", "p"); strings.Contains(s, "licence registration: deactivate, step") || !strings.Contains(s, "How many are free?") {
		t.Errorf("gone on: %s", s)
	}
	step(t, 0, dir, "new", "unpack")
	s := atTerminal(t, dir, "\nHarbour office\n\nproof.png\n", "activate", "--kit", "kit", "--root", "new", "--yes", "--passphrase-file", "p")
	if !strings.Contains(s, "registered name Harbour office, key HB3-SECRET-4471") || strings.Count(s, "activated") < 2 {
		t.Errorf("activate: %s", s)
	}
}

// TestRefusals interrupts the program at each kind of question, and gives answers that are not
// consent. Nothing is done then, and the same command asks again.
func TestRefusals(t *testing.T) {
	t.Parallel()
	dir := methodsOffice(t)
	const interrupt = "\x03\n"
	free := func(typed string) string {
		t.Helper()
		return atTerminal(t, dir, typed, "deactivate", "--kit", "kit", "--root", "old", "--passphrase-file", "p")
	}
	journal := func() string {
		text, err := os.ReadFile(filepath.Join(dir, "kit/journal.jsonl"))
		if err != nil {
			t.Fatal(err)
		}
		return string(text)
	}
	for typed, told := range map[string]string{
		interrupt + "\n\n": "cancelled at the question", "maybe\nno\n": "Please enter y or n", "\n": "you answered no",
		"y\n" + interrupt + "\n": "cancelled at the question", "y\nnot done\n": "postponed", "y\nwhat?\nno\n": "Please press Enter", "y\nlater\n": "postponed", "y\nn\n": "postponed",
	} {
		if s := free(typed); !strings.Contains(s, told) || strings.Contains(s, "deactivated  ") {
			t.Errorf("%q: %s is not told\n%s", typed, told, s)
		}
		if strings.Contains(journal(), `"stepped"`) {
			t.Fatalf("%q: a step counts as taken", typed)
		}
	}
	// A requested passphrase is not shown, nor is the rest of the question's line.
	before := journal()
	if s := atTerminal(t, dir, interrupt+"\n", "deactivate", "--kit", "kit", "--root", "old"); !strings.Contains(s, "cancelled at the question") {
		t.Errorf("at the passphrase: %s", s)
	}
	if journal() != before {
		t.Error("something was written")
	}
}

// TestOneOfTwo postpones one of two licences. The other is deactivated, and the message names the
// postponed one with the reason.
func TestOneOfTwo(t *testing.T) {
	t.Parallel()
	dir := methodsOffice(t)
	lay.Out(t, dir, map[string]string{"second.yaml": "steps: {hoist: {seat: {deactivate: [2]}}}"})
	s := step(t, 5, dir, "old", "deactivate", "--yes", "--answers", "second.yaml")
	if !strings.Contains(s.err, "the licence registration of Hoistbook was not deactivated") || strings.Contains(s.err, "licence seat of Hoistbook was not") || !strings.Contains(s.out, "seat") || strings.Contains(s.err, "Nothing of Hoistbook") {
		t.Errorf("%s%s", s.out, s.err)
	}
	if s := step(t, 0, dir, "old", "status"); !strings.Contains(s.out, "in part") {
		t.Errorf("%s", s.out)
	}
}

// TestTypedKey types a key from a label: only its end is shown, for confirmation.
func TestTypedKey(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	lay.Out(t, dir, map[string]string{
		"old/computer.yaml": "name: OLD\nsystem: linux\nhardware-id: h-old\n", "old/srv/data": "x\n", "p": passphrase + "\n",
		"hoist.yaml": "card: 1\nname: hoist\ntitle: Hoistbook\nitems: [{name: data, kind: file, path: /srv/data}]\nlicences: [{name: registration, method: key, typed: the label of the box}]\n",
	})
	must(t, 0, dir, "new", "kit", "--root", "old", "--cards", "hoist.yaml", "--to", "NEW")
	s := atTerminal(t, dir, "HB3-SECRET-4417\nn\nHB3-SECRET-4471\n\nHarbour office\n", "pack", "--kit", "kit", "--root", "old", "--passphrase-file", "p")
	if !strings.Contains(s, "You typed ••••4417, 15 characters") || !strings.Contains(s, "You typed ••••4471, 15 characters") || strings.Contains(s, "SECRET") || !strings.Contains(s, "Harbour office") || !strings.Contains(s, "sealed and verified") {
		t.Errorf("%s", s)
	}
}
