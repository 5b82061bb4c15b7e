package seal

import (
	"os"

	"golang.org/x/sys/unix"
)

// openUncached opens a file. Its cached pages are dropped with dropCache.
func openUncached(name string) (*os.File, error) { return os.Open(name) }

// syncData flushes f to its medium.
func syncData(f *os.File) error { return unix.Fdatasync(int(f.Fd())) }

// dropCache removes n bytes from off from the page cache (posix_fadvise), so that the next read
// comes from the medium.
func dropCache(f *os.File, off, n int64) {
	_ = unix.Fadvise(int(f.Fd()), off, n, unix.FADV_DONTNEED)
}

// SyncVolume flushes the file system of path.
func SyncVolume(path string) error {
	d, err := os.Open(path)
	if err != nil {
		return err
	}
	defer d.Close()
	return unix.Syncfs(int(d.Fd()))
}
