//go:build unix

package dbcases

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"movekit/internal/dbserver"
	"movekit/test/fatal"
	"movekit/test/lay"
)

// SameDumps holds what the engine's own tool says of a database on two servers against
// each other, whatever the order; plain takes out what may differ.
func SameDumps(t *testing.T, old, now *dbserver.Server, database string, plain func(string) string) {
	t.Helper()
	count := map[string]int{}
	for sign, s := range map[int]*dbserver.Server{1: old, -1: now} {
		text, err := s.Dump(database)
		fatal.If(t, err)
		for line := range strings.Lines(plain(text)) {
			count[strings.TrimRight(line, ",\n ")] += sign
		}
	}
	said := 0
	for line, n := range count {
		if n != 0 && said < 10 {
			t.Errorf("the engine's own dumps differ: %+d %.300s", n, line)
			said++
		}
	}
}

// Main runs a package's tests between an old and a new server of one engine.
// Where the engine is not installed they are skipped, but not with CI=true.
func Main(m *testing.M, start func() (*dbserver.Server, error), old, now **dbserver.Server) {
	os.Exit(func() int {
		for _, s := range []**dbserver.Server{old, now} {
			var err error
			if *s, err = start(); err != nil {
				fmt.Println("tests of a database server are left out:", err)
				if errors.Is(err, dbserver.ErrMissing) && os.Getenv("CI") != "true" {
					return 0
				}
				return 1
			}
			defer (*s).Stop()
		}
		return m.Run()
	}())
}

// Certificate writes one of this computer, and its key, into a new folder that belongs to who
// owns the folder like.
func Certificate(t *testing.T, like string) (cert, key string) {
	t.Helper()
	dir, err := os.MkdirTemp("/tmp", "movekit-certificate-")
	fatal.If(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	public, secret := lay.Signed(t, time.Now().Add(24*time.Hour))
	info, err := os.Stat(like)
	fatal.If(t, err)
	owner := info.Sys().(*syscall.Stat_t)
	cert, key = filepath.Join(dir, "server.crt"), filepath.Join(dir, "server.key")
	for name, text := range map[string]string{cert: public, key: secret} {
		fatal.If(t, errors.Join(os.WriteFile(name, []byte(text), 0o600), os.Chown(name, int(owner.Uid), int(owner.Gid)), os.Chown(dir, int(owner.Uid), int(owner.Gid))))
	}
	return cert, key
}
