package files

import (
	"cmp"
	"context"
	"os"

	"movekit/internal/core/fault"
	"movekit/internal/core/item"
	"movekit/internal/core/steps"
	"movekit/internal/core/tree"
)

// Of a folder of which only a part moves (include), that part has no name that could be changed:
// its files are carried into a folder of their own, and back.

// partly reports whether only some of the files of a folder move.
func (m *Mover) partly() bool { return !m.single && len(m.Card.Include) > 0 }

// half is the ending of a folder that a part of another is being carried into, or out of: one
// without it has all of it.
const half = tree.StageEnding

// setAside carries a part of a folder into one of its own, which is there when that is done;
// where nothing is carried, only if it is to tell that.
func (m *Mover) setAside(ctx context.Context, to string, tells bool) error {
	there, err := item.Waits(to)
	if err != nil || there {
		return err
	}
	if tells {
		if err := os.MkdirAll(to+half, 0o755); err != nil {
			return fault.Wrap(fault.CannotPlace, err, "cannot make the folder %s", to+half)
		}
	}
	source := m.source()
	source.Marked = true
	if err := tree.Carry(ctx, source, to+half, nil); err != nil {
		return err
	}
	if there, err = item.Waits(to + half); err != nil || !there {
		return err
	}
	return item.Rename(to+half, to)
}

// setOver gives what an earlier unpack put there another name. Where there is anything else in
// the folder, which the card leaves out, only ours is carried there.
func (m *Mover) setOver(ctx context.Context, to string) error {
	begun, err := item.Waits(to + half)
	if err == nil && !begun && !m.partly() {
		var alone bool
		if alone, err = m.alone(ctx); err == nil && alone {
			return m.RenameWith(to, nil)
		}
	}
	if err != nil {
		return err
	}
	return m.setAside(ctx, to, false)
}

// giveBack carries all of that back, and ends what was begun.
func (m *Mover) giveBack(ctx context.Context, from, to string) error {
	begun, err := item.Waits(from + half)
	if err != nil {
		return err
	}
	if waits, err := item.Waits(from); err != nil || !waits && !begun {
		return err
	}
	if !begun {
		if err := item.Rename(from, from+half); err != nil {
			return err
		}
	}
	return tree.Carry(ctx, tree.Source{Root: from + half, Marked: true, Whole: true}, to, nil)
}

// takePartBack does it file by file.
func (m *Mover) takePartBack(ctx context.Context, u steps.Undone) (kept bool, err error) {
	// Once what was there is on its way back, nothing there is ours.
	waits, err := item.Waits(u.Back)
	if err == nil && (waits || u.Back == "") {
		err = m.clearPart(ctx, u.Kept)
	}
	if err == nil && u.Back != "" {
		err = m.giveBack(ctx, u.Back, u.From)
	}
	if err != nil {
		return false, err
	}
	return item.Waits(u.Kept)
}

// clearPart removes what is ours of a part of a folder, and keeps the rest of it under another name.
func (m *Mover) clearPart(ctx context.Context, keep string) error {
	if there, err := m.There(ctx); err != nil || !there {
		return err
	}
	if was := m.Known.Earlier; m.Known.Placed == nil && was != nil {
		if ours, err := m.Untouched(ctx, was.Stamp); err != nil || ours {
			return cmp.Or(err, tree.Carry(ctx, m.source(), "", nil))
		}
	}
	list, closer, err := m.List()
	if err != nil {
		return err
	}
	defer closer.Close()
	differs := map[string]bool{}
	how := tree.Comparing{EachDiffering: func(path string) { differs[path] = true }}
	if how.Turned, err = m.Turned(); err != nil {
		return err
	}
	if _, err := how.Compare(ctx, m.source(), list); err != nil {
		return err
	}
	if err := tree.Carry(ctx, m.source(), "", func(path string) bool { return !differs[path] }); err != nil {
		return err
	}
	return tree.Carry(ctx, m.source(), keep, nil)
}
