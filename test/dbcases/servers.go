//go:build unix

package dbcases

import (
	"errors"
	"fmt"
	"os"
	"testing"

	"movekit/internal/dbserver"
)

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
