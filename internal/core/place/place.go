// Package place puts one item in place on the new computer, undoes that, and sets an item aside on
// the old one. Put, Undo, Retire, Return and Remove each carry out a plan of operations
// (steps.Plan). The plan is written to the journal before the first rename and after each
// operation, so that an interrupted run can be resumed.
package place

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"time"

	"movekit/internal/core/fault"
	"movekit/internal/core/item"
	"movekit/internal/core/journal"
	"movekit/internal/core/machine"
	"movekit/internal/core/run"
	"movekit/internal/core/spare"
	"movekit/internal/core/steps"
	"movekit/internal/core/tree"
)

// Placer places the items of one run.
type Placer struct {
	*run.Run
	Kinds    item.Table
	Policies map[string]tree.Policy // policies for existing data, by app and by item address; "" is for all. If none applies, the user is asked
	Choices  item.Choices           // destinations
	NoNotes  bool                   // Retire leaves no note in an item's place
	// Undamaged waits until the kit is inspected, and returns an error if it is damaged. nil means that it was inspected before.
	Undamaged func(context.Context) error
}

// Outcome starts the outcome of a step for an item. did is the result.
func Outcome(o *item.Instance, did string) run.ItemOutcome {
	out := run.ItemOutcome{Item: o.Key.Item, User: o.Key.User, Did: did, To: o.Path}
	if o.InKit != nil {
		out.Files, out.Bytes = o.InKit.Sealed.Files, o.InKit.Sealed.Bytes
	}
	return out
}

// Put puts one item in place. same means that the existing data matches the sealed data.
func (m *Placer) Put(ctx context.Context, t item.Target, same bool) (run.ItemOutcome, error) {
	out := Outcome(t.Instance, "same")
	if was := t.InKit.Placed; was != nil && was.To != t.Path && was.Policy != string(tree.KeepBoth) {
		return out, fault.New(fault.Usage, "it is already in place at %s and cannot go to %s: undo that unpack first", machine.DisplayPath(m.Computer, was.To), machine.DisplayPath(m.Computer, t.Path))
	}
	if !same {
		home := t.Path
		earlier, err := m.renewBeside(ctx, t)
		if err == nil && t.Path != home {
			same, err = t.Mover.Same(ctx, t.Path)
		}
		if err != nil {
			return out, err
		}
		out.Notes = append(out.Notes, earlier...)
	}
	unlock, err := m.LockPlace(t.Path)
	if err != nil {
		return out, err
	}
	defer unlock()
	t.ConfirmHome()
	done, err := m.resumed(ctx, t)
	if err != nil {
		return out, err
	}
	if done != nil && done.Plan.Content != content(t) && !pendingStage(done.Plan) {
		// The placed data is from an earlier pack. Its plan is finished first.
		if _, err := m.carryOut(ctx, t, done); err != nil {
			return out, err
		}
		out.Notes = append(out.Notes, m.noteOn(done.Aside)...)
		done, t.InKit.Placing = nil, nil
		same = false // the existing data has moved since it was compared
	}
	if done == nil {
		at, err := alreadyAt(ctx, t, same)
		if err != nil {
			return out, err
		}
		if at != "" {
			out.To = at
			return out, errors.Join(m.recordSame(ctx, t, at), discardStage(ctx, t))
		}
		if done, out.Did, err = m.intend(ctx, t); err != nil {
			return out, err
		}
		if err := m.recordPlaced(journal.EventPlacing, t.Key, *done); err != nil {
			return out, err
		}
	} else {
		out.Did = "placed"
	}
	ours := pendingStage(done.Plan) || len(done.Plan.Ops) == 0
	if done, err = m.carryOut(ctx, t, done); err != nil {
		return out, err
	}
	if err := m.placed(ctx, t, done, ours); err != nil {
		return out, err
	}
	if m.Manifest.Back != "" && done.ManualStep == "" {
		if _, disk := t.Mover.Where(); disk != "" { // the note of the earlier move is outdated
			if err := spare.RemoveNote(done.To, m.Manifest.Old.Name); err != nil {
				out.Notes = append(out.Notes, err.Error())
			}
		}
	}
	out.To, out.Aside, out.NotRestored, out.ManualStep = done.To, done.Aside, done.NotRestored, done.ManualStep
	out.Notes = append(out.Notes, done.Notes...)
	if out.ManualStep != "" {
		out.Did = "left"
	}
	if r := m.State.Items[t.Key].PathUpdates; r != nil {
		out.PathUpdates = r.Places
	}
	return out, discardStage(ctx, t)
}

// carryOut stages the item if the plan needs it, and carries out the plan. Nothing is renamed
// before staging is complete.
func (m *Placer) carryOut(ctx context.Context, t item.Target, done *steps.Placed) (*steps.Placed, error) {
	staged := false
	stage := func() error {
		if staged {
			return nil
		}
		staged = true
		name, err := t.Names.Free(ctx, t.Path, item.ForStage)
		if err != nil {
			return err
		}
		s, err := t.Mover.Stage(ctx, name)
		t.InKit.PathUpdates = m.State.Items[t.Key].PathUpdates // the placed data then has other paths than the sealed data
		done.NotRestored, done.Notes, done.ManualStep = append(done.NotRestored, s.NotRestored...), append(done.Notes, s.Notes...), s.ManualStep
		if m.Undamaged == nil {
			return err
		}
		damage := m.Undamaged(ctx)
		if fault.KindOf(damage) == fault.Damaged {
			_, rerr := t.Names.Delete(ctx, name, steps.Op{Do: steps.Delete, From: name})
			return errors.Join(damage, rerr)
		}
		return cmp.Or(err, damage)
	}
	atRest := t.AtRest()
	if atRest || pendingStage(done.Plan) {
		if err := stage(); err != nil || atRest {
			return done, err
		}
	}
	aside := done.Aside
	result, err := t.CarryOut(ctx, done.Plan, stage, func() error { return m.recordPlaced(journal.EventPlacing, t.Key, *done) })
	if err != nil {
		return done, err
	}
	done.Notes = append(done.Notes, m.notes(result)...)
	if result.Kept != "" {
		done.Notes = append(done.Notes, "check "+machine.DisplayPath(m.Computer, result.Kept)+": it was modified while it was being replaced")
	}
	slices.Sort(done.Notes) // a resumed run reports some of them again
	slices.Sort(done.NotRestored)
	done.Notes, done.NotRestored = slices.Compact(done.Notes), slices.Compact(done.NotRestored)
	if result.Conflicts != "" && aside != "" && aside != result.Conflicts {
		done.Notes = append(done.Notes, "check "+machine.DisplayPath(m.Computer, result.Conflicts)+": these files conflicted with the unpacked ones")
	} else if result.Conflicts != "" {
		done.Aside = result.Conflicts
	}
	there, err := t.Exists(ctx, done.Aside)
	if err == nil && !there {
		done.Aside = "" // there was no existing data, or what an earlier run set aside was deleted
	}
	return done, err
}

// notes returns notes for the technician on a plan that was carried out.
func (m *Placer) notes(r *item.Result) []string {
	out := r.Notes
	for _, spare := range r.Meanwhile {
		out = append(out, "check "+machine.DisplayPath(m.Computer, spare)+": it was created after a run was interrupted")
	}
	if r.Gone != "" {
		out = append(out, machine.DisplayPath(m.Computer, r.Gone)+" is gone, so no files could be added from it")
	}
	return out
}

// pendingStage reports whether a plan still has to move staged data in.
func pendingStage(p *steps.Plan) bool {
	for _, op := range p.Left() {
		if op.Do == steps.MoveIn || op.Do == steps.MergeIn {
			return true
		}
	}
	return false
}

// content returns a hash of an item's sealed data.
func content(t item.Target) string {
	if all := t.InKit.Sealed.All(); len(all) > 0 {
		return all[len(all)-1].Hash
	}
	return ""
}

// resumed returns the plan of an interrupted run if it already renamed data. Otherwise it returns
// nil, and the step makes a new plan.
func (m *Placer) resumed(ctx context.Context, t item.Target) (*steps.Placed, error) {
	was := t.InKit.Placing
	if was == nil || len(was.Plan.Left()) == 0 {
		return nil, nil
	}
	next := was.Plan.Left()[0]
	if home := was.Plan.Ops[0].From; was.Plan.Ops[0].Do == steps.MoveOut && home != t.Path {
		return nil, nil // that plan had another destination
	}
	switch {
	case was.Plan.At > 0:
	case next.Do != steps.MoveOut:
		return nil, nil
	default:
		is, err := t.Names.State(ctx, next.From, next.To, next.Part)
		if err != nil || is == item.AtHome || is == item.Neither {
			return nil, err
		}
	}
	done := *was
	plan := *was.Plan
	done.Plan, done.Stamp = &plan, ""
	if next.Do == steps.MoveIn {
		there, err := t.Exists(ctx, next.To)
		if err != nil {
			return nil, err
		}
		if there {
			same, err := t.Mover.Same(ctx, next.To)
			if err != nil {
				return nil, err
			}
			if same {
				plan.At++ // the interrupted run moved it in
			}
		}
	}
	if pendingStage(&plan) {
		plan.Content = content(t)
	}
	return &done, nil
}

// noteOn returns a note on data that an interrupted run set aside.
func (m *Placer) noteOn(aside string) []string {
	if aside == "" {
		return nil
	}
	return []string{"check " + machine.DisplayPath(m.Computer, aside) + ": an interrupted run set it aside"}
}

// placed stamps an item that is in place, and records it. If an interrupted run moved the item in,
// it gets a stamp only if it is unmodified.
func (m *Placer) placed(ctx context.Context, t item.Target, done *steps.Placed, ours bool) (err error) {
	if !ours {
		if ours, err = m.unedited(ctx, t, done); err != nil {
			return err
		}
	}
	if ours && done.ManualStep == "" {
		if err := t.Mover.RecordPlaced(ctx, done.To, done); err != nil {
			return err
		}
	}
	done.Plan = nil
	return m.recordPlaced(journal.EventPlaced, t.Key, *done)
}

// unedited reports whether data placed by an interrupted run still matches the sealed data. If
// existing files were added to it, none may be newer than that run.
func (m *Placer) unedited(ctx context.Context, t item.Target, done *steps.Placed) (bool, error) {
	same, err := t.Mover.Same(ctx, done.To)
	if err != nil || !same || !added(t, done) {
		return same, err
	}
	is, err := t.Inspect(ctx, item.Options{Again: true})
	return err == nil && is.Newest != nil && is.Newest.Before(done.Begun), err
}

// recordPlaced records an unpacked item in the computer's own terms, because the mount point of its
// disk matters only to this run.
func (m *Placer) recordPlaced(event string, key steps.Key, p steps.Placed) error {
	spoken, err := p.Mapped(m.spoken)
	if err != nil {
		return err
	}
	return m.Record(event, key, spoken)
}

func (m *Placer) spoken(path string) (string, error) {
	return machine.DisplayPath(m.Computer, path), nil
}

// renewBeside makes the copy that an earlier unpack put beside existing data the item's place, if it is
// unmodified. Otherwise it returns a note on that copy, which stays.
func (m *Placer) renewBeside(ctx context.Context, t item.Target) (notes []string, err error) {
	was := t.InKit.Earlier
	if was == nil || was.Policy != string(tree.KeepBoth) || was.To == t.Path || was.Stamp == "" || t.InKit.Placed != nil || t.InKit.Placing != nil {
		return nil, nil
	}
	there, err := t.Exists(ctx, was.To)
	if err != nil || !there {
		return nil, err
	}
	unedited, err := t.Mover.Unedited(ctx, was.To, was.Stamp)
	switch {
	case err != nil:
		return nil, err
	case unedited:
		t.Path = was.To
		return nil, nil
	}
	return []string{"check " + machine.DisplayPath(m.Computer, was.To) + ": an earlier unpack put it there, and it was modified since"}, nil
}

// alreadyAt returns where the item already is on this computer: in its place, or beside existing
// data where an earlier run put it. It returns "" if it is nowhere.
func alreadyAt(ctx context.Context, t item.Target, same bool) (string, error) {
	if same {
		return t.Path, nil
	}
	var tries []string
	for _, was := range []*steps.Placed{t.InKit.Placed, t.InKit.Placing} {
		if was != nil && was.Policy == string(tree.KeepBoth) && was.To != t.Path {
			tries = append(tries, was.To)
		}
	}
	for _, path := range tries {
		if same, err := t.Mover.Same(ctx, path); err != nil || same {
			return path, err
		}
	}
	return "", nil
}

// recordSame records that an item is in place, unless the journal has that already.
func (m *Placer) recordSame(ctx context.Context, t item.Target, at string) error {
	done := steps.Placed{To: at}
	if was := t.InKit.Placing; was != nil && was.To == at && was.Plan != nil && len(was.Plan.Ops) > 0 && was.Plan.Ops[0].Do != steps.MoveOut {
		done.Policy, done.Aside, done.Begun = was.Policy, was.Aside, was.Begun // an interrupted run put it there
		if op := was.Plan.Ops[0]; op.Aside != "" {
			if there, err := t.Exists(ctx, op.Aside); err != nil {
				return err
			} else if there {
				done.Aside = op.Aside
			}
		}
	} else if was := t.InKit.Placed; was != nil && was.To == at {
		return nil
	} else if was := t.InKit.Earlier; was != nil && was.To == at && was.Policy == string(tree.KeepBoth) {
		done.Policy, done.Aside, done.Begun = was.Policy, was.Aside, was.Begun
	} else {
		done.Same = true
	}
	return m.placed(ctx, t, &done, false)
}

// discardStage deletes the stage of an interrupted run.
func discardStage(ctx context.Context, t item.Target) error {
	if t.InKit.Placing == nil {
		return nil
	}
	name, err := t.Names.Free(ctx, t.Path, item.ForStage)
	if err == nil {
		_, err = t.Names.Delete(ctx, name, steps.Op{Do: steps.Delete, From: name})
	}
	return err
}

// intend makes the plan for an item and its existing data. did is the result for the outcome.
func (m *Placer) intend(ctx context.Context, t item.Target) (done *steps.Placed, did string, err error) {
	done, did = &steps.Placed{To: t.Path, Plan: &steps.Plan{Content: content(t)}}, "placed"
	done.Parents = parentsOf(t).MissingParents()
	if was := t.InKit.Placing; was != nil { // an interrupted run may have created some
		done.Parents = max(done.Parents, was.Parents)
	}
	e := steps.Existing{Home: t.Path, Merges: t.Merger != nil}
	if e.There, err = t.Exists(ctx, t.Path); err != nil {
		return done, did, err
	}
	if was := t.InKit.Placing; was != nil && was.Aside != "" {
		if there, err := t.Exists(ctx, was.Aside); err != nil {
			return done, did, err
		} else if there {
			done.Notes = m.noteOn(was.Aside)
		}
	}
	if e.Stage, err = t.Names.Free(ctx, t.Path, item.ForStage); err != nil {
		return done, did, err
	}
	if t.AtRest() { // staging leaves a file for a manual step, and nothing is renamed
		return done, did, nil
	}
	if e.There {
		if did, err = m.existing(ctx, t, done, &e); err != nil {
			return done, did, err
		}
	}
	done.Plan.Ops = steps.PlacePlan(e)
	return done, did, nil
}

// parents are the folders or keys above an item.
type parents interface {
	MissingParents() int
	RemoveParents(n int) // as far as they are empty
}

// parentsOf returns the parents of an item: folders, unless its mover has others.
func parentsOf(t item.Target) parents {
	if p, own := t.Mover.(parents); own {
		return p
	}
	_, disk := t.Mover.Where()
	return folders(disk)
}

// folders are the folders above a path; "" has none.
type folders string

func (f folders) MissingParents() int {
	if f == "" {
		return 0
	}
	return len(item.MissingParents(string(f)))
}

func (f folders) RemoveParents(n int) {
	if f != "" {
		item.RemoveParents(string(f), n)
	}
}

// existing decides how to treat existing data.
func (m *Placer) existing(ctx context.Context, t item.Target, done *steps.Placed, e *steps.Existing) (did string, err error) {
	did = "placed"
	if e.Aside, err = t.Names.Free(ctx, t.Path, item.ForAside); err != nil {
		return did, err
	}
	unedited, err := Renews(ctx, t)
	if err != nil {
		return did, err
	}
	if t.Shared != nil {
		if e.Shared, err = t.Shared(ctx, t.Path, unedited); err != nil {
			return did, err
		}
	}
	if unedited {
		was := t.InKit.Earlier
		e.Renew, e.Conflicts = was.Stamp, e.Aside+"-files"
		done.Policy, done.Aside = was.Policy, was.Aside
		if added(t, was) {
			e.Added = was.Aside
		}
		return "renewed", nil
	}
	policy, err := m.policy(ctx, t)
	if err != nil {
		return did, err
	}
	done.Policy, e.Policy = string(policy), string(policy)
	switch {
	case policy == tree.KeepBoth && t.Adder == nil:
		if e.Beside, err = t.Names.Free(ctx, t.Path, item.ForBeside); err != nil {
			return did, err
		}
		done.To = e.Beside
	case policy == tree.KeepBoth, policy == tree.SetAside:
		done.Aside = e.Aside
	case policy == tree.Skip && e.Merges:
		did = "completed" // missing files are added
	case policy == tree.Skip:
		did = "skipped"
	}
	return did, nil
}

// policy returns the policy for existing data: from the command line, or from the user's answer.
func (m *Placer) policy(ctx context.Context, t item.Target) (tree.Policy, error) {
	family := t.Key
	family.Item = t.Item.Name
	for _, address := range []string{t.Key.Address(), family.Address(), t.Key.App + "/" + t.Item.Name, t.Key.App, ""} {
		if p := m.Policies[address]; p != "" {
			return p, nil
		}
	}
	is, err := t.Inspect(ctx, item.Options{Again: true})
	if err != nil {
		return "", err
	}
	spoken, _ := t.Mover.Where()
	w := run.Conflict{Key: t.Key, Title: t.Card.Title, Where: spoken, Files: is.Files, Bytes: is.Bytes, Coming: *t.InKit}
	if is.Newest != nil {
		w.Newest = *is.Newest
	}
	if w.Started, err = m.Started(ctx, t, is); err != nil {
		return "", err
	}
	if w.Another, err = t.Another(); err != nil {
		return "", err
	}
	said, err := m.Technician.Resolve(w)
	return cmp.Or(tree.Policy(said), tree.SetAside), err
}

// Started reports whether the app created the existing data itself when it was first started on
// this computer: the data is newer than the program.
func (m *Placer) Started(ctx context.Context, t item.Target, is *item.Inspection) (bool, error) {
	if t.InKit.Placed != nil || t.InKit.Earlier != nil || is.Newest == nil {
		return false, nil
	}
	v, err := m.ForApp(t.Card).Version(ctx, t.Card)
	return err == nil && !v.Changed.IsZero() && is.Newest.After(v.Changed.Add(time.Minute)), err
}

// Renews reports whether the data in place is from an earlier pack and is unmodified since it was
// unpacked. Unpack replaces it without a question.
func Renews(ctx context.Context, t item.Target) (bool, error) {
	was := t.InKit.Earlier
	if was == nil || was.To != t.Path || was.Stamp == "" || was.Same || was.Policy == string(tree.Skip) || was.Policy == string(tree.Replace) {
		return false, nil
	}
	if added(t, was) { // added files would be lost with the folder, unless the originals still exist
		if there, err := t.Exists(ctx, was.Aside); err != nil || !there {
			return false, err
		}
	}
	return t.Mover.Unedited(ctx, t.Path, was.Stamp)
}

// added reports whether existing files were added to unpacked data.
func added(t item.Target, was *steps.Placed) bool {
	return t.Adder != nil && was.Policy == string(tree.KeepBoth) && was.Aside != ""
}
