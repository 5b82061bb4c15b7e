package move

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"time"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/item"
	"movekit/internal/core/journal"
	"movekit/internal/core/machine"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
	"movekit/internal/core/survey"
	"movekit/internal/core/tree"
)

// Unpack puts every sealed item of the chosen apps in its place. The kit is
// inspected first. What is the same already is left alone.
func (m *Move) Unpack(ctx context.Context) ([]*run.Outcome, error) {
	if err := m.Kit.Tidy(); err != nil {
		return nil, err
	}
	progress := m.Begin(steps.Key{}, "inspecting the kit", m.Kit.TotalBytes(m.Apps))
	damage, err := m.Kit.Inspect(ctx, m.Apps, progress)
	if err != nil {
		return nil, err
	}
	var damaged []string
	for _, d := range damage {
		damaged = append(damaged, d.File+": "+d.What)
	}
	m.tellAll(func(it *steps.Item) bool { return it.Placed == nil })
	return m.Each(ctx, func(ctx context.Context, c *card.Card, o *run.Outcome) error {
		return m.unpackApp(ctx, c, o, damaged)
	})
}

func (m *Move) unpackApp(ctx context.Context, c *card.Card, o *run.Outcome, damage []string) error {
	f := m.Facts(c)
	f.KitDamage, f.StillHeld = damage, m.Licences().StillHeld(c)
	var targets []item.Target
	var err error
	if f.Packed {
		if targets, f.NoUser, err = m.targets(ctx, c); err != nil {
			return err
		}
		defer func() { item.Close(targets) }()
		f.OldVersion, f.OldEdition = m.State.Packed[c.Name].Version, m.State.Packed[c.Name].Edition
	}
	if c.Version != nil {
		f.Rule = c.Version.Rule
	}
	here, err := m.For(c).Version(ctx, c)
	if err != nil {
		return err
	}
	f.NewVersion, f.NewEdition, f.Withheld, f.Covered = here.Value, here.Edition, here.Withheld, covered(c)
	required, err := m.looker(c, false).Requires(c)
	if err != nil {
		return err
	}
	for _, r := range required {
		if !r.Here {
			f.Requires = append(f.Requires, r.Name)
		}
	}
	if f.Running, err = m.running(ctx, c); err != nil {
		return err
	}
	space := volumes{}
	for _, t := range targets {
		for _, name := range t.Strangers() {
			f.NoUser = append(f.NoUser, name+" (to whom "+t.Label()+" belongs)")
		}
		if err := ready(ctx, t, &f, space); err != nil {
			return err
		}
	}
	if t := space.tightest(); t != nil {
		f.Need, f.Free = t.need, t.free
	}
	if f.Open, err = m.held(ctx, targets); err != nil {
		return err
	}
	if on, err := m.Check(steps.Unpack, c, f, o); err != nil || !on {
		return err
	}
	if m.Instead != "" { // what was known of the computer that broke is not of this one
		item.Close(targets)
		if targets, _, err = m.targets(ctx, c); err != nil {
			return err
		}
	}
	if err := m.settle(); err != nil {
		return err
	}
	// Every list is checked before anything is written.
	for _, t := range targets {
		if err := t.Mover.Check(); err != nil {
			return err
		}
	}
	pointing := m.repointing(c, targets)
	for _, t := range targets {
		t.Repointing = pointing
		out, err := m.put(ctx, t)
		if err != nil {
			return fault.Wrap(fault.CannotPlace, err, "%s of %s is not in place", t.Label(), c.Title)
		}
		o.Items = append(o.Items, out)
	}
	return nil
}

// held says which programs have what is in the way open: it cannot be set aside under
// them.
func (m *Move) held(ctx context.Context, targets []item.Target) (out []string, err error) {
	var paths []string
	for _, t := range targets {
		if _, disk := t.Mover.Where(); disk != "" {
			if there, err := t.Mover.There(ctx); err == nil && there {
				paths = append(paths, disk)
			}
		}
	}
	if len(paths) == 0 {
		return nil, nil
	}
	holders, err := m.Computer.Holding(ctx, paths)
	for _, h := range holders {
		out = append(out, fmt.Sprintf("%s has %s open", survey.ProgramText(h.Program), h.Path))
	}
	return out, err
}

// covered is what the licences of an app cover, by its card.
func covered(c *card.Card) (out []steps.Cover) {
	for _, l := range c.Licences {
		out = append(out, steps.Cover{Version: l.Covers, Edition: l.Edition})
	}
	return out
}

// ready adds what this computer lacks for an item, and the space that it takes.
func ready(ctx context.Context, t item.Target, f *steps.Facts, space volumes) error {
	lacks, err := t.Mover.Lacks(ctx)
	if err != nil {
		return err
	}
	f.Lacks = append(f.Lacks, lacks...)
	unfit, err := t.Mover.Unfit(ctx)
	if err != nil {
		return err
	}
	f.BadNames = append(f.BadNames, unfit...)
	if _, disk := t.Mover.Where(); disk != "" { // what a killed run has left does not count against the space
		if err := tree.RemoveTree(disk + tree.StageEnding); err != nil {
			return fault.Wrap(fault.CannotPlace, err, "cannot remove %s", disk+tree.StageEnding)
		}
	}
	if t.Known.Placed != nil {
		return nil
	}
	return space.add(t.Mover.Volume(ctx), t.Known.Sealed.Bytes)
}

// put places one item and records it: once before, with where things in the
// way go, and once after.
func (m *Move) put(ctx context.Context, t item.Target) (run.ItemOutcome, error) {
	out := outcome(t.One, "same")
	if was := t.Known.Placed; was != nil && was.To != t.Path && was.Policy != string(tree.KeepBoth) {
		return out, fault.New(fault.Usage, "it is in place at %s, and is to go to %s now: have it taken back first", machine.Spoken(m.Computer, was.To), machine.Spoken(m.Computer, t.Path))
	}
	there, err := t.Mover.There(ctx)
	if err != nil {
		return out, err
	}
	at, err := alreadyAt(ctx, t, there)
	if err != nil {
		return out, err
	}
	if at != "" {
		out.To = at
		return out, m.recordSame(ctx, t, at)
	}
	done, err := m.intend(ctx, t, there)
	if err != nil {
		return out, err
	}
	if err := m.recordPlaced(journal.EventPlacing, t.Key, done); err != nil {
		return out, err
	}
	out.Did = "placed"
	switch {
	case done.Over != "":
		out.Did = "renewed"
	case there && done.Policy == string(tree.Skip):
		out.Did = "skipped"
		if t.Card.Kind.Info().Folder {
			out.Did = "completed" // what was missing is added
		}
	}
	if err == nil {
		err = t.Mover.Put(ctx, &done)
	}
	if err != nil {
		return out, err
	}
	err = m.ended(ctx, t, &done)
	out.To, out.Aside, out.Notes, out.Unkept, out.Waits = done.To, done.Aside, done.Notes, done.Unkept, done.Waits
	if out.Waits != "" {
		out.Did = "left"
	}
	if r := m.State.Items[t.Key].Repointed; r != nil {
		out.Repointed = r.Places
	}
	return out, err
}

// ended records that an item is in place, after what an earlier unpack had put
// there is gone.
func (m *Move) ended(ctx context.Context, t item.Target, done *steps.Placed) error {
	if done.Over != "" {
		if err := t.Mover.At(done.Over).Remove(ctx); err != nil {
			return err
		}
		done.Over = ""
	}
	if err := t.Mover.At(done.To).Mark(ctx, done); err != nil {
		return err
	}
	return m.recordPlaced(journal.EventPlaced, t.Key, *done)
}

// recordPlaced records an item's placing, in the terms of the computer itself:
// where its disk is mounted is of this run only.
func (m *Move) recordPlaced(event string, key steps.Key, p steps.Placed) error {
	p.To, p.Aside, p.Over = machine.Spoken(m.Computer, p.To), machine.Spoken(m.Computer, p.Aside), machine.Spoken(m.Computer, p.Over)
	return m.Record(event, key, p)
}

// alreadyAt returns where the item is on this computer already: in its place,
// or where an earlier run put it beside something. Nowhere gives "".
func alreadyAt(ctx context.Context, t item.Target, there bool) (string, error) {
	var tries []string
	if there {
		tries = append(tries, t.Path)
	}
	for _, was := range []*steps.Placed{t.Known.Placed, t.Known.Placing} {
		if was != nil && was.Policy == string(tree.KeepBoth) {
			tries = append(tries, was.To)
		}
	}
	for _, path := range tries {
		if same, err := t.Mover.At(path).Same(ctx); err != nil || same {
			return path, err
		}
	}
	return "", nil
}

// recordSame records that an item is in its place, unless that is known.
func (m *Move) recordSame(ctx context.Context, t item.Target, at string) error {
	done := steps.Placed{To: at}
	if was := t.Known.Placing; was != nil && was.To == at {
		// An interrupted run got this far.
		done.Policy, done.Aside, done.Over = was.Policy, was.Aside, was.Over
	} else if was := t.Known.Placed; was != nil && was.To == at {
		return nil
	} else {
		done.Same = true
	}
	return m.ended(ctx, t, &done)
}

// intend says what will be done about an item and what is in its way.
func (m *Move) intend(ctx context.Context, t item.Target, there bool) (done steps.Placed, err error) {
	done = steps.Placed{To: t.Path}
	earlier := "" // where an interrupted run has set something aside
	if was := t.Known.Placing; was != nil && was.To == t.Path {
		earlier, done.Over = was.Aside, was.Over
	}
	if !there {
		done.Aside = earlier
		return done, nil
	}
	if again, err := untouched(ctx, t); err != nil || again {
		// What is in the way is what an earlier unpack put there.
		done.Policy, done.Aside = t.Known.Earlier.Policy, t.Known.Earlier.Aside
		if err == nil && done.Over == "" {
			done.Over, err = t.Mover.Aside(ctx, "")
		}
		return done, err
	}
	policy, err := m.way(ctx, t)
	if err != nil {
		return done, err
	}
	over := done.Over
	done.Over, done.Policy = "", string(policy)
	switch policy {
	case tree.KeepBoth:
		if done.To = t.Mover.Beside(); done.To == t.Path { // in one folder, once what is there has another name
			done.Aside, err = t.Mover.Aside(ctx, earlier)
		}
	case tree.SetAside:
		if done.Aside, err = t.Mover.Aside(ctx, earlier); errors.Is(err, item.ErrFixed) {
			err = nil // nothing is put there either
		}
	}
	for _, name := range []string{earlier, over} {
		if err != nil || name == "" || name == done.Aside {
			continue
		}
		if there, err = t.Mover.At(name).There(ctx); there {
			done.Notes = append(done.Notes, "look through "+machine.Spoken(m.Computer, name)+": a run that was cut off has set it aside")
		}
	}
	return done, err
}

// way says what happens to what is in an item's way.
func (m *Move) way(ctx context.Context, t item.Target) (tree.Policy, error) {
	family := t.Key
	family.Item = t.Card.Name
	for _, address := range []string{t.Key.Address(), family.Address(), t.Key.App + "/" + t.Card.Name, t.Key.App, ""} {
		if p := m.Ways[address]; p != "" {
			return p, nil
		}
	}
	is, err := t.Mover.Look(ctx, item.Looking{Again: true})
	if err != nil {
		return "", err
	}
	spoken, _ := t.Mover.Where()
	w := run.InTheWay{Key: t.Key, Title: t.App.Title, Where: spoken, Files: is.Files, Bytes: is.Bytes, Coming: *t.Known}
	if is.Newest != nil {
		w.Newest = *is.Newest
	}
	if w.Started, err = m.started(ctx, t, is); err != nil {
		return "", err
	}
	if w.Another, err = t.Another(); err != nil {
		return "", err
	}
	said, err := m.Person.Way(w)
	return cmp.Or(tree.Policy(said), tree.SetAside), err
}

// started reports whether the app itself made what is there, when it was started on this
// computer: it is newer than the program.
func (m *Move) started(ctx context.Context, t item.Target, is *item.Look) (bool, error) {
	if t.Known.Placed != nil || t.Known.Earlier != nil || is.Newest == nil {
		return false, nil
	}
	v, err := m.For(t.App).Version(ctx, t.App)
	return err == nil && !v.Changed.IsZero() && is.Newest.After(v.Changed.Add(time.Minute)), err
}

// untouched reports whether what is where an item goes was put there by an unpack
// of what was sealed of it before, and nobody has worked in it since.
func untouched(ctx context.Context, t item.Target) (bool, error) {
	was := t.Known.Earlier
	if was == nil || was.To != t.Path || was.Stamp == "" || was.Same || was.Policy == string(tree.Skip) || was.Policy == string(tree.Replace) {
		return false, nil
	}
	return t.Mover.Untouched(ctx, was.Stamp)
}
