package files

import (
	"cmp"
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"

	"movekit/internal/core/fault"
	"movekit/internal/core/filemeta"
	"movekit/internal/core/pathmap"
	"movekit/internal/core/tree"
)

// updatePaths updates the paths in the staged settings, and returns notes on paths that it did not
// update.
func (m mover) updatePaths(ctx context.Context, stage string) (notes []string, err error) {
	paths := m.PathMapFor()
	if paths == nil {
		return nil, nil
	}
	root, err := filemeta.OpenRoot(stage)
	if err != nil {
		return nil, fault.Wrap(fault.CannotPlace, err, "cannot open the folder %s", stage)
	}
	defer root.Close()
	source := tree.Source{Root: stage, Fold: m.Computer.System().Folds()}
	if !m.single {
		source.Include = m.Item.UpdatePaths
	}
	var edits []pathmap.Edit
	var lines []pathmap.Line
	changed := map[string][]pathmap.Edit{}
	var order []string
	err = source.Walk(ctx, func(e tree.Entry, _ string) error {
		if e.Type != tree.File {
			return nil
		}
		data, err := readStaged(root, e)
		if err != nil {
			return err
		}
		found, why := paths.File(data)
		if why != "" {
			notes = append(notes, "the paths in "+e.Path+" were not updated: "+why)
		}
		if len(found) == 0 {
			return nil
		}
		for i := range found {
			found[i].In = e.Path
		}
		lines = append(lines, pathmap.Lines(e.Path, data, found)...)
		edits, changed[e.Path] = append(edits, found...), found
		order = append(order, e.Path)
		return nil
	}, nil)
	if err != nil {
		return notes, err
	}
	agreed, err := m.PathUpdates.Agreed(ctx, m.Instance, edits, lines)
	if err != nil || !agreed {
		return notes, err
	}
	for _, path := range order {
		if err := rewrite(root, path, changed[path]); err != nil {
			return notes, fault.Wrap(fault.CannotPlace, err, "cannot update the paths in %s", path)
		}
	}
	return notes, nil
}

// readStaged reads a file up to the size limit for paths.
func readStaged(root *filemeta.Root, e tree.Entry) ([]byte, error) {
	f, err := root.Open(filepath.FromSlash(e.Path))
	if err != nil {
		return nil, fault.Wrap(fault.Unreadable, err, "cannot read %s", e.Path)
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, pathmap.MaxFile+1))
	if err != nil {
		return nil, fault.Wrap(fault.Unreadable, err, "cannot read %s", e.Path)
	}
	return data, nil
}

// rewrite changes a staged file, and keeps its owner, metadata and time.
func rewrite(root *filemeta.Root, path string, edits []pathmap.Edit) error {
	name := filepath.FromSlash(path)
	info, err := root.Lstat(name)
	if err != nil {
		return err
	}
	f, err := root.OpenFile(name, os.O_RDWR, 0)
	if errors.Is(err, os.ErrPermission) {
		if err = root.Chmod(name, info.Mode().Perm()|0o200); err != nil {
			return err
		}
		defer root.Chmod(name, info.Mode().Perm()) //nolint:errcheck // verify compares permissions
		f, err = root.OpenFile(name, os.O_RDWR, 0)
	}
	if err != nil {
		return err
	}
	defer f.Close()
	data, err := io.ReadAll(f)
	if err != nil {
		return err
	}
	now := pathmap.Apply(data, edits)
	if _, err := f.WriteAt(now, 0); err != nil {
		return err
	}
	if err := f.Truncate(int64(len(now))); err != nil {
		return err
	}
	return cmp.Or(f.Sync(), filemeta.SetFileTime(f, info.ModTime()), f.Close())
}
