package move

import (
	"cmp"
	"context"
	"errors"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/item"
	"movekit/internal/core/journal"
	"movekit/internal/core/licence"
	"movekit/internal/core/machine"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
	"movekit/internal/core/tree"
)

// Undo takes back what Unpack did for the chosen apps: what was put in place and
// is unchanged is removed, and what was set aside gets its name back. What was
// worked in since is kept under another name.
func (m *Move) Undo(ctx context.Context) ([]*run.Outcome, error) {
	return m.Each(ctx, m.undoApp)
}

func (m *Move) undoApp(ctx context.Context, c *card.Card, o *run.Outcome) error {
	f := m.Facts(c)
	var err error
	if f.Running, err = m.running(ctx, c); err != nil {
		return err
	}
	for _, lic := range m.State.LicencesOf(c.Name) {
		if lic.Answers[m.Self().ID] > 0 && lic.New == licence.Active {
			f.ActiveHere = append(f.ActiveHere, lic.Name)
		}
	}
	items := m.State.AppItems(c.Name)
	for _, it := range items {
		if it.Removed != nil && it.Placed != nil && m.Picked(it.Key) {
			f.OnlyHere = append(f.OnlyHere, item.Label(it.Key))
		}
	}
	if on, err := m.Check(steps.Undo, c, f, o); err != nil || !on {
		return err
	}
	// In the reverse order: an item may lie within another.
	for i := len(items) - 1; i >= 0; i-- {
		if !m.Picked(items[i].Key) {
			continue
		}
		out, err := m.undoItem(ctx, c, items[i])
		if err != nil {
			return fault.Wrap(fault.CannotPlace, err, "%s of %s is not taken back", item.Label(items[i].Key), c.Title)
		}
		o.Items = append(o.Items, out)
	}
	// What was kept within what is kept now went with it.
	for i := range o.Items {
		for _, outer := range o.Items {
			if outer.Aside != "" {
				o.Items[i].Aside = along(o.Items[i].Aside, outer.To, outer.Aside)
			}
		}
	}
	return nil
}

func (m *Move) undoItem(ctx context.Context, c *card.Card, it *steps.Item) (run.ItemOutcome, error) {
	out := run.ItemOutcome{Item: it.Key.Item, User: it.Key.User, Did: "nothing", Files: it.Sealed.Files, Bytes: it.Sealed.Bytes}
	if it.Placing != nil && it.Undoing == nil {
		out.Did = "unfinished"
		return out, nil
	}
	if it.Placed == nil && it.Earlier == nil {
		return out, nil
	}
	t, err := m.Kinds.Target(ctx, m.Run, c, it, m.say())
	if err != nil {
		return out, err
	}
	defer t.Mover.Close()
	was := cmp.Or(t.Known.Placed, t.Known.Earlier)
	out.To = was.To
	policy := tree.Policy(was.Policy)
	if was.Same || policy == tree.Skip || policy == tree.Replace {
		out.Did = map[bool]string{true: "was here", false: "not taken back"}[was.Same]
		return out, nil
	}
	mover := t.Mover.At(was.To)
	u := t.Known.Undoing
	if u == nil {
		u = &steps.Undone{From: was.To, Back: was.Aside}
		if u.Kept, err = mover.Aside(ctx, ""); err != nil && !errors.Is(err, item.ErrFixed) {
			return out, err
		}
		if err := m.recordUndone(journal.EventUndoing, it.Key, *u); err != nil {
			return out, err
		}
	}
	done := *u
	before := "" // what an interrupted run has kept
	if there, err := keeps(ctx, mover, u.Kept); err != nil {
		return out, err
	} else if there {
		before = u.Kept
		if done.Kept, err = mover.Aside(ctx, ""); err != nil {
			return out, err
		}
	}
	kept, err := mover.TakeBack(ctx, done)
	if err != nil {
		return out, err
	}
	out.Did, out.Back = "taken back", u.Back
	switch {
	case !kept:
		done.Kept = before
	case before != "":
		out.Notes = append(out.Notes, "also what was worked in before a run was cut off: "+before)
	}
	out.Aside = done.Kept
	return out, m.recordUndone(journal.EventUndone, it.Key, done)
}

// keeps reports whether something has the name under which it is kept.
func keeps(ctx context.Context, m item.Mover, name string) (bool, error) {
	if name == "" {
		return false, nil
	}
	return m.At(name).There(ctx)
}

// recordUndone records an item's taking back, in the terms of the computer itself.
func (m *Move) recordUndone(event string, key steps.Key, u steps.Undone) error {
	for _, p := range []*string{&u.From, &u.Back, &u.Kept} {
		*p = machine.Spoken(m.Computer, *p)
	}
	return m.Record(event, key, u)
}
