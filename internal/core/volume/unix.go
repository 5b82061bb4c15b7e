//go:build unix

package volume

import (
	"fmt"
	"path/filepath"
	"strings"

	"golang.org/x/sys/unix"
)

// Remote reports whether a real path is on a network file system.
func Remote(path string) bool {
	longest, remote := -1, false
	for _, m := range Mounts() {
		if len(m.Path) >= longest && (path == m.Path || strings.HasPrefix(path, strings.TrimSuffix(m.Path, "/")+"/")) {
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
