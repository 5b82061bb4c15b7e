package seal

import (
	"os"

	"golang.org/x/sys/unix"
)

// openUncached opens a file for reading without filling the page cache (fcntl(2), F_NOCACHE).
func openUncached(name string) (*os.File, error) {
	f, err := os.Open(name)
	if err == nil {
		_, _ = unix.FcntlInt(f.Fd(), unix.F_NOCACHE, 1)
	}
	return f, err
}

// syncData flushes f to its medium (F_FULLFSYNC), and keeps later writes out of the page cache.
func syncData(f *os.File) error {
	_, _ = unix.FcntlInt(f.Fd(), unix.F_NOCACHE, 1)
	return f.Sync()
}

// dropCache does nothing, because macOS has no such call.
func dropCache(*os.File, int64, int64) {}

// SyncVolume flushes the file system of path, and then the drive's own cache (F_FULLFSYNC).
func SyncVolume(path string) error {
	if err := unix.Sync(); err != nil {
		return err
	}
	d, err := os.Open(path)
	if err != nil {
		return err
	}
	defer d.Close()
	return d.Sync()
}
