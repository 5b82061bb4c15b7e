package move

import (
	"context"
	"io"
	"os"
	"path/filepath"

	"movekit/internal/core/fault"
	"movekit/internal/core/machine"
	"movekit/internal/core/seal"
	"movekit/internal/core/steps"
	"movekit/internal/core/survey"
	"movekit/internal/core/tree"
)

// put places one item and records it: once before, with where things in the
// way go, and once after.
func (j *Job) put(ctx context.Context, t target) (ItemOutcome, error) {
	out := ItemOutcome{Item: t.item.Key.Item, User: t.item.Key.User, Did: "same", Files: t.item.Sealed.Files, Bytes: t.item.Sealed.Bytes, To: t.path}
	there, err := j.there(ctx, t)
	if err != nil {
		return out, err
	}
	at, err := j.alreadyAt(ctx, t, there)
	if err != nil {
		return out, err
	}
	if at != "" {
		out.To = at
		return out, j.recordSame(t, at)
	}
	done, err := j.intend(ctx, t, there)
	if err != nil {
		return out, err
	}
	if err := j.Kit.Record(j.line(steps.EventPlacing, t.item.Key), done); err != nil {
		return out, err
	}
	if db := j.database(t.card.Kind); db != nil {
		err = db.put(ctx, t, &done)
	} else {
		err = j.putTree(ctx, t, &done, there)
	}
	if err != nil {
		return out, err
	}
	out.Did, out.To, out.Aside, out.Notes = "placed", done.To, done.Aside, done.Notes
	if there && done.Policy == string(tree.Skip) {
		out.Did = "skipped"
	}
	return out, j.Kit.Record(j.line(steps.EventPlaced, t.item.Key), done)
}

// alreadyAt returns where the item is on this computer already: in its place,
// or where an earlier run put it beside something. Nowhere gives "".
func (j *Job) alreadyAt(ctx context.Context, t target, there bool) (string, error) {
	var tries []string
	if there {
		tries = append(tries, t.path)
	}
	for _, was := range []*steps.Placed{t.item.Placed, t.item.Placing} {
		if was != nil && was.Policy == string(tree.KeepBoth) {
			tries = append(tries, was.To)
		}
	}
	for _, path := range tries {
		at := t
		at.path = path
		if same, err := j.sameAlready(ctx, at); err != nil || same {
			return path, err
		}
	}
	return "", nil
}

// recordSame records that an item is in its place, unless that is known.
func (j *Job) recordSame(t target, at string) error {
	done := steps.Placed{To: at}
	if t.user != nil {
		done.User = t.user.Name
	}
	if was := t.item.Placing; was != nil && was.To == at {
		// An interrupted run got this far.
		done.Policy, done.Aside = was.Policy, was.Aside
	} else if was := t.item.Placed; was != nil && was.To == at {
		return nil
	} else {
		done.Same = true
	}
	return j.Kit.Record(j.line(steps.EventPlaced, t.item.Key), done)
}

// intend says what will be done about an item and what is in its way.
func (j *Job) intend(ctx context.Context, t target, there bool) (steps.Placed, error) {
	policy := j.Policy
	if policy == "" {
		policy = tree.SetAside
	}
	done := steps.Placed{To: t.path, Policy: string(policy)}
	if t.user != nil {
		done.User = t.user.Name
	}
	// Where an interrupted run has set something aside.
	earlier := ""
	if was := t.item.Placing; was != nil && was.To == t.path {
		earlier = was.Aside
	}
	switch {
	case !there:
		done.Policy, done.Aside = "", earlier
	case policy == tree.KeepBoth && t.card.Kind.Served():
		done.To = bothOf(survey.Engine(t.card.Kind), t.server, j.Kit.Manifest.Old.Name).Address()
	case policy == tree.SetAside && t.card.Kind.Served():
		err := servedKind{j, survey.Engine(t.card.Kind)}.intendAside(ctx, t, earlier, &done)
		return done, err
	case policy == tree.KeepBoth:
		done.To = tree.BothName(t.path, j.Kit.Manifest.Old.Name)
	case policy == tree.SetAside && len(t.card.Include) > 0 && earlier != "":
		done.Aside = earlier // it may have set aside some of the files only
	case policy == tree.SetAside:
		done.Aside = tree.AsideName(t.path, j.now())
	}
	return done, nil
}

// sameAlready reports whether what is at the target is what would be put
// there.
func (j *Job) sameAlready(ctx context.Context, t target) (bool, error) {
	if j.database(t.card.Kind) != nil {
		diffs, err := j.compareDatabase(ctx, t)
		return err == nil && len(diffs) == 0, nil // one that cannot be read is another
	}
	info, err := os.Stat(t.path)
	if err != nil || info.IsDir() != t.card.Kind.Tree() {
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

// at is the source that is held against an item's list. A single file may have
// another name on this computer; it is compared under that of the list.
func (j *Job) at(t target) tree.Source {
	s := j.source(t.card, t.path)
	if !t.card.Kind.Single() {
		return s
	}
	if list, closer, err := j.list(t.item); err == nil {
		defer closer.Close()
		if e, err := list.Next(); err == nil {
			s.Name = e.Path
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
	if err := makeParent(parent); err != nil {
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
	merge := there && t.card.Kind.Tree() && (policy == tree.Skip || policy == tree.Replace || policy == tree.SetAside && len(t.card.Include) > 0)
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
	if t.card.Kind.Single() {
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
func makeParent(parent string) error {
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
	defer seal.FlushAhead(filepath.Dir(stage))()
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
