package item

import (
	"context"
	"slices"
	"strings"

	"movekit/internal/core/card"
	"movekit/internal/core/dbprint"
	"movekit/internal/core/repoint"
	"movekit/internal/core/steps"
)

// PathUpdates updates paths in settings. Movers apply it to staged data, so that nothing is in
// place with only some of its paths updated.
type PathUpdates struct {
	// Map maps old paths to new ones for an item of a card.
	Map func(*card.Item) *repoint.Map
	// Agreed shows the planned changes of an item, asks the user, and seals the changes. It returns
	// false without consent, or if there are no changes.
	Agreed func(ctx context.Context, o *Instance, edits []repoint.Edit, lines []repoint.Line) (bool, error)
}

// PathMapFor returns the path map for the item's settings, or nil if they are not changed.
func (o *Instance) PathMapFor() *repoint.Map {
	if o.PathUpdates == nil || len(o.Item.Repoint) == 0 {
		return nil
	}
	return o.PathUpdates.Map(o.Item)
}

// Line describes the planned change of a text in a database for display. key identifies the row.
// Masked columns are not shown.
func (o *Instance) Line(t dbprint.Table, key, column, old, now string) repoint.Line {
	masked := o.Item.Masks(t.Name)
	if slices.ContainsFunc(t.Key, masked) {
		key = dbprint.Masked
	}
	if masked(column) {
		old, now = dbprint.Masked, dbprint.Masked
	}
	return repoint.Line{In: t.Name, Where: strings.TrimPrefix(key+", "+column, ", "), Old: old, New: now}
}

// PathEdits returns the changes that were made in the placed item, by file, table or key. They are
// needed to compare it with the sealed data. The result is empty if there are none.
func (o *Instance) PathEdits() (map[string][]repoint.Edit, error) {
	if o.InKit == nil || o.InKit.Repointed == nil {
		return nil, nil
	}
	var edits []repoint.Edit
	if err := o.Run.OpenJSON(o.Key.App, o.InKit.Repointed.List, &edits); err != nil {
		return nil, err
	}
	out := map[string][]repoint.Edit{}
	for _, e := range edits {
		out[e.In] = append(out[e.In], e)
	}
	return out, nil
}

// NotePathUpdates notes in out that path updates were reversed for the comparison.
func (o *Instance) NotePathUpdates(out *steps.Checked) {
	if r := o.InKit.Repointed; r != nil {
		out.Rows = append(out.Rows, steps.Row{What: "re-pointed", Old: "as sealed", New: Plural(r.Places, "path"), Same: true})
	}
}
