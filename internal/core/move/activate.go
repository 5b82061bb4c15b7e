package move

import (
	"context"
	"fmt"
	"strings"

	"movekit/internal/core/card"
	"movekit/internal/core/holder"
	"movekit/internal/core/licence"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
)

// Activate activates the licences of the chosen apps on this, the new,
// computer.
func (m *Move) Activate(ctx context.Context) ([]*run.Outcome, error) {
	return m.Each(ctx, func(ctx context.Context, c *card.Card, o *run.Outcome) error {
		return m.takeUp(ctx, c, o, func(h *holder.Handle) error { return nil })
	})
}

// takeUp activates the licences of an app; on is as for free.
func (m *Move) takeUp(ctx context.Context, c *card.Card, o *run.Outcome, on func(*holder.Handle) error) error {
	version, err := m.For(c).Version(ctx, c)
	if err != nil {
		return err
	}
	if f := m.Facts(c); len(c.Licences) == 0 || !f.Packed || f.Side == steps.OldSide {
		// Nothing need be asked to know whether this stops.
		// Without a licence no fact can stop anything; on the wrong computer the first gate does.
		f.Kit, f.Version, f.Seat = &steps.KitFacts{}, &steps.VersionFacts{}, &steps.SeatFacts{Licence: steps.Standing{Old: licence.NotActivated, Left: -1}}
		_, err := m.Check(steps.Activate, c, f, o)
		return err
	}
	return m.eachLicence(c, version.Value, o, "activated", on, func(h *holder.Handle) (*run.LicenceOutcome, error) {
		h.Request.Edition = version.Edition
		return m.takeUpOne(ctx, h, version, o)
	})
}

// takeUpOne activates one licence, where its gates let it.
func (m *Move) takeUpOne(ctx context.Context, h *holder.Handle, version run.Version, o *run.Outcome) (*run.LicenceOutcome, error) {
	h.Begin(h.Key, "activating", 0)
	f := m.Facts(h.Card)
	f.Version, f.Seat = &steps.VersionFacts{}, &steps.SeatFacts{}
	var err error
	// The service knows best; what the kit remembers may be old.
	if f.Seat.Licence, err = h.Standing(ctx); err != nil {
		return nil, err
	}
	f.Version.NewVersion, f.Version.NewEdition = version.Value, version.Edition
	f.Seat.Second = m.Exceptions.Second != "" || f.Seat.Licence.Second
	f.Seat.Takeover = m.Exceptions.Takeover != ""
	// A takeover ends the use of the old computer: then, and as long as its data is not in place, the kit has all there is.
	if f.Kit, err = m.kitFacts(ctx, h.Card, f.TakesOver() || !f.Placed); err != nil {
		return nil, err
	}
	if on, err := m.Check(steps.Activate, h.Card, f, o); err != nil || !on {
		return nil, err
	}
	if f.TakesOver() {
		if err := m.takeOver(h, f, o); err != nil {
			return nil, err
		}
	}
	if f.BesideOld() {
		why := fmt.Sprintf("the licence %s stays %s on %s; a second seat is taken here (%d of %d were taken)", h.Licence.Name, f.Seat.Licence.Old, f.Seat.Licence.From, f.Seat.Licence.ActiveOn, f.Seat.Licence.Seats)
		if err := m.Overrode(h.Card, o, steps.Overridden{Gate: "old-deactivated", Step: steps.Activate, Why: why, Because: m.Exceptions.Second, Second: h.Licence.Name}); err != nil {
			return nil, err
		}
	}
	return h.TakeUp(ctx)
}

// takeOver has a person agree, in knowledge of what is spent, to the change
// that disables the licence on the old computer.
func (m *Move) takeOver(h *holder.Handle, f steps.Facts, o *run.Outcome) error {
	left := "the vendor decides what is spent"
	if f.Seat.Licence.Left >= 0 {
		left = fmt.Sprintf("1 of the %d transfers left is spent", f.Seat.Licence.Left)
	}
	why := fmt.Sprintf("the licence %s of %s is %s on %s; taking it over disables it there, and %s", h.Licence.Name, h.Card.Title, f.Seat.Licence.Old, f.Seat.Licence.From, left)
	if err := m.Technician.Agree(strings.ToUpper(why[:1]) + why[1:] + ". Go on?"); err != nil {
		return err
	}
	h.Request.From = m.State.Licence(h.Card.Name, h.Licence.Name).From.ID
	return m.Overrode(h.Card, o, steps.Overridden{Gate: "old-deactivated", Step: steps.Activate, Why: why, Because: m.Exceptions.Takeover})
}
