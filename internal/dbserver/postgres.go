//go:build unix

package dbserver

import (
	"fmt"
	"os/exec"
	"path/filepath"
)

// Postgres starts a PostgreSQL server that accepts local connections as postgres. If this process
// is root, the server runs as the user postgres, because it refuses to run as root.
func Postgres() (*Server, error) {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/initdb")
	if len(found) == 0 {
		return nil, ErrMissing
	}
	s, err := prepare(filepath.Dir(found[len(found)-1]), "postgres")
	if err != nil {
		return nil, err
	}
	s.start = func() error {
		return s.run("pg_ctl", "-D", "data", "-w", "-l", "log", "-o", fmt.Sprintf("-k %s -c listen_addresses=127.0.0.1 -c fsync=off -p %s", s.Dir, s.Port), "start")
	}
	s.halt = func() error { return s.run("pg_ctl", "-D", "data", "-m", "immediate", "-w", "stop") }
	s.client = func(database string) *exec.Cmd {
		return exec.Command(filepath.Join(s.bin, "psql"), "-XAtq", "-v", "ON_ERROR_STOP=1", "-h", s.Dir, "-p", s.Port, "-U", "postgres", "-d", database, "-f", "-")
	}
	s.dump = func(database string) *exec.Cmd {
		return exec.Command(filepath.Join(s.bin, "pg_dump"), "-h", s.Dir, "-p", s.Port, "-U", "postgres", "--create", "--restrict-key=same", database)
	}
	return s.begin("initdb", "-D", "data", "-A", "trust", "-U", "postgres", "-N", "-E", "UTF8", "--locale=C.UTF-8")
}
