package move

import (
	"context"
	"errors"
	"slices"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/item"
	"movekit/internal/core/licence"
	"movekit/internal/core/machine"
	"movekit/internal/core/place"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
)

// Undo undoes Unpack for the selected apps: it removes unmodified data that was put in place, and
// moves the set-aside data back. Modified data is kept under another name.
func (m *Move) Undo(ctx context.Context) ([]*run.Outcome, error) {
	var undone []*place.Undoing
	out, err := m.Each(ctx, func(ctx context.Context, c *card.Card, o *run.Outcome) error { return m.undoApp(ctx, c, o, &undone) })
	for _, u := range slices.Backward(undone) { // apps can share a folder
		u.RemoveParents()
	}
	return out, err
}

// undoApp undoes the unpack of one app. Its services and schedules are stopped first, and those that were here before are
// started again as they were.
func (m *Move) undoApp(ctx context.Context, c *card.Card, o *run.Outcome, undone *[]*place.Undoing) error {
	before := map[steps.Key]steps.JobState{}
	for key, on := range m.State.Stopped {
		if was, is := on[m.Self().ID]; is && key.App == c.Name {
			before[key] = was
		}
	}
	again, err := m.stopNew(ctx, c)
	if err == nil {
		err = m.undoItems(ctx, c, o, undone)
	}
	if err != nil || len(o.Blocks) > 0 {
		return errors.Join(err, again())
	}
	return m.startBefore(ctx, c, before)
}

func (m *Move) undoItems(ctx context.Context, c *card.Card, o *run.Outcome, undone *[]*place.Undoing) error {
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
	var undoing []*place.Undoing
	defer func() {
		for _, u := range undoing {
			u.Close()
		}
	}()
	// In reverse order, because an item may be inside another.
	for _, it := range slices.Backward(items) {
		if !m.Selected(it.Key) {
			continue
		}
		if it.Removed != nil && it.Placed != nil {
			f.Undo.OnlyHere = append(f.Undo.OnlyHere, item.Label(it.Key))
		}
		u, err := m.placer().PlanUndo(ctx, c, it)
		if err != nil {
			return fault.Wrap(fault.CannotPlace, err, "%s of %s was not undone", item.Label(it.Key), c.Title)
		}
		undoing = append(undoing, u)
		if u.Missing != "" {
			f.Undo.AsideGone = append(f.Undo.AsideGone, item.Label(it.Key)+" (it was at "+machine.DisplayPath(m.Computer, u.Missing)+")")
		}
	}
	if on, err := m.Check(steps.Undo, c, f, o); err != nil || !on {
		return err
	}
	for _, u := range undoing {
		if err := m.placer().Undo(ctx, u); err != nil {
			return fault.Wrap(fault.CannotPlace, err, "%s of %s was not undone", item.Label(u.Key), c.Title)
		}
		o.Items = append(o.Items, u.Out)
		if u.Out.Did == "undone" {
			*undone = append(*undone, u)
		}
	}
	// Data that was kept inside kept data moved with it.
	for i := range o.Items {
		for _, outer := range o.Items {
			if outer.Aside != "" {
				o.Items[i].Aside = place.Along(o.Items[i].Aside, outer.To, outer.Aside)
			}
		}
	}
	return nil
}
