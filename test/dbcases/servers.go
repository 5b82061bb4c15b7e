//go:build unix

package dbcases

import (
	"errors"
	"fmt"
	"os"
	"strings"
	"testing"

	"movekit/internal/dbserver"
)

// SameDumps holds what the engine's own tool says of a database on two servers against
// each other, whatever the order; plain takes out what may differ.
func SameDumps(t *testing.T, old, now *dbserver.Server, database string, plain func(string) string) {
	t.Helper()
	count := map[string]int{}
	for sign, s := range map[int]*dbserver.Server{1: old, -1: now} {
		text, err := s.Dump(database)
		if err != nil {
			t.Fatal(err)
		}
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
