package move

import (
	"context"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/kit"
	"movekit/internal/core/licence"
	"movekit/internal/core/machine"
	"movekit/internal/core/served"
	"movekit/internal/core/steps"
	"movekit/internal/core/tree"
)

// Unpack puts every sealed item of the chosen apps in its place. The kit is
// inspected first. What is the same already is left alone.
func (j *Job) Unpack(ctx context.Context) ([]*Outcome, error) {
	damage, err := j.inspect(ctx)
	if err != nil {
		return nil, err
	}
	defer j.dropTemp()
	return j.each(ctx, func(ctx context.Context, c *card.Card, o *Outcome) error {
		return j.unpackApp(ctx, c, o, damage)
	})
}

// inspect reads the kit's files, of the chosen apps, and returns what is
// damaged.
func (j *Job) inspect(ctx context.Context) ([]string, error) {
	progress := j.begin(steps.Key{}, "inspecting the kit", j.Kit.TotalBytes(j.Apps))
	in, err := kit.Inspect(ctx, j.Kit.Dir, j.Apps, progress)
	if err != nil {
		return nil, err
	}
	var out []string
	for _, d := range in.Damage {
		out = append(out, d.File+": "+d.What)
	}
	return out, nil
}

// target is where an item of the kit belongs on this computer.
type target struct {
	item   *steps.Item
	card   *card.Item
	user   *machine.User
	server served.Server // of a database of one
	path   string
}

// targets returns where the items of an app belong here, and the users who
// are not here.
func (j *Job) targets(ctx context.Context, c *card.Card) (out []target, noUser []string, err error) {
	for _, it := range j.State().AppItems(c.Name) {
		t, err := j.targetOf(ctx, c, it)
		if fault.KindOf(err) == fault.NoUser {
			noUser = append(noUser, j.userHere(it))
			continue
		}
		if err != nil {
			return nil, nil, err
		}
		for _, other := range out {
			if other.path == t.path {
				return nil, nil, fault.New(fault.Usage, "%s and %s of %s would both go to %s", itemLabel(other.item.Key), itemLabel(it.Key), c.Title, t.path)
			}
		}
		out = append(out, t)
	}
	return out, noUser, nil
}

// userHere is the name of who takes over an item here: as was told, or as
// unpack was told, or the same.
func (j *Job) userHere(it *steps.Item) string {
	if to := j.Users[it.Key.User]; to != "" {
		return to
	}
	if it.Placed != nil && it.Placed.User != "" {
		return it.Placed.User
	}
	return it.Key.User
}

// targetOf returns where one item belongs here. A user who is not here gives
// an error of the kind NoUser.
func (j *Job) targetOf(ctx context.Context, c *card.Card, it *steps.Item) (t target, err error) {
	t = target{item: it, card: c.Item(it.Key.Item)}
	if t.card == nil {
		return t, fault.New(fault.Damaged, "the card of %s has no item %q", c.Title, it.Key.Item)
	}
	if t.card.Kind.Served() {
		t.server, err = j.lookerFor(c, false).Server(ctx, t.card)
		t.path = t.server.Address()
		return t, err
	}
	path := t.card.Path.On(string(j.Computer.System()))
	if path == "" {
		return t, fault.New(fault.BadCard, "the card of %s does not say where %s belongs on a %s computer", c.Title, it.Key.Item, j.Computer.System())
	}
	if it.Key.User != "" {
		if t.user = machine.FindUser(j.Computer, j.userHere(it)); t.user == nil {
			return t, fault.New(fault.NoUser, "%s is no user of this computer", j.userHere(it))
		}
	}
	t.path, err = j.Computer.Locate(path, t.user)
	return t, err
}

func (j *Job) unpackApp(ctx context.Context, c *card.Card, o *Outcome, damage []string) error {
	f := j.facts(c)
	f.KitDamage, f.Consistent = damage, false
	var targets []target
	var err error
	if f.Packed {
		if targets, f.NoUser, err = j.targets(ctx, c); err != nil {
			return err
		}
		f.OldVersion, f.OldEdition = j.State().Packed[c.Name].Version, j.State().Packed[c.Name].Edition
	}
	if c.Version != nil {
		f.Rule = c.Version.Rule
	}
	here, err := j.version(ctx, c)
	if err != nil {
		return err
	}
	f.NewVersion, f.NewEdition, f.Withheld = here.Value, here.Edition, here.Withheld
	if f.Running, err = j.running(ctx, c); err != nil {
		return err
	}
	for _, l := range c.Licences {
		if st := j.State().Licences[steps.Key{App: c.Name, Item: l.Name}]; l.Method == card.MethodFile && (st == nil || st.Old != licence.Deactivated) {
			f.StillHeld = append(f.StillHeld, l.Name)
		}
	}
	for _, t := range targets {
		lacks, err := j.lacks(ctx, t)
		if err != nil {
			return err
		}
		f.Lacks = append(f.Lacks, lacks...)
		if t.card.Kind.Served() {
			continue // its space is the server's
		}
		v, err := machine.VolumeOf(t.path)
		if err != nil {
			return err
		}
		if t.item.Placed == nil {
			f.Need += t.item.Sealed.Bytes
		}
		f.Free = v.Free
	}
	if err := j.check(steps.Unpack, c, f, o); err != nil || len(o.Blocks) > 0 {
		return err
	}
	// Every list is checked before anything is written.
	for _, t := range targets {
		if err := j.checkList(t); err != nil {
			return err
		}
	}
	for _, t := range targets {
		io, err := j.put(ctx, t)
		if err != nil {
			return fault.Wrap(fault.CannotPlace, err, "%s of %s is not in place", itemLabel(t.item.Key), c.Title)
		}
		o.Items = append(o.Items, io)
	}
	return nil
}

func (j *Job) checkList(t target) error {
	if j.database(t.card.Kind) != nil {
		return nil
	}
	list, closer, err := j.list(t.item)
	if err != nil {
		return err
	}
	defer closer.Close()
	return tree.CheckList(list, j.Computer.System() == machine.Windows)
}
