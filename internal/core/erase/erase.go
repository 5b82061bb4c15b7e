// Package erase removes files so that an interrupted removal can be repeated, and destroys small secret files first.
package erase

import (
	"context"
	"crypto/rand"
	"errors"
	"io/fs"
	"os"
	"path/filepath"

	"movekit/internal/core/fault"
	"movekit/internal/core/seal"
)

// Folder is a folder whose content is removed.
type Folder struct {
	ctx context.Context
	dir string
}

// In returns a folder. It is not emptied further after ctx has ended.
func In(ctx context.Context, dir string) Folder { return Folder{ctx, dir} }

func (f Folder) stopped() error {
	if err := f.ctx.Err(); err != nil {
		return fault.Wrap(fault.Stopped, err, "emptying the kit was stopped")
	}
	return nil
}

// Destroy overwrites a small file before removing it, and flushes both.
func (f Folder) Destroy(name string) error {
	path := filepath.Join(f.dir, name)
	info, err := os.Lstat(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err = errors.Join(err, f.stopped()); err != nil {
		return err
	}
	if info.Mode().IsRegular() {
		if err := overwrite(path, info.Size()); err != nil {
			return fault.Wrap(fault.CannotPlace, err, "cannot destroy %s", path)
		}
	}
	return f.remove(path)
}

func overwrite(path string, size int64) error {
	f, err := os.OpenFile(path, os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	defer f.Close()
	noise := make([]byte, size)
	rand.Read(noise)
	if _, err := f.Write(noise); err != nil {
		return err
	}
	if err := f.Sync(); err != nil {
		return err
	}
	return f.Close()
}

func (f Folder) remove(path string) error {
	if err := f.stopped(); err != nil {
		return err
	}
	err := os.Remove(path)
	if err == nil {
		err = seal.SyncDir(filepath.Dir(path))
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fault.Wrap(fault.CannotPlace, err, "cannot remove %s", path)
	}
	return nil
}

// Remove removes a file, or a folder with its content.
func (f Folder) Remove(name string) error {
	path := filepath.Join(f.dir, name)
	if info, err := os.Lstat(path); err == nil && info.IsDir() { // never through a link
		entries, _ := os.ReadDir(path)
		for _, in := range entries {
			if err := f.Remove(filepath.Join(name, in.Name())); err != nil {
				return err
			}
		}
	}
	return f.remove(path)
}
