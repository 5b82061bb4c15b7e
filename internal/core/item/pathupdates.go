package item

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"movekit/internal/core/card"
	"movekit/internal/core/dbprint"
	"movekit/internal/core/pathmap"
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
// needed to compare it with the sealed data. The result is empty if there are none.
func (o *Instance) PathEdits() (map[string][]pathmap.Edit, error) {
	if o.InKit == nil || o.InKit.PathUpdates == nil {
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

// NotePathUpdates notes in out that path updates were reversed for the comparison.
func (o *Instance) NotePathUpdates(out *steps.Checked) {
	if r := o.InKit.PathUpdates; r != nil {
		out.Rows = append(out.Rows, steps.Row{What: "updated paths", Old: "as sealed", New: fmt.Sprint(r.Places), Same: true})
	}
}
