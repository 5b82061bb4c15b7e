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

// Since is what is looked at of what became of items on the old computer since
// they were sealed.
type Since int

// How much is looked at.
const (
	Nothing  Since = iota
	Quick          // an item whose size, times and engine's counters are the same counts as the same
	Thorough       // every item is read
)

// drift says what became of an item since it was sealed; nil where nothing of it is
// sealed, or it is not of the old computer.
func (l *Scanner) drift(ctx context.Context, c *card.Card, p *Place, is *item.Inspection) (*item.Drift, error) {
	if l.Since == Nothing || l.Run == nil || is.Stays {
		return nil, nil
	}
	known, packed := l.Run.State.Items[p.Key], l.Run.State.Packed[c.Name]
	if known == nil && packed != nil && p.Found && !slices.Contains(packed.NotChosen, p.Label()) {
		return &item.Drift{Sealed: l.Run.State.SealedLast(), Known: true, Count: 1, Diffs: []string{"it is new: nothing of it is sealed"}}, nil
	}
	if known == nil || known.Retired != nil || known.Retiring != nil && (!p.Found || is.Files == 0) || !p.Found && l.deactivated(c, p) {
		return nil, nil
	}
	d := &item.Drift{Sealed: known.SealedAt, Same: true}
	switch {
	case is.State == item.NotReached:
		d.Same, d.Why = false, cmp.Or(is.Why, "it did not answer in time")
		return d, nil
	case !p.Found:
		d.Same, d.Known, d.Count, d.Diffs = false, true, 1, []string{"it is not there any more"}
		return d, nil
	case l.Since == Quick && is.Stamp != "" && is.Stamp == known.Sealed.Stamp:
		return d, nil
	case !l.Run.Kit.Unlocked():
		d.Same, d.Why = false, "its size or times differ, and only with the passphrase can it be compared"
		return d, nil
	}
	sealed := *known
	sealed.Repointed = nil // on the new computer
	p.InKit = &sealed
	p.Progress("comparing with what is sealed", is.Bytes)
	now, err := p.Compare(ctx)
	if err != nil {
		return nil, fault.Wrap(fault.Unreadable, err, "%s cannot be held against what is sealed of it", p.Label())
	}
	d.Same, d.Known, d.Rows, d.Count, d.Diffs = now.Equal, true, now.Rows, now.Count, now.Diffs
	return d, nil
}

// gone adds what was sealed as one of many, and is not here any more.
func (l *Scanner) gone(ctx context.Context, c *card.Card, a *App, f *steps.Facts) error {
	if l.Since == Nothing || l.Run == nil {
		return nil
	}
	for _, it := range l.Run.State.AppItems(c.Name) {
		ci := c.Item(it.Key.Item)
		if ci == nil || ci.Each == "" || it.Retired != nil || it.Retiring != nil || !l.Run.Picked(it.Key) || slices.ContainsFunc(a.Places, func(p Place) bool { return p.Key == it.Key }) {
			continue
		}
		p := l.place(c, ci, machine.FindUser(l.Computer, it.Key.User))
		p.Key = it.Key
		if err := l.find(ctx, &p); err != nil {
			return err
		}
		if !p.Found {
			f.Drift.OldChanged = append(f.Drift.OldChanged, p.Label()+" is not there any more")
		}
	}
	return nil
}

// Now is what is here of an app's items; its facts say what is not what was sealed
// any more, or is not known to be. Close ends what its places have opened.
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

// deactivated reports whether an item is the file of a licence that was deactivated here, which
// set it aside.
func (l *Scanner) deactivated(c *card.Card, p *Place) bool {
	return slices.ContainsFunc(c.Licences, func(lic card.Licence) bool {
		return l.Run.State.Freed(c.Name, lic.Name) && slices.Contains(lic.Items, p.Item.Name)
	})
}

// changed says for a gate what became of an item.
func changed(p *Place, d *item.Drift) string {
	if d.Why != "" {
		return fmt.Sprintf("it is not known whether %s changed (%s)", p.Label(), d.Why)
	}
	how := ""
	for _, r := range d.Rows {
		if how == "" && !r.Same {
			how = fmt.Sprintf("%s: %s then, %s now", r.What, r.Old, r.New)
		}
	}
	if len(d.Diffs) > 0 {
		how = d.Diffs[0]
	}
	return fmt.Sprintf("%s changed (%s)", p.Label(), how)
}
