package machine

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"regexp"
	"strconv"
	"strings"
	"syscall"

	"github.com/shirou/gopsutil/v4/host"
	"github.com/shirou/gopsutil/v4/process"

	"movekit/internal/core/fault"
)

// liveSystem is the system that this program was built for.
const liveSystem = MacOS

// hardwareID returns the hardware's id (IOPlatformUUID).
func hardwareID() (string, error) {
	id, err := host.HostID()
	return strings.ToUpper(id), err
}

// firmwareID returns the same id, because no id of a Mac is part of the system image.
func firmwareID() string {
	id, _ := hardwareID()
	return id
}

// people returns the users with a folder in /Users.
func people() []User { return macUsers("/Users") }

// liveAccounts returns the owners of files on this computer.
func liveAccounts() *Accounts { return macAccounts("/Users") }

// Adapters returns nothing, because macOS does not distinguish built-in adapters from others.
func (l *live) Adapters() []Adapter { return nil }

// OpenFiles asks lsof(8), which is part of the system, for the open files of every process it may
// inspect, and checks for locks of the others.
func (l *live) OpenFiles(ctx context.Context, paths []string) ([]OpenFile, error) {
	if len(paths) == 0 {
		return nil, nil
	}
	data, err := exec.CommandContext(ctx, "/usr/sbin/lsof", "-n", "-P", "-w", "-F", "pcn").Output()
	if ctx.Err() != nil {
		return nil, fault.Wrap(fault.Stopped, ctx.Err(), "the search for open files was stopped")
	}
	if err != nil && len(data) == 0 {
		return nil, fault.Wrap(fault.Unreadable, err, "cannot list the open files")
	}
	out := openFiles(data, paths)
	for _, asked := range paths {
		for _, file := range []string{asked, asked + "-shm"} {
			if pid := lockedBy(file); pid > 0 && pid != os.Getpid() {
				out = append(out, OpenFile{Program{Name: programName(ctx, pid), PID: int32(pid)}, file})
			}
		}
	}
	return out, nil
}

// openFiles parses the output of lsof: p and the process, c and its name, n and a file.
func openFiles(data []byte, paths []string) (out []OpenFile) {
	var at Program
	seen := map[string]bool{}
	lines := bufio.NewScanner(bytes.NewReader(data))
	for lines.Scan() {
		line := lines.Text()
		if line == "" {
			continue
		}
		switch rest := line[1:]; line[0] {
		case 'p':
			pid, _ := strconv.Atoi(rest)
			at = Program{PID: int32(pid)}
		case 'c':
			at.Name = rest
		case 'n':
			for _, asked := range paths {
				if key := fmt.Sprint(at.PID, asked); int(at.PID) != os.Getpid() && !seen[key] && strings.HasPrefix(rest, "/") && within(rest, asked) {
					seen[key] = true
					out = append(out, OpenFile{at, rest})
				}
			}
		}
	}
	return out
}

// RunAs makes a command run as the user of a process, if this program may do that.
func RunAs(cmd *exec.Cmd, pid int32) error {
	p, err := process.NewProcess(pid)
	if err != nil {
		return err
	}
	uids, err := p.Uids()
	if err != nil {
		return err
	}
	gids, err := p.Gids()
	if err != nil || len(uids) == 0 || len(gids) == 0 || int(uids[0]) == os.Geteuid() || os.Geteuid() != 0 {
		return err
	}
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uids[0], Gid: gids[0]}}
	cmd.Dir, cmd.Env = "/", []string{"PATH=/usr/bin:/bin", "LC_ALL=C"}
	return nil
}

var usbIDs = regexp.MustCompile(`"id(Vendor|Product)" = (\d+)`)

// usbDevices returns the vendor and product ids of connected devices, from ioreg(8).
func usbDevices() (out []string) {
	data, err := exec.Command("/usr/sbin/ioreg", "-p", "IOUSB", "-l", "-w", "0").Output()
	if err != nil {
		return nil
	}
	for device := range strings.SplitSeq(string(data), "+-o ") {
		ids := map[string]int{}
		for _, m := range usbIDs.FindAllStringSubmatch(device, -1) {
			ids[m[1]], _ = strconv.Atoi(m[2])
		}
		out = append(out, fmt.Sprintf("%04x:%04x", ids["Vendor"], ids["Product"]))
	}
	return out
}
