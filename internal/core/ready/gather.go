package ready

import (
	"context"
	"errors"
	"fmt"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/item"
	"movekit/internal/core/journal"
	"movekit/internal/core/kit"
	"movekit/internal/core/machine"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
	"movekit/internal/core/survey"
)

// Facts has the facts about one app on the new computer. Ready and Unpack gather the same facts
// and run the same gates.
type Facts struct {
	Gates    steps.Facts
	Targets  []item.Target
	Unplaced []item.Unplaced
	Same     map[steps.Key]bool // items whose existing data matches the sealed data
	version  run.Version
	requires []survey.Required
	lacks    []lack
	there    map[steps.Key]bool // items that have existing data
	space    volumes
}

// lack is one reason why an item cannot be put in its place.
type lack struct {
	label string
	says  string
	need  Need
	of    string // the drive, user or item that it is about
	with  string // the path in the kit that the user must confirm; "" if none
}

// Gather collects the facts for the gates of Unpack. damage is the damage found in the kit. The
// caller closes the targets.
func (k *Checker) Gather(ctx context.Context, c *card.Card, damage []kit.Damage) (*Facts, error) {
	g := &Facts{Gates: k.Facts(c), Same: map[steps.Key]bool{}, there: map[steps.Key]bool{}, space: volumes{}}
	f := &g.Gates
	f.Kit, f.Use, f.Fit = &steps.KitFacts{}, &steps.UseFacts{}, &steps.FitFacts{}
	for _, d := range damage {
		f.Kit.Damage = append(f.Kit.Damage, d.String())
	}
	f.Place, f.Version = &steps.PlaceFacts{StillHeld: k.Licences.StillHeld(c)}, &steps.VersionFacts{Covered: Covered(c)}
	if err := k.gatherVersion(ctx, c, g); err != nil {
		return nil, err
	}
	var err error
	if g.requires, err = k.scanner(c).Requires(c); err != nil {
		return nil, err
	}
	for _, r := range g.requires {
		if !r.Here {
			f.Place.Requires = append(f.Place.Requires, r.Name)
		}
	}
	if f.Use.Running, err = k.scanner(c).Running(ctx, c); err != nil || !f.Packed {
		return g, err
	}
	if g.Targets, g.Unplaced, err = k.Kinds.Targets(ctx, k.Run, c, k.Choices); err != nil {
		return nil, err
	}
	if err := k.gatherPlaces(ctx, g); err != nil {
		item.Close(g.Targets)
		return nil, err
	}
	return g, nil
}

// gatherVersion reads the app's version here.
func (k *Checker) gatherVersion(ctx context.Context, c *card.Card, g *Facts) (err error) {
	if g.version, err = k.ForApp(c).Version(ctx, c); err != nil {
		return err
	}
	// Deactivate on the old computer uses this to check whether the licence covers this version.
	found := steps.AppFound{Version: g.version.Value, Edition: g.version.Edition}
	if was := k.State.Found[c.Name]; k.Kit.Unlocked() && g.Gates.Side == steps.NewSide && (was == nil && found.Version != "" || was != nil && !was.Same(found)) {
		if err := k.Record(journal.EventFound, steps.Key{App: c.Name}, found); err != nil {
			return err
		}
	}
	v := g.Gates.Version
	v.NewVersion, v.NewEdition, v.Withheld = g.version.Value, g.version.Edition, g.version.Withheld
	if c.Version != nil {
		v.Rule = c.Version.Rule
	}
	if p := k.State.Packed[c.Name]; p != nil {
		v.OldVersion, v.OldEdition = p.Version, p.Edition
	}
	return nil
}

// gatherPlaces checks each item's destination: user, drive, server, space, and open files.
func (k *Checker) gatherPlaces(ctx context.Context, g *Facts) error {
	f := &g.Gates
	for _, u := range g.Unplaced {
		var drive machine.NoDrive
		switch {
		case fault.KindOf(u.Err) == fault.NoUser:
			f.Place.NoUser = append(f.Place.NoUser, k.Choices.UserHere(u.Key.User))
		case errors.As(u.Err, &drive):
			g.lacks = append(g.lacks, lack{item.Label(u.Key), drive.Error(), NeedDrive, string(drive), ""})
		case u.Proposed != "":
			g.lacks = append(g.lacks, lack{item.Label(u.Key), u.Err.Error(), NeedConfirm, u.Key.Address(), u.Proposed})
		default:
			g.lacks = append(g.lacks, lack{item.Label(u.Key), u.Err.Error(), NeedPlace, "", ""})
		}
	}
	var paths []string
	for _, t := range g.Targets {
		for _, name := range t.UnmappedOwners() {
			f.Place.NoUser = append(f.Place.NoUser, name+" (owner of "+t.Label()+")")
		}
		_, disk := t.Mover.Where()
		if mount := t.InKit.Sealed.Mount; mount != "" && k.Manifest.Old.System == k.Computer.System() && t.InKit.Placed == nil && t.ChosenPath == "" && k.Choices.Drives[mount] == "" && machine.MountPoint(k.Computer, t.Path) == "" {
			g.lacks = append(g.lacks, lack{t.Label(), fmt.Sprintf("on %s it was on a disk of its own, mounted at %s; here no disk is mounted there", k.Manifest.Old.Name, mount), NeedDrive, mount, ""})
		}
		err := k.gatherPlace(ctx, t, g)
		if kind := fault.KindOf(err); err != nil && disk == "" && ctx.Err() == nil && (kind == fault.ServerDown || kind == fault.ServerLogin || kind == fault.ServerRefused || kind == fault.Missing) {
			g.lacks = append(g.lacks, lack{t.Label(), err.Error(), NeedServer, "", ""})
			continue
		}
		if err != nil {
			return err
		}
		if disk != "" && g.there[t.Key] {
			paths = append(paths, disk)
		}
	}
	if err := k.gatherShared(ctx, g); err != nil {
		return err
	}
	for _, l := range g.lacks {
		f.Place.Lacks = append(f.Place.Lacks, l.says)
	}
	if t := g.space.tightest(); t != nil {
		f.Fit.Need, f.Fit.Free = t.need, t.free
	}
	if len(paths) == 0 {
		return nil
	}
	// Existing data cannot be set aside while a program has it open.
	holders, err := k.Computer.OpenFiles(ctx, paths)
	for _, h := range holders {
		f.Use.Open = append(f.Use.Open, fmt.Sprintf("%s has %s open", survey.ProgramText(h.Program), h.Path))
	}
	return err
}

// gatherShared finds items of other apps that would go to the same place. Parts of one folder, which
// include patterns select, can be together.
func (k *Checker) gatherShared(ctx context.Context, g *Facts) error {
	for _, other := range k.Cards {
		if len(g.Targets) == 0 || other.Name == g.Targets[0].Key.App {
			continue
		}
		theirs, _, err := k.Kinds.Targets(ctx, k.Run, other, k.Choices)
		if err != nil {
			return err
		}
		for _, t := range g.Targets {
			for _, o := range theirs {
				if t.Path != "" && t.Path == o.Path && t.User.SameAs(o.User) && t.Item.Kind == o.Item.Kind && len(t.Item.Include) == 0 && len(o.Item.Include) == 0 {
					g.lacks = append(g.lacks, lack{t.Label(), fmt.Sprintf("%s of %s and %s of %s would both go to %s", t.Label(), t.Card.Title, o.Label(), other.Title, machine.DisplayPath(k.Computer, t.Path)), NeedPlace, "", ""})
				}
			}
		}
		item.Close(theirs)
	}
	return nil
}

// gatherPlace checks one item's destination.
func (k *Checker) gatherPlace(ctx context.Context, t item.Target, g *Facts) error {
	_, disk := t.Mover.Where()
	var lacks item.Lacks
	var err error
	if k.Kit.Unlocked() {
		if lacks, err = t.Mover.Lacks(ctx); err != nil {
			return err
		}
	}
	there := false
	if len(lacks.Reasons) == 0 || disk == "" { // otherwise the location may not even be readable
		if there, err = t.Exists(ctx, t.Path); err != nil {
			return err
		}
	}
	g.there[t.Key] = there
	if k.Kit.Unlocked() {
		need := NeedServerParts
		if disk != "" {
			need = NeedPlace
		}
		for _, why := range lacks.Reasons {
			g.lacks = append(g.lacks, lack{t.Label(), why, need, "", ""})
		}
		g.Gates.Fit.BadNames = append(g.Gates.Fit.BadNames, lacks.BadNames...)
		if there {
			if g.Same[t.Key], err = t.Mover.Same(ctx, t.Path); err != nil {
				return err
			}
		}
	}
	if t.InKit.Placed != nil || g.Same[t.Key] {
		return nil
	}
	volume := t.Mover.Volume(ctx)
	need := t.InKit.Sealed.Bytes
	if k.Computer.System() != machine.Windows { // elsewhere, holes are kept
		need -= min(max(t.InKit.Sealed.Holes, 0), need)
	}
	if err := g.space.add(volume, need); err != nil {
		return err
	}
	if disk != "" {
		g.space.reclaim(volume, sizeOf(t.StageName(disk)))
	}
	return nil
}

// Covered returns the versions and editions that an app's licences cover, according to its card.
func Covered(c *card.Card) (out []steps.Cover) {
	for _, l := range c.Licences {
		out = append(out, steps.Cover{Version: l.Covers, Edition: l.Edition})
	}
	return out
}
