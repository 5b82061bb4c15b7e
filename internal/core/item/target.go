package item

import (
	"cmp"
	"context"
	"path/filepath"
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
// NoUser, Missing, BadCard, Unconfirmed, or Usage if another item has the same destination.
type Unplaced struct {
	Key      steps.Key
	Err      error
	Proposed string // for Unconfirmed: the path in the kit; else ""
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
		case fault.NoUser, fault.Missing, fault.BadCard, fault.Unconfirmed:
			unplaced = append(unplaced, Unplaced{it.Key, err, target.Proposed()})
			continue
		}
		if err != nil {
			Close(out)
			return nil, nil, err
		}
		if i := slices.IndexFunc(out, func(o Target) bool { return o.Path == target.Path && o.User.SameAs(target.User) }); i >= 0 {
			target.Close()
			unplaced = append(unplaced, Unplaced{it.Key, fault.New(fault.Usage, "%s and %s of %s would both go to %s", out[i].Label(), target.Label(), c.Title, target.Path), ""})
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
	o.Item = o.Item.On(string(r.Computer.System()))
	if it.Key.User != "" {
		if o.User = machine.FindUser(r.Computer, say.UserHere(it.Key.User)); o.User == nil {
			return Target{}, fault.New(fault.NoUser, "there is no user %s on this computer", say.UserHere(it.Key.User))
		}
	}
	if o.SubPath() != "" && (o.Item.Each == "" || !filepath.IsLocal(filepath.FromSlash(o.SubPath()))) {
		return Target{}, fault.New(fault.Outside, "the kit has the item %s of %s, which cannot be on this computer", it.Key.Item, c.Title)
	}
	o.putAt(it, say)
	target := Target{o, t.Open(o)}
	if target.Mover == nil {
		return target, nil
	}
	err = target.Mover.Locate(ctx)
	replaced := r.ReplaceReason != "" && !r.Self().Is(r.State.New) // the records are about the computer that broke
	if err == nil && target.Names != nil && !replaced {
		for _, p := range []*steps.Placed{known.Placing, known.Placed, known.Earlier} {
			if p != nil && err == nil {
				_, err = p.Mapped(target.own)
			}
		}
		if known.Undoing != nil && err == nil {
			_, err = known.Undoing.Mapped(target.own)
		}
	}
	if err != nil {
		target.Close()
		return Target{Instance: &Instance{ProposedPath: o.ProposedPath}}, err
	}
	return target, nil
}

// Proposed returns the path in the kit that the user must confirm, or "".
func (t Target) Proposed() string {
	if t.Instance == nil {
		return ""
	}
	return t.ProposedPath
}

// own returns a name from the journal, or an error if the item's data cannot have that name on this
// computer. Somebody who can write the kit could otherwise choose any path.
func (t Target) own(name string) (string, error) {
	if t.Names.Ours(t.Path, name) {
		return name, nil
	}
	for _, home := range t.Run.Homes(t.Key.Address()) {
		if real, err := machine.Real(t.Computer, home); err == nil && t.Names.Ours(real, name) {
			return name, nil
		}
	}
	return "", fault.New(fault.Outside, "according to the kit, %s is at %s, which is not its place on %s", t.Label(), machine.DisplayPath(t.Computer, name), t.Computer.Name())
}

// OwnRetired returns an error if the journal has a name that the item's data on the old computer cannot have.
func (t Target) OwnRetired(r *steps.Retired) error {
	_, err := r.Mapped(t.own)
	return err
}

// ConfirmHome records that the item's data is at its home on this computer.
func (o *Instance) ConfirmHome() {
	o.Run.Confirm(run.AtHome, o.Key.Address(), machine.DisplayPath(o.Computer, o.Path))
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
