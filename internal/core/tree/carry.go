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

// Carry moves the files of the source into the folder to beside it, which is made where it
// is missing, or removes those that travel where to is "": all of them, or those that only has. Folders
// that are empty then are removed. Nothing there is no error, and neither is a part that an
// interrupted run has moved; a name that is taken is, and so is a link that leads out of the
// folder of both. Where marks are read, folders keep theirs.
func Carry(ctx context.Context, s Source, to string, only func(path string) bool) error {
	parent, err := os.OpenRoot(filepath.Dir(s.Root))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return fault.Wrap(fault.CannotPlace, err, "cannot open the folder of %s", s.Root)
	}
	defer parent.Close()
	var files, dirs []string
	var folders []Entry
	err = s.Walk(ctx, func(e Entry, real string) error {
		if e.Type == Dir {
			dirs, folders = append(dirs, real), append(folders, e)
			if locked(e) {
				os.Chmod(real, e.Mode|0o700) //nolint:errcheck // what cannot be changed then tells it
			}
		} else if (only == nil || only(e.Path)) && (to != "" || e.Travels()) {
			files = append(files, real)
		}
		return nil
	}, nil)
	if fault.KindOf(err) == fault.Missing {
		return nil
	}
	for _, from := range files {
		if err == nil {
			err = carry(parent, s.Root, from, to)
		}
	}
	if s.Marked && to != "" && err == nil && (len(files) > 0 || len(s.Include) == 0) { // a part that is empty is nothing
		err = likewise(to, folders)
	}
	for i, dir := range slices.Backward(dirs) {
		if os.Remove(dir) != nil && locked(folders[i]) { // it is not empty
			os.Chmod(dir, folders[i].Mode) //nolint:errcheck // it was so before
		}
	}
	return err
}

// locked reports whether even its owner may not change what is in a folder.
func locked(e Entry) bool { return e.Mode&0o700 != 0o700 }

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

// carry moves a file, whose real path is from, to its place in the folder to.
func carry(parent *os.Root, root, from, to string) error {
	if to == "" {
		if err := os.Remove(from); err != nil {
			return fault.Wrap(fault.CannotPlace, err, "cannot remove it")
		}
		return nil
	}
	rel, err := filepath.Rel(root, from)
	from, to = filepath.Join(filepath.Base(root), rel), filepath.Join(filepath.Base(to), rel)
	if err == nil {
		err = parent.MkdirAll(filepath.Dir(to), 0o755)
	}
	if err == nil {
		if _, there := parent.Lstat(to); !errors.Is(there, fs.ErrNotExist) {
			return fault.New(fault.CannotPlace, "something has the name %s already", filepath.Join(filepath.Dir(root), to))
		}
		err = parent.Rename(from, to)
	}
	if err != nil {
		return fault.Wrap(fault.CannotPlace, err, "cannot rename it")
	}
	return nil
}
