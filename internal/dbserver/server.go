//go:build unix

// Package dbserver starts private database servers in temporary folders, for the
// example, the tests and the bench.
package dbserver

import (
	"bytes"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
)

// Server is a private database server.
type Server struct {
	Dir    string // its folder, which also has its socket
	Port   string
	Socket string // MariaDB only
	locks  string // Firebird only: lock files, kept apart from those of other servers
	bin    string
	as     *syscall.Credential
	start  func() error
	halt   func() error
	client func(database string) *exec.Cmd // runs SQL from its input
	dump   func(database string) *exec.Cmd // writes a database as SQL, definitions and rows
}

// ErrMissing means that an engine is not installed.
var ErrMissing = errors.New("the database server is not installed")

// prepare creates the folder of a server. If this process is root, the folder belongs to the user
// as.
func prepare(bin, as string) (*Server, error) {
	s := &Server{bin: bin}
	var err error
	if s.Dir, err = os.MkdirTemp("", "movekit-db-"); err != nil {
		return nil, err
	}
	if os.Geteuid() == 0 {
		if s.as, err = credential(as); err != nil {
			return nil, err
		}
		os.Chown(s.Dir, int(s.as.Uid), int(s.as.Gid))
	}
	os.Chmod(s.Dir, 0o755)
	s.Port, err = freePort()
	return s, err
}

// begin creates the server's system tables and starts it.
func (s *Server) begin(program string, args ...string) (*Server, error) {
	if err := s.run(program, args...); err != nil {
		s.Stop()
		return nil, err
	}
	if err := s.Start(); err != nil {
		s.Stop()
		return nil, err
	}
	return s, nil
}

// Start starts the server again after Halt.
func (s *Server) Start() error { return s.start() }

func credential(name string) (*syscall.Credential, error) {
	u, err := user.Lookup(name)
	if err != nil {
		return nil, err
	}
	uid, _ := strconv.Atoi(u.Uid)
	gid, _ := strconv.Atoi(u.Gid)
	return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, nil
}

func freePort() (string, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", err
	}
	defer l.Close()
	_, port, err := net.SplitHostPort(l.Addr().String())
	return port, err
}

// run runs one of the server's programs in its folder, as its user.
func (s *Server) run(name string, args ...string) error {
	cmd := exec.Command(filepath.Join(s.bin, name), args...)
	cmd.Dir = s.Dir
	cmd.Env = []string{"PATH=/usr/bin:/bin", "LC_ALL=C.UTF-8", "HOME=" + s.Dir}
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: s.as}
	log, err := os.CreateTemp("", "movekit-said-")
	if err != nil {
		return err
	}
	defer os.Remove(log.Name())
	defer log.Close()
	cmd.Stdout, cmd.Stderr = log, log // a file, because the server keeps running and must not hold a pipe
	if err := cmd.Run(); err != nil {
		said, _ := os.ReadFile(log.Name())
		return fmt.Errorf("%s: %w\n%s", name, err, said)
	}
	return nil
}

// SQL runs statements in a database as the administrator, and returns the output.
func (s *Server) SQL(database, sql string) (string, error) {
	cmd := s.client(database)
	cmd.Stdin = strings.NewReader(sql)
	out, err := cmd.CombinedOutput()
	if err != nil {
		err = fmt.Errorf("%w\n%s", err, out)
	}
	return strings.TrimSpace(string(out)), err
}

// Dump returns a database as the server's own program writes it, without timestamps.
func (s *Server) Dump(database string) (string, error) {
	cmd := s.dump(database)
	var said bytes.Buffer
	cmd.Stderr = &said
	out, err := cmd.Output()
	if err != nil {
		err = fmt.Errorf("%w\n%s", err, said.Bytes())
	}
	return string(out), err
}

// Halt ends the server at once, like a power failure.
func (s *Server) Halt() error { return s.halt() }

// Stop ends the server and removes its folder.
func (s *Server) Stop() {
	s.Halt()
	os.RemoveAll(s.Dir)
	if s.locks != "" {
		os.RemoveAll(s.locks)
	}
}
