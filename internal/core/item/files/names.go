package files

import (
	"context"
	"fmt"
	"path/filepath"

	"movekit/internal/core/fault"
	"movekit/internal/core/item"
	"movekit/internal/core/machine"
	"movekit/internal/core/seal"
	"movekit/internal/core/steps"
	"movekit/internal/core/tree"
)

// names renames folders and files. A part of a folder has no name of its own: its files are moved
// one by one to a separate folder, and back.
type names struct{ mover }

// partialEnding is the suffix of a spare while files are moved into it, out of it, or deleted. A spare
// without it is complete.
const partialEnding = item.DeleteEnding

// partly reports whether the card selects only some files of the folder.
func (m mover) partly() bool { return !m.single && len(m.Item.Include) > 0 }

// State returns which of two paths have files of the item.
func (n names) State(ctx context.Context, home, spare string, part bool) (item.Presence, error) {
	if spare != "" {
		if begun, err := item.OnDisk(spare + partialEnding); err != nil || begun {
			return item.Between, err
		}
	}
	is, err := item.PairOnDisk(home, spare)
	if err != nil || !part || is == item.Neither || is == item.AtSpare {
		return is, err
	}
	has, err := n.at(home).selects(ctx)
	return item.PresenceOf(has, is == item.Both), err
}

// selects reports whether the folder has a file that the card selects.
func (m mover) selects(ctx context.Context) (bool, error) {
	st, err := m.source().Measure(ctx, nil, nil)
	if fault.KindOf(err) == fault.Missing {
		return false, nil
	}
	return err == nil && st.Files+st.Links > 0, err
}

// Ours reports whether a path is home or derived from it.
func (n names) Ours(home, path string) bool { return n.OursOnDisk(home, path) }

// Free returns an unused name beside a path.
func (n names) Free(_ context.Context, home string, use item.Use) (string, error) {
	return n.FreeOnDisk(home, use)
}

// MoveOut renames the folder or file, or moves the selected files of a folder.
func (n names) MoveOut(ctx context.Context, home, spare string, part bool) error {
	begun, err := item.OnDisk(spare + partialEnding)
	if err != nil {
		return err
	}
	source := n.at(home).source()
	if !part && !begun {
		err := tree.Rename(home, spare)
		if err == nil || !tree.AcrossLayers(home, err) {
			return err
		}
	}
	if !part {
		source = tree.Source{Root: home, Whole: true}
	}
	source.Marked = true
	clashes, err := tree.Carry(ctx, source, spare+partialEnding, tree.Newcomer)
	if err != nil {
		return err
	}
	n.reportClashes(clashes)
	if moved, err := item.OnDisk(spare + partialEnding); err != nil || !moved {
		return err
	}
	return tree.Rename(spare+partialEnding, spare)
}

// MoveIn renames the folder or file, or moves the files of the spare into the folder.
func (n names) MoveIn(ctx context.Context, spare, home string, part bool) error {
	if !part {
		if err := n.MakeParent(home); err != nil {
			return err
		}
		err := tree.Rename(spare, home)
		if tree.AcrossLayers(spare, err) {
			_, err = tree.Carry(ctx, tree.Source{Root: spare, Marked: true, Whole: true}, home, tree.Resident)
		}
		return err
	}
	begun, err := item.OnDisk(spare + partialEnding)
	if err == nil && !begun {
		err = tree.Rename(spare, spare+partialEnding)
	}
	if err != nil {
		return err
	}
	clashes, err := tree.Carry(ctx, tree.Source{Root: spare + partialEnding, Marked: true, Whole: true}, home, tree.Resident)
	n.reportClashes(clashes)
	return err
}

// reportClashes reports files that an app wrote under the name of a file that an interrupted run
// had moved.
func (n names) reportClashes(paths []string) {
	for _, path := range paths {
		n.Detail(n.Key, "written after a run was interrupted, now called "+path)
	}
}

// Delete deletes the files that are moved, and keeps others. In a part of a folder, it deletes
// files that match the sealed data, and keeps modified ones.
func (n names) Delete(ctx context.Context, spare string, op steps.Op) (left bool, err error) {
	there, ours, err := item.MoveToDelete(ctx, n, spare, op)
	if err != nil || !there {
		return there, err
	}
	if !ours {
		return n.deleteSame(ctx, spare, op)
	}
	if n.single || op.If == steps.Always {
		err = tree.RemoveTree(spare + partialEnding)
	} else {
		err = tree.RemoveFiles(ctx, n.at(spare+partialEnding).source(), nil)
	}
	if err == nil {
		left, err = item.OnDisk(spare + partialEnding)
	}
	if err == nil && left {
		err = tree.Rename(spare+partialEnding, spare)
	}
	if err != nil {
		return left, fault.Wrap(fault.CannotPlace, err, "cannot remove %s", spare)
	}
	return left, seal.SyncDir(filepath.Dir(spare))
}

// deleteSame deletes the files in a part of a folder that match the sealed data.
func (n names) deleteSame(ctx context.Context, spare string, op steps.Op) (left bool, err error) {
	here := n.at(spare)
	if !op.Part || op.If != steps.IfSame {
		return true, nil
	}
	list, closer, err := here.List()
	if err != nil {
		return true, err
	}
	defer closer.Close()
	differs := map[string]bool{}
	how := tree.Comparing{EachDiffering: func(path string) { differs[path] = true }}
	if how.Turned, err = here.PathEdits(); err != nil {
		return true, err
	}
	if _, err := how.Compare(ctx, here.source(), list); err != nil {
		return true, err
	}
	if err := tree.RemoveFiles(ctx, here.source(), func(path string) bool { return !differs[path] }); err != nil {
		return true, err
	}
	return item.OnDisk(spare)
}

// MergeInto moves the staged files into the folder, one by one.
func (n names) MergeInto(ctx context.Context, stage, home, aside string, policy tree.Policy) (used bool, err error) {
	list, closer, err := n.List()
	if err != nil {
		return false, err
	}
	defer closer.Close()
	turned, err := n.PathEdits()
	if err != nil {
		return false, err
	}
	merged, err := tree.Merge(ctx, stage, home, aside, list, policy, n.OwnersToSet(), turned)
	if err != nil {
		return false, err
	}
	if err := tree.RemoveTree(stage); err != nil {
		return merged.Aside > 0, fault.Wrap(fault.CannotPlace, err, "cannot remove %s", stage)
	}
	return merged.Aside > 0, seal.SyncDir(filepath.Dir(home))
}

// CopyMissing copies the files that only the set-aside folder has.
func (n names) CopyMissing(ctx context.Context, spare, home string) (note string, err error) {
	added, err := combine(ctx, spare, home)
	if err != nil || added.added+added.numbered == 0 {
		return "", err
	}
	return fmt.Sprintf("check %s of the existing data, which were added, %d with a number after the name (%s the same); the complete existing data is in %s",
		item.Plural(added.added+added.numbered, "file"), added.numbered, item.Plural(added.same, "other"), machine.DisplayPath(n.Computer, spare)), nil
}
