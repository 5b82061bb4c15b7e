//go:build unix

package machine

import (
	"context"
	"os"
	"os/user"
	"path/filepath"
	"strings"

	"github.com/shirou/gopsutil/v4/process"
	"golang.org/x/sys/unix"

	"movekit/internal/core/registry"
)

// findUsers returns the people of this computer, and the user who runs this program.
func (l *live) findUsers() []User {
	users := people()
	home, err := os.UserHomeDir()
	if err != nil {
		return users
	}
	for _, u := range users {
		if filepath.Clean(u.Home) == filepath.Clean(home) {
			return users
		}
	}
	// The user who runs this program works in $HOME.
	name := filepath.Base(home)
	if me, err := user.Current(); err == nil && !strings.EqualFold(me.Username, "root") {
		name = me.Username
	}
	return append(users, User{Name: name, Account: name, Home: home})
}

// Registry returns an error: there is no registry.
func (l *live) Registry(path string, _ *User) (registry.Key, error) { return nil, noKey(path) }

// Change returns an error: there is no registry.
func (l *live) Change(path string, _ *User, _ bool) (registry.Writable, error) {
	return nil, noKey(path)
}

func programName(ctx context.Context, pid int) string {
	if p, err := process.NewProcessWithContext(ctx, int32(pid)); err == nil {
		if name, err := p.NameWithContext(ctx); err == nil {
			return name
		}
	}
	return "a program"
}

// lockedBy returns the process that holds a lock (fcntl(2)) on a file, or 0.
func lockedBy(file string) int {
	if info, err := os.Stat(file); err != nil || !info.Mode().IsRegular() {
		return 0
	}
	f, err := os.Open(file)
	if err != nil {
		return 0
	}
	defer f.Close()
	lock := unix.Flock_t{Type: unix.F_WRLCK}
	if err := unix.FcntlFlock(f.Fd(), unix.F_GETLK, &lock); err != nil || lock.Type == unix.F_UNLCK {
		return 0
	}
	return int(lock.Pid)
}

// ownSystem returns nil: every build of the program sees the whole system.
func ownSystem() error { return nil }

// administrator reports whether this program may read everything.
func administrator() bool { return os.Geteuid() == 0 }
