package tree

import (
	"cmp"
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"syscall"
	"time"

	"movekit/internal/core/fault"
	"movekit/internal/core/filemeta"
	"movekit/internal/core/spare"
)

// Yields says which of two files is renamed to a set-aside name when a moved file finds another
// with its name.
type Yields bool

// The moved file is renamed, or the existing one.
const (
	Newcomer Yields = false
	Resident Yields = true
)

// Carry moves the files of the source into the sibling folder to, which is created if needed. It
// removes folders that become empty. A missing source is not an error, so that an interrupted run
// can be repeated. Carry returns the paths of the renamed files. A link that leads out of the
// parent folder is an error. If the source reads file metadata, folders keep theirs.
func Carry(ctx context.Context, s Source, to string, yields Yields) (yielded []string, err error) {
	parent, err := filemeta.OpenRoot(filepath.Dir(s.Root))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fault.Wrap(fault.CannotPlace, err, "cannot open the folder of %s", s.Root)
	}
	defer parent.Close()
	files, folders, err := s.entries(ctx, nil)
	for _, from := range files {
		if err = cmp.Or(err, ctx.Err()); err == nil {
			var name string
			if name, err = carry(parent, filemeta.Long(s.Root), from, to, yields); name != "" {
				yielded = append(yielded, name)
			}
		}
	}
	if s.Marked && err == nil && (len(files) > 0 || len(s.Include) == 0) { // an empty part leaves nothing
		err = mkdirLike(to, folders)
	}
	removeEmpty(folders)
	return yielded, err
}

// RemoveFiles deletes the files of the source, or those for which only returns true. It removes
// folders that become empty. A missing source is not an error.
func RemoveFiles(ctx context.Context, s Source, only func(path string) bool) error {
	files, folders, err := s.entries(ctx, func(e Entry) bool { return e.Archived() && (only == nil || only(e.Path)) })
	for _, file := range files {
		if err == nil {
			if err = os.Remove(file); err != nil {
				err = fault.Wrap(fault.CannotPlace, err, "cannot remove it")
			}
		}
	}
	removeEmpty(folders)
	return err
}

// folder is a folder of a source, with its real path.
type folder struct {
	Entry
	real string
}

// entries returns the real paths of the files that take accepts, and all folders. It makes folders
// writable for their owner.
func (s Source) entries(ctx context.Context, take func(Entry) bool) (files []string, folders []folder, err error) {
	err = s.Walk(ctx, func(e Entry, real string) error {
		if e.Type == Dir {
			folders = append(folders, folder{e, real})
			if locked(e) {
				os.Chmod(real, e.Mode|0o700) //nolint:errcheck // the operation that needs it reports the error
			}
		} else if take == nil || take(e) {
			files = append(files, real)
		}
		return nil
	}, nil)
	if fault.KindOf(err) == fault.Missing {
		err = nil
	}
	return files, folders, err
}

// removeEmpty removes empty folders, and restores the permissions of the others.
func removeEmpty(folders []folder) {
	for _, f := range slices.Backward(folders) {
		if os.Remove(f.real) != nil && locked(f.Entry) {
			os.Chmod(f.real, f.Mode) //nolint:errcheck // it had these permissions before
		}
	}
}

// locked reports whether a folder is not writable even for its owner.
func locked(e Entry) bool { return e.Mode&0o700 != 0o700 }

// mkdirLike creates folders with the same metadata on the same computer.
func mkdirLike(to string, folders []folder) error {
	for _, e := range slices.Backward(folders) {
		dir := filepath.Join(filemeta.Long(to), filepath.FromSlash(e.Path))
		err := os.MkdirAll(dir, 0o755)
		if err == nil && os.Geteuid() == 0 {
			err = os.Chown(dir, e.owner.UID, e.owner.GID)
		}
		if err == nil {
			err = os.Chmod(dir, e.Mode)
		}
		if err == nil {
			err = filemeta.SetTime(dir, e.ModTime)
		}
		if err != nil {
			return fault.Wrap(fault.CannotPlace, err, "cannot create the folder %s", dir)
		}
	}
	return nil
}

// carry moves a file, whose real path is from, into the folder to. It returns the path of the
// renamed file, or "".
func carry(parent *filemeta.Root, root, from, to string, yields Yields) (yielded string, err error) {
	rel, err := filepath.Rel(root, from)
	from, to = filepath.Join(filepath.Base(root), rel), filepath.Join(filepath.Base(to), rel)
	if err == nil {
		err = parent.MkdirAll(filepath.Dir(to), 0o755)
	}
	if err == nil {
		if _, there := parent.Lstat(to); !errors.Is(there, fs.ErrNotExist) {
			yielded, err = spare.Aside(filepath.Join(filepath.Dir(root), to), time.Now())
			free := filepath.Join(filepath.Dir(to), filepath.Base(yielded))
			switch {
			case err != nil:
			case yields == Resident:
				err = parent.Rename(to, free)
			default:
				to = free
			}
		}
	}
	if err == nil {
		err = parent.Rename(from, to)
	}
	if err != nil {
		return "", fault.Wrap(fault.CannotPlace, err, "cannot rename it")
	}
	return filemeta.Short(yielded), nil
}

// Rename renames a file or folder.
func Rename(from, to string) error {
	if err := os.Rename(from, to); err != nil {
		return fault.Wrap(fault.CannotPlace, err, "cannot rename")
	}
	return nil
}

// AcrossLayers reports whether renaming a folder failed because it is in a lower layer of an
// overlay file system, where files must be moved one by one.
func AcrossLayers(folder string, err error) bool {
	info, lerr := os.Lstat(folder)
	return errors.Is(err, syscall.EXDEV) && lerr == nil && info.IsDir()
}
