package move

import (
	"cmp"
	"context"
	"fmt"
	"strings"

	"movekit/internal/core/card"
	"movekit/internal/core/holder"
	"movekit/internal/core/licence"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
)

// Activate activates the licences of the selected apps on the new computer.
func (m *Move) Activate(ctx context.Context) ([]*run.Outcome, error) {
	return m.Each(ctx, func(ctx context.Context, c *card.Card, o *run.Outcome) error {
		return m.activateApp(ctx, c, o, func(h *holder.Handle) error { return nil })
	})
}

// activateApp activates the licences of an app. For on see free.
func (m *Move) activateApp(ctx context.Context, c *card.Card, o *run.Outcome, on func(*holder.Handle) error) error {
	version, err := m.ForApp(c).Version(ctx, c)
	if err != nil {
		return err
	}
	if m.Exceptions.Back != "" {
		return m.eachLicence(c, version.Value, o, "activated", on, func(h *holder.Handle) (*run.LicenceOutcome, error) {
			h.Request.Edition = version.Edition
			return m.activateBack(ctx, h, o)
		})
	}
	if f := m.Facts(c); len(c.Licences) == 0 || !f.Packed || f.Side == steps.OldSide {
		// This check needs no answers. Without a licence no fact can stop the step; on the wrong
		// computer the first gate does.
		f.Kit, f.Version, f.Seat = &steps.KitFacts{}, &steps.VersionFacts{}, &steps.SeatFacts{Licence: steps.Standing{Old: licence.NotActivated, Left: -1}}
		_, err := m.Check(steps.Activate, c, f, o)
		return err
	}
	return m.eachLicence(c, version.Value, o, "activated", on, func(h *holder.Handle) (*run.LicenceOutcome, error) {
		h.Request.Edition = version.Edition
		return m.activateOne(ctx, h, version, o)
	})
}

// activateOne activates one licence if its gates allow it.
func (m *Move) activateOne(ctx context.Context, h *holder.Handle, version run.Version, o *run.Outcome) (*run.LicenceOutcome, error) {
	h.Begin(h.Key, "activating", 0)
	f := m.Facts(h.Card)
	f.Version, f.Seat = &steps.VersionFacts{}, &steps.SeatFacts{Name: h.Licence.Name}
	var err error
	// The service has the current state. The kit's record may be outdated.
	if f.Seat.Licence, err = h.Standing(ctx); err != nil {
		return nil, err
	}
	f.Version.NewVersion, f.Version.NewEdition = version.Value, version.Edition
	f.Seat.Second = m.Exceptions.Second != "" || f.Seat.Licence.Second
	f.Seat.Takeover = m.Exceptions.Takeover != ""
	// After a takeover the old computer cannot be used. Until the data is in place, the kit has the
	// only usable copy, so it must be undamaged.
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
		why := fmt.Sprintf("the licence %s stays %s on %s; a second seat is activated here (%d of %d were in use)", h.Licence.Name, f.Seat.Licence.Old, f.Seat.Licence.From, f.Seat.Licence.ActiveOn, f.Seat.Licence.Seats)
		if err := m.Overrode(h.Card, o, steps.Overridden{Gate: "old-deactivated", Step: steps.Activate, Why: why, Because: m.Exceptions.Second, Second: h.Licence.Name}); err != nil {
			return nil, err
		}
	}
	return h.Activate(ctx)
}

// activateBack activates one licence on the old computer again, if it is not active on the new one.
func (m *Move) activateBack(ctx context.Context, h *holder.Handle, o *run.Outcome) (*run.LicenceOutcome, error) {
	h.Begin(h.Key, "activating", 0)
	f := m.Facts(h.Card)
	st, err := h.Standing(ctx)
	if err != nil {
		return nil, err
	}
	known := m.State.Licence(h.Card.Name, h.Licence.Name)
	back := st.Back(f.NewName)
	switch {
	case known.From.ID != m.State.Old.ID && !steps.CanActivateElsewhere(st.Old):
		back.From, back.Old, back.New = known.From.Name, st.Old, cmp.Or(st.Own, licence.NotActivated) // a new computer that broke has it
	case st.New == licence.Unknown && !f.Bound:
		back.Old = licence.NotActivated // no new computer was ever used
	}
	f.Seat = &steps.SeatFacts{Name: h.Licence.Name, Licence: back, Takeover: m.Exceptions.Takeover != ""}
	if on, err := m.Check(steps.ActivateBack, h.Card, f, o); err != nil || !on {
		return nil, err
	}
	if err := m.Overrode(h.Card, o, steps.Overridden{Gate: "other-computer", Step: steps.ActivateBack, Why: "the move goes back: activated on " + f.Here, Because: m.Exceptions.Back}); err != nil {
		return nil, err
	}
	if f.TakesOver() {
		h.Request.From = m.State.New.ID
	}
	return h.Activate(ctx)
}

// takeOver shows the cost of a takeover, and asks for consent. The takeover disables the licence on
// the old computer.
func (m *Move) takeOver(h *holder.Handle, f steps.Facts, o *run.Outcome) error {
	left := "the vendor decides what it costs"
	if f.Seat.Licence.Left >= 0 {
		left = fmt.Sprintf("it uses 1 of the %d remaining transfers", f.Seat.Licence.Left)
	}
	why := fmt.Sprintf("the licence %s of %s is %s on %s; taking it over disables it there, and %s", h.Licence.Name, h.Card.Title, f.Seat.Licence.Old, f.Seat.Licence.From, left)
	if err := m.Technician.Agree(strings.ToUpper(why[:1]) + why[1:] + ". Go on?"); err != nil {
		return err
	}
	h.Request.From = m.State.Licence(h.Card.Name, h.Licence.Name).From.ID
	return m.Overrode(h.Card, o, steps.Overridden{Gate: "old-deactivated", Step: steps.Activate, Why: why, Because: m.Exceptions.Takeover})
}
