package place

import (
	"cmp"
	"context"
	"slices"

	"movekit/internal/core/card"
	"movekit/internal/core/item"
	"movekit/internal/core/journal"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
	"movekit/internal/core/tree"
)

// Undoing is the undo of one item's unpack.
type Undoing struct {
	Key     steps.Key
	Out     run.ItemOutcome
	Missing string // where the missing set-aside data was; "" if none is missing
	// RemoveParents removes the folders or keys that unpack created above the item and that are empty now. It is
	// called when all items are undone.
	RemoveParents func()
	target        *item.Target
	undone        *steps.Undone // nil if there is nothing to undo
}

// Close closes the target that PlanUndo opened.
func (u *Undoing) Close() {
	if u.target != nil {
		u.target.Close()
	}
}

// PlanUndo makes the plan to undo an item's unpack. It changes nothing.
func (m *Placer) PlanUndo(ctx context.Context, c *card.Card, it *steps.Item) (*Undoing, error) {
	u := &Undoing{Key: it.Key, Out: run.ItemOutcome{Item: it.Key.Item, User: it.Key.User, Did: "nothing", Files: it.Sealed.Files, Bytes: it.Sealed.Bytes}}
	begun := it.Placing != nil && it.Undoing == nil
	if it.Placed == nil && it.Earlier == nil && !begun {
		return u, nil
	}
	t, err := m.Kinds.Target(ctx, m.Run, c, it, m.Choices)
	if err != nil {
		return u, err
	}
	u.target = &t
	if begun {
		if begun, err = renamed(ctx, t, it.Placing.Plan); err != nil {
			return u, err
		}
		if begun {
			u.Out.Did = "unfinished"
			return u, nil
		}
	}
	if it.Placed == nil && it.Earlier == nil {
		return u, nil
	}
	was := cmp.Or(t.InKit.Placed, t.InKit.Earlier)
	u.Out.To, u.RemoveParents = was.To, func() { parentsOf(t).RemoveParents(was.Parents) }
	policy := tree.Policy(was.Policy)
	if was.Same || policy == tree.Skip || policy == tree.Replace {
		u.Out.Did = map[bool]string{true: "was here", false: "not undone"}[was.Same]
		return u, nil
	}
	if u.undone = t.InKit.Undoing; u.undone == nil || u.undone.Plan == nil {
		if u.undone, err = m.newUndo(ctx, t, was); err != nil {
			return u, err
		}
	}
	// The set-aside data must exist before anything is moved.
	for _, op := range u.undone.Plan.Left() {
		if op.Do != steps.MoveIn {
			continue
		}
		there, err := t.Exists(ctx, op.From)
		if err == nil && !there && op == u.undone.Plan.Left()[0] { // all or some of it may be back already
			var is item.Presence
			is, err = t.Names.State(ctx, op.To, op.From, op.Part)
			there = is != item.Neither
		}
		if err != nil || there {
			return u, err
		}
		u.Missing = op.From
	}
	return u, nil
}

// renamed reports whether an interrupted unpack may have renamed data. Without that there is nothing to
// complete or to undo: another run or somebody else may have put data in the place meanwhile.
func renamed(ctx context.Context, t item.Target, p *steps.Plan) (bool, error) {
	if t.AtRest() || p == nil || p.At > 0 || len(p.Ops) == 0 || p.Ops[0].Do == steps.MergeIn {
		return true, nil
	}
	if op := p.Ops[0]; op.Do == steps.MoveOut {
		is, err := t.Names.State(ctx, op.From, op.To, op.Part)
		return is != item.AtHome && is != item.Neither, err
	}
	op := p.Ops[0]
	is, err := t.Names.State(ctx, op.To, op.From, op.Part)
	if err != nil || is != item.AtHome {
		return is == item.Between, err
	}
	return t.Mover.Same(ctx, op.To)
}

// newUndo plans to move the data in place to a spare, to move the set-aside data back, and then to
// delete the spare if it is unmodified.
func (m *Placer) newUndo(ctx context.Context, t item.Target, was *steps.Placed) (*steps.Undone, error) {
	unedited := steps.Op{If: steps.IfSame}
	switch {
	case t.InKit.Placed == nil: // another version was sealed since
		unedited = steps.Op{If: steps.IfUnedited, Stamp: was.Stamp}
	case added(t, was):
		unedited = steps.Op{If: steps.IfUnedited, Stamp: was.Stamp}
	}
	u := &steps.Undone{From: was.To, Back: was.Aside}
	if t.AtRest() {
		unedited.Do, unedited.From = steps.Delete, was.To
		u.Plan = &steps.Plan{Ops: []steps.Op{unedited}}
		return u, nil
	}
	var err error
	if u.Kept, err = t.Names.Free(ctx, was.To, item.ForAside); err != nil {
		return u, err
	}
	shared := false
	if t.Shared != nil {
		shared, err = t.Shared(ctx, was.To, false)
	}
	u.Plan = &steps.Plan{Ops: steps.UndoPlan(was.To, u.Kept, was.Aside, shared, unedited)}
	return u, err
}

// Undo undoes the unpack of one item. If its set-aside data is missing, the user has chosen to
// continue without it.
func (m *Placer) Undo(ctx context.Context, u *Undoing) error {
	if u.undone == nil {
		return nil
	}
	unlock, err := m.LockPlace(u.target.Path)
	if err != nil {
		return err
	}
	defer unlock()
	done := *u.undone
	if u.Missing != "" { // the user chose to continue without it; existing files that were added stay in the spare
		done.Plan.Ops = slices.DeleteFunc(done.Plan.Ops, func(op steps.Op) bool {
			return op.Do == steps.MoveIn || op.If == steps.IfUnedited
		})
		done.Back = ""
	}
	save := func() error { return m.recordUndone(journal.EventUndoing, u.Key, done) }
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
	if done.Kept == "" && u.Missing != "" {
		there, err := u.target.Exists(ctx, u.undone.Kept)
		if err != nil {
			return err
		}
		if there {
			done.Kept = u.undone.Kept
		}
	}
	u.Out.Did, u.Out.Back, u.Out.Aside = "undone", done.Back, done.Kept
	u.Out.Notes = append(u.Out.Notes, m.notes(result)...)
	return m.recordUndone(journal.EventUndone, u.Key, done)
}

// recordUndone records an undo in the computer's own terms.
func (m *Placer) recordUndone(event string, key steps.Key, u steps.Undone) error {
	spoken, err := u.Mapped(m.spoken)
	if err != nil {
		return err
	}
	return m.Record(event, key, spoken)
}
