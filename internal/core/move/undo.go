package move

import (
	"context"
	"os"
	"path/filepath"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/machine"
	"movekit/internal/core/seal"
	"movekit/internal/core/served"
	"movekit/internal/core/sqlite"
	"movekit/internal/core/steps"
	"movekit/internal/core/tree"
)

// Undo takes back what Unpack did for the chosen apps: what was put in place and
// is unchanged is removed, and what was set aside gets its name back. What was
// worked in since is kept under another name.
func (j *Job) Undo(ctx context.Context) ([]*Outcome, error) {
	defer j.dropTemp()
	return j.each(ctx, j.undoApp)
}

func (j *Job) undoApp(ctx context.Context, c *card.Card, o *Outcome) error {
	f := j.facts(c)
	f.Consistent = false
	var err error
	if f.Running, err = j.running(ctx, c); err != nil {
		return err
	}
	if lic := j.activeHere(c); lic != "" {
		f.ActiveHere = append(f.ActiveHere, lic)
	}
	if err := j.check(steps.Undo, c, f, o); err != nil || len(o.Blocks) > 0 {
		return err
	}
	// In the reverse order: an item may lie within another.
	items := j.State().AppItems(c.Name)
	for i := len(items) - 1; i >= 0; i-- {
		out, err := j.undoItem(ctx, c, items[i])
		if err != nil {
			return fault.Wrap(fault.CannotPlace, err, "%s of %s is not taken back", itemLabel(items[i].Key), c.Title)
		}
		o.Items = append(o.Items, out)
	}
	return nil
}

// activeHere names a licence of the app that is active on this computer.
func (j *Job) activeHere(c *card.Card) string {
	st := j.State()
	for _, l := range c.Licences {
		if lic := st.Licences[steps.Key{App: c.Name, Item: l.Name}]; lic != nil && lic.Answers[machine.ID(j.Computer)] > 0 && lic.New == "active" {
			return l.Name
		}
	}
	return ""
}

func (j *Job) undoItem(ctx context.Context, c *card.Card, it *steps.Item) (ItemOutcome, error) {
	out := ItemOutcome{Item: it.Key.Item, User: it.Key.User, Did: "nothing", Files: it.Sealed.Files, Bytes: it.Sealed.Bytes}
	if it.Placing != nil && it.Undoing == nil {
		out.Did = "unfinished"
		return out, nil
	}
	if it.Placed == nil {
		return out, nil
	}
	out.To = it.Placed.To
	policy := tree.Policy(it.Placed.Policy)
	if it.Placed.Same || policy == tree.Skip || policy == tree.Replace {
		out.Did = map[bool]string{true: "was here", false: "not taken back"}[it.Placed.Same]
		return out, nil
	}
	t, err := j.targetOf(ctx, c, it)
	if err != nil {
		return out, err
	}
	t.path = it.Placed.To
	u := it.Undoing
	if u == nil {
		u = &steps.Undone{From: t.path, Back: it.Placed.Aside}
		if u.Kept, err = j.keptName(ctx, t); err != nil {
			return out, err
		}
		if policy == tree.KeepBoth {
			u.Back = "" // what is in its own place was never touched
		}
		if err := j.Kit.Record(j.line(steps.EventUndoing, it.Key), u); err != nil {
			return out, err
		}
	}
	kept, err := j.takeBack(ctx, t, *u)
	if err != nil {
		return out, err
	}
	out.Did, out.Back = "taken back", u.Back
	if !kept {
		u.Kept = ""
	}
	out.Aside = u.Kept
	return out, j.Kit.Record(j.line(steps.EventUndone, it.Key), u)
}

// keptName is where what was worked in since goes.
func (j *Job) keptName(ctx context.Context, t target) (name string, err error) {
	db, ok := j.database(t.card.Kind).(servedKind)
	if !ok {
		return tree.AsideName(t.path, j.now()), nil
	}
	err = db.reach(ctx, t, func(s served.Server) (err error) {
		name, err = db.freeName(ctx, s, "_kept_")
		return err
	})
	return name, err
}

// takeBack takes one item back, and reports whether what was there was kept
// under another name.
func (j *Job) takeBack(ctx context.Context, t target, u steps.Undone) (kept bool, err error) {
	if db, ok := j.database(t.card.Kind).(servedKind); ok {
		return db.takeBack(ctx, t, u)
	}
	if t.card.Kind.Tree() && len(t.card.Include) > 0 {
		list, closer, err := j.list(t.item)
		if err != nil {
			return false, err
		}
		defer closer.Close()
		w, err := tree.Withdraw(ctx, u.From, u.Back, u.Kept, list)
		return err == nil && w.Kept > 0, err
	}
	there, err := machine.Exists(u.From)
	if err != nil {
		return false, fault.Wrap(fault.Unreadable, err, "cannot look at %s", u.From)
	}
	waits, err := waiting(u.Back)
	if err != nil {
		return false, err
	}
	if there && (u.Back == "" || waits) {
		if kept, err = j.clear(ctx, t, u); err != nil {
			return kept, err
		}
	}
	if waits {
		if err := renameAll(t.card.Kind, u.Back, u.From); err != nil {
			return kept, err
		}
	}
	if err := tree.RemoveTree(u.From + tree.StageEnding); err != nil {
		return kept, fault.Wrap(fault.CannotPlace, err, "cannot remove %s", u.From+tree.StageEnding)
	}
	return kept, seal.SyncDir(filepath.Dir(u.From))
}

// waiting reports whether what was set aside is still under that name.
func waiting(back string) (bool, error) {
	if back == "" {
		return false, nil
	}
	there, err := machine.Exists(back)
	if err != nil {
		err = fault.Wrap(fault.Unreadable, err, "cannot look at %s", back)
	}
	return there, err
}

// clear makes the place of an item free: what is the same as what was put there
// goes under a name from which it is removed, the rest is kept.
func (j *Job) clear(ctx context.Context, t target, u steps.Undone) (kept bool, err error) {
	same, err := j.sameAlready(ctx, t)
	if err != nil {
		return false, err
	}
	if !same {
		return true, renameAll(t.card.Kind, u.From, u.Kept)
	}
	if err := tree.RemoveTree(u.From + tree.StageEnding); err != nil {
		return false, fault.Wrap(fault.CannotPlace, err, "cannot remove %s", u.From+tree.StageEnding)
	}
	if t.card.Kind == card.SQLite {
		for _, side := range sqlite.SideFiles(u.From) {
			if err := os.Remove(side); err != nil {
				return false, fault.Wrap(fault.CannotPlace, err, "cannot remove %s", side)
			}
		}
	}
	if err := os.Rename(u.From, u.From+tree.StageEnding); err != nil {
		return false, fault.Wrap(fault.CannotPlace, err, "cannot rename")
	}
	return false, nil
}

// renameAll renames an item, with the side files of a database: those first,
// so that a run which is interrupted finds the rest.
func renameAll(kind card.Kind, from, to string) error {
	names := []string{from}
	if kind == card.SQLite {
		names = append(sqlite.SideFiles(from), from)
	}
	for _, name := range names {
		if err := os.Rename(name, to+name[len(from):]); err != nil {
			return fault.Wrap(fault.CannotPlace, err, "cannot rename")
		}
	}
	return nil
}

// takeBack takes a database back.
func (k servedKind) takeBack(ctx context.Context, t target, u steps.Undone) (kept bool, err error) {
	same, err := k.sameAlready(ctx, t)
	if err != nil {
		return false, err
	}
	err = k.reach(ctx, t, func(s served.Server) error {
		there, err := k.engine.Exists(ctx, s)
		if err != nil {
			return err
		}
		waits := false
		if u.Back != "" {
			if waits, err = k.engine.Exists(ctx, s.At(u.Back)); err != nil {
				return err
			}
		}
		switch {
		case there && u.Back != "" && !waits: // back already
			return nil
		case there && same:
			err = k.engine.Drop(ctx, s)
		case there:
			kept = true
			err = k.engine.Rename(ctx, s, s.At(u.Kept).Database)
		}
		if err != nil || u.Back == "" {
			return err
		}
		return k.engine.Rename(ctx, s.At(u.Back), s.Database)
	})
	return kept, err
}
