package main

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

// network copies the packed kit from an SSH server on the loopback interface: with the program,
// and with scp.
func (b *bench) network() error {
	home := filepath.Join(b.dir, "home")
	if err := os.MkdirAll(filepath.Join(home, ".ssh"), 0o700); err != nil {
		return err
	}
	for _, at := range []string{filepath.Join(b.dir, "server_key"), filepath.Join(home, ".ssh/id_ed25519")} {
		os.Remove(at)
		if out, err := exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", at).CombinedOutput(); err != nil {
			return fmt.Errorf("ssh-keygen: %w\n%s", err, out)
		}
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	_, port, _ := net.SplitHostPort(l.Addr().String())
	l.Close()
	own, err := os.ReadFile(filepath.Join(home, ".ssh/id_ed25519.pub"))
	host, herr := os.ReadFile(filepath.Join(b.dir, "server_key.pub"))
	me, uerr := user.Current()
	if err := errors.Join(err, herr, uerr); err != nil {
		return err
	}
	for name, text := range map[string]string{
		"authorized_keys": string(own), "home/.ssh/known_hosts": "[127.0.0.1]:" + port + " " + strings.Join(strings.Fields(string(host))[:2], " ") + "\n",
		"sshd_config": "Port " + port + "\nListenAddress 127.0.0.1\nHostKey " + b.dir + "/server_key\nAuthorizedKeysFile " + b.dir + "/authorized_keys\nPidFile none\nStrictModes no\nUsePAM no\nSubsystem sftp internal-sftp\n",
	} {
		if err := os.WriteFile(filepath.Join(b.dir, name), []byte(text), 0o600); err != nil {
			return err
		}
	}
	if err := os.MkdirAll("/run/sshd", 0o755); err != nil { // the server asks for it
		return err
	}
	server := exec.Command("/usr/sbin/sshd", "-D", "-e", "-f", filepath.Join(b.dir, "sshd_config"))
	if err := server.Start(); err != nil {
		return err
	}
	defer func() { server.Process.Kill(); server.Wait() }()
	for range 100 {
		if conn, err := net.Dial("tcp", "127.0.0.1:"+port); err == nil {
			conn.Close()
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	ours := fmt.Sprintf("HOME=%s XDG_CACHE_HOME=%s/cache SSH_AUTH_SOCK= %s --quiet --kit sftp://%s@127.0.0.1:%s%s/kit status && sync -f .", home, b.dir, b.program, me.Username, port, b.dir)
	theirs := fmt.Sprintf("scp -q -r -P %s -i %s/.ssh/id_ed25519 -o UserKnownHostsFile=%s/.ssh/known_hosts %s@127.0.0.1:%s/kit their-kit && sync -f .", port, home, home, me.Username, b.dir)
	return b.compare("copy a kit by SFTP", "scp of the same kit, and sync", "1.11", false,
		side{func() error { return b.remove("cache") }, shell(ours)}, side{func() error { return b.remove("their-kit") }, shell(theirs)})
}
