package survey

import (
	"cmp"
	"context"
	"fmt"
	"slices"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/item"
	"movekit/internal/core/machine"
	"movekit/internal/core/steps"
)

// Since says how thoroughly to check the old computer's items for changes since the pack.
type Since int

// The levels of the check.
const (
	Nothing  Since = iota
	Quick          // an item with unchanged size, times, metadata and engine counters counts as unchanged
	Thorough       // every item is read completely
)

// drift returns how an item changed since it was sealed. It returns nil if the item is not sealed,
// or this is not the old computer.
func (l *Scanner) drift(ctx context.Context, c *card.Card, p *Place, is *item.Inspection) (*item.Drift, error) {
	if l.Since == Nothing || l.Run == nil || is.Stays {
		return nil, nil
	}
	known, packed := l.Run.State.Items[p.Key], l.Run.State.Packed[c.Name]
	if known == nil && packed != nil && p.Found && !slices.Contains(packed.NotChosen, p.Label()) {
		return &item.Drift{Sealed: l.Run.State.SealedLast(), Known: true, Count: 1, Diffs: []string{"it is new and not sealed yet"}}, nil
	}
	if known == nil || known.Retired != nil || p.SetAside != "" || !p.Found && l.deactivated(c, p) {
		return nil, nil
	}
	d := &item.Drift{Sealed: known.SealedAt, Same: true}
	switch {
	case is.State == item.NotReached:
		d.Same, d.Why = false, cmp.Or(is.Why, "it did not answer in time")
		return d, nil
	case !p.Found:
		d.Same, d.Known, d.Count, d.Diffs = false, true, 1, []string{"it no longer exists"}
		return d, nil
	case l.Since == Quick && is.Stamp != "" && is.Stamp == known.Sealed.Stamp && is.MetaStamp == known.Sealed.MetaStamp:
		return d, nil
	case !l.Run.Kit.Unlocked():
		d.Same, d.Why = false, "its size, times or permissions differ; a comparison needs the passphrase"
		return d, nil
	}
	sealed := *known
	sealed.PathUpdates = nil // those changes are on the new computer
	p.InKit = &sealed
	p.Progress("comparing with the sealed data", is.Bytes)
	now, err := p.Compare(ctx)
	if err != nil {
		return nil, fault.Wrap(fault.Unreadable, err, "%s cannot be compared with its sealed data", p.Label())
	}
	d.Same, d.Known, d.Rows, d.Count, d.Diffs = now.Equal, true, now.Rows, now.Count, now.Diffs
	return d, nil
}

// setAside returns how much of an item's data retire set aside here: all, a part, or "". The data in the item's place is then
// not the item's complete data.
func (l *Scanner) setAside(ctx context.Context, p *Place) (string, error) {
	known := l.onOld(p)
	switch {
	case known == nil || known.Removed != nil || p.Names == nil:
		return "", nil
	case known.Retired != nil && known.Retired.To != "":
		return allAside, nil
	case known.Retiring == nil || known.Retiring.Plan == nil:
		return "", nil
	}
	r, err := known.Retiring.Mapped(func(name string) (string, error) { return machine.Real(l.Computer, name) })
	if err != nil {
		return "", err
	}
	op := r.Plan.Ops[0]
	if !p.Names.Ours(p.Path, op.From) || !p.Names.Ours(p.Path, op.To) {
		return "", nil
	}
	at, err := p.Names.State(ctx, op.From, op.To, op.Part)
	switch {
	case err != nil || at == item.AtHome || at == item.Neither:
		return "", err
	case at == item.Between:
		return partAside, nil
	}
	return allAside, nil
}

// The values of Place.SetAside.
const (
	allAside  = "all"
	partAside = "a part"
)

// gone adds items that were sealed as one of several and no longer exist here.
func (l *Scanner) gone(ctx context.Context, c *card.Card, a *App, f *steps.Facts) error {
	if l.Since == Nothing || l.Run == nil {
		return nil
	}
	for _, it := range l.Run.State.AppItems(c.Name) {
		ci := c.Item(it.Key.Item)
		if ci == nil || ci.Each == "" || it.Retired != nil || it.Retiring != nil || !l.Run.Selected(it.Key) || slices.ContainsFunc(a.Places, func(p Place) bool { return p.Key == it.Key }) {
			continue
		}
		p := l.place(c, ci, machine.FindUser(l.Computer, it.Key.User))
		p.Key = it.Key
		if err := l.find(ctx, &p); err != nil {
			return err
		}
		if !p.Found {
			f.Drift.OldChanged = append(f.Drift.OldChanged, p.Label()+" no longer exists")
		}
	}
	return nil
}

// Now inspects an app's items. Its facts list the items that changed since the pack, or for which
// that is unknown. The caller closes the places.
func (l *Scanner) Now(ctx context.Context, c *card.Card) (*App, error) {
	a := &App{App: c.Name, Title: c.Title}
	l.Again = true
	var err error
	if a.Places, err = l.Places(ctx, c); err != nil {
		return nil, err
	}
	if err := l.items(ctx, c, a, &a.Facts); err != nil {
		Close(a.Places)
		return nil, err
	}
	return a, nil
}

// deactivated reports whether an item is a licence file that the deactivation set aside here.
func (l *Scanner) deactivated(c *card.Card, p *Place) bool {
	return slices.ContainsFunc(c.Licences, func(lic card.Licence) bool {
		return l.Run.State.Deactivated(c.Name, lic.Name) && slices.Contains(lic.Items, p.Item.Name)
	})
}

// changed describes an item's change for a gate.
func changed(p *Place, d *item.Drift) string {
	if d.Why != "" {
		return fmt.Sprintf("unknown whether %s changed (%s)", p.Label(), d.Why)
	}
	how := ""
	for _, r := range d.Rows {
		if how == "" && !r.Same {
			how = fmt.Sprintf("%s: then %s, now %s", r.What, r.Old, r.New)
		}
	}
	if len(d.Diffs) > 0 {
		how = d.Diffs[0]
	}
	return fmt.Sprintf("%s changed (%s)", p.Label(), how)
}
