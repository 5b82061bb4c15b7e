// Package private keeps what a run must put on a disk for a while and nobody
// else may read: snapshots of databases, and passwords for a server's own
// programs. All of it lies in one folder a run. A run that was killed leaves its
// folder behind, which the next one of the same user removes.
package private

import (
	"errors"
	"os"
	"path/filepath"
	"sync"

	"github.com/gofrs/flock"

	"movekit/internal/core/fault"
	"movekit/internal/core/tree"
)

// lockFile is held as long as its folder is in use.
const lockFile = "in-use"

// Folder is the private folder of a run. It is made when it is first asked for,
// and may be used by several goroutines.
type Folder struct {
	Above string // the folder that it is made in; "" stands for one in the user's cache

	mu   sync.Mutex
	dir  string
	lock *flock.Flock
}

// above returns the folder that those of all runs lie in.
func (f *Folder) above() string {
	if f.Above != "" {
		return f.Above
	}
	if cache, err := os.UserCacheDir(); err == nil {
		return filepath.Join(cache, "movekit", "private")
	}
	return filepath.Join(os.TempDir(), "movekit-private")
}

// Dir returns the folder.
func (f *Folder) Dir() (string, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.dir != "" {
		return f.dir, nil
	}
	above := f.above()
	err := os.MkdirAll(above, 0o700)
	if err != nil {
		return "", fault.Wrap(fault.CannotPlace, err, "cannot make the folder %s", above)
	}
	f.sweep(above)
	for {
		dir, err := os.MkdirTemp(above, "run-")
		mine := false
		if err == nil {
			f.lock = flock.New(filepath.Join(dir, lockFile))
			mine, err = f.lock.TryLock()
		}
		if err != nil {
			return "", fault.Wrap(fault.CannotPlace, err, "cannot make a folder in %s", above)
		}
		if mine { // no other run has taken it for one that was left
			f.dir = dir
			return dir, nil
		}
	}
}

// Sweep removes the folders of runs that were killed.
func (f *Folder) Sweep() { f.sweep(f.above()) }

// sweep removes folders that nobody uses. One that another run has just made has
// no lock yet, and stays.
func (f *Folder) sweep(above string) {
	left, _ := filepath.Glob(filepath.Join(above, "run-*", lockFile))
	for _, name := range left {
		if filepath.Dir(name) == f.dir {
			continue
		}
		lock := flock.New(name)
		if free, err := lock.TryLock(); err != nil || !free {
			continue
		}
		lock.Unlock()
		tree.RemoveTree(filepath.Dir(name)) //nolint:errcheck // the next run tries again
	}
}

// Drop removes the folder with all that is in it.
func (f *Folder) Drop() error {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.dir == "" {
		return nil
	}
	err := errors.Join(f.lock.Unlock(), tree.RemoveTree(f.dir))
	os.Remove(filepath.Dir(f.dir)) // where it is empty
	f.dir = ""
	return err
}
