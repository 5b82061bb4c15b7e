package move

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"movekit/internal/core/card"
	"movekit/internal/core/item"
	"movekit/internal/core/journal"
	"movekit/internal/core/kit"
	"movekit/internal/core/pathmap"
	"movekit/internal/core/seal"
	"movekit/internal/core/steps"
)

// pathUpdates returns the path updates for settings on this computer.
func (m *Move) pathUpdates(c *card.Card, targets []item.Target) *item.PathUpdates {
	if m.KeepPaths {
		return nil
	}
	pairs := item.Pairs(m.Run, m.choices(), targets)
	system := string(m.Computer.System())
	return &item.PathUpdates{
		Map: func(it *card.Item) *pathmap.Map {
			if !it.Renames {
				return pathmap.New(system, pairs)
			}
			return pathmap.New(system, pairs, pathmap.Pair{Old: m.Manifest.Old.Name, New: m.Computer.Name()})
		},
		Agreed: func(ctx context.Context, o *item.Instance, edits []pathmap.Edit, lines []pathmap.Line) (bool, error) {
			return m.agreed(c, o, edits, lines)
		},
	}
}

// agreed shows the changes to an item's settings, asks the user, and seals the changes before they
// are made.
func (m *Move) agreed(c *card.Card, o *item.Instance, edits []pathmap.Edit, lines []pathmap.Line) (yes bool, err error) {
	if len(edits) > 0 {
		if yes, err = m.Technician.Change(c.Title, o.Key, lines); err != nil {
			return false, err
		}
	}
	r := steps.PathUpdates{Sealed: kit.Sealed{Stream: o.Stream() + ".paths"}}
	if !yes {
		if o.InKit.PathUpdates == nil {
			return false, nil
		}
		return false, m.Record(journal.EventPathsPlanned, o.Key, r) // an interrupted run was about to change it
	}
	within := map[string]bool{}
	for _, e := range edits {
		within[e.In] = true
	}
	r.Places, r.Within = int64(len(edits)), int64(len(within))
	if r.List, err = m.SealJSON(o.Key.App, r.Stream+".json"+seal.Ending, edits); err != nil {
		return false, err
	}
	o.ConfirmPathUpdates(&r)
	if err := m.Record(journal.EventPathsPlanned, o.Key, r); err != nil {
		return false, err
	}
	return true, m.Kit.MendChecksums()
}

// maxNamed limits the number of files that are named.
const maxNamed = 5

// searcher is a mover that can search what it moves.
type searcher interface {
	// Find returns the files, or the keys and values, whose content or name matches.
	Find(ctx context.Context, matches func(content []byte) bool) ([]string, error)
}

// oldPlaces names the files or values of an item that still contain paths of the old computer. A card can only name those that
// were there when it was written, and some cannot be changed.
func (m *Move) oldPlaces(ctx context.Context, t item.Target, targets []item.Target) (notes []string, err error) {
	pairs := slices.DeleteFunc(item.Pairs(m.Run, m.choices(), targets), func(p pathmap.Pair) bool {
		return p.Old == p.New || m.Computer.System().Folds() && strings.EqualFold(p.Old, p.New)
	})
	s, is := t.Mover.(searcher)
	if len(pairs) == 0 || !is {
		return nil, nil
	}
	if m.Computer.System().Folds() {
		pairs = append(pairs, pathmap.Short(pairs)...)
	}
	found, err := s.Find(ctx, pathmap.New(string(m.Computer.System()), pairs).Found)
	if err != nil || len(found) == 0 {
		return nil, err
	}
	named := strings.Join(found[:min(len(found), maxNamed)], ", ")
	if more := len(found) - maxNamed; more > 0 {
		named += fmt.Sprintf(" and %d more", more)
	}
	return []string{fmt.Sprintf("paths of %s are still in %s of %s: %s", m.Manifest.Old.Name, item.Plural(int64(len(found)), map[bool]string{false: "file", true: "value"}[t.Item.Kind.Info().Keyed]), t.Label(), named)}, nil
}
