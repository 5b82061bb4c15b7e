//go:build linux

package test

import (
	"bufio"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"movekit/test/fatal"
	"movekit/test/lay"
)

// TestExampleByHand starts the example's desk and servers, and runs its commands from its file.
func TestExampleByHand(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	lay.OpenTo(dir) // a server is another user
	office := filepath.Join(dir, "office")
	serve := command(t.Context(), dir, "demo", "--dir", office, "--fresh", "--serve")
	out, err := serve.StdoutPipe()
	fatal.If(t, err)
	fatal.If(t, serve.Start())
	t.Cleanup(func() { serve.Process.Kill(); serve.Wait() })
	for lines := bufio.NewScanner(out); ; {
		if !lines.Scan() {
			t.Fatal("the example's servers did not start")
		}
		if strings.Contains(lines.Text(), "Ctrl-C") {
			break
		}
	}
	commands := exec.CommandContext(t.Context(), "sh", "-e", "commands.txt")
	commands.Dir = office
	if said, err := commands.CombinedOutput(); err != nil || !strings.Contains(string(said), "Everything that was packed on QUAY-DESK-1, as sealed ") {
		t.Errorf("%v\n%s", err, said)
	}
	serve.Process.Signal(syscall.SIGTERM)
	ended := make(chan error, 1)
	go func() { ended <- serve.Wait() }()
	select {
	case <-ended:
	case <-time.After(20 * time.Second):
		t.Error("it does not end when it is told to")
	}
}

// TestVerifyShowsOneRun checks that an interrupted verify does not show results of an earlier one,
// and that verify of some apps shows only those.
func TestVerifyShowsOneRun(t *testing.T) {
	t.Parallel()
	dir := office(t)
	lay.Out(t, dir, map[string]string{"cards/rota.yaml": "card: 1\nname: rota\ntitle: Watch Rota\nitems: [{name: rota, kind: folder, path: /srv/rota}]\n", "old/srv/rota/week": "x"})
	os.Rename(filepath.Join(dir, "diary.yaml"), filepath.Join(dir, "cards", "diary.yaml"))
	must(t, 0, dir, "new", "kit", "--root", "old", "--cards", "cards", "--to", "NEW")
	step(t, 0, dir, "old", "pack")
	step(t, 0, dir, "new", "unpack")
	step(t, 0, dir, "new", "verify")
	if s := step(t, 0, dir, "new", "verify", "rota"); !strings.Contains(s.out, "Everything of Watch Rota that was packed on OLD, as sealed ") || strings.Contains(s.out, "Hoistbook") {
		t.Errorf("verify of one app: %s", s.out)
	}
	if s := step(t, 4, dir, "old", "verify"); strings.Contains(s.out, "same") || strings.Contains(s.out, "Everything of") {
		t.Errorf("verify on the old computer: %s", s.out)
	}
}
