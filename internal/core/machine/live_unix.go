//go:build unix

package machine

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"

	"github.com/shirou/gopsutil/v4/process"
	"golang.org/x/sys/unix"

	"movekit/internal/core/fault"
	"movekit/internal/core/registry"
)

// hardwareID is the id that systemd gives an installed system (machine-id(5)).
func hardwareID() (string, error) {
	for _, f := range []string{"/etc/machine-id", "/var/lib/dbus/machine-id"} {
		if id := firstLine(f); id != "" {
			return id, nil
		}
	}
	return os.Hostname()
}

// firmwareID is the UUID of the SMBIOS table, which an administrator may read.
func firmwareID() string { return firstLine("/sys/class/dmi/id/product_uuid") }

func (l *live) findUsers() []User {
	users := passwdUsers("/etc/passwd", func(home string) string { return home })
	home, err := os.UserHomeDir()
	if err != nil {
		return users
	}
	for _, u := range users {
		if filepath.Clean(u.Home) == filepath.Clean(home) {
			return users
		}
	}
	// The user who runs this works in a home of their own ($HOME).
	name := filepath.Base(home)
	if me, err := user.Current(); err == nil && !strings.EqualFold(me.Username, "root") {
		name = me.Username
	}
	return append(users, User{Name: name, Account: name, Home: home})
}

// Registry says that there is none.
func (l *live) Registry(path string, _ *User) (registry.Key, error) { return nil, noKey(path) }

// Change says that there is none.
func (l *live) Change(path string, _ *User, _ bool) (registry.Writable, error) {
	return nil, noKey(path)
}

// Adapters reads the adapters that are devices of a bus from sysfs.
func (l *live) Adapters() []Adapter {
	const dir = "/sys/class/net"
	entries, _ := os.ReadDir(dir)
	var out []Adapter
	for _, e := range entries {
		device := filepath.Join(dir, e.Name(), "device")
		bus, err := os.Readlink(filepath.Join(device, "subsystem"))
		if err != nil {
			continue // a software adapter
		}
		flags, _ := strconv.ParseUint(strings.TrimPrefix(firstLine(filepath.Join(dir, e.Name(), "flags")), "0x"), 16, 32)
		out = append(out, Adapter{Name: e.Name(), Removable: filepath.Base(bus) == "usb", Disabled: flags&1 == 0})
	}
	return out
}

// Holding looks through the open files of every process that may be looked at
// (proc(5)), and asks for the locks of the others.
func (l *live) Holding(ctx context.Context, paths []string) ([]Holder, error) {
	procs, err := os.ReadDir("/proc")
	if err != nil {
		return nil, fault.Wrap(fault.Unreadable, err, "cannot list the running programs")
	}
	var out []Holder
	seen := map[string]bool{}
	add := func(pid int, file, asked string) {
		if key := fmt.Sprint(pid, asked); pid != os.Getpid() && !seen[key] {
			seen[key] = true
			out = append(out, Holder{Program{Name: programName(ctx, pid), PID: int32(pid)}, file})
		}
	}
	for _, p := range procs {
		pid, err := strconv.Atoi(p.Name())
		if err != nil {
			continue
		}
		fds, _ := os.ReadDir("/proc/" + p.Name() + "/fd")
		for _, fd := range fds {
			file, err := os.Readlink("/proc/" + p.Name() + "/fd/" + fd.Name())
			if err != nil || !strings.HasPrefix(file, "/") {
				continue
			}
			for _, asked := range paths {
				if within(file, asked) {
					add(pid, file, asked)
				}
			}
		}
		if ctx.Err() != nil {
			return nil, fault.Wrap(fault.Stopped, ctx.Err(), "looking for open files was stopped")
		}
	}
	for _, asked := range paths {
		for _, file := range []string{asked, asked + "-shm"} {
			if pid := lockedBy(file); pid > 0 {
				add(pid, file, asked)
			}
		}
	}
	return out, nil
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

// remoteTypes are the file systems that lie on another computer.
var remoteTypes = []string{"nfs", "cifs", "smb", "fuse.sshfs", "9p", "afs", "ceph", "davfs", "ncpfs"}

// Mounts returns the file systems of this computer, without touching them
// (proc_pid_mountinfo(5)).
func Mounts() []Mount {
	data, err := os.ReadFile("/proc/self/mountinfo")
	if err != nil {
		return nil
	}
	var out []Mount
	for line := range strings.Lines(string(data)) {
		before, after, ok := strings.Cut(line, " - ")
		f := strings.Fields(before)
		if !ok || len(f) < 5 {
			continue
		}
		m := Mount{Path: strings.NewReplacer(`\040`, " ", `\011`, "\t", `\012`, "\n", `\134`, `\`).Replace(f[4])}
		kind, _, _ := strings.Cut(after, " ")
		m.Remote = slices.ContainsFunc(remoteTypes, func(t string) bool { return strings.HasPrefix(kind, t) })
		m.Foreign = m.Remote || strings.HasPrefix(m.Path, "/media/") || strings.HasPrefix(m.Path, "/mnt/") || slices.Contains([]string{"proc", "sysfs", "tmpfs", "devtmpfs", "squashfs", "vfat", "exfat", "iso9660", "udf", "autofs"}, kind)
		out = append(out, m)
	}
	return out
}

// Remote reports whether a real path lies on a network file system.
func Remote(path string) bool {
	longest, remote := -1, false
	for _, m := range Mounts() {
		if len(m.Path) >= longest && within(path, m.Path) {
			longest, remote = len(m.Path), m.Remote
		}
	}
	return remote
}

// IsMount reports whether another file system begins at a path.
func IsMount(path string) bool {
	var here, above unix.Stat_t
	if unix.Lstat(path, &here) != nil || unix.Lstat(filepath.Dir(path), &above) != nil {
		return false
	}
	return here.Dev != above.Dev || here.Ino == above.Ino
}

// SystemDrive is the folder that everything of this computer is below.
func SystemDrive() string { return "/" }

// RunAs makes a command run as the user that a process runs as, where this
// program may do that.
func RunAs(cmd *exec.Cmd, pid int32) error {
	info, err := os.Stat(fmt.Sprintf("/proc/%d", pid))
	if err != nil {
		return err
	}
	st, ok := info.Sys().(*syscall.Stat_t)
	if !ok || int(st.Uid) == os.Geteuid() || os.Geteuid() != 0 {
		return nil
	}
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: st.Uid, Gid: st.Gid}}
	cmd.Dir, cmd.Env = "/", []string{"PATH=/usr/bin:/bin", "LC_ALL=C"}
	return nil
}

// volumeID is the device number of the file system that a folder is on.
func volumeID(dir string) string {
	var st unix.Stat_t
	if err := unix.Stat(dir, &st); err != nil {
		return ""
	}
	return fmt.Sprint(st.Dev)
}
