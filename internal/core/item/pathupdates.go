package item

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"movekit/internal/core/card"
	"movekit/internal/core/dbprint"
	"movekit/internal/core/pathmap"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
)

// PathUpdates updates paths in settings. Movers apply it to staged data, so that nothing is in
// place with only some of its paths updated.
type PathUpdates struct {
	// Map maps old paths to new ones for an item of a card.
	Map func(*card.Item) *pathmap.Map
	// Agreed shows the planned changes of an item, asks the user, and seals the changes. It returns
	// false without consent, or if there are no changes.
	Agreed func(ctx context.Context, o *Instance, edits []pathmap.Edit, lines []pathmap.Line) (bool, error)
}

// PathMapFor returns the path map for the item's settings, or nil if they are not changed.
func (o *Instance) PathMapFor() *pathmap.Map {
	if o.PathUpdates == nil || len(o.Item.UpdatePaths) == 0 {
		return nil
	}
	return o.PathUpdates.Map(o.Item)
}

// Line describes the planned change of a text in a database for display. key identifies the row.
// Masked columns are not shown.
func (o *Instance) Line(t dbprint.Table, key, column, old, now string) pathmap.Line {
	masked := o.Item.Masks(t.Name)
	if slices.ContainsFunc(t.Key, masked) {
		key = dbprint.Masked
	}
	if masked(column) {
		old, now = dbprint.Masked, dbprint.Masked
	}
	return pathmap.Line{In: t.Name, Where: strings.TrimPrefix(key+", "+column, ", "), Old: old, New: now}
}

// PathEdits returns the changes that were made in the placed item, by file, table or key. They are
// needed to compare it with the sealed data. The result is empty if there are none, or if the user
// has not agreed to them on this computer: forged changes could hide a difference.
func (o *Instance) PathEdits() (map[string][]pathmap.Edit, error) {
	if o.InKit == nil || o.InKit.PathUpdates == nil || !o.agreedHere() {
		return nil, nil
	}
	var edits []pathmap.Edit
	if err := o.Run.OpenJSON(o.Key.App, o.InKit.PathUpdates.List, &edits); err != nil {
		return nil, err
	}
	out := map[string][]pathmap.Edit{}
	for _, e := range edits {
		out[e.In] = append(out[e.In], e)
	}
	return out, nil
}

// hashOf identifies sealed path updates.
func hashOf(r *steps.PathUpdates) string {
	var all []string
	for _, p := range r.List {
		all = append(all, p.Hash)
	}
	return strings.Join(all, " ")
}

// agreedHere reports whether the user agreed to the item's path updates on this computer.
func (o *Instance) agreedHere() bool {
	return len(o.InKit.PathUpdates.List) == 0 || o.Run.Confirmed(run.AtText, o.Key.Address(), hashOf(o.InKit.PathUpdates))
}

// ConfirmPathUpdates records that the user agreed to path updates on this computer.
func (o *Instance) ConfirmPathUpdates(r *steps.PathUpdates) {
	o.Run.Confirm(run.AtText, o.Key.Address(), hashOf(r))
}

// NotePathUpdates notes in out that path updates were reversed for the comparison, or that they
// were not, because the user has not agreed to them on this computer.
func (o *Instance) NotePathUpdates(out *steps.Checked) {
	r := o.InKit.PathUpdates
	switch {
	case r == nil:
	case o.agreedHere():
		out.Rows = append(out.Rows, steps.Row{What: "updated paths", Old: "as sealed", New: fmt.Sprint(r.Places), Same: true})
	default:
		out.Add(steps.Row{What: "updated paths", Old: "as sealed", New: "not agreed to on this computer"}, "the path updates in the kit were not agreed to on this computer by this user, so they were not reversed")
	}
}
