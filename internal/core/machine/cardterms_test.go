package machine

import (
	"maps"
	"slices"
	"testing"

	"movekit/internal/core/card"
)

// TestTermsOfCards checks that a computer supports exactly the terms that cards can use.
func TestTermsOfCards(t *testing.T) {
	if known, may := slices.Sorted(maps.Keys(terms)), slices.Sorted(slices.Values(card.Terms)); !slices.Equal(known, may) {
		t.Errorf("known: %q\ncards: %q", known, may)
	}
}
