package move

import (
	"context"
	"path"
	"slices"

	"movekit/internal/core/fault"
	"movekit/internal/core/kit"
	"movekit/internal/core/seal"
	"movekit/internal/core/steps"
)

// late is the inspection of sealed files that goes on while items are staged. Nothing is put in place before it is complete.
type late struct {
	done   chan struct{}
	damage []kit.Damage
}

// found returns the damage found so far.
func (l *late) found() []kit.Damage {
	select {
	case <-l.done:
		return l.damage
	default:
		return nil
	}
}

// lateItems returns items whose data can be inspected while it is staged: each file of it is compared with a list, and the list is
// inspected before. Data on other media is inspected before, because the user may have to connect them.
func (m *Move) lateItems() (out []*steps.Item) {
	for _, c := range m.Cards {
		for _, it := range m.State.AppItems(c.Name) {
			if of := c.Item(it.Key.Item); of != nil && m.Selected(it.Key) && (of.Kind.Info().Folder || of.Kind.Info().Plain) {
				out = append(out, it)
			}
		}
	}
	return out
}

// inspectLate inspects the kit without the data of items, whose inspection it starts. end stops that.
func (m *Move) inspectLate(ctx context.Context, items []*steps.Item) (damage []kit.Damage, end func(), err error) {
	files := map[string]int64{}
	for _, it := range items {
		for _, p := range here(it) {
			files[path.Join(kit.SealedDir, it.Key.App, p.Name)] = p.Size
		}
	}
	if damage, err = m.Damage(ctx, m.Apps, files); err != nil {
		return nil, nil, err
	}
	ctx, cancel := context.WithCancel(ctx)
	l := &late{done: make(chan struct{})}
	go func() {
		defer close(l.done)
		for _, it := range items {
			for _, name := range m.Kit.DamagedFiles(ctx, it.Key.App, kit.Sealed{Parts: here(it)}) {
				if ctx.Err() != nil {
					return // a partly read file is not damaged
				}
				d := kit.Damage{File: path.Join(kit.SealedDir, it.Key.App, name), What: "was changed", App: it.Key.App}
				if !slices.ContainsFunc(damage, func(known kit.Damage) bool { return known.File == d.File }) {
					l.damage = append(l.damage, d)
				}
			}
		}
	}()
	m.late = l
	return damage, func() { cancel(); <-l.done }, nil
}

// here returns the files with an item's data that are in the kit's own folder.
func here(it *steps.Item) (out []seal.Part) {
	for _, p := range it.Sealed.Parts {
		if p.Medium == 0 {
			out = append(out, p)
		}
	}
	return out
}

// undamaged waits until everything that this run needs from the kit is inspected, and returns an error if something is damaged.
func (m *Move) undamaged(ctx context.Context) error {
	if m.late != nil {
		if <-m.late.done; len(m.late.damage) > 0 {
			return fault.New(fault.Damaged, "%s", m.late.damage[0])
		}
	}
	return ctx.Err()
}
