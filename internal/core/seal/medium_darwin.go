package seal

import (
	"os"

	"golang.org/x/sys/unix"
)

// openUncached opens a file that is read past the page cache where its pages are not in it
// (fcntl(2), F_NOCACHE).
func openUncached(name string) (*os.File, error) {
	f, err := os.Open(name)
	if err == nil {
		_, _ = unix.FcntlInt(f.Fd(), unix.F_NOCACHE, 1)
	}
	return f, err
}

// syncData flushes what was written to f to its medium (F_FULLFSYNC), and keeps what is
// written from here on out of the page cache.
func syncData(f *os.File) error {
	_, _ = unix.FcntlInt(f.Fd(), unix.F_NOCACHE, 1)
	return f.Sync()
}

// dropCache does nothing: the system cannot be told to.
func dropCache(*os.File, int64, int64) {}

// SyncVolume flushes everything on the file system that holds path: what is written, and then
// what the drive itself keeps (F_FULLFSYNC).
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
