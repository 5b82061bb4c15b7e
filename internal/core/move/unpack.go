package move

import (
	"context"
	"io"
	"io/fs"
	"os"
	"path/filepath"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/kit"
	"movekit/internal/core/machine"
	"movekit/internal/core/seal"
	"movekit/internal/core/sqlite"
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
	item *steps.Item
	card *card.Item
	user *machine.User
	path string
}

// targets returns where the items of an app belong here, and the users who
// are not here.
func (j *Job) targets(c *card.Card) (out []target, noUser []string, err error) {
	for _, it := range j.State().AppItems(c.Name) {
		t := target{item: it, card: c.Item(it.Key.Item)}
		if t.card == nil {
			return nil, nil, fault.New(fault.Damaged, "the card of %s has no item %q", c.Title, it.Key.Item)
		}
		path := t.card.Path.On(string(j.Computer.System()))
		if path == "" {
			return nil, nil, fault.New(fault.BadCard, "the card of %s does not say where %s belongs on a %s computer", c.Title, it.Key.Item, j.Computer.System())
		}
		if it.Key.User != "" {
			name := it.Key.User
			if to := j.Users[name]; to != "" {
				name = to
			} else if it.Placed != nil && it.Placed.User != "" {
				name = it.Placed.User // as unpack was told
			}
			if t.user = machine.FindUser(j.Computer, name); t.user == nil {
				noUser = append(noUser, name)
				continue
			}
		}
		if t.path, err = j.Computer.Locate(path, t.user); err != nil {
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

func (j *Job) unpackApp(ctx context.Context, c *card.Card, o *Outcome, damage []string) error {
	f := j.facts(c)
	f.KitDamage, f.Consistent = damage, false
	var targets []target
	var err error
	if f.Packed {
		if targets, f.NoUser, err = j.targets(c); err != nil {
			return err
		}
		f.OldVersion = j.State().Packed[c.Name].Version
	}
	if c.Version != nil {
		f.Rule = c.Version.Rule
	}
	if f.NewVersion, err = j.version(c); err != nil {
		return err
	}
	if f.Running, err = j.running(ctx, c); err != nil {
		return err
	}
	for _, t := range targets {
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
	if t.card.Kind == card.SQLite {
		return nil
	}
	list, closer, err := j.list(t.item)
	if err != nil {
		return err
	}
	defer closer.Close()
	return tree.CheckList(list, j.Computer.System() == machine.Windows)
}

// put places one item and records it: once before, with where things in the
// way go, and once after.
func (j *Job) put(ctx context.Context, t target) (ItemOutcome, error) {
	policy := j.Policy
	if policy == "" {
		policy = tree.SetAside
	}
	done := steps.Placed{To: t.path, Policy: string(policy)}
	if t.user != nil {
		done.User = t.user.Name
	}
	out := ItemOutcome{Item: t.item.Key.Item, User: t.item.Key.User, Did: "placed", Files: t.item.Sealed.Files, Bytes: t.item.Sealed.Bytes, To: t.path}
	there, err := machine.Exists(t.path)
	if err != nil {
		return out, fault.Wrap(fault.Unreadable, err, "cannot look at %s", t.path)
	}
	same := false
	if there {
		if same, err = j.sameAlready(ctx, t); err != nil {
			return out, err
		}
	}
	switch {
	case same:
		done.Same, done.Policy, out.Did = true, "", "same"
		if was := t.item.Placed; was != nil && was.To == t.path {
			return out, nil
		}
		if was := t.item.Placing; was != nil && was.To == t.path {
			done.Aside = was.Aside // an interrupted run got this far
		}
		return out, j.Kit.Record(j.line(steps.EventPlaced, t.item.Key), done)
	case there && policy == tree.KeepBoth:
		done.To = tree.BothName(t.path, j.Kit.Manifest.Old.Name)
	case there && policy == tree.SetAside:
		done.Aside = tree.AsideName(t.path, j.now())
		if was := t.item.Placing; len(t.card.Include) > 0 && was != nil && was.To == t.path && was.Aside != "" {
			done.Aside = was.Aside // an interrupted run set some files aside there
		}
	case !there:
		done.Policy = ""
		if was := t.item.Placing; was != nil && was.To == t.path {
			done.Aside = was.Aside
		}
	}
	if err := j.Kit.Record(j.line(steps.EventPlacing, t.item.Key), done); err != nil {
		return out, err
	}
	if t.card.Kind == card.SQLite {
		err = j.putDatabase(ctx, t, &done)
	} else {
		err = j.putTree(ctx, t, &done, there)
	}
	if err != nil {
		return out, err
	}
	out.To, out.Aside = done.To, done.Aside
	if done.Policy == string(tree.Skip) && there {
		out.Did = "skipped"
	}
	return out, j.Kit.Record(j.line(steps.EventPlaced, t.item.Key), done)
}

// sameAlready reports whether what is at the target is what would be put
// there.
func (j *Job) sameAlready(ctx context.Context, t target) (bool, error) {
	if t.card.Kind == card.SQLite {
		diffs, err := j.compareDatabase(ctx, t)
		return err == nil && len(diffs) == 0, nil // one that cannot be read is another
	}
	info, err := os.Stat(t.path)
	if err != nil || info.IsDir() != (t.card.Kind == card.Folder) {
		return false, nil
	}
	list, closer, err := j.list(t.item)
	if err != nil {
		return false, err
	}
	defer closer.Close()
	cmp, err := tree.Comparing{Modes: j.modes()}.Compare(ctx, j.at(t), list)
	if err != nil {
		return false, err
	}
	return cmp.Equal(), nil
}

// at is the source that is held against an item's list.
func (j *Job) at(t target) tree.Source {
	s := j.source(t.card, t.path)
	s.Name = filepath.Base(t.card.Path.On(string(j.Computer.System())))
	if t.card.Kind == card.File {
		if list, closer, err := j.list(t.item); err == nil {
			if e, err := list.Next(); err == nil {
				s.Name = e.Path
			}
			closer.Close()
		}
	}
	return s
}

// modes reports whether permissions mean the same on both computers.
func (j *Job) modes() bool {
	return j.Kit.Manifest.Old.System == machine.Linux && j.Computer.System() == machine.Linux
}

// putTree stages the files beside their target, flushes them, and then
// renames.
func (j *Job) putTree(ctx context.Context, t target, done *steps.Placed, there bool) error {
	parent, stage := filepath.Dir(done.To), done.To+tree.StageEnding
	if err := j.makeParent(t, parent); err != nil {
		return err
	}
	if err := j.stageTree(ctx, t, stage); err != nil {
		return err
	}
	if err := seal.SyncVolume(parent); err != nil {
		return fault.Wrap(fault.CannotPlace, err, "cannot flush %s", parent)
	}
	if err := tree.SyncTree(stage); err != nil {
		return fault.Wrap(fault.CannotPlace, err, "cannot flush %s", stage)
	}
	if err := j.settle(ctx, t, done, stage, there); err != nil {
		return err
	}
	if err := tree.RemoveTree(stage); err != nil {
		return fault.Wrap(fault.CannotPlace, err, "cannot remove %s", stage)
	}
	return seal.SyncDir(parent)
}

// settle moves what was staged to its place.
func (j *Job) settle(ctx context.Context, t target, done *steps.Placed, stage string, there bool) error {
	cannot := func(err error) error {
		if err == nil {
			return nil
		}
		return fault.Wrap(fault.CannotPlace, err, "cannot rename")
	}
	policy := tree.Policy(done.Policy)
	merge := there && t.card.Kind == card.Folder && (policy == tree.Skip || policy == tree.Replace || policy == tree.SetAside && len(t.card.Include) > 0)
	if merge {
		list, closer, err := j.list(t.item)
		if err != nil {
			return err
		}
		defer closer.Close()
		aside := done.Aside
		if aside == "" {
			aside = tree.AsideName(t.path, j.now())
		}
		m, err := tree.Merge(ctx, stage, t.path, aside, list, policy)
		if err == nil && m.Aside > 0 {
			done.Aside = aside
		}
		return err
	}
	from := stage
	if t.card.Kind == card.File {
		entries, err := os.ReadDir(stage)
		if err != nil || len(entries) != 1 {
			return fault.New(fault.Damaged, "the sealed file of %s is not one file", itemLabel(t.item.Key))
		}
		from = filepath.Join(stage, entries[0].Name())
		if there && policy == tree.Skip {
			return nil
		}
	}
	if there && policy == tree.SetAside {
		if err := cannot(os.Rename(t.path, done.Aside)); err != nil {
			return err
		}
	}
	return cannot(os.Rename(from, done.To))
}

// makeParent makes the folder that a target lies in.
func (j *Job) makeParent(t target, parent string) error {
	if err := os.MkdirAll(parent, 0o755); err != nil {
		return fault.Wrap(fault.CannotPlace, err, "cannot make the folder %s", parent)
	}
	return nil
}

func (j *Job) stageTree(ctx context.Context, t target, stage string) error {
	progress := j.begin(t.item.Key, "putting in place", t.item.Sealed.Bytes)
	data, err := seal.Open(j.Kit.AppDir(t.item.Key.App), t.item.Sealed.Parts, j.identity())
	if err != nil {
		return err
	}
	defer data.Close()
	list, closer, err := j.list(t.item)
	if err != nil {
		return err
	}
	defer closer.Close()
	var again io.Closer
	placing := tree.Placing{Progress: progress, Owner: ownerOf(t.user)}
	_, err = placing.Stage(ctx, stage, data, list, func() (l *tree.ListReader, err error) {
		l, again, err = j.list(t.item)
		return l, err
	})
	if again != nil {
		again.Close()
	}
	if err != nil {
		tree.RemoveTree(stage)
	}
	return err
}

// putDatabase writes a database beside its target, flushes it, and renames it
// into place after what is in the way, side files and all, was set aside.
func (j *Job) putDatabase(ctx context.Context, t target, done *steps.Placed) error {
	if err := j.makeParent(t, filepath.Dir(done.To)); err != nil {
		return err
	}
	inWay := append([]string{t.path}, sqlite.SideFiles(t.path)...)
	policy := tree.Policy(done.Policy)
	if policy == tree.Skip {
		return nil
	}
	stage := done.To + tree.StageEnding
	if err := j.stageDatabase(ctx, t, stage); err != nil {
		os.Remove(stage)
		return err
	}
	for _, name := range inWay {
		if _, err := os.Lstat(name); err != nil || policy == tree.KeepBoth {
			continue
		}
		// An old log beside a new database would corrupt it: it never stays.
		aside := done.Aside
		if aside == "" {
			aside = tree.AsideName(t.path, j.now())
		}
		var err error
		if policy == tree.Replace {
			err = os.Remove(name)
		} else {
			err = os.Rename(name, aside+name[len(t.path):])
		}
		if err != nil {
			return fault.Wrap(fault.CannotPlace, err, "cannot set %s aside", name)
		}
	}
	if err := os.Rename(stage, done.To); err != nil {
		return fault.Wrap(fault.CannotPlace, err, "cannot rename")
	}
	return seal.SyncDir(filepath.Dir(done.To))
}

func (j *Job) stageDatabase(ctx context.Context, t target, stage string) error {
	progress := j.begin(t.item.Key, "putting in place", t.item.Sealed.Bytes)
	r, err := seal.Open(j.Kit.AppDir(t.item.Key.App), t.item.Sealed.Parts, j.identity())
	if err != nil {
		return err
	}
	defer r.Close()
	os.Remove(stage)
	w, err := os.OpenFile(stage, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return fault.Wrap(fault.CannotPlace, err, "cannot write the database")
	}
	defer w.Close()
	buf := make([]byte, 1<<20)
	for {
		n, rerr := r.Read(buf)
		if _, err := w.Write(buf[:n]); err != nil {
			return fault.Wrap(fault.CannotPlace, err, "cannot write the database")
		}
		progress(int64(n))
		if rerr == io.EOF {
			break
		}
		if rerr == nil {
			rerr = ctx.Err()
		}
		if rerr != nil {
			return rerr
		}
	}
	if o := ownerOf(t.user); o != nil {
		if err := w.Chown(o.UID, o.GID); err != nil {
			return fault.Wrap(fault.CannotPlace, err, "cannot give the database to its user")
		}
	}
	if err := w.Chmod(fs.FileMode(t.item.Sealed.Mode).Perm()); err != nil && j.Computer.System() == machine.Linux {
		return fault.Wrap(fault.CannotPlace, err, "cannot set the database's permissions")
	}
	if err := w.Sync(); err != nil {
		return fault.Wrap(fault.CannotPlace, err, "cannot flush the database")
	}
	return w.Close()
}

// compareDatabase holds the database at a target against the sealed
// fingerprint.
func (j *Job) compareDatabase(ctx context.Context, t target) ([]sqlite.Diff, error) {
	old, now, err := j.fingerprints(ctx, t)
	if err != nil {
		return nil, err
	}
	return sqlite.Compare(old, now), nil
}

func (j *Job) fingerprints(ctx context.Context, t target) (old, now *sqlite.Fingerprint, err error) {
	old = &sqlite.Fingerprint{}
	if err := j.openJSON(t.item.Key.App, t.item.Sealed.List, old); err != nil {
		return nil, nil, err
	}
	temp, err := j.temp()
	if err != nil {
		return nil, nil, err
	}
	now, err = sqlite.Take(ctx, t.path, temp, t.card.Counts)
	return old, now, err
}
