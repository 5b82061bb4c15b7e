//go:build unix

package dbserver

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
)

// FirebirdUser and FirebirdPassword are the login of a private Firebird server.
const (
	FirebirdUser     = "SYSDBA"
	FirebirdPassword = "harbour1"
)

// Firebird starts a Firebird server. If this process is root, the server runs as the user firebird.
// Databases are files in its folder.
func Firebird() (*Server, error) {
	const installed = "/usr/lib/x86_64-linux-gnu/firebird/3.0"
	server := "/usr/sbin/firebird"
	if !isFile(server) || !isFile(installed+"/firebird.msg") || !isFile("/usr/bin/isql-fb") {
		return nil, ErrMissing
	}
	s, err := prepare("/usr/bin", "firebird")
	if err != nil {
		return nil, err
	}
	// Outside its folder, whose disk a test may fill.
	if s.locks, err = os.MkdirTemp("/tmp", "movekit-locks-"); err == nil {
		err = os.Chmod(s.locks, 0o777)
	}
	if err != nil {
		return nil, err
	}
	root := filepath.Join(s.Dir, "root")
	conf := fmt.Sprintf("RemoteServicePort = %s\nRemoteBindAddress = localhost\nAuthServer = Srp\nUserManager = Srp\nDatabaseAccess = Full\nServerMode = Super\nSecurityDatabase = %s/security3.fdb\n", s.Port, root)
	script := fmt.Sprintf("set -e; export FIREBIRD_LOCK=%[5]s; mkdir %[1]s; cd %[1]s; cp -rL %[2]s/intl .; ln -s %[2]s/plugins %[2]s/firebird.msg %[2]s/plugins.conf .; printf '%%s' '%[3]s' > firebird.conf\n"+
		"echo \"create database '%[1]s/security3.fdb'; commit;\" | FIREBIRD=%[1]s isql-fb -q; echo \"create user sysdba password '%[4]s' using plugin Srp; commit;\" | FIREBIRD=%[1]s isql-fb -q -user sysdba %[1]s/security3.fdb", root, installed, conf, FirebirdPassword, s.locks)
	var process *exec.Cmd
	s.start = func() (err error) {
		if process, err = s.spawn("/usr/bin/env", "FIREBIRD="+root, "FIREBIRD_LOCK="+s.locks, server, "-p", s.Port); err != nil {
			return err
		}
		return s.answers("tcp", "127.0.0.1:"+s.Port)
	}
	s.halt = func() error { return end(process) }
	s.client = func(database string) *exec.Cmd {
		cmd := exec.Command("/usr/bin/isql-fb", "-q", "-b", "-m", "-nod", "-ch", "UTF8", "127.0.0.1/"+s.Port+":"+s.Path(database))
		cmd.Env = isqlEnv()
		return cmd
	}
	s.dump = func(database string) *exec.Cmd {
		cmd := exec.Command("/usr/bin/isql-fb", "-x", "-ch", "UTF8", "127.0.0.1/"+s.Port+":"+s.Path(database))
		cmd.Env = isqlEnv()
		return cmd
	}
	s.bin = "/bin"
	return s.begin("sh", "-c", script)
}

// isqlEnv returns the environment for isql-fb. It logs in as the administrator. The locale is
// UTF-8, because isql-fb reads its input in the character set of the locale.
func isqlEnv() []string {
	return append(os.Environ(), "LC_ALL=C.UTF-8", "ISC_USER="+FirebirdUser, "ISC_PASSWORD="+FirebirdPassword)
}

// Path returns the file of a Firebird database.
func (s *Server) Path(database string) string { return filepath.Join(s.Dir, database+".fdb") }

// Create creates a Firebird database.
func (s *Server) Create(database string) error {
	script, err := os.CreateTemp("", "movekit-sql-")
	if err != nil {
		return err
	}
	defer os.Remove(script.Name())
	fmt.Fprintf(script, "CREATE DATABASE '127.0.0.1/%s:%s' USER '%s' PASSWORD '%s' DEFAULT CHARACTER SET UTF8;\n", s.Port, s.Path(database), FirebirdUser, FirebirdPassword)
	script.Close()
	cmd := exec.Command("/usr/bin/isql-fb", "-q", "-b", "-i", script.Name())
	cmd.Env = isqlEnv()
	out, err := cmd.CombinedOutput()
	if err != nil {
		return fmt.Errorf("%w\n%s", err, out)
	}
	return nil
}
