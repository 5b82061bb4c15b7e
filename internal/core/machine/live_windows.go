package machine

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"unsafe"

	"golang.org/x/sys/windows"

	"movekit/internal/core/fault"
	"movekit/internal/core/registry"
	"movekit/internal/core/volume"
)

// liveSystem is the system that this program was built for.
const liveSystem = Windows

// liveAccounts returns nil: Windows uses security ids.
func liveAccounts() *Accounts { return nil }

// hardwareID returns the id of the installed system.
func hardwareID() (string, error) {
	k, err := registry.OpenLive("HKLM", `SOFTWARE\Microsoft\Cryptography`)
	if err != nil {
		return os.Hostname()
	}
	defer k.Close()
	if id := registry.Text(k, "", "MachineGuid"); id != "" {
		return id, nil
	}
	return os.Hostname()
}

var firmwareTable = windows.NewLazySystemDLL("kernel32.dll").NewProc("GetSystemFirmwareTable")

// firmwareID returns the UUID of the SMBIOS table ("RSMB": 8 bytes, then the table).
func firmwareID() string {
	const provider = 'R'<<24 | 'S'<<16 | 'M'<<8 | 'B'
	size, _, _ := firmwareTable.Call(provider, 0, 0, 0)
	if size <= 8 || size > 1<<20 {
		return ""
	}
	table := make([]byte, size)
	n, _, _ := firmwareTable.Call(provider, 0, uintptr(unsafe.Pointer(&table[0])), size)
	if n != size {
		return ""
	}
	return smbiosUUID(table[8:])
}

// Registry opens a key of the running system. The key of a user who is not signed in is read from
// the hive file in the profile.
func (l *live) Registry(path string, user *User) (registry.Key, error) {
	root, rest, err := splitKey(path)
	if err != nil {
		return nil, err
	}
	if root == "HKLM" || user == nil || isMe(user) {
		return registry.OpenLive(root, rest)
	}
	if user.sid != "" {
		if k, err := registry.OpenLive("HKU", user.sid+`\`+rest); err == nil {
			return k, nil
		}
	}
	file := filepath.Join(user.Home, "NTUSER.DAT")
	if below, is := cutFold(rest, `Software\Classes`); is {
		file, rest = filepath.Join(user.Home, "AppData", "Local", "Microsoft", "Windows", "UsrClass.dat"), below
	}
	h, err := registry.OpenHive(file)
	if fault.KindOf(err) == fault.Missing {
		return nil, noKey(path)
	}
	if err != nil {
		return nil, err
	}
	k, err := h.Root()
	if err != nil {
		return nil, err
	}
	return registry.Find(k, rest)
}

// Change opens a key of the running system for changes.
func (l *live) Change(path string, user *User, create bool) (registry.Writable, error) {
	root, rest, err := splitKey(path)
	if err != nil {
		return nil, err
	}
	if root == "HKLM" || user == nil || isMe(user) {
		return registry.ChangeLive(root, rest, create)
	}
	if k, err := registry.OpenLive("HKU", user.sid); err != nil || user.sid == "" {
		return nil, fmt.Errorf("the registry of %s, who is not signed in: %w", user.Name, registry.ErrOffline)
	} else {
		k.Close()
	}
	return registry.ChangeLive("HKU", user.sid+`\`+rest, create)
}

// Adapters returns the network adapters in the registry.
func (l *live) Adapters() []Adapter { return windowsAdapters(l) }

func (l *live) findUsers() []User {
	users, _ := windowsUsers(l, filepath.Join(volume.SystemDrive(), "Users"))
	home, err := os.UserHomeDir()
	if err != nil {
		return users
	}
	for _, u := range users {
		if isMe(&u) {
			return users
		}
	}
	return append(users, User{Name: filepath.Base(home), Account: account(filepath.Base(home)), Home: home})
}

// The Restart Manager of Windows reports which programs use a file
// (learn.microsoft.com/windows/win32/rstmgr).
var (
	restartManager = windows.NewLazySystemDLL("rstrtmgr.dll")
	rmStart        = restartManager.NewProc("RmStartSession")
	rmRegister     = restartManager.NewProc("RmRegisterResources")
	rmList         = restartManager.NewProc("RmGetList")
	rmEnd          = restartManager.NewProc("RmEndSession")
)

// rmProcess is RM_PROCESS_INFO.
type rmProcess struct {
	pid         uint32
	started     windows.Filetime
	name        [256]uint16
	service     [64]uint16
	kind        uint32
	status      uint32
	session     uint32
	restartable int32
}

// maxHeld limits how many files of a folder are checked.
const maxHeld = 4096

// OpenFiles asks the system which programs use the files at or below the paths.
func (l *live) OpenFiles(ctx context.Context, paths []string) ([]OpenFile, error) {
	var out []OpenFile
	for _, path := range paths {
		var files []string
		filepath.WalkDir(path, func(name string, e fs.DirEntry, err error) error {
			if err == nil && e.Type().IsRegular() {
				files = append(files, name)
			}
			if len(files) == maxHeld || ctx.Err() != nil {
				return filepath.SkipAll
			}
			return nil
		})
		for _, p := range usedBy(files) {
			if p.PID != int32(os.Getpid()) {
				out = append(out, OpenFile{p, path})
			}
		}
	}
	return out, ctx.Err()
}

func usedBy(files []string) []Program {
	if len(files) == 0 || rmStart.Find() != nil {
		return nil
	}
	var session uint32
	var key [33]uint16
	if r, _, _ := rmStart.Call(uintptr(unsafe.Pointer(&session)), 0, uintptr(unsafe.Pointer(&key[0]))); r != 0 {
		return nil
	}
	defer rmEnd.Call(uintptr(session))
	names := make([]*uint16, 0, len(files))
	for _, f := range files {
		if p, err := syscall.UTF16PtrFromString(f); err == nil {
			names = append(names, p)
		}
	}
	if r, _, _ := rmRegister.Call(uintptr(session), uintptr(len(names)), uintptr(unsafe.Pointer(&names[0])), 0, 0, 0, 0); r != 0 {
		return nil
	}
	infos := make([]rmProcess, 64)
	var needed, reasons uint32
	got := uint32(len(infos))
	r, _, _ := rmList.Call(uintptr(session), uintptr(unsafe.Pointer(&needed)), uintptr(unsafe.Pointer(&got)), uintptr(unsafe.Pointer(&infos[0])), uintptr(unsafe.Pointer(&reasons)))
	if r != 0 && r != uintptr(windows.ERROR_MORE_DATA) {
		return nil
	}
	var out []Program
	for _, i := range infos[:min(int(got), len(infos))] {
		out = append(out, Program{Name: syscall.UTF16ToString(i.name[:]), PID: int32(i.pid)})
	}
	return out
}

// RunAs does nothing: the command runs as the user who runs this program.
func RunAs(*exec.Cmd, int32) error { return nil }

// usbDevices returns nothing, because the registry has the devices.
func usbDevices() []string { return nil }

// ownSystem returns an error if this is the 32-bit program on a 64-bit Windows, which shows it other folders and
// registry keys than those of the same name ("File System Redirector" in the Windows documentation).
func ownSystem() error {
	var other bool
	if err := windows.IsWow64Process(windows.CurrentProcess(), &other); err != nil || !other {
		return nil //nolint:nilerr // a Windows without this call has 32 bits only
	}
	return fault.New(fault.Usage, "this is the program for 32-bit Windows, and this Windows has 64 bits: use movekit.exe")
}

// administrator reports whether this program has administrator rights ("Run as administrator").
// Membership of the group alone is not enough.
func administrator() bool { return windows.GetCurrentProcessToken().IsElevated() }
