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
	_ = d.Sync() // some file systems do not support it, and do not need it
	return nil
}

// FlushAhead flushes the file system of path repeatedly until stop is called. Otherwise the system
// keeps up to a tenth of its memory unwritten, and the final flush has to wait for all of it.
func FlushAhead(path string) (stop func()) {
	quit, ended := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(ended)
		for {
			select {
			case <-quit:
				return
			case <-time.After(200 * time.Millisecond):
				_ = SyncVolume(path) // the final flush reports errors
			}
		}
	}()
	return func() { close(quit); <-ended }
}
