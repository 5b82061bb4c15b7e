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

// Repointing has settings that hold paths say where things are now. Movers apply it to what
// they have staged, so that nothing is in place that is changed by half.
type PathUpdates struct {
	// Map is what old places are now, for an item of a card.
	Map func(*card.Item) *repoint.Map
	// Agreed shows what is to be changed in an item, has it agreed to, and seals it. Without
	// consent, or where nothing is to be changed, it is false.
	Agreed func(ctx context.Context, o *Instance, edits []repoint.Edit, lines []repoint.Line) (bool, error)
}

// Repoints is the map by which the item's settings are changed; nil where they are not.
func (o *Instance) Repoints() *repoint.Map {
	if o.PathUpdates == nil || len(o.Item.Repoint) == 0 {
		return nil
	}
	return o.PathUpdates.Map(o.Item)
}

// Line is what is shown of a text in a database that is to be changed, where key is
// that of its row: nothing of what the card masks.
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

// Turned are the changes that were made in the item where it is in place, by file, table or
// key, by which what was sealed can be told from what is there. It is empty where none were.
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

// AddRepointed tells that what is there was compared with the changes turned back.
func (o *Instance) AddRepointed(out *steps.Checked) {
	if r := o.InKit.Repointed; r != nil {
		out.Rows = append(out.Rows, steps.Row{What: "re-pointed", Old: "as sealed", New: Plural(r.Places, "path"), Same: true})
	}
}
