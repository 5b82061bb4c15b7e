package sqlite

import (
	"cmp"
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"

	"movekit/internal/core/fault"
	"movekit/internal/core/filemeta"
	"movekit/internal/core/item"
	"movekit/internal/core/seal"
	"movekit/internal/core/spare"
	"movekit/internal/core/steps"
	"movekit/internal/core/tree"
)

// names renames databases. A log or journal has data that is not in the database file yet, so after
// an interruption an app must never find the database without it. Side files are therefore first
// linked, or copied, to the new name. Then the database file is renamed, and finally the old side
// files are removed.
type names struct{ *item.Instance }

// State returns which of two paths have a database.
func (n names) State(_ context.Context, home, spare string, _ bool) (item.Presence, error) {
	h, herr := item.OnDisk(home)
	s, serr := item.OnDisk(spare)
	if err := cmp.Or(herr, serr); err != nil || spare == "" {
		return item.PresenceOf(h, false), err
	}
	switch {
	case h && !s && len(SideFiles(spare)) > 0, s && !h && len(SideFiles(home)) > 0:
		return item.Between, nil
	}
	gone, err := item.OnDisk(spare + item.DeleteEnding)
	if gone {
		return item.Between, err
	}
	return item.PresenceOf(h, s), err
}

// Ours reports whether a path is home or derived from it.
func (n names) Ours(home, path string) bool { return n.OursOnDisk(home, path) }

// Free returns an unused name beside a path.
func (n names) Free(_ context.Context, home string, use item.Use) (string, error) {
	return n.FreeOnDisk(home, use)
}

// MoveOut renames a database to a spare name.
func (n names) MoveOut(_ context.Context, home, spare string, _ bool) error {
	return n.rename(home, spare)
}

// MoveIn renames a spare database.
func (n names) MoveIn(_ context.Context, spare, home string, _ bool) error {
	if err := n.MakeParent(home); err != nil {
		return err
	}
	return n.rename(spare, home)
}

func (n names) rename(from, to string) error {
	there, err := item.OnDisk(from)
	if err != nil {
		return err
	}
	if there {
		if err := n.clearSides(from, to); err != nil {
			return err
		}
		for _, side := range SideFiles(from) {
			if err := linkOrCopy(side, to+side[len(from):]); err != nil {
				return fault.Wrap(fault.CannotPlace, err, "cannot copy %s to %s", side, to+side[len(from):])
			}
		}
		if err := tree.Rename(from, to); err != nil {
			return err
		}
		if err := seal.SyncDir(filepath.Dir(to)); err != nil {
			return err
		}
	}
	for _, side := range SideFiles(from) {
		if err := os.Remove(side); err != nil {
			return fault.Wrap(fault.CannotPlace, err, "cannot remove %s", side)
		}
	}
	return seal.SyncDir(filepath.Dir(from))
}

// clearSides removes side files that an interrupted run linked or copied to the new name. Any other
// side file there would corrupt the database, so it is set aside.
func (n names) clearSides(from, to string) error {
	for _, side := range SideFiles(to) {
		var err error
		if sameFile(side, from+side[len(to):]) {
			err = os.Remove(side)
		} else {
			var aside string
			if aside, err = spare.Aside(to, n.Run.Now()); err == nil {
				err = os.Rename(side, aside+side[len(to):])
			}
		}
		if err != nil {
			return fault.Wrap(fault.CannotPlace, err, "cannot set %s aside", side)
		}
	}
	return nil
}

// sameFile reports whether two names refer to one file, or to copies made by linkOrCopy.
func sameFile(a, b string) bool {
	x, err := os.Lstat(a)
	y, berr := os.Lstat(b)
	return err == nil && berr == nil && (os.SameFile(x, y) || x.Size() == y.Size() && x.ModTime().Equal(y.ModTime()))
}

// linkOrCopy gives a file a second name. If the file system has no links, it copies the file.
func linkOrCopy(from, to string) error {
	if os.Link(from, to) == nil {
		return nil
	}
	r, err := os.Open(from)
	if err != nil {
		return err
	}
	defer r.Close()
	info, err := r.Stat()
	if err != nil {
		return err
	}
	part := to + spare.StageEnding
	w, err := filemeta.Create(part, info.Mode().Perm())
	if err != nil {
		return err
	}
	_, err = io.Copy(w, r)
	if err := errors.Join(err, w.Sync(), filemeta.SetFileTime(w, info.ModTime()), w.Close()); err != nil {
		return err
	}
	return os.Rename(part, to)
}

// Delete deletes a spare database.
func (n names) Delete(ctx context.Context, spare string, op steps.Op) (left bool, err error) {
	there, ours, err := item.MoveToDelete(ctx, mover(n), spare, op)
	if err != nil || !there || !ours {
		return there, err
	}
	for _, name := range append(SideFiles(spare), spare+item.DeleteEnding) {
		if err := os.Remove(name); err != nil {
			return true, fault.Wrap(fault.CannotPlace, err, "cannot remove %s", name)
		}
	}
	return false, seal.SyncDir(filepath.Dir(spare))
}
