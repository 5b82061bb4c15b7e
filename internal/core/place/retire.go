package place

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/item"
	"movekit/internal/core/journal"
	"movekit/internal/core/machine"
	"movekit/internal/core/run"
	"movekit/internal/core/spare"
	"movekit/internal/core/steps"
)

// OldTarget returns an item with its location on the old computer. The caller closes it.
func (m *Placer) OldTarget(ctx context.Context, c *card.Card, it *steps.Item) (item.Target, error) {
	t, err := m.Kinds.Target(ctx, m.Run, c, &steps.Item{Key: it.Key, Sealed: it.Sealed, SealedAt: it.SealedAt}, item.Choices{})
	if err != nil {
		return t, err
	}
	retired := *it
	t.InKit = &retired
	for _, p := range []*steps.Retired{it.Retiring, it.Retired, it.Returning} {
		if p == nil {
			continue
		}
		real, err := p.Mapped(func(name string) (string, error) { return machine.Real(m.Computer, name) })
		if err == nil && t.Names != nil {
			err = t.OwnRetired(real)
		}
		if err != nil {
			t.Close()
			return t, err
		}
	}
	here := func(path string) (string, error) {
		real, err := machine.Real(m.Computer, path)
		return m.TakenAlong(c, real), err
	}
	for _, p := range []**steps.Retired{&retired.Retiring, &retired.Retired, &retired.Returning} {
		if *p != nil {
			if *p, err = (*p).Mapped(here); err != nil {
				t.Close()
				return t, err
			}
		}
	}
	return t, nil
}

// TakenAlong returns the new path of something inside an item that was set aside.
func (m *Placer) TakenAlong(c *card.Card, path string) string {
	for _, other := range m.State.AppItems(c.Name) {
		r := other.Retired
		if r == nil || r.To == "" {
			continue
		}
		from, err := machine.Real(m.Computer, r.From)
		to, terr := machine.Real(m.Computer, r.To)
		if err == nil && terr == nil {
			path = Along(path, from, to)
		}
	}
	return path
}

// Along returns path after a rename of from to to.
func Along(path, from, to string) string {
	if rest, within := strings.CutPrefix(path, from+string(filepath.Separator)); within {
		return filepath.Join(to, rest)
	}
	return path
}

func (m *Placer) recordRetired(event string, key steps.Key, r steps.Retired) error {
	spoken, err := r.Mapped(m.spoken)
	if err != nil {
		return err
	}
	return m.Record(event, key, spoken)
}

// Retire moves one item to a spare name, and leaves a note.
func (m *Placer) Retire(ctx context.Context, t item.Target, out *run.ItemOutcome) error {
	there, err := t.Exists(ctx, t.Path)
	if err == nil && there && (t.InKit.Retired != nil || t.InKit.Retiring != nil) {
		there, err = m.hasData(ctx, t, t.Path)
	}
	if err != nil {
		return err
	}
	r := t.InKit.Retiring
	switch {
	case r != nil && r.Plan != nil: // an interrupted run started this
	case t.InKit.Retired != nil && !there:
		if out.Did, out.Aside = "retired already", t.InKit.Retired.To; out.Aside == "" {
			out.Did = "gone"
		}
		return nil
	case !there:
		out.Did = "gone"
		return m.recordRetired(journal.EventRetired, t.Key, steps.Retired{From: t.Path})
	case t.AtRest():
		out.Did = "fixed"
		return nil
	default:
		if r, err = m.newRetire(ctx, t); err == nil {
			err = m.recordRetired(journal.EventRetiring, t.Key, *r)
		}
		if err != nil {
			return err
		}
	}
	done := *r
	result, err := t.CarryOut(ctx, done.Plan, nil, func() error { return m.recordRetired(journal.EventRetiring, t.Key, done) })
	if err != nil {
		return err
	}
	out.Notes = append(out.Notes, m.notes(result)...)
	if there, err := t.Exists(ctx, done.To); err != nil {
		return err
	} else if !there { // it was deleted after an interrupted run moved it
		out.Did, done.To, done.Plan = "gone", "", nil
		return m.recordRetired(journal.EventRetired, t.Key, done)
	}
	if first := t.InKit.Retired; first != nil && first.To != "" && first.To != done.To {
		// Return moves the first one back. Data created since stays where it is.
		out.Notes = append(out.Notes, "data created at "+machine.DisplayPath(m.Computer, t.Path)+" since then is now at "+machine.DisplayPath(m.Computer, done.To)+"")
		done.To = first.To
	}
	done.Plan = nil
	if done.Note != "" {
		if err := journal.WriteFile(done.Note, []byte(m.moved(t, &done)), 0o644); err != nil {
			return fault.Wrap(fault.CannotPlace, err, "%s is set aside, but the note %s could not be written", t.Label(), done.Note)
		}
	}
	out.Did, out.Aside, out.Note = "retired", done.To, done.Note
	return m.recordRetired(journal.EventRetired, t.Key, done)
}

// newRetire makes the plan to move an item to a spare name.
func (m *Placer) newRetire(ctx context.Context, t item.Target) (*steps.Retired, error) {
	r := &steps.Retired{From: t.Path}
	var err error
	if r.To, err = t.Names.Free(ctx, t.Path, item.ForAside); err != nil {
		return nil, err
	}
	if _, disk := t.Mover.Where(); disk != "" && !m.NoNotes {
		r.Note = spare.Note(t.Path, m.State.New.Name)
	}
	op := steps.Op{Do: steps.MoveOut, From: t.Path, To: r.To}
	if t.Shared != nil {
		op.Part, err = t.Shared(ctx, t.Path, false)
	}
	r.Plan = &steps.Plan{Ops: []steps.Op{op}}
	return r, err
}

// hasData reports whether there is data of the item under a name. A folder that contains only files
// that the card leaves out does not count.
func (m *Placer) hasData(ctx context.Context, t item.Target, name string) (bool, error) {
	at := m.Kinds.Open(t.At(name))
	defer at.Close()
	is, err := at.Inspect(ctx, item.Options{})
	return err == nil && is.Files > 0, err
}

// moved returns the text of the note that is left in an item's place.
func (m *Placer) moved(t item.Target, r *steps.Retired) string {
	to := ""
	if p := m.State.Items[t.Key].Placed; p != nil {
		to = ", at\n  " + p.To
	}
	return spare.NoteHead + fmt.Sprintf(`%s%s

It was packed at %s.
The old copy was set aside at %s. Its name is now
  %s
Do not work in it: changes there do not reach %s.
`, m.State.New.Name, to, steps.Moment(t.InKit.SealedAt), steps.Moment(m.Now()), machine.DisplayPath(m.Computer, r.To), m.State.New.Name)
}

// nothingAside returns why no data of an item is set aside, or "".
func nothingAside(it *steps.Item, r *steps.Retired) string {
	switch {
	case it.Removed != nil:
		return "removed before"
	case r == nil || r.To == "":
		return "was not retired"
	}
	return ""
}

// Return moves one item back to its place. Other data that was created there moves to a spare.
func (m *Placer) Return(ctx context.Context, t item.Target, out *run.ItemOutcome) error {
	r := cmp.Or(t.InKit.Retired, t.InKit.Retiring)
	if out.Did = nothingAside(t.InKit, r); out.Did != "" {
		return nil
	}
	done := *r
	if was := t.InKit.Returning; was != nil && was.Plan != nil {
		done = *was
	} else {
		op := steps.Op{Do: steps.MoveIn, From: r.To, To: r.From}
		var err error
		if t.Shared != nil {
			op.Part, err = t.Shared(ctx, r.From, false)
		}
		if err != nil {
			return err
		}
		done.Plan = &steps.Plan{Ops: []steps.Op{op}}
	}
	op := done.Plan.Ops[len(done.Plan.Ops)-1]
	is, err := t.Names.State(ctx, op.To, op.From, op.Part)
	if err != nil {
		return err
	}
	if is == item.Neither {
		out.Did = "gone"
		return nil
	}
	result, err := t.CarryOut(ctx, done.Plan, nil, func() error { return m.recordRetired(journal.EventReturning, t.Key, done) })
	if err != nil {
		return err
	}
	for _, op := range done.Plan.Ops { // including those of an interrupted run
		if op.Do != steps.MoveOut {
			continue
		}
		if there, err := t.Exists(ctx, op.To); err != nil {
			return err
		} else if there {
			out.Aside = op.To
		}
	}
	if len(result.Meanwhile) > 1 {
		out.Notes = append(out.Notes, m.notes(result)...)
	}
	if r.Note != "" {
		if err := os.Remove(r.Note); err != nil && !os.IsNotExist(err) {
			return fault.Wrap(fault.CannotPlace, err, "cannot remove the note")
		}
	}
	out.Did, out.To = "returned", r.From
	return m.Record(journal.EventReturned, t.Key, nil)
}

// Remove deletes the spare of one retired item, if it matches the data that was verified on the new
// computer.
func (m *Placer) Remove(ctx context.Context, t item.Target, out *run.ItemOutcome, because string) error {
	r := t.InKit.Retired
	if out.Did = nothingAside(t.InKit, r); out.Did != "" {
		return nil
	}
	out.Aside = r.To
	left, err := t.Names.Delete(ctx, r.To, steps.Op{Do: steps.Delete, From: r.To, If: steps.IfSame})
	if err != nil {
		return err
	}
	out.Did = "removed"
	if left {
		changed, err := m.hasData(ctx, t, r.To)
		if err != nil {
			return err
		}
		if changed {
			out.Did = "changed"
			return nil
		}
		out.Did = "removed in part"
	}
	return m.Record(journal.EventRemoved, t.Key, steps.Removed{Because: because})
}
