package move

import (
	"context"
	"fmt"
	"slices"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/item"
	"movekit/internal/core/place"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
	"movekit/internal/core/survey"
)

// Retire sets the items of the selected apps aside on the old computer, and leaves a note in their
// place. It skips items that are gone.
func (m *Move) Retire(ctx context.Context) ([]*run.Outcome, error) {
	return m.Each(ctx, func(ctx context.Context, c *card.Card, o *run.Outcome) error {
		if m.Side() == steps.OldSide {
			if err := m.Licences().Observe(ctx, c); err != nil {
				return err
			}
		}
		f := m.Facts(c)
		f.Proven, f.Use, f.Drift = m.State.Settled(c), &steps.UseFacts{}, &steps.DriftFacts{}
		if f.Side == steps.OldSide && m.State.Packed[c.Name] != nil {
			l := m.scanner(c, false)
			l.Since = m.Since
			a, err := l.Now(ctx, c)
			if err != nil {
				return err
			}
			survey.Close(a.Places) // a server does not rename a database that somebody has open
			f.Drift, f.Use.Open = a.Facts.Drift, a.Facts.Use.Open
			if f.Use.Running, err = l.Running(ctx, c); err != nil {
				return err
			}
		}
		if on, err := m.Check(steps.Retire, c, f, o); err != nil || !on {
			return err
		}
		if err := m.eachRetired(ctx, c, o, true, "set aside", m.unlessSkipped(func(t item.Target, out *run.ItemOutcome) error {
			if t.Job != nil {
				return m.retireJob(ctx, t, out)
			}
			return m.placer().Retire(ctx, t, out)
		})); err != nil {
			return err
		}
		return m.confirmSyncOff(ctx, c, o)
	})
}

// Return moves the items that Retire set aside back to their places.
func (m *Move) Return(ctx context.Context) ([]*run.Outcome, error) {
	return m.Each(ctx, func(ctx context.Context, c *card.Card, o *run.Outcome) error {
		if m.Side() == steps.OldSide {
			if err := m.Licences().Observe(ctx, c); err != nil {
				return err
			}
		}
		f := m.Facts(c)
		f.Use = &steps.UseFacts{}
		var err error
		if f.Side == steps.OldSide {
			if f.Use.Running, err = m.running(ctx, c); err != nil {
				return err
			}
		}
		if on, err := m.Check(steps.Return, c, f, o); err != nil || !on {
			return err
		}
		return m.eachRetired(ctx, c, o, false, "given back", func(t item.Target, out *run.ItemOutcome) error {
			if t.Job != nil {
				return m.returnJob(ctx, t, out)
			}
			if l := m.activeElsewhere(c, t); l != "" {
				out.Did = "not given back"
				out.Notes = append(out.Notes, fmt.Sprintf("it is a file of the licence %s, which is active on %s: deactivate it there first", l, m.State.New.Name))
				return nil
			}
			return m.placer().Return(ctx, t, out)
		})
	})
}

// activeElsewhere returns a licence that an item is a file of, and that is active on the new computer.
func (m *Move) activeElsewhere(c *card.Card, t item.Target) string {
	for _, l := range c.Licences {
		if slices.Contains(l.Items, t.Item.Name) && m.State.Licence(c.Name, l.Name).New.Held() {
			return l.Name
		}
	}
	return ""
}

// RemoveRetired permanently removes the data that Retire set aside, if it matches the data that was
// verified on the new computer. because is the reason.
func (m *Move) RemoveRetired(ctx context.Context, because string) ([]*run.Outcome, error) {
	return m.Each(ctx, func(ctx context.Context, c *card.Card, o *run.Outcome) error {
		if on, err := m.Check(steps.Remove, c, m.Facts(c), o); err != nil || !on {
			return err
		}
		return m.eachRetired(ctx, c, o, true, "removed", m.unlessSkipped(func(t item.Target, out *run.ItemOutcome) error {
			if t.Job != nil {
				out.Did = "stopped"
				return nil
			}
			return m.placer().Remove(ctx, t, out, because)
		}))
	})
}

// unlessSkipped leaves out items whose existing data the user kept on the new computer: only the old one has their
// data.
func (m *Move) unlessSkipped(do func(item.Target, *run.ItemOutcome) error) func(item.Target, *run.ItemOutcome) error {
	return func(t item.Target, out *run.ItemOutcome) error {
		if m.State.Items[t.Key].Skipped() {
			out.Did, out.To = "not verified", ""
			return nil
		}
		return do(t, out)
	}
}

// eachRetired calls do for each selected item of an app. An item may be inside another one, which
// moves with it, so inner items go first on the way out and last on the way back.
func (m *Move) eachRetired(ctx context.Context, c *card.Card, o *run.Outcome, innerFirst bool, done string, do func(item.Target, *run.ItemOutcome) error) error {
	items := slices.Clone(m.State.AppItems(c.Name))
	if innerFirst {
		slices.Reverse(items)
		defer func() { slices.Reverse(o.Items) }()
	}
	for _, it := range items {
		if !m.Selected(it.Key) {
			continue
		}
		t, err := m.placer().OldTarget(ctx, c, it)
		if err != nil {
			return err
		}
		out := place.Outcome(t.Instance, "")
		err = do(t, &out)
		t.Close()
		if err != nil {
			return fault.Wrap(fault.CannotPlace, err, "%s of %s was not %s", t.Label(), c.Title, done)
		}
		o.Items = append(o.Items, out)
	}
	for i := range o.Items {
		o.Items[i].Aside, o.Items[i].Note = m.placer().TakenAlong(c, o.Items[i].Aside), m.placer().TakenAlong(c, o.Items[i].Note)
	}
	return nil
}
