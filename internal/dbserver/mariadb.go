//go:build unix

package dbserver

import (
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"time"
)

// MariaDB starts a MariaDB server that accepts local connections as root. If this process is root,
// the server runs as the user mysql.
func MariaDB() (*Server, error) { return MariaDBWith() }

// MariaDBWith starts a server with additional options.
func MariaDBWith(options ...string) (*Server, error) {
	server, err := exec.LookPath("mariadbd")
	if err != nil {
		if server = "/usr/sbin/mariadbd"; !isFile(server) {
			return nil, ErrMissing
		}
	}
	s, err := prepare("/usr/bin", "mysql")
	if err != nil {
		return nil, err
	}
	s.Socket = filepath.Join(s.Dir, "socket")
	var process *exec.Cmd
	s.start = func() (err error) {
		// A starting server removes temporary tables from its folder, including tables of other
		// servers.
		process, err = s.spawn(server, append([]string{"--no-defaults", "--datadir=" + filepath.Join(s.Dir, "data"), "--socket=" + s.Socket, "--tmpdir=" + s.Dir, "--bind-address=127.0.0.1", "--port=" + s.Port, "--innodb-flush-log-at-trx-commit=2", "--innodb-flush-method=nosync", "--innodb-doublewrite=0", "--sync-frm=0", "--skip-log-bin", "--max-allowed-packet=512M", "--innodb-log-file-size=512M", "--event-scheduler=off"}, options...)...)
		if err != nil {
			return err
		}
		return s.answers("unix", s.Socket)
	}
	s.halt = func() error { return end(process) }
	s.client = func(database string) *exec.Cmd {
		return exec.Command(filepath.Join(s.bin, "mariadb"), "--no-defaults", "--skip-column-names", "--batch", "--comments", "--default-character-set=utf8mb4", "--max-allowed-packet=512M", "-u", "root", "-S", s.Socket, "-D", database)
	}
	s.dump = func(database string) *exec.Cmd {
		return exec.Command("mariadb-dump", "--no-defaults", "--socket="+s.Socket, "-uroot", "--skip-dump-date", "--skip-comments", "--order-by-primary", "--routines", "--events", "--triggers", database)
	}
	return s.begin("mariadb-install-db", "--no-defaults", "--datadir="+filepath.Join(s.Dir, "data"), "--auth-root-authentication-method=normal", "--skip-test-db")
}

func isFile(name string) bool {
	info, err := os.Stat(name)
	return err == nil && info.Mode().IsRegular()
}

// spawn starts a server in the foreground, as the server's user.
func (s *Server) spawn(name string, args ...string) (*exec.Cmd, error) {
	cmd := exec.Command(name, args...)
	cmd.Dir = s.Dir
	cmd.Env = []string{"PATH=/usr/bin:/bin", "LC_ALL=C.UTF-8", "HOME=" + s.Dir}
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: s.as, Setpgid: true}
	log, err := os.OpenFile(filepath.Join(s.Dir, "log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
	if err != nil {
		return nil, err
	}
	defer log.Close()
	cmd.Stdout, cmd.Stderr = log, log
	return cmd, cmd.Start()
}

// answers waits until a server accepts connections.
func (s *Server) answers(network, address string) error {
	for range 300 {
		conn, err := net.Dial(network, address)
		if err == nil {
			return conn.Close()
		}
		time.Sleep(100 * time.Millisecond)
	}
	said, _ := os.ReadFile(filepath.Join(s.Dir, "log"))
	return fmt.Errorf("the server did not start\n%s", said)
}

// end kills a server.
func end(process *exec.Cmd) error {
	if process == nil || process.ProcessState != nil {
		return nil
	}
	err := process.Process.Kill()
	process.Wait()
	if errors.Is(err, os.ErrProcessDone) {
		return nil
	}
	return err
}
