//go:build unix

package machine

import (
	"context"
	"fmt"
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

// Remote reports whether a real path is on a network file system.
func Remote(path string) bool {
	longest, remote := -1, false
	for _, m := range Mounts() {
		if len(m.Path) >= longest && within(path, m.Path) {
			longest, remote = len(m.Path), m.Remote
		}
	}
	return remote
}

// IsMount reports whether a path is a mount point.
func IsMount(path string) bool {
	var here, above unix.Stat_t
	if unix.Lstat(path, &here) != nil || unix.Lstat(filepath.Dir(path), &above) != nil {
		return false
	}
	return here.Dev != above.Dev || here.Ino == above.Ino
}

// SystemDrive returns the root of the file system.
func SystemDrive() string { return "/" }

// volumeID returns the device number of a folder's file system.
func volumeID(dir string) string {
	var st unix.Stat_t
	if err := unix.Stat(dir, &st); err != nil {
		return ""
	}
	return fmt.Sprint(st.Dev)
}

// ownSystem returns nil: every build of the program sees the whole system.
func ownSystem() error { return nil }

// administrator reports whether this program may read everything.
func administrator() bool { return os.Geteuid() == 0 }
