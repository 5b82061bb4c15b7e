//go:build unix

package machine

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"movekit/test/fatal"
)

// TestHolding detects programs that have a file open or locked.
func TestHolding(t *testing.T) {
	c, err := Open("")
	fatal.If(t, err)
	dir := t.TempDir()
	name := filepath.Join(dir, "sub", "diary.rec")
	os.Mkdir(filepath.Dir(name), 0o755)
	os.WriteFile(name, []byte("x"), 0o600)
	if h, err := c.OpenFiles(t.Context(), []string{dir}); err != nil || len(h) != 0 {
		t.Errorf("nobody has it open: %v %v", h, err)
	}
	cmd := exec.Command("sh", "-c", "exec 3<"+name+"; echo open; read line")
	in, _ := cmd.StdinPipe()
	out, _ := cmd.StdoutPipe()
	fatal.If(t, cmd.Start())
	out.Read(make([]byte, 5))
	h, err := c.OpenFiles(t.Context(), []string{dir, "/nowhere"})
	if err != nil || len(h) != 1 || int(h[0].PID) != cmd.Process.Pid || h[0].Path != name || h[0].Name == "" {
		t.Errorf("held by %v (%v), want process %d", h, err, cmd.Process.Pid)
	}
	in.Close()
	cmd.Wait()
	for range 50 { // the process may take a moment to be gone
		if h, _ = c.OpenFiles(t.Context(), []string{dir}); len(h) == 0 {
			break
		}
	}
	if len(h) != 0 {
		t.Errorf("still held by %v", h)
	}
	if n := lockedBy(name); n != 0 {
		t.Errorf("locked by %d", n)
	}
}

// TestLocked detects a lock of a process whose open files are not visible.
func TestLocked(t *testing.T) {
	if name := os.Getenv("MACHINE_TEST_LOCK"); name != "" {
		f, err := os.OpenFile(name, os.O_RDWR, 0)
		if err == nil {
			err = unix.FcntlFlock(f.Fd(), unix.F_SETLK, &unix.Flock_t{Type: unix.F_WRLCK})
		}
		fmt.Println("locked", err)
		os.Stdin.Read(make([]byte, 1))
		return
	}
	name := filepath.Join(t.TempDir(), "a.db")
	os.WriteFile(name, []byte("x"), 0o600)
	cmd := exec.Command(os.Args[0], "-test.run=TestLocked$")
	cmd.Env = append(os.Environ(), "MACHINE_TEST_LOCK="+name)
	in, _ := cmd.StdinPipe()
	out, _ := cmd.StdoutPipe()
	fatal.If(t, cmd.Start())
	out.Read(make([]byte, 13))
	if pid := lockedBy(name); pid != cmd.Process.Pid {
		t.Errorf("locked by %d, want %d", pid, cmd.Process.Pid)
	}
	in.Close()
	cmd.Wait()
}

// TestEndedProgram does not count a program that has ended and that its parent has not asked about.
func TestEndedProgram(t *testing.T) {
	c, err := Open("")
	fatal.If(t, err)
	sleep, err := exec.LookPath("sleep")
	fatal.If(t, err)
	data, err := os.ReadFile(sleep)
	fatal.If(t, err)
	name := filepath.Join(t.TempDir(), "quayclock")
	fatal.If(t, os.WriteFile(name, data, 0o755))
	running := func() int {
		t.Helper()
		all, err := c.Running(t.Context(), []string{"quayclock"})
		fatal.If(t, err)
		return len(all)
	}
	cmd := exec.Command(name, "60")
	fatal.If(t, cmd.Start())
	for n := 0; running() != 1; n++ {
		if n > 100 {
			t.Fatal("a running program is not found")
		}
		time.Sleep(20 * time.Millisecond)
	}
	fatal.If(t, cmd.Process.Kill())
	for n := 0; running() != 0; n++ {
		if n > 100 {
			t.Fatal("a program that has ended counts as running")
		}
		time.Sleep(20 * time.Millisecond)
	}
	cmd.Wait()
}
