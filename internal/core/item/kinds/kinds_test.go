package kinds

import (
	"testing"

	"movekit/internal/core/card"
	"movekit/internal/core/item"
	"movekit/internal/core/machine"
	"movekit/internal/core/run"
	"movekit/test/fatal"
	"movekit/test/lay"
)

// TestEveryKindIsInTheTable opens an item of each kind, and checks that its parts fit together.
func TestEveryKindIsInTheTable(t *testing.T) {
	if len(All) != len(card.Kinds) {
		t.Errorf("%d kinds are in the table, and cards know %d", len(All), len(card.Kinds))
	}
	c, err := machine.Open(lay.Disk(t, "linux", nil))
	fatal.If(t, err)
	for _, info := range card.Kinds {
		if All[info.Kind] == nil {
			t.Errorf("%s is not in the table", info.Kind)
			continue
		}
		p := All.Open(&item.Instance{Host: run.NewHost(c), Item: &card.Item{Kind: info.Kind}})
		moves := info.StaysAt == ""
		if p.Inspector == nil || (p.Mover != nil) != moves || (p.Names != nil) != moves || (p.Querier != nil) != (info.Counts == "query") || p.Adder != nil && p.Merger == nil {
			t.Errorf("%s: %+v", info.Kind, p)
		}
	}
}
