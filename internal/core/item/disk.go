package item

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync/atomic"
	"syscall"
	"time"

	"movekit/internal/core/fault"
	"movekit/internal/core/machine"
	"movekit/internal/core/marks"
	"movekit/internal/core/seal"
	"movekit/internal/core/steps"
	"movekit/internal/core/tree"
)

// Disk is what movers of items on this computer's own disks have in common.
type Disk struct{ *One }

// Source is how the item's files are walked; single says that it is one file.
func (o *One) Source(single bool) tree.Source {
	s := tree.Source{Root: o.Path, Single: single, Include: o.Card.Include, Skip: o.Card.Skip, Fold: o.Computer.System().Folds(), Compose: o.Computer.System() == machine.MacOS}
	if real, err := filepath.EvalSymlinks(o.Path); err == nil {
		s.Root = real
	}
	return s
}

// Close has nothing to end.
func (Disk) Close() {}

// Check has nothing to see.
func (Disk) Check() error { return nil }

// Unfit returns nothing.
func (Disk) Unfit(context.Context) ([]string, error) { return nil, nil }

// Lacks says why nothing can be put at the path: before anything is written.
func (d Disk) Lacks(context.Context) ([]string, error) {
	at := filepath.Dir(d.Path)
	for {
		info, err := os.Stat(at)
		if err == nil && !info.IsDir() {
			return []string{fmt.Sprintf("%s is a file, and %s needs a folder there", at, d.Label())}, nil
		}
		if err == nil || filepath.Dir(at) == at {
			break
		}
		at = filepath.Dir(at)
	}
	if err := marks.Writable(at); err != nil {
		return []string{fmt.Sprintf("%s cannot be written to: %v", at, Reason(err))}, nil
	}
	if there, err := Waits(d.Path); err != nil || !there {
		return nil, err
	}
	if machine.IsMount(d.Path) {
		return []string{fmt.Sprintf("%s is a disk of its own, which cannot be set aside: mount it elsewhere, or let the card name a folder in it", d.Path)}, nil
	}
	return nil, nil
}

// Volume is the path.
func (d Disk) Volume(context.Context) string { return d.Path }

// Ask fails: there is nothing to ask.
func (d Disk) Ask(context.Context, string) (int64, error) {
	return 0, fault.New(fault.BadCard, "%s is no database that could be asked", d.Label())
}

// Locate finds the path that the card gives, or the app's settings tell.
func (d Disk) Locate(ctx context.Context) (err error) {
	if d.One.Path, err = d.locate(ctx); err != nil {
		return err
	}
	if info, err := os.Lstat(d.One.Path); err == nil && info.Mode()&os.ModeSymlink != 0 {
		// The data goes where the link leads, and the link stays.
		if real, err := filepath.EvalSymlinks(d.One.Path); err == nil {
			d.One.Path = real
		}
	}
	return nil
}

// Where is the real path.
func (d Disk) Where() (spoken, disk string) { return machine.Spoken(d.Computer, d.Path), d.Path }

// There reports whether something has the path.
func (d Disk) There(context.Context) (bool, error) {
	there, err := machine.Exists(d.Path)
	if err != nil {
		err = fault.Wrap(fault.Unreadable, err, "cannot look at %s", d.Path)
	}
	return there, err
}

// Beside is a free name beside the path.
func (d Disk) Beside() string { return tree.BothName(d.Path, d.Run.Manifest.Old.Name) }

// Aside is a free name beside the path.
func (d Disk) Aside(context.Context, string) (string, error) {
	return tree.AsideName(d.Path, d.Run.Now()), nil
}

// Waits reports whether what was set aside under a name is still there; "" stands
// for nothing.
func Waits(back string) (bool, error) {
	if back == "" {
		return false, nil
	}
	there, err := machine.Exists(back)
	if err != nil {
		err = fault.Wrap(fault.Unreadable, err, "cannot look at %s", back)
	}
	return there, err
}

// Rename renames a file or folder.
func Rename(from, to string) error {
	err := os.Rename(from, to)
	if info, lerr := os.Lstat(from); err != nil && lerr == nil && info.IsDir() && errors.Is(err, syscall.EXDEV) {
		// A folder of a lower layer (overlay file systems) is renamed file by file.
		err = tree.Carry(context.Background(), tree.Source{Root: from, Marked: true, Whole: true}, to, nil)
	}
	if err != nil {
		return fault.Wrap(fault.CannotPlace, err, "cannot rename")
	}
	return nil
}

// ErrSilent says that a place did not answer in time.
var ErrSilent = errors.New("it did not answer in time")

// Watched runs what looks at a real path. On a network file system it is given
// up, and left to itself, when it was silent for the time limit.
func Watched(path string, limit time.Duration, look func(alive func()) error) error {
	if !machine.Remote(path) {
		return look(func() {})
	}
	return watch(limit, look)
}

func watch(limit time.Duration, look func(alive func()) error) error {
	var last atomic.Int64
	start := time.Now()
	done := make(chan error, 1)
	go func() { done <- look(func() { last.Store(int64(time.Since(start))) }) }()
	tick := time.NewTicker(limit / 4)
	defer tick.Stop()
	for {
		select {
		case err := <-done:
			return err
		case <-tick.C:
			if time.Since(start)-time.Duration(last.Load()) > limit {
				return ErrSilent
			}
		}
	}
}

// Stamp notes what changes when somebody works in what is there.
func Stamp(ctx context.Context, m Mover, done *steps.Placed) error {
	is, err := m.Look(ctx, Looking{Again: true})
	if err == nil {
		done.Stamp = is.Stamp
	}
	return err
}

// Stamped reports whether what is there still has that stamp.
func Stamped(ctx context.Context, m Mover, stamp string) (bool, error) {
	is, err := m.Look(ctx, Looking{Again: true})
	return err == nil && is.Stamp == stamp, err
}

// Ours reports whether nobody has worked in what was put there: it is what is sealed, or,
// where something else was sealed since, still as it was then.
func (o *One) Ours(ctx context.Context, m Mover) (bool, error) {
	if was := o.Known.Earlier; o.Known.Placed == nil && was != nil {
		return m.Untouched(ctx, was.Stamp)
	}
	return m.Same(ctx)
}

// RenameWith gives what is at the path another name, with the files that belong to
// it; sides is as for Withdraw.
func (d Disk) RenameWith(to string, sides func(string) []string) error {
	there, err := Waits(d.Path)
	if err != nil || !there {
		return err
	}
	taken, err := Waits(to)
	if err == nil && taken {
		err = fault.New(fault.CannotPlace, "something has the name %s already", to)
	}
	if err == nil {
		err = renameWith(d.Path, to, sides)
	}
	if err != nil {
		return err
	}
	return seal.SyncDir(filepath.Dir(to))
}

// RemoveWith removes what is at the path, with the files that belong to it.
func (d Disk) RemoveWith(sides func(string) []string) error {
	names := []string{d.Path}
	if sides != nil {
		names = append(sides(d.Path), d.Path)
	}
	for _, name := range names {
		if err := tree.RemoveTree(name); err != nil {
			return fault.Wrap(fault.CannotPlace, err, "cannot remove %s", name)
		}
	}
	return seal.SyncDir(filepath.Dir(d.Path))
}

// Withdraw takes back what was put at a path: it is removed where it is the same,
// else kept under another name; what was set aside gets its name back. sides are
// the files that belong to one, which go first, so that a run which is
// interrupted finds the rest; nil where there are none.
func (d Disk) Withdraw(ctx context.Context, u steps.Undone, same func() (bool, error), sides func(string) []string) (kept bool, err error) {
	there, err := d.There(ctx)
	if err != nil {
		return false, err
	}
	waits, err := Waits(u.Back)
	if err != nil {
		return false, err
	}
	if there && (u.Back == "" || waits) {
		same, err := same()
		if err != nil {
			return false, err
		}
		kept = !same
		if err := d.clear(u, same, sides); err != nil {
			return kept, err
		}
	}
	if waits {
		if err := renameWith(u.Back, u.From, sides); err != nil {
			return kept, err
		}
	}
	if err := tree.RemoveTree(u.From + tree.StageEnding); err != nil {
		return kept, fault.Wrap(fault.CannotPlace, err, "cannot remove %s", u.From+tree.StageEnding)
	}
	return kept, seal.SyncDir(filepath.Dir(u.From))
}

// clear makes the path free: what is the same as what was put there goes under a
// name from which it is removed.
func (d Disk) clear(u steps.Undone, same bool, sides func(string) []string) error {
	if !same {
		return renameWith(u.From, u.Kept, sides)
	}
	stage := u.From + tree.StageEnding
	if err := tree.RemoveTree(stage); err != nil {
		return fault.Wrap(fault.CannotPlace, err, "cannot remove %s", stage)
	}
	if sides != nil {
		for _, side := range sides(u.From) {
			if err := os.Remove(side); err != nil {
				return fault.Wrap(fault.CannotPlace, err, "cannot remove %s", side)
			}
		}
	}
	return Rename(u.From, stage)
}

// renameWith renames a path with what belongs to it.
func renameWith(from, to string, sides func(string) []string) error {
	var names []string
	if sides != nil {
		names = sides(from)
	}
	for _, name := range append(names, from) {
		if err := Rename(name, to+name[len(from):]); err != nil {
			return err
		}
	}
	return nil
}
