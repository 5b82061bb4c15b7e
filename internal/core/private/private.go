// Package private stores temporary files that nobody else may read: database snapshots, and
// passwords for a server's own programs. Each run has one folder. If a run is killed, the next run
// of the same user removes its folder.
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

// lockFile is locked while its folder is in use.
const lockFile = "in-use"

// Folder is the private folder of a run. It is created on first use, and is safe for concurrent
// use.
type Folder struct {
	Above string // the parent folder; "" means one in the user's cache

	mu   sync.Mutex
	dir  string
	lock *flock.Flock
}

// above returns the parent of all runs' folders, or "" if this user has no folder that nobody else
// can change.
func (f *Folder) above() string {
	if f.Above != "" {
		return f.Above
	}
	cache, err := Cache()
	if err != nil {
		return ""
	}
	return filepath.Join(cache, "private")
}

// parent creates the parent of all runs' folders. If nobody else must be able to change it and that
// is not so, it creates a new folder for this run only.
func (f *Folder) parent() (string, error) {
	above := f.above()
	var err error
	if above != "" {
		if err = os.MkdirAll(above, 0o700); err == nil && isPrivate(above) {
			f.sweep(above)
			return above, nil
		}
		if f.Above != "" || err != nil {
			return "", fault.Wrap(fault.CannotPlace, err, "cannot use the folder %s: it must belong to this user alone", above)
		}
	}
	if above, err = os.MkdirTemp("", "movekit-"); err != nil || !isPrivate(above) {
		return "", fault.Wrap(fault.CannotPlace, err, "cannot create a folder of this user alone in %s", os.TempDir())
	}
	return above, nil
}

// Dir returns the folder, and creates it if needed.
func (f *Folder) Dir() (string, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.dir != "" {
		return f.dir, nil
	}
	above, err := f.parent()
	if err != nil {
		return "", err
	}
	for {
		dir, err := os.MkdirTemp(above, "run-")
		mine := false
		if err == nil {
			f.lock = flock.New(filepath.Join(dir, lockFile))
			mine, err = f.lock.TryLock()
		}
		if err != nil {
			return "", fault.Wrap(fault.CannotPlace, err, "cannot create a folder in %s", above)
		}
		if mine { // no other run mistook it for a leftover
			f.dir = dir
			return dir, nil
		}
	}
}

// Sweep removes the folders of killed runs.
func (f *Folder) Sweep() { f.sweep(f.above()) }

// sweep removes unused folders. A folder that another run just created has no lock yet, and stays.
func (f *Folder) sweep(above string) {
	if above == "" || !isPrivate(above) {
		return
	}
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

// Drop removes the folder and its content.
func (f *Folder) Drop() error {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.dir == "" {
		return nil
	}
	err := errors.Join(f.lock.Unlock(), tree.RemoveTree(f.dir))
	os.Remove(filepath.Dir(f.dir)) // removed only if empty
	f.dir = ""
	return err
}
