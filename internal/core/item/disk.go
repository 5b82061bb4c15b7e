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
	"movekit/internal/core/spare"
	"movekit/internal/core/steps"
	"movekit/internal/core/tree"
	"movekit/internal/core/volume"
)

// Source returns how to walk the item's files. single means that it is one file.
func (o *Instance) Source(single bool) tree.Source {
	s := tree.Source{Open: o.Shadows.Open, Root: o.Path, Single: single, Include: o.Item.Include, Skip: o.Item.Skip, Fold: o.Computer.System().Folds(), Compose: o.Computer.System() == machine.MacOS}
	if real, err := filepath.EvalSymlinks(o.Path); err == nil {
		s.Root = real
	}
	return s
}

// LacksOnDisk returns why the item cannot be put at its path. It writes nothing.
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
	if volume.IsMount(o.Path) {
		return []string{fmt.Sprintf("%s is a mount point, which cannot be set aside: mount it elsewhere, or use a folder in it", o.Path)}, nil
	}
	return nil, nil
}

// LocateOnDisk sets o.Path to the path from the card or the app's settings. It follows a link, so
// that the data goes to the link's target and the link stays.
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

// FreeOnDisk returns an unused name beside path.
func (o *Instance) FreeOnDisk(path string, use Use) (string, error) {
	switch use {
	case ForStage:
		return o.StageName(path), nil
	case ForBeside:
		return spare.Both(path, o.Run.Manifest.Old.Name)
	}
	return spare.Aside(path, o.Run.Now())
}

// StageName returns the name of an item's stage. It has the kit's id, so that two kits do not stage
// the same item in one folder or key.
func (o *Instance) StageName(home string) string {
	return home + "." + o.Run.Manifest.ID + spare.StageEnding
}

// OursOnDisk reports whether a path is home, or a name that FreeOnDisk derives from home.
func (o *Instance) OursOnDisk(home, path string) bool {
	return spare.Derived(home, path, o.Computer.System().Folds())
}

// At returns a copy of o with another path.
func (o *Instance) At(path string) *Instance {
	at := *o
	at.Path = path
	return &at
}

// OnDisk reports whether path exists. "" does not exist.
func OnDisk(path string) (bool, error) {
	if path == "" {
		return false, nil
	}
	there, err := machine.Exists(path)
	if err != nil {
		err = fault.Wrap(fault.Unreadable, err, "cannot read %s", path)
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

// ErrSilent means that a location did not answer in time.
var ErrSilent = errors.New("it did not answer in time")

// Watched runs look on a real path. On a network file system it gives up when look reports no
// progress within the limit, and abandons the goroutine.
func Watched(path string, limit time.Duration, look func(alive func()) error) error {
	if !volume.Remote(path) {
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

// StampByInspection records the stamp that an inspection of the item returns.
func StampByInspection(ctx context.Context, i Inspector, done *steps.Placed) error {
	is, err := i.Inspect(ctx, Options{Again: true})
	if err == nil {
		done.Stamp = is.Stamp
	}
	return err
}

// HasStamp reports whether an inspection of the item returns the stamp.
func HasStamp(ctx context.Context, i Inspector, stamp string) (bool, error) {
	is, err := i.Inspect(ctx, Options{Again: true})
	return err == nil && is.Stamp == stamp, err
}

// MoveToDelete renames a spare to spare+Doomed, from which it is deleted, if op's condition is met or an
// interrupted run already did that. ours is false if some of the data must stay.
func MoveToDelete(ctx context.Context, m Mover, spare string, op steps.Op) (there, ours bool, err error) {
	if begun, err := OnDisk(spare + DeleteEnding); err != nil || begun {
		return begun, begun, err
	}
	if there, err := OnDisk(spare); err != nil || !there {
		return false, false, err
	}
	if ours, err := MayDelete(ctx, m, spare, op); err != nil || !ours {
		return true, false, err
	}
	return true, true, tree.Rename(spare, spare+DeleteEnding)
}

// DeleteEnding is the suffix of data that is being deleted.
const DeleteEnding = spare.StageEnding

// MayDelete reports whether data meets the condition of an operation that deletes it.
func MayDelete(ctx context.Context, m Mover, at string, op steps.Op) (bool, error) {
	switch op.If {
	case steps.IfSame:
		return m.Same(ctx, at)
	case steps.IfUnedited:
		return m.Unedited(ctx, at, op.Stamp)
	}
	return true, nil
}
