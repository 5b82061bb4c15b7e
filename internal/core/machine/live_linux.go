package machine

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"

	"movekit/internal/core/fault"
)

// liveSystem is the system that this program was built for.
const liveSystem = Linux

// hardwareID returns the id of the installed system (machine-id(5)).
func hardwareID() (string, error) {
	for _, f := range []string{"/etc/machine-id", "/var/lib/dbus/machine-id"} {
		if id := firstLine(f); id != "" {
			return id, nil
		}
	}
	return os.Hostname()
}

// firmwareID returns the UUID of the SMBIOS table, which needs administrator rights.
func firmwareID() string { return firstLine("/sys/class/dmi/id/product_uuid") }

// people returns the users in passwd(5).
func people() []User { return passwdUsers("/etc/passwd", func(home string) string { return home }) }

// liveAccounts returns the owners of files on this computer.
func liveAccounts() *Accounts { return accountsOf("/etc/passwd", "/etc/group") }

// Adapters returns the network adapters that are bus devices, from sysfs.
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

// OpenFiles checks the open files of every process it may inspect (proc(5)), and the locks of the
// others.
func (l *live) OpenFiles(ctx context.Context, paths []string) ([]OpenFile, error) {
	procs, err := os.ReadDir("/proc")
	if err != nil {
		return nil, fault.Wrap(fault.Unreadable, err, "cannot list the running programs")
	}
	var out []OpenFile
	seen := map[string]bool{}
	add := func(pid int, file, asked string) {
		if key := fmt.Sprint(pid, asked); pid != os.Getpid() && !seen[key] {
			seen[key] = true
			out = append(out, OpenFile{Program{Name: programName(ctx, pid), PID: int32(pid)}, file})
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
			return nil, fault.Wrap(fault.Stopped, ctx.Err(), "the search for open files was stopped")
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

// RunAs makes a command run as the user of a process, if this program may do that.
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

// usbDevices returns nothing, because sysfs has the devices.
func usbDevices() []string { return nil }
