package move

import (
	"context"
	"errors"
	"slices"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/item"
	"movekit/internal/core/kit"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
)

// Unpack puts every sealed item of the selected apps in place. It inspects the kit before it changes anything. Existing data that
// already matches is left as it is.
func (m *Move) Unpack(ctx context.Context) ([]*run.Outcome, error) {
	if err := m.Kit.Tidy(); err != nil {
		return nil, err
	}
	if m.FromState != nil {
		if err := m.UseState(*m.FromState); err != nil {
			return nil, err
		}
	}
	damaged, end, err := m.inspectLate(ctx, m.lateItems())
	if err != nil {
		return nil, err
	}
	defer end()
	m.reportTotal(func(it *steps.Item) bool { return it.Placed == nil })
	return m.Each(ctx, func(ctx context.Context, c *card.Card, o *run.Outcome) error {
		return m.unpackApp(ctx, c, o, append(damaged, m.late.found()...))
	})
}

// unpackApp puts one app in place. Services and schedules that its installer has made here are stopped first; verify starts
// them. If the step does not begin, they are started again.
func (m *Move) unpackApp(ctx context.Context, c *card.Card, o *run.Outcome, damage []kit.Damage) error {
	again, err := m.stopNew(ctx, c)
	if err == nil {
		err = m.unpackItems(ctx, c, o, damage)
	}
	if len(o.Items) == 0 || m.Manifest.Keep {
		err = errors.Join(err, again())
	}
	return err
}

func (m *Move) unpackItems(ctx context.Context, c *card.Card, o *run.Outcome, damage []kit.Damage) error {
	g, err := m.checker().Gather(ctx, c, damage)
	if err != nil {
		return err
	}
	defer func() { item.Close(g.Targets) }()
	if on, err := m.Check(steps.Unpack, c, g.Gates, o); err != nil || !on {
		return err
	}
	for _, u := range g.Unplaced {
		if fault.KindOf(u.Err) != fault.NoUser {
			return u.Err // the gate was overridden, but there is still no destination
		}
	}
	if m.ReplaceReason != "" { // records about the computer that broke do not apply to this one
		item.Close(g.Targets)
		if g.Targets, _, err = m.targets(ctx, c); err != nil {
			return err
		}
	}
	if err := m.recordChoices(); err != nil {
		return err
	}
	// Every list is checked before anything is written.
	for _, t := range g.Targets {
		if err := t.Mover.Check(); err != nil {
			return err
		}
	}
	pointing := m.pathUpdates(c, g.Targets)
	for _, t := range g.Targets {
		t.PathUpdates = pointing
		out, err := m.placer().Put(ctx, t, g.Same[t.Key])
		if late := m.late.found(); err != nil && len(late) > 0 {
			for _, d := range late {
				g.Gates.Kit.Damage = append(g.Gates.Kit.Damage, d.String())
			}
			o.Blocks, err = steps.Check(steps.Unpack, g.Gates)
			o.Blocks = slices.DeleteFunc(o.Blocks, func(b steps.Block) bool { return !b.Firm }) // the others were overridden
			return err
		}
		if err != nil {
			return fault.Wrap(fault.CannotPlace, err, "%s of %s was not put in place", t.Label(), c.Title)
		}
		o.Items = append(o.Items, out)
	}
	return nil
}
