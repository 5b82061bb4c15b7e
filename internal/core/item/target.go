package item

import (
	"cmp"
	"context"
	"slices"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/machine"
	"movekit/internal/core/pathmap"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
)

// Target is an item of the kit with its location on this computer.
type Target struct {
	*Instance
	Parts
}

// Choices are the destinations that the user chose.
type Choices struct {
	steps.Chosen
	RunAsMe bool // database objects of a user that is missing here run as the user who unpacks
}

// UserHere returns the user here that an old user is mapped to. The default is the same name.
func (c Choices) UserHere(old string) string { return cmp.Or(c.Users[old], old) }

// Unplaced is a selected item without a destination on this computer. The kind of Err says why:
// NoUser, Missing, BadCard, or Usage if another item has the same destination.
type Unplaced struct {
	Key steps.Key
	Err error
}

// Targets returns the selected items of an app with their destinations here, and the items that
// have none. The caller closes the targets.
func (t Table) Targets(ctx context.Context, r *run.Run, c *card.Card, say Choices) (out []Target, unplaced []Unplaced, err error) {
	for _, it := range r.State.AppItems(c.Name) {
		if !r.Selected(it.Key) {
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

// Target returns one item with its destination here. If its user is not here, the error is of kind
// NoUser.
func (t Table) Target(ctx context.Context, r *run.Run, c *card.Card, it *steps.Item, say Choices) (Target, error) {
	known, err := asHere(r.Computer, it)
	if err != nil {
		return Target{}, err
	}
	o := &Instance{Host: r.ForApp(c), Run: r, Key: it.Key, Card: c, Item: c.Item(it.Key.Item), InKit: known, RunAsMe: say.RunAsMe, UserMap: say.Users}
	o.PathMap = pathmap.New(string(r.Computer.System()), moved(r, say))
	if o.Item == nil {
		return Target{}, fault.New(fault.Damaged, "the card of %s has no item %q", c.Title, it.Key.Item)
	}
	if it.Key.User != "" {
		if o.User = machine.FindUser(r.Computer, say.UserHere(it.Key.User)); o.User == nil {
			return Target{}, fault.New(fault.NoUser, "there is no user %s on this computer", say.UserHere(it.Key.User))
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

// asHere returns an item's recorded state with real paths instead of the journal's paths, which are
// in the computer's own terms.
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

// Close closes the targets.
func Close(all []Target) {
	for _, t := range all {
		t.Close()
	}
}
