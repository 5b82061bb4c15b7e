package volume

import (
	"os"
	"path/filepath"
	"strings"
	"syscall"

	"golang.org/x/sys/windows"
)

// Mounts returns the drives with letters (GetDriveType).
func Mounts() (out []Mount) {
	bits, err := windows.GetLogicalDrives()
	if err != nil {
		return nil
	}
	for i := range 26 {
		if bits&(1<<i) == 0 {
			continue
		}
		path := string(rune('A'+i)) + `:\`
		kind := uint32(windows.DRIVE_UNKNOWN)
		if p, err := windows.UTF16PtrFromString(path); err == nil {
			kind = windows.GetDriveType(p)
		}
		out = append(out, Mount{Path: path, Remote: kind == windows.DRIVE_REMOTE, Foreign: kind != windows.DRIVE_FIXED})
	}
	return out
}

// SystemDrive returns the drive of the Windows folder.
func SystemDrive() string {
	if d := os.Getenv("SystemDrive"); d != "" {
		return d + `\`
	}
	return `C:\`
}

// Remote reports whether a real path is on a network file system, without accessing it.
func Remote(path string) bool {
	volume := filepath.VolumeName(path)
	if len(volume) > 2 {
		return volume[0] == '\\' && volume[1] == '\\'
	}
	root, err := syscall.UTF16PtrFromString(volume + `\`)
	return err == nil && volume != "" && windows.GetDriveType(root) == windows.DRIVE_REMOTE
}

// IsMount reports whether a path is the root of a drive.
func IsMount(path string) bool {
	return filepath.Clean(path) == filepath.VolumeName(path)+`\`
}

// volumeID returns the drive or share of a folder.
func volumeID(dir string) string { return strings.ToUpper(filepath.VolumeName(dir)) }
