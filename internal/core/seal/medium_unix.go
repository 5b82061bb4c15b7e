//go:build unix

package seal

import (
	"os"
	"time"
)

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
