//go:build linux

package test

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"

	"movekit/internal/dbserver"
	"movekit/test/fatal"
)

// ontoSmallDisk moves a server to a small disk, which is mounted at its folder.
func ontoSmallDisk(t *testing.T, s *dbserver.Server, size string) error {
	t.Helper()
	content := t.TempDir()
	if err := errors.Join(s.Halt(), exec.Command("cp", "-a", s.Dir+"/.", content).Run()); err != nil {
		return err
	}
	if err := syscall.Mount("none", s.Dir, "tmpfs", 0, "size="+size); err != nil {
		s.Stop()
		t.Skipf("a small disk cannot be mounted here: %v", err)
	}
	t.Cleanup(func() {
		if err := syscall.Unmount(s.Dir, 0); err != nil {
			syscall.Unmount(s.Dir, syscall.MNT_DETACH)
		}
		os.RemoveAll(s.Dir) // what lay below the small disk
	})
	return errors.Join(exec.Command("cp", "-a", content+"/.", s.Dir).Run(), s.Start())
}

// fill writes a file to disk until at most free bytes are available. The server writes at the same
// time, so the free space is measured again until it is right. The returned function removes the
// file.
func fill(t *testing.T, disk string, free int64) (empty func()) {
	t.Helper()
	name := filepath.Join(disk, "filler")
	f, err := os.Create(name)
	fatal.If(t, err)
	defer f.Close()
	for size := int64(0); ; {
		var s syscall.Statfs_t
		fatal.If(t, syscall.Statfs(disk, &s))
		take := int64(s.Bavail)*s.Bsize - free
		if take <= 0 {
			return func() { os.Remove(name) }
		}
		switch err := syscall.Fallocate(int(f.Fd()), 0, size, take); {
		case err == nil:
			size += take
		case !errors.Is(err, syscall.ENOSPC): // with ENOSPC the server was faster: measure again
			t.Fatal(err)
		}
	}
}

// down reports whether a step reported that the server is down: as an error, or at a gate.
func down(s said) bool {
	says := regexp.MustCompile("does not answer|is not ready|went away|in recovery mode|is starting up|not yet accepting")
	return (s.code == 1 || s.code == 4 && strings.Contains(s.err, "gate destination-ready")) && says.MatchString(s.err)
}

// restart starts a server again that has ended, as servers do on a full disk. A running server
// stays as it is.
func restart(t *testing.T, s *dbserver.Server) {
	t.Helper()
	s.Halt() //nolint:errcheck // it may have ended by itself
	fatal.If(t, s.Start())
}

// TestFullDiskOfTheNewServer fills the new server's disk at several moments of the unpack. Once
// there is space, the same command succeeds.
func TestFullDiskOfTheNewServer(t *testing.T) {
	sizes := map[string]string{"postgresql": "160m", "mariadb": "900m", "firebird": "64m"}
	each(t, func(t *testing.T, e engine) {
		start, n := e.start, 0
		e.start = func() (s *dbserver.Server, err error) {
			if s, err = start(); err != nil {
				return s, err
			}
			if n++; n == 2 {
				err = ontoSmallDisk(t, s, sizes[e.kind])
			}
			return s, err
		}
		dir, _, now := ledgerOffice(t, e)
		disk := now.Dir
		step(t, 0, dir, "old", "pack")
		e.newDatabase(t, now, "ledger", "CREATE TABLE theirs (n INTEGER); COMMIT;")
		full := 0
		for _, free := range []int64{64 << 10, 1 << 20, 3 << 20, 9 << 20} {
			empty := fill(t, disk, free)
			if free == 64<<10 {
				s := run(t, dir, "unpack", "--kit", "kit", "--root", "new")
				for down(s) {
					empty()
					restart(t, now)
					empty = fill(t, disk, free)
					s = run(t, dir, "unpack", "--kit", "kit", "--root", "new")
				}
				if s.code != 4 || !strings.Contains(s.err, "needed, ") {
					t.Errorf("no gate stops at the server's full disk: exit %d\n%s", s.code, s.err)
				}
				if told := run(t, dir, "ready", "--kit", "kit", "--root", "new"); !strings.Contains(told.out, "needed on the drive of "+disk) {
					t.Errorf("the look at the new computer does not tell of the server's disk:\n%s", told.out)
				}
			}
			s := run(t, dir, "unpack", "--kit", "kit", "--root", "new", "--override", "fits", "--because", "it is tried")
			empty()
			if s.code == 0 {
				continue // there was enough
			}
			full++
			if !down(s) && (s.code != 1 || !strings.Contains(s.err, "Free space on that disk")) {
				t.Errorf("%d bytes free: exit %d\n%s", free, s.code, s.err)
			}
			s.tells(t, "")
			if _, err := now.SQL(e.admin, "SELECT 1;"); err != nil && e.admin != "" {
				restart(t, now)
			}
		}
		if full == 0 {
			t.Fatal("the disk was never full")
		}
		step(t, 0, dir, "new", "unpack")
		step(t, 0, dir, "new", "verify")
		theirs := e.theirs(t, now)
		if got := e.there(t, now); theirs != 1 || strings.Contains(got, "stage") || count(t, now, "ledger", "account") != "300" {
			t.Errorf("existing data there %d times: %s", theirs, got)
		}
		t.Logf("%d runs met a full disk", full)
	})
}
