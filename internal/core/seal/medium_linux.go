package seal

import (
	"os"
	"time"

	"golang.org/x/sys/unix"
)

// openUncached opens a file whose cached pages are dropped with dropCache.
func openUncached(name string) (*os.File, error) { return os.Open(name) }

// syncData flushes what was written to f to its medium.
func syncData(f *os.File) error { return unix.Fdatasync(int(f.Fd())) }

// dropCache takes n bytes from off out of the page cache (posix_fadvise), so
// that they are next read from the medium.
func dropCache(f *os.File, off, n int64) {
	_ = unix.Fadvise(int(f.Fd()), off, n, unix.FADV_DONTNEED)
}

func alignedBlock() []byte { return make([]byte, blockSize) }

func blockLen(n int) int { return n }

// SyncDir flushes the names in a folder.
func SyncDir(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer d.Close()
	_ = d.Sync() // some file systems cannot, and then need not
	return nil
}

// FlushAhead flushes the file system that holds path again and again, until
// the function it returns is called. A system that is left alone keeps up to a
// tenth of its memory unwritten, and the flush at the end waits for all of it.
func FlushAhead(path string) (stop func()) {
	quit, ended := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(ended)
		for {
			select {
			case <-quit:
				return
			case <-time.After(200 * time.Millisecond):
				_ = SyncVolume(path) // the flush that counts comes at the end
			}
		}
	}()
	return func() { close(quit); <-ended }
}

// SyncVolume flushes everything on the file system that holds path.
func SyncVolume(path string) error {
	d, err := os.Open(path)
	if err != nil {
		return err
	}
	defer d.Close()
	return unix.Syncfs(int(d.Fd()))
}
