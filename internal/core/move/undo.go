package move

import (
	"cmp"
	"context"
	"errors"
	"slices"

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
	f.Use, f.Undo = &steps.UseFacts{}, &steps.UndoFacts{}
	var err error
	if f.Use.Running, err = m.running(ctx, c); err != nil {
		return err
	}
	for _, lic := range m.State.LicencesOf(c.Name) {
		if lic.Answers[m.Self().ID] > 0 && lic.New == licence.Active {
			f.Undo.ActiveHere = append(f.Undo.ActiveHere, lic.Name)
		}
	}
	items := m.State.AppItems(c.Name)
	var undoing []*undoing
	defer func() {
		for _, u := range undoing {
			u.close()
		}
	}()
	// In reverse order, because an item may be within another.
	for _, it := range slices.Backward(items) {
		if !m.Picked(it.Key) {
			continue
		}
		if it.Removed != nil && it.Placed != nil {
			f.Undo.OnlyHere = append(f.Undo.OnlyHere, item.Label(it.Key))
		}
		u, err := m.planUndo(ctx, c, it)
		if err != nil {
			return fault.Wrap(fault.CannotPlace, err, "%s of %s is not taken back", item.Label(it.Key), c.Title)
		}
		undoing = append(undoing, u)
		if u.missing != "" {
			f.Undo.AsideGone = append(f.Undo.AsideGone, item.Label(it.Key)+" (it was at "+machine.Spoken(m.Computer, u.missing)+")")
		}
	}
	if on, err := m.Check(steps.Undo, c, f, o); err != nil || !on {
		return err
	}
	for _, u := range undoing {
		if err := m.undoItem(ctx, u); err != nil {
			return fault.Wrap(fault.CannotPlace, err, "%s of %s is not taken back", item.Label(u.key), c.Title)
		}
		o.Items = append(o.Items, u.out)
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

// undoing is the undoing of one item's unpack.
type undoing struct {
	key     steps.Key
	target  *item.Target
	out     run.ItemOutcome
	undone  *steps.Undone // nil if there is nothing to undo
	missing string        // where the set-aside data was, that is no longer there
}

func (u *undoing) close() {
	if u.target != nil {
		u.target.Close()
	}
}

// planUndo decides how to undo an item's unpack. It changes nothing.
func (m *Move) planUndo(ctx context.Context, c *card.Card, it *steps.Item) (*undoing, error) {
	u := &undoing{key: it.Key, out: run.ItemOutcome{Item: it.Key.Item, User: it.Key.User, Did: "nothing", Files: it.Sealed.Files, Bytes: it.Sealed.Bytes}}
	if it.Placing != nil && it.Undoing == nil {
		u.out.Did = "unfinished"
		return u, nil
	}
	if it.Placed == nil && it.Earlier == nil {
		return u, nil
	}
	t, err := m.Kinds.Target(ctx, m.Run, c, it, m.say())
	if err != nil {
		return u, err
	}
	u.target = &t
	was := cmp.Or(t.Known.Placed, t.Known.Earlier)
	u.out.To = was.To
	policy := tree.Policy(was.Policy)
	if was.Same || policy == tree.Skip || policy == tree.Replace {
		u.out.Did = map[bool]string{true: "was here", false: "not taken back"}[was.Same]
		return u, nil
	}
	if u.undone = t.Known.Undoing; u.undone == nil || u.undone.Plan == nil {
		if u.undone, err = m.newUndo(ctx, t, was); err != nil {
			return u, err
		}
	}
	// The data that was set aside must still be there, before anything is moved.
	for _, op := range u.undone.Plan.Left() {
		if op.Do != steps.MoveIn {
			continue
		}
		is, err := t.Names.State(ctx, op.To, op.From, op.Part)
		begun := op == u.undone.Plan.Left()[0] // then what is at home is the data that was set aside
		if err != nil || is == item.AtSpare || is == item.Both || is == item.Between || is == item.AtHome && begun {
			return u, err
		}
		u.missing = op.From
	}
	return u, nil
}

// newUndo plans to move what is in place to a spare, to move the data that was set aside back, and then to delete
// the spare if nobody has edited it.
func (m *Move) newUndo(ctx context.Context, t item.Target, was *steps.Placed) (*steps.Undone, error) {
	unedited := steps.Op{If: steps.IfSame}
	switch {
	case t.Known.Placed == nil: // something else is sealed since
		unedited = steps.Op{If: steps.IfUnedited, Stamp: was.Stamp}
	case added(t, was):
		unedited = steps.Op{If: steps.IfUnedited, Stamp: was.Stamp}
	}
	u := &steps.Undone{From: was.To, Back: was.Aside}
	var err error
	if u.Kept, err = t.Names.Free(ctx, was.To, item.ForAside); errors.Is(err, item.ErrFixed) {
		unedited.Do, unedited.From = steps.Delete, was.To
		u.Plan = &steps.Plan{Ops: []steps.Op{unedited}}
		return u, nil
	}
	if err != nil {
		return u, err
	}
	shared := false
	if t.Shared != nil {
		shared, err = t.Shared(ctx, was.To, false)
	}
	u.Plan = &steps.Plan{Ops: steps.UndoPlan(was.To, u.Kept, was.Aside, shared, unedited)}
	return u, err
}

func (m *Move) undoItem(ctx context.Context, u *undoing) error {
	if u.undone == nil {
		return nil
	}
	done := *u.undone
	if u.missing != "" { // the user has said to go on without it; existing files that were added stay in the spare
		done.Plan.Ops = slices.DeleteFunc(done.Plan.Ops, func(op steps.Op) bool {
			return op.Do == steps.MoveIn || op.If == steps.IfUnedited
		})
		done.Back = ""
	}
	save := func() error { return m.recordUndone(journal.EventUndoing, u.key, done) }
	if err := save(); err != nil {
		return err
	}
	result, err := u.target.CarryOut(ctx, done.Plan, nil, save)
	if err != nil {
		return err
	}
	done.Kept, done.Plan = result.Kept, nil
	if done.Kept == done.From {
		done.Kept = ""
	}
	if done.Kept == "" && u.missing != "" {
		there, err := u.target.Exists(ctx, u.undone.Kept)
		if err != nil {
			return err
		}
		if there {
			done.Kept = u.undone.Kept
		}
	}
	u.out.Did, u.out.Back, u.out.Aside = "taken back", done.Back, done.Kept
	u.out.Notes = append(u.out.Notes, result.Notes...)
	return m.recordUndone(journal.EventUndone, u.key, done)
}

// recordUndone records an item's undoing in the terms of the computer itself.
func (m *Move) recordUndone(event string, key steps.Key, u steps.Undone) error {
	spoken, err := u.Mapped(m.spoken)
	if err != nil {
		return err
	}
	return m.Record(event, key, spoken)
}
