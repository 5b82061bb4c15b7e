package item

import (
	"cmp"
	"context"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/machine"
	"movekit/internal/core/repoint"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
)

// Target is an item of the kit, located on this computer.
type Target struct {
	*One
	Parts
}

// Choices are what a person said of where things go.
type Choices struct {
	steps.Chosen
	Mine bool // what ran as somebody who is not here runs as who unpacks
}

// UserHere is the name of who takes over here from a user of the old computer: as was
// told, or the same.
func (c Choices) UserHere(old string) string { return cmp.Or(c.Users[old], old) }

// Targets returns where the chosen items of an app belong here, and the users who are not
// here. Close ends what they open.
func (t Table) Targets(ctx context.Context, r *run.Run, c *card.Card, say Choices) (out []Target, noUser []string, err error) {
	defer func() {
		if err != nil {
			Close(out)
			out = nil
		}
	}()
	for _, it := range r.State.AppItems(c.Name) {
		if !r.Picked(it.Key) {
			continue
		}
		target, err := t.Target(ctx, r, c, it, say)
		if fault.KindOf(err) == fault.NoUser {
			noUser = append(noUser, say.UserHere(it.Key.User))
			continue
		}
		if err != nil {
			return out, nil, err
		}
		for _, other := range out {
			if other.Path == target.Path && other.User.SameAs(target.User) {
				target.Close()
				return out, nil, fault.New(fault.Usage, "%s and %s of %s would both go to %s", other.Label(), target.Label(), c.Title, target.Path)
			}
		}
		out = append(out, target)
	}
	return out, noUser, nil
}

// Target returns where one item belongs here. A user who is not here gives an
// error of the kind NoUser.
func (t Table) Target(ctx context.Context, r *run.Run, c *card.Card, it *steps.Item, say Choices) (Target, error) {
	known, err := asHere(r.Computer, it)
	if err != nil {
		return Target{}, err
	}
	o := &One{Here: r.For(c), Run: r, Key: it.Key, App: c, Card: c.Item(it.Key.Item), Known: known, Mine: say.Mine, Users: say.Users}
	o.Moved = repoint.New(string(r.Computer.System()), moved(r, say))
	if o.Card == nil {
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
