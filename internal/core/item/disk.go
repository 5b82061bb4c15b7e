package item

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync/atomic"
	"time"

	"movekit/internal/core/fault"
	"movekit/internal/core/filemeta"
	"movekit/internal/core/machine"
	"movekit/internal/core/steps"
	"movekit/internal/core/tree"
)

// Source is how the item's files are walked; single says that it is one file.
func (o *Instance) Source(single bool) tree.Source {
	s := tree.Source{Root: o.Path, Single: single, Include: o.Item.Include, Skip: o.Item.Skip, Fold: o.Computer.System().Folds(), Compose: o.Computer.System() == machine.MacOS}
	if real, err := filepath.EvalSymlinks(o.Path); err == nil {
		s.Root = real
	}
	return s
}

// LacksOnDisk returns why nothing can be put at the item's path. It writes nothing.
func (o *Instance) LacksOnDisk() ([]string, error) {
	at := filepath.Dir(o.Path)
	for {
		info, err := os.Stat(at)
		if err == nil && !info.IsDir() {
			return []string{fmt.Sprintf("%s is a file, and %s needs a folder there", at, o.Label())}, nil
		}
		if err == nil || filepath.Dir(at) == at {
			break
		}
		at = filepath.Dir(at)
	}
	if err := filemeta.Writable(at); err != nil {
		return []string{fmt.Sprintf("%s cannot be written to: %v", at, Reason(err))}, nil
	}
	if there, err := OnDisk(o.Path); err != nil || !there {
		return nil, err
	}
	if machine.IsMount(o.Path) {
		return []string{fmt.Sprintf("%s is a disk of its own, which cannot be set aside: mount it elsewhere, or let the card name a folder in it", o.Path)}, nil
	}
	return nil, nil
}

// LocateOnDisk sets o.Path to the path that the card gives, or the app's settings. A link is followed: the data
// goes where the link leads, and the link stays.
func (o *Instance) LocateOnDisk(ctx context.Context) (err error) {
	if o.Path, err = o.locate(ctx); err != nil {
		return err
	}
	if info, err := os.Lstat(o.Path); err == nil && info.Mode()&os.ModeSymlink != 0 {
		if real, err := filepath.EvalSymlinks(o.Path); err == nil {
			o.Path = real
		}
	}
	return nil
}

// FreeOnDisk returns a free name beside a path.
func (o *Instance) FreeOnDisk(path string, use Use) (string, error) {
	switch use {
	case ForStage:
		return path + tree.StageEnding, nil
	case ForBeside:
		return tree.BothName(path, o.Run.Manifest.Old.Name)
	}
	return tree.AsideName(path, o.Run.Now())
}

// At returns a copy of o with another path.
func (o *Instance) At(path string) *Instance {
	at := *o
	at.Path = path
	return &at
}

// OnDisk reports whether something has a path. "" is a path that nothing has.
func OnDisk(path string) (bool, error) {
	if path == "" {
		return false, nil
	}
	there, err := machine.Exists(path)
	if err != nil {
		err = fault.Wrap(fault.Unreadable, err, "cannot look at %s", path)
	}
	return there, err
}

// PairOnDisk returns which of two paths exist.
func PairOnDisk(home, spare string) (Presence, error) {
	h, err := OnDisk(home)
	s, serr := OnDisk(spare)
	return PresenceOf(h, s), cmp.Or(err, serr)
}

// PresenceOf returns the presence of data under a home and a spare name.
func PresenceOf(home, spare bool) Presence {
	switch {
	case home && spare:
		return Both
	case home:
		return AtHome
	case spare:
		return AtSpare
	}
	return Neither
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

// MarkByLook records the stamp that a look at the item returns.
func MarkByLook(ctx context.Context, i Inspector, done *steps.Placed) error {
	is, err := i.Look(ctx, Options{Again: true})
	if err == nil {
		done.Stamp = is.Stamp
	}
	return err
}

// HasStamp reports whether a look at the item returns the stamp.
func HasStamp(ctx context.Context, i Inspector, stamp string) (bool, error) {
	is, err := i.Look(ctx, Options{Again: true})
	return err == nil && is.Stamp == stamp, err
}

// Doom renames a file or folder at a spare to spare+Doomed, from which it is deleted, if the condition of op is true of
// it, or if an interrupted run did that. ours is false if something is there that must stay.
func Doom(ctx context.Context, m Mover, spare string, op steps.Op) (there, ours bool, err error) {
	if begun, err := OnDisk(spare + Doomed); err != nil || begun {
		return begun, begun, err
	}
	if there, err := OnDisk(spare); err != nil || !there {
		return false, false, err
	}
	if ours, err := Holds(ctx, m, spare, op); err != nil || !ours {
		return true, false, err
	}
	return true, true, tree.Rename(spare, spare+Doomed)
}

// Doomed is the suffix of what is being deleted.
const Doomed = tree.StageEnding

// Holds reports whether the condition of an operation that deletes data is true of what is at a name.
func Holds(ctx context.Context, m Mover, at string, op steps.Op) (bool, error) {
	switch op.If {
	case steps.IfSame:
		return m.Same(ctx, at)
	case steps.IfUnedited:
		return m.Unedited(ctx, at, op.Stamp)
	}
	return true, nil
}
