package tree

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"movekit/internal/core/fault"
)

// Carry moves every file of the source into the folder to, which is made where it is
// missing, or removes them where to is "". Folders that are empty then are removed.
// Nothing there is no error, and neither is a part that an interrupted run has
// moved; a name that is taken is. Where marks are read, folders keep theirs.
func Carry(ctx context.Context, s Source, to string) error {
	var files, dirs []string
	var folders []Entry
	err := s.Walk(ctx, func(e Entry, real string) error {
		if e.Type == Dir {
			dirs, folders = append(dirs, real), append(folders, e)
		} else {
			files = append(files, real)
		}
		return nil
	}, nil)
	if fault.KindOf(err) == fault.Missing {
		return nil
	}
	for _, from := range files {
		if err == nil {
			err = carry(s.Root, from, to)
		}
	}
	if s.Marked && err == nil {
		err = likewise(to, folders)
	}
	slices.Reverse(dirs)
	for _, dir := range dirs {
		os.Remove(dir) // where it is empty
	}
	return err
}

// likewise makes folders as they were, on the same computer.
func likewise(to string, folders []Entry) error {
	for _, e := range slices.Backward(folders) {
		dir := filepath.Join(to, filepath.FromSlash(e.Path))
		err := os.MkdirAll(dir, 0o755)
		if err == nil && os.Geteuid() == 0 {
			err = os.Chown(dir, e.owner.UID, e.owner.GID)
		}
		if err == nil {
			err = os.Chmod(dir, e.Mode)
		}
		if err == nil {
			err = os.Chtimes(dir, e.ModTime, e.ModTime)
		}
		if err != nil {
			return fault.Wrap(fault.CannotPlace, err, "cannot make the folder %s", dir)
		}
	}
	return nil
}

func carry(root, from, to string) error {
	if to == "" {
		if err := os.Remove(from); err != nil {
			return fault.Wrap(fault.CannotPlace, err, "cannot remove it")
		}
		return nil
	}
	rel, err := filepath.Rel(root, from)
	if err == nil {
		to = filepath.Join(to, rel)
		err = os.MkdirAll(filepath.Dir(to), 0o755)
	}
	if err == nil {
		if _, there := os.Lstat(to); !errors.Is(there, fs.ErrNotExist) {
			return fault.New(fault.CannotPlace, "something has the name %s already", to)
		}
		err = os.Rename(from, to)
	}
	if err != nil {
		return fault.Wrap(fault.CannotPlace, err, "cannot rename it")
	}
	return nil
}
