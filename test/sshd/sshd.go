// Package sshd starts a private SSH server on the loopback interface, for tests and measurements.
package sshd

import (
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strings"
	"time"
)

// Server is a running server. Home has .ssh with the key that it accepts and its own key in known_hosts.
type Server struct {
	Port, User, Home string
	process          *exec.Cmd
}

// Start starts the server of OpenSSH with its files in a folder.
func Start(dir string) (*Server, error) {
	s := &Server{Home: filepath.Join(dir, "home")}
	me, err := user.Current()
	if err != nil {
		return nil, err
	}
	s.User = me.Username
	if err := os.MkdirAll(filepath.Join(s.Home, ".ssh"), 0o700); err != nil {
		return nil, err
	}
	for _, at := range []string{filepath.Join(dir, "server_key"), filepath.Join(s.Home, ".ssh/id_ed25519")} {
		os.Remove(at)
		if out, err := exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", at).CombinedOutput(); err != nil {
			return nil, fmt.Errorf("ssh-keygen: %w\n%s", err, out)
		}
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	_, s.Port, _ = net.SplitHostPort(l.Addr().String())
	l.Close()
	own, err := os.ReadFile(filepath.Join(s.Home, ".ssh/id_ed25519.pub"))
	host, herr := os.ReadFile(filepath.Join(dir, "server_key.pub"))
	if err := errors.Join(err, herr); err != nil {
		return nil, err
	}
	config := "Port " + s.Port + "\nListenAddress 127.0.0.1\nHostKey " + dir + "/server_key\nAuthorizedKeysFile " + dir + "/authorized_keys\nPidFile none\nStrictModes no\nUsePAM no\nSubsystem sftp internal-sftp\n"
	if err := errors.Join(
		os.WriteFile(filepath.Join(dir, "authorized_keys"), own, 0o600), s.Know(string(host)),
		os.WriteFile(filepath.Join(dir, "sshd_config"), []byte(config), 0o600),
		os.MkdirAll("/run/sshd", 0o755), // it asks for it
	); err != nil {
		return nil, err
	}
	s.process = exec.Command("/usr/sbin/sshd", "-D", "-e", "-f", filepath.Join(dir, "sshd_config"))
	if err := s.process.Start(); err != nil {
		return nil, err
	}
	for range 100 {
		if conn, err := net.Dial("tcp", "127.0.0.1:"+s.Port); err == nil {
			conn.Close()
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	return s, nil
}

// Know writes known_hosts with a public key for this server.
func (s *Server) Know(key string) error {
	return os.WriteFile(filepath.Join(s.Home, ".ssh/known_hosts"), []byte("[127.0.0.1]:"+s.Port+" "+strings.Join(strings.Fields(key)[:2], " ")+"\n"), 0o600)
}

// Stop ends the server.
func (s *Server) Stop() {
	s.process.Process.Kill()
	s.process.Wait()
}
