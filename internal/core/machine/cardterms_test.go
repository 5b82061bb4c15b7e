package machine

import (
	"maps"
	"slices"
	"testing"

	"movekit/internal/core/card"
)

// TestTermsOfCards sees that a computer knows the terms that cards may use, and no others.
func TestTermsOfCards(t *testing.T) {
	if known, may := slices.Sorted(maps.Keys(terms)), slices.Sorted(slices.Values(card.Terms)); !slices.Equal(known, may) {
		t.Errorf("known: %q\ncards: %q", known, may)
	}
}
