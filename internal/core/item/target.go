package item

import (
	"cmp"
	"context"
	"slices"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/machine"
	"movekit/internal/core/repoint"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
)

// Target is an item of the kit, located on this computer.
type Target struct {
	*Instance
	Parts
}

// Choices are what a person said of where things go.
type Choices struct {
	steps.Chosen
	RunAsMe bool // what ran as somebody who is not here runs as who unpacks
}

// UserHere is the name of who takes over here from a user of the old computer: as was
// told, or the same.
func (c Choices) UserHere(old string) string { return cmp.Or(c.Users[old], old) }

// Unplaced is a chosen item without a place on this computer. The kind of Err says why: NoUser, Missing, BadCard, or
// Usage if another item has the same place.
type Unplaced struct {
	Key steps.Key
	Err error
}

// Targets returns the chosen items of an app with their places here, and those that have none. Close releases what
// they open.
func (t Table) Targets(ctx context.Context, r *run.Run, c *card.Card, say Choices) (out []Target, unplaced []Unplaced, err error) {
	for _, it := range r.State.AppItems(c.Name) {
		if !r.Picked(it.Key) {
			continue
		}
		target, err := t.Target(ctx, r, c, it, say)
		switch fault.KindOf(err) {
		case fault.NoUser, fault.Missing, fault.BadCard:
			unplaced = append(unplaced, Unplaced{it.Key, err})
			continue
		}
		if err != nil {
			Close(out)
			return nil, nil, err
		}
		if i := slices.IndexFunc(out, func(o Target) bool { return o.Path == target.Path && o.User.SameAs(target.User) }); i >= 0 {
			target.Close()
			unplaced = append(unplaced, Unplaced{it.Key, fault.New(fault.Usage, "%s and %s of %s would both go to %s", out[i].Label(), target.Label(), c.Title, target.Path)})
			continue
		}
		out = append(out, target)
	}
	return out, unplaced, nil
}

// Target returns where one item belongs here. A user who is not here gives an
// error of the kind NoUser.
func (t Table) Target(ctx context.Context, r *run.Run, c *card.Card, it *steps.Item, say Choices) (Target, error) {
	known, err := asHere(r.Computer, it)
	if err != nil {
		return Target{}, err
	}
	o := &Instance{Host: r.For(c), Run: r, Key: it.Key, Card: c, Item: c.Item(it.Key.Item), InKit: known, RunAsMe: say.RunAsMe, UserMap: say.Users}
	o.PathMap = repoint.New(string(r.Computer.System()), moved(r, say))
	if o.Item == nil {
		return Target{}, fault.New(fault.Damaged, "the card of %s has no item %q", c.Title, it.Key.Item)
	}
	if it.Key.User != "" {
		if o.User = machine.FindUser(r.Computer, say.UserHere(it.Key.User)); o.User == nil {
			return Target{}, fault.New(fault.NoUser, "%s is no user of this computer", say.UserHere(it.Key.User))
		}
	}
	o.putAt(it, say)
	target := Target{o, t.Open(o)}
	if target.Mover == nil {
		return target, nil
	}
	if err := target.Mover.Locate(ctx); err != nil {
		target.Close()
		return Target{}, err
	}
	return target, nil
}

// asHere is what is known of an item, with the real paths of this run in place of
// those that the journal writes in the computer's own terms.
func asHere(c machine.Computer, it *steps.Item) (*steps.Item, error) {
	out := *it
	real := func(name string) (string, error) { return machine.Real(c, name) }
	var err error
	for _, p := range []**steps.Placed{&out.Placing, &out.Placed, &out.Earlier} {
		if *p != nil && err == nil {
			*p, err = (*p).Mapped(real)
		}
	}
	if out.Undoing != nil && err == nil {
		out.Undoing, err = out.Undoing.Mapped(real)
	}
	return &out, err
}

// Close ends what targets have opened.
func Close(all []Target) {
	for _, t := range all {
		t.Close()
	}
}
