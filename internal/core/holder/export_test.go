package holder

import (
	"maps"
	"slices"

	"movekit/internal/core/card"
	"movekit/internal/core/item"
)

// Paired and Expired check licence files, for the tests.
func (h *Handle) Paired(all []item.Target) error { f := files{h}; return f.paired(f.held(all)) }

func (h *Handle) Expired(all []item.Target) string {
	f := files{h}
	if leaf := f.expired(f.held(all)); leaf != nil {
		return leaf.Until.String()
	}
	return ""
}

// Methods are the methods in the table.
func Methods() (out []card.Method) { return slices.Collect(maps.Keys(methods)) }
