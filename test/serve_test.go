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
)

// TestExampleByHand has the example's desk and servers up, and runs its commands
// as they stand in its file.
func TestExampleByHand(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	for up := dir; up != os.TempDir() && up != "/"; up = filepath.Dir(up) {
		os.Chmod(up, 0o755) // a server is another user
	}
	office := filepath.Join(dir, "office")
	serve := command(t.Context(), dir, "demo", "--dir", office, "--fresh", "--serve")
	out, err := serve.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := serve.Start(); err != nil {
		t.Fatal(err)
	}
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
	if said, err := commands.CombinedOutput(); err != nil || !strings.Contains(string(said), "Everything that was packed on QUAY-DESK-1 is on QUAY-DESK-2") {
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
