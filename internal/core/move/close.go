package move

import (
	"context"

	"movekit/internal/core/card"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
)

// MayClose runs the gates of close. giveUp is the reason for giving up the move. stored means that
// the handover is about to be stored outside the kit.
func (m *Move) MayClose(ctx context.Context, giveUp string, stored bool) ([]*run.Outcome, error) {
	return m.Each(ctx, func(_ context.Context, c *card.Card, o *run.Outcome) error {
		f := m.Facts(c)
		f.GivenUp, f.HandedOver = giveUp != "", f.HandedOver || stored
		on, err := m.Check(steps.Close, c, f, o)
		if err == nil && on && !f.Proven {
			err = m.Overrode(c, o, steps.Overridden{Gate: "verified", Step: steps.Close, Why: c.Title + " is not verified on the new computer", Because: giveUp})
		}
		return err
	})
}
