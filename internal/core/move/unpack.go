package move

import (
	"context"
	"fmt"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/item"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
	"movekit/internal/core/survey"
	"movekit/internal/core/tree"
)

// Unpack puts every sealed item of the chosen apps in its place. The kit is
// inspected first. What is the same already is left alone.
func (m *Move) Unpack(ctx context.Context) ([]*run.Outcome, error) {
	if err := m.Kit.Tidy(); err != nil {
		return nil, err
	}
	progress := m.Begin(steps.Key{}, "inspecting the kit", m.Kit.TotalBytes(m.Apps))
	damage, err := m.Kit.Inspect(ctx, m.Apps, progress)
	if err != nil {
		return nil, err
	}
	var damaged []string
	for _, d := range damage {
		damaged = append(damaged, d.File+": "+d.What)
	}
	m.tellAll(func(it *steps.Item) bool { return it.Placed == nil })
	return m.Each(ctx, func(ctx context.Context, c *card.Card, o *run.Outcome) error {
		return m.unpackApp(ctx, c, o, damaged)
	})
}

func (m *Move) unpackApp(ctx context.Context, c *card.Card, o *run.Outcome, damage []string) error {
	f := m.Facts(c)
	f.KitDamage, f.StillHeld = damage, m.Licences().StillHeld(c)
	var targets []item.Target
	var err error
	if f.Packed {
		if targets, f.NoUser, err = m.targets(ctx, c); err != nil {
			return err
		}
		defer func() { item.Close(targets) }()
		f.OldVersion, f.OldEdition = m.State.Packed[c.Name].Version, m.State.Packed[c.Name].Edition
	}
	if c.Version != nil {
		f.Rule = c.Version.Rule
	}
	here, err := m.For(c).Version(ctx, c)
	if err != nil {
		return err
	}
	f.NewVersion, f.NewEdition, f.Withheld, f.Covered = here.Value, here.Edition, here.Withheld, covered(c)
	required, err := m.looker(c, false).Requires(c)
	if err != nil {
		return err
	}
	for _, r := range required {
		if !r.Here {
			f.Requires = append(f.Requires, r.Name)
		}
	}
	if f.Running, err = m.running(ctx, c); err != nil {
		return err
	}
	space := volumes{}
	for _, t := range targets {
		for _, name := range t.Strangers() {
			f.NoUser = append(f.NoUser, name+" (to whom "+t.Label()+" belongs)")
		}
		if err := ready(ctx, t, &f, space); err != nil {
			return err
		}
	}
	if t := space.tightest(); t != nil {
		f.Need, f.Free = t.need, t.free
	}
	if f.Open, err = m.held(ctx, targets); err != nil {
		return err
	}
	if on, err := m.Check(steps.Unpack, c, f, o); err != nil || !on {
		return err
	}
	if m.Instead != "" { // what was known of the computer that broke is not of this one
		item.Close(targets)
		if targets, _, err = m.targets(ctx, c); err != nil {
			return err
		}
	}
	if err := m.settle(); err != nil {
		return err
	}
	// Every list is checked before anything is written.
	for _, t := range targets {
		if err := t.Mover.Check(); err != nil {
			return err
		}
	}
	pointing := m.repointing(c, targets)
	for _, t := range targets {
		t.Repointing = pointing
		out, err := m.put(ctx, t)
		if err != nil {
			return fault.Wrap(fault.CannotPlace, err, "%s of %s is not in place", t.Label(), c.Title)
		}
		o.Items = append(o.Items, out)
	}
	return nil
}

// held says which programs have what is in the way open: it cannot be set aside under
// them.
func (m *Move) held(ctx context.Context, targets []item.Target) (out []string, err error) {
	var paths []string
	for _, t := range targets {
		if _, disk := t.Mover.Where(); disk != "" {
			if there, err := t.Exists(ctx, t.Path); err == nil && there {
				paths = append(paths, disk)
			}
		}
	}
	if len(paths) == 0 {
		return nil, nil
	}
	holders, err := m.Computer.Holding(ctx, paths)
	for _, h := range holders {
		out = append(out, fmt.Sprintf("%s has %s open", survey.ProgramText(h.Program), h.Path))
	}
	return out, err
}

// covered is what the licences of an app cover, by its card.
func covered(c *card.Card) (out []steps.Cover) {
	for _, l := range c.Licences {
		out = append(out, steps.Cover{Version: l.Covers, Edition: l.Edition})
	}
	return out
}

// ready adds what this computer lacks for an item, and the space that it takes.
func ready(ctx context.Context, t item.Target, f *steps.Facts, space volumes) error {
	lacks, err := t.Mover.Lacks(ctx)
	if err != nil {
		return err
	}
	f.Lacks, f.BadNames = append(f.Lacks, lacks.Reasons...), append(f.BadNames, lacks.BadNames...)
	if t.Known.Placed != nil {
		return nil
	}
	volume := t.Mover.Volume(ctx)
	if err := space.add(volume, t.Known.Sealed.Bytes); err != nil {
		return err
	}
	if _, disk := t.Mover.Where(); disk != "" {
		space.reclaim(volume, sizeOf(disk+tree.StageEnding))
	}
	return nil
}
