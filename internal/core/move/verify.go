package move

import (
	"context"
	"slices"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/item"
	"movekit/internal/core/item/exports"
	"movekit/internal/core/journal"
	"movekit/internal/core/place"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
	"movekit/internal/core/tree"
)

// Verify compares every item of the selected apps on this computer with the old computer's sealed
// fingerprints, and checks every licence on both computers. It changes only the journal.
func (m *Move) Verify(ctx context.Context) ([]*run.Outcome, error) {
	m.SelectNeeded()
	m.reportTotal(func(*steps.Item) bool { return true })
	return m.Each(ctx, m.verifyApp)
}

func (m *Move) verifyApp(ctx context.Context, c *card.Card, o *run.Outcome) error {
	if on, err := m.Check(steps.Verify, c, m.Facts(c), o); err != nil || !on {
		return err
	}
	targets, noUser, err := m.targets(ctx, c)
	if err != nil {
		return err
	}
	defer item.Close(targets)
	for _, name := range noUser {
		o.Items = append(o.Items, run.ItemOutcome{Item: "-", User: name, Did: "checked", Rows: []steps.Row{{What: "user", Old: name, New: "not here", Text: true}}})
	}
	for _, t := range targets {
		out, err := m.verifyItem(ctx, c, t, targets)
		if err != nil {
			return fault.Wrap(fault.Unreadable, err, "%s of %s could not be verified", t.Label(), c.Title)
		}
		o.Items = append(o.Items, out)
	}
	for _, t := range m.stays(c) {
		// Not recorded in the journal: whether a server answers is only true now.
		out, err := compare(ctx, t, "stays", nil)
		if err != nil {
			return err
		}
		o.Items = append(o.Items, out)
	}
	for i := range c.Licences {
		if m.Manifest.Keep {
			break // a safety copy does not change licences
		}
		if err := m.verifyLicence(ctx, c, &c.Licences[i], o); err != nil {
			return err
		}
	}
	if err := m.opens(ctx, c, o); err != nil {
		return err
	}
	if err := m.verifyJobs(ctx, targets, o); err != nil || !o.Equal() {
		return err
	}
	return m.confirmSyncOff(ctx, c, o)
}

// compare compares an item here with the old computer's. also adds results that the item's kind
// cannot produce; it may be nil.
func compare(ctx context.Context, t item.Target, did string, also func(*steps.Checked) error) (run.ItemOutcome, error) {
	out := place.Outcome(t.Instance, did)
	c, err := t.Compare(ctx)
	if err == nil && also != nil {
		err = also(c)
	}
	if err != nil {
		return out, err
	}
	if out.To == "" {
		out.To = t.OldAddress
	}
	out.Equal, out.Rows, out.Diffs, out.Count = c.Equal, c.Rows, c.Diffs, c.Count
	return out, nil
}

func (m *Move) verifyItem(ctx context.Context, c *card.Card, t item.Target, beside []item.Target) (run.ItemOutcome, error) {
	if was := t.InKit.Placed; was != nil && was.Policy == string(tree.KeepBoth) {
		t.Path = was.To // it was put beside existing data
	}
	if again, err := m.Licences().IssuedAgain(ctx, c, t); err != nil {
		return run.ItemOutcome{}, err
	} else if again != "" {
		out := place.Outcome(t.Instance, "checked")
		out.Equal, out.Rows = true, []steps.Row{{What: "licence file", Old: "for " + m.Manifest.Old.Name, New: again, Same: true, Text: true}}
		return out, m.Record(journal.EventChecked, t.Key, steps.Checked{Equal: true, Rows: out.Rows})
	}
	out, err := compare(ctx, t, "checked", func(checked *steps.Checked) error {
		if i := slices.IndexFunc(beside, func(b item.Target) bool { return t.Item.Counted(b.Key.Item) }); i >= 0 {
			if err := exports.Compare(ctx, t.Instance, beside[i], checked); err != nil {
				return err
			}
		}
		if err := t.CheckAccess(checked); err != nil {
			return err
		}
		return t.AddIdentity(checked)
	})
	if err != nil {
		return out, err
	}
	if out.Notes, err = m.oldPlaces(ctx, t, beside); err != nil {
		return out, err
	}
	was := t.InKit.Placed
	out.Skipped = !out.Equal && was != nil && was.Policy == string(tree.Skip)
	return out, m.Record(journal.EventChecked, t.Key, steps.Checked{Equal: out.Equal, Skipped: out.Skipped, Rows: out.Rows, Diffs: out.Diffs, Count: out.Count, Notes: out.Notes})
}

func (m *Move) verifyLicence(ctx context.Context, c *card.Card, l *card.Licence, o *run.Outcome) error {
	version, err := m.ForApp(c).Version(ctx, c)
	if err != nil {
		return err
	}
	h, err := m.Licences().Open(c, l, version.Value)
	if err != nil {
		return err
	}
	st, asked := h.Standing(ctx)
	if asked != nil {
		st.By = "the kit's journal, since the licence desk could not be asked"
	}
	if err := m.RecordLicence(journal.EventSeen, h.Key, st.Record()); err != nil {
		return err
	}
	o.Licences = append(o.Licences, *h.Seen(st))
	if asked != nil {
		return fault.Wrap(fault.DeskDown, asked, "the licence %s of %s could not be verified", l.Name, c.Title)
	}
	return nil
}
