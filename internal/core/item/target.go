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

// Target is an item of the kit with where it belongs on this computer.
type Target struct {
	*One
	Mover Mover
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
				target.Mover.Close()
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
	m := t.Open(o)
	if err := m.Locate(ctx); err != nil {
		m.Close()
		return Target{}, err
	}
	return Target{o, m}, nil
}

// asHere is what is known of an item, with the real paths of this run in place of
// those that the journal writes in the computer's own terms.
func asHere(c machine.Computer, it *steps.Item) (*steps.Item, error) {
	out := *it
	paths := []*string{}
	placed := func(p **steps.Placed) {
		if *p != nil {
			q := **p
			*p = &q
			paths = append(paths, &q.To, &q.Aside, &q.Over)
		}
	}
	placed(&out.Placing)
	placed(&out.Placed)
	placed(&out.Earlier)
	if out.Undoing != nil {
		u := *out.Undoing
		out.Undoing = &u
		paths = append(paths, &u.From, &u.Back, &u.Kept)
	}
	for _, p := range paths {
		var err error
		if *p, err = machine.Real(c, *p); err != nil {
			return nil, err
		}
	}
	return &out, nil
}

// Close ends what targets have opened.
func Close(all []Target) {
	for _, t := range all {
		t.Mover.Close()
	}
}
