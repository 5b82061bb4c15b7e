package files

import (
	"context"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"strings"

	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
	"movekit/internal/core/filemeta"
	"movekit/internal/core/spare"
	"movekit/internal/core/tree"
)

// combined has the statistics of combine.
type combined struct {
	same     int64 // files that the folder already has, by content
	added    int64 // files whose name was new in the folder
	numbered int64 // files with a number, beside another one of the same name
}

// combine copies files that are only in the folder from into the folder to. A file keeps its name
// if that is unused, and otherwise becomes "name (2).ext". Existing files are not changed, links in
// to are not followed, and from is not changed. Calling combine again completes an interrupted run.
func combine(ctx context.Context, from, to string) (*combined, error) {
	done := &combined{}
	if resolved, err := filepath.EvalSymlinks(to); err == nil {
		to = resolved
	}
	type level struct{ path, at string }
	var above []level // the folders above an entry, with their destinations
	err := tree.Source{Root: from}.Walk(ctx, func(e tree.Entry, real string) error {
		for len(above) > 0 && !tree.Inside(e.Path, above[len(above)-1].path) {
			above = above[:len(above)-1]
		}
		at := to
		if len(above) > 0 {
			at = filepath.Join(above[len(above)-1].at, path.Base(e.Path))
		}
		switch e.Type {
		case tree.Dir:
			at, err := madeLike(real, at)
			above = append(above, level{e.Path, at})
			return err
		case tree.Link:
			if _, err := os.Lstat(at); err == nil {
				return nil
			}
			return os.Symlink(filepath.FromSlash(e.Target), at)
		case tree.File, tree.Hard:
			return done.file(real, at)
		}
		return nil
	}, nil)
	if err != nil {
		return nil, fault.Wrap(fault.CannotPlace, err, "cannot add the files of %s to %s", from, to)
	}
	return done, nil
}

// madeLike creates a folder like another, if there is none, and returns its path. If a file has the
// name, the folder gets another one.
func madeLike(like, at string) (string, error) {
	for n, try := 2, at; ; n++ {
		is, err := os.Lstat(try)
		switch {
		case err == nil && is.IsDir():
			return try, nil
		case os.IsNotExist(err):
			info, err := os.Lstat(like)
			if err == nil {
				err = os.Mkdir(try, info.Mode().Perm())
			}
			if err == nil {
				err = givenAs(like, try, info)
			}
			return try, err
		case err != nil:
			return "", err
		}
		try = fmt.Sprintf("%s (%d)", at, n)
	}
}

// file copies one file.
func (b *combined) file(real, at string) error {
	info, err := os.Stat(real)
	if err != nil {
		return err
	}
	ending := filepath.Ext(at)
	for n, try := 2, at; ; n++ {
		is, err := os.Lstat(try)
		switch {
		case os.IsNotExist(err):
			if try == at {
				b.added++
			} else {
				b.numbered++
			}
			return copyAs(real, try, info)
		case err != nil:
			return err
		case is.Mode().IsRegular() && is.Size() == info.Size():
			if same, err := sameContent(real, try); err != nil || same {
				b.same++
				return err
			}
		}
		try = fmt.Sprintf("%s (%d)%s", strings.TrimSuffix(at, ending), n, ending)
	}
}

func sameContent(a, b string) (bool, error) {
	var sums [2]digest.Sum
	for i, name := range []string{a, b} {
		f, err := os.Open(name)
		if err != nil {
			return false, err
		}
		sums[i], _, err = digest.Reader(f)
		f.Close()
		if err != nil {
			return false, err
		}
	}
	return sums[0] == sums[1], nil
}

// copyAs copies a file completely or not at all, with its permissions, time and, as administrator,
// owner.
func copyAs(real, at string, info os.FileInfo) error {
	r, err := os.Open(real)
	if err != nil {
		return err
	}
	defer r.Close()
	part := at + spare.StageEnding
	w, err := filemeta.Create(part, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(w, r)
	if err == nil {
		err = w.Sync()
	}
	if cerr := w.Close(); err == nil {
		err = cerr
	}
	if err == nil {
		err = givenAs(real, part, info)
	}
	if err == nil {
		err = os.Rename(part, at)
	}
	if err != nil {
		os.Remove(part)
	}
	return err
}

// givenAs gives a file or folder the permissions, time and owner of another one on this computer.
func givenAs(like, at string, info os.FileInfo) error {
	if o, known := filemeta.OwnerOf(like); known && os.Geteuid() == 0 {
		if err := os.Lchown(at, o.UID, o.GID); err != nil {
			return err
		}
	}
	if err := os.Chmod(at, info.Mode().Perm()); err != nil {
		return err
	}
	return filemeta.SetTime(at, info.ModTime())
}
