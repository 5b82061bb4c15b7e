package filemeta

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
)

const extended = `\\?\`

// Long returns an absolute path in the form that Windows takes as it is ("Naming Files, Paths, and
// Namespaces" in its documentation). In other forms it removes dots and spaces from the ends of names.
func Long(path string) string {
	switch {
	case strings.HasPrefix(path, extended) || !filepath.IsAbs(path):
		return path
	case strings.HasPrefix(path, `\\`):
		return extended + `UNC\` + strings.ReplaceAll(path[2:], "/", `\`)
	}
	return extended + strings.ReplaceAll(path, "/", `\`)
}

// Short is the inverse of Long, for display.
func Short(path string) string {
	if rest, unc := strings.CutPrefix(path, extended+`UNC\`); unc {
		return `\\` + rest
	}
	return strings.TrimPrefix(path, extended)
}

// Root is a folder that no link leads out of. Names that end in a dot or a space, which os.Root cannot
// have, are opened by their long path once no folder above them is a link.
type Root struct{ *os.Root }

// OpenRoot opens a folder.
func OpenRoot(dir string) (*Root, error) {
	r, err := os.OpenRoot(Long(dir))
	return &Root{r}, err
}

// odd reports whether a part of a name ends in a dot or a space.
func odd(name string) bool {
	for part := range strings.SplitSeq(filepath.ToSlash(name), "/") {
		if part != "." && part != ".." && strings.TrimRight(part, ". ") != part {
			return true
		}
	}
	return false
}

var errLeadsOut = errors.New("a link is above it")

// long returns the long path of a name in the folder.
func (r *Root) long(name string) (string, error) {
	name = filepath.ToSlash(name)
	at := r.Name()
	for i, part := range strings.Split(name, "/") {
		if part == "" || part == "." || part == ".." || strings.ContainsAny(part, `:\?*`) {
			return "", errLeadsOut
		}
		if info, err := os.Lstat(at); i > 0 && (err != nil || !info.IsDir()) {
			return "", errors.Join(errLeadsOut, err)
		}
		at += `\` + part
	}
	return at, nil
}

// by calls plain with the name, or direct with its long path if the name is odd.
func by[T any](r *Root, name string, plain, direct func(string) (T, error)) (T, error) {
	if !odd(name) {
		return plain(name)
	}
	at, err := r.long(name)
	if err != nil {
		var none T
		return none, &fs.PathError{Op: "open", Path: name, Err: err}
	}
	return direct(at)
}

func none(do func(string) error) func(string) (struct{}, error) {
	return func(name string) (struct{}, error) { return struct{}{}, do(name) }
}

// OpenFile opens a file.
func (r *Root) OpenFile(name string, flag int, perm fs.FileMode) (*os.File, error) {
	return by(r, name, func(n string) (*os.File, error) { return r.Root.OpenFile(n, flag, perm) }, func(n string) (*os.File, error) { return os.OpenFile(n, flag, perm) })
}

// Open opens a file for reading.
func (r *Root) Open(name string) (*os.File, error) { return by(r, name, r.Root.Open, os.Open) }

// Lstat describes a file or link.
func (r *Root) Lstat(name string) (fs.FileInfo, error) { return by(r, name, r.Root.Lstat, os.Lstat) }

// Stat describes a file.
func (r *Root) Stat(name string) (fs.FileInfo, error) { return by(r, name, r.Root.Stat, os.Lstat) }

// Readlink returns the target of a link.
func (r *Root) Readlink(name string) (string, error) {
	return by(r, name, r.Root.Readlink, os.Readlink)
}

// Mkdir creates a folder.
func (r *Root) Mkdir(name string, perm fs.FileMode) error {
	_, err := by(r, name, none(func(n string) error { return r.Root.Mkdir(n, perm) }), none(func(n string) error { return os.Mkdir(n, perm) }))
	return err
}

// MkdirAll creates a folder and those above it.
func (r *Root) MkdirAll(name string, perm fs.FileMode) error {
	if !odd(name) {
		return r.Root.MkdirAll(name, perm)
	}
	parts := strings.Split(filepath.ToSlash(name), "/")
	for i := range parts {
		if err := r.Mkdir(strings.Join(parts[:i+1], "/"), perm); err != nil && !os.IsExist(err) {
			return err
		}
	}
	return nil
}

// Chmod changes the permissions of a file.
func (r *Root) Chmod(name string, mode fs.FileMode) error {
	_, err := by(r, name, none(func(n string) error { return r.Root.Chmod(n, mode) }), none(func(n string) error { return os.Chmod(n, mode) }))
	return err
}

// Symlink creates a link.
func (r *Root) Symlink(to, name string) error {
	_, err := by(r, name, none(func(n string) error { return r.Root.Symlink(to, n) }), none(func(n string) error { return os.Symlink(to, n) }))
	return err
}

// Rename renames a file or folder.
func (r *Root) Rename(from, to string) error { return r.both(from, to, r.Root.Rename, os.Rename) }

// Link creates a hard link.
func (r *Root) Link(from, to string) error { return r.both(from, to, r.Root.Link, os.Link) }

func (r *Root) both(from, to string, plain, direct func(string, string) error) error {
	if !odd(from) && !odd(to) {
		return plain(from, to)
	}
	a, err := r.long(from)
	b, berr := r.long(to)
	if err = errors.Join(err, berr); err != nil {
		return &os.LinkError{Op: "rename", Old: from, New: to, Err: err}
	}
	return direct(a, b)
}
