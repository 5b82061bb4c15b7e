package move

import (
	"context"
	"slices"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/holder"
	"movekit/internal/core/ready"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
	"movekit/internal/core/survey"
)

// Deactivate deactivates the licences of the selected apps on the old computer, or on its behalf.
func (m *Move) Deactivate(ctx context.Context) ([]*run.Outcome, error) {
	return m.Each(ctx, func(ctx context.Context, c *card.Card, o *run.Outcome) error {
		return m.deactivateApp(ctx, c, o, func(h *holder.Handle) error { return nil })
	})
}

// deactivateApp deactivates the licences of an app. on prepares each, or skips it with errPassed.
func (m *Move) deactivateApp(ctx context.Context, c *card.Card, o *run.Outcome, on func(*holder.Handle) error) error {
	if m.Exceptions.Back != "" {
		return m.deactivateBack(ctx, c, o, on)
	}
	if may, err := m.checkDeactivate(ctx, c, o); err != nil || !may {
		return err
	}
	version, err := m.ForApp(c).Version(ctx, c)
	if err != nil {
		return err
	}
	from := m.State.Holder(c.Name)
	return m.eachLicence(c, version.Value, o, "deactivated", on, func(h *holder.Handle) (*run.LicenceOutcome, error) {
		if m.Exceptions.Lost != "" && m.State.Licence(c.Name, h.Licence.Name).From.ID != from.ID {
			return nil, nil // another computer has it, which is not the one that is lost
		}
		if may, err := m.checkSeat(ctx, h, o); err != nil || !may {
			return nil, err
		}
		return h.Deactivate(ctx)
	})
}

// deactivateBack deactivates the licences of an app on the new computer, so that the move can go back.
func (m *Move) deactivateBack(ctx context.Context, c *card.Card, o *run.Outcome, on func(*holder.Handle) error) error {
	f := m.Facts(c)
	f.OldLost = m.Exceptions.Lost != ""
	if may, err := m.Check(steps.DeactivateBack, c, f, o); err != nil || !may {
		return err
	}
	if len(c.Licences) > 0 {
		if err := m.Overrode(c, o, steps.Overridden{Gate: "old-computer", Step: steps.DeactivateBack, Why: "the move goes back: deactivated on " + m.State.New.Name, Because: m.Exceptions.Back}); err != nil {
			return err
		}
	}
	return m.eachLicence(c, "", o, "deactivated", on, func(h *holder.Handle) (*run.LicenceOutcome, error) { return h.Deactivate(ctx) })
}

// checkSeat runs the gates of Deactivate that depend on one licence.
func (m *Move) checkSeat(ctx context.Context, h *holder.Handle, o *run.Outcome) (bool, error) {
	f := m.Facts(h.Card)
	f.OldLost, f.Kit, f.Version, f.Drift, f.Seat = m.Exceptions.Lost != "", &steps.KitFacts{}, &steps.VersionFacts{}, &steps.DriftFacts{}, &steps.SeatFacts{Name: h.Licence.Name}
	var err error
	if f.Seat.Licence, err = h.Standing(ctx); err != nil {
		return false, err
	}
	if l := m.State.Found[h.Card.Name]; l != nil {
		f.Version.NewVersion, f.Version.NewEdition, f.Version.NewSeen = l.Version, l.Edition, l.At
	} else {
		f.Seat.Licence.Covers, f.Seat.Licence.Edition = "", "" // no run has looked at the new computer
	}
	known := m.State.Licence(h.Card.Name, h.Licence.Name)
	f.Seat.Stays = known.Stays && m.Exceptions.Lost == "" && !steps.CanActivateElsewhere(known.On[m.State.Old.ID].State)
	f.Seat.Again, f.Seat.BackBy = h.Licence.Wait.From(m.Now()), h.Licence.BackBy.From(m.Now())
	return m.Check(steps.Deactivate, h.Card, f, o)
}

// eachLicence opens each licence of an app, and changes it unless on skips it. done describes the
// result. A failure does not affect the other licences, unless the user stops the step.
func (m *Move) eachLicence(c *card.Card, version string, o *run.Outcome, done string, on func(*holder.Handle) error, change func(*holder.Handle) (*run.LicenceOutcome, error)) error {
	var first error
	for i := range c.Licences {
		l := &c.Licences[i]
		h, err := m.Licences().Open(c, l, version)
		if err == nil {
			if err = on(h); err == errSkipped {
				continue
			}
		}
		var did *run.LicenceOutcome
		if err == nil {
			did, err = change(h)
		}
		if err = requested(h, o, err); err != nil {
			err = fault.Wrap(fault.DeskDown, err, "the licence %s of %s was not %s", l.Name, c.Title, done)
			switch {
			case fault.KindOf(err) == fault.Stopped:
				return err
			case first == nil:
				first = err
			default:
				o.Also = append(o.Also, err)
			}
		}
		if did != nil {
			o.Licences = append(o.Licences, *did)
		}
	}
	return first
}

// checkDeactivate runs the gates of Deactivate: all data of the app is sealed, undamaged, and unchanged on
// the old computer.
func (m *Move) checkDeactivate(ctx context.Context, c *card.Card, o *run.Outcome) (bool, error) {
	f := m.Facts(c)
	f.OldLost, f.Trying = m.Exceptions.Lost != "", m.State.Trying(c)
	f.Kit, f.Version, f.Drift, f.Seat = &steps.KitFacts{}, &steps.VersionFacts{}, &steps.DriftFacts{}, &steps.SeatFacts{Licence: steps.Standing{Left: -1}}
	var err error
	if f.Kit, err = m.kitFacts(ctx, c, true); err != nil {
		return false, err
	}
	if l := m.State.Found[c.Name]; l != nil {
		f.Version.NewVersion, f.Version.NewEdition, f.Version.NewSeen, f.Version.Covered = l.Version, l.Edition, l.At, ready.Covered(c)
	}
	if err := m.drifted(ctx, c, &f); err != nil {
		return false, err
	}
	for _, l := range c.Licences {
		if by := l.BackBy.From(m.Now()); f.Seat.BackBy.IsZero() || !by.IsZero() && by.Before(f.Seat.BackBy) {
			f.Seat.BackBy = by
		}
	}
	on, err := m.Check(steps.Deactivate, c, f, o)
	if err == nil && on && f.OldLost && len(c.Licences) > 0 {
		from := m.State.Holder(c.Name)
		over := steps.Overridden{Gate: "old-computer", Step: steps.Deactivate, Why: "deactivated on " + f.Here + " on behalf of " + from.Name, Because: m.Exceptions.Lost}
		if from.ID != m.Self().ID { // else only the app is gone, and the computer is still there
			over.For = from.ID
		}
		err = m.Overrode(c, o, over)
	}
	return on, err
}

// drifted checks for changes on the old computer since the pack. It skips the check once a
// deactivation has started, because the deactivation itself may change the data.
func (m *Move) drifted(ctx context.Context, c *card.Card, f *steps.Facts) error {
	begun := slices.ContainsFunc(m.State.LicencesOf(c.Name), func(l *steps.Licence) bool {
		return l.Answers[m.Manifest.Old.ID] > 0 || l.Pending != nil || l.Requested != nil || len(l.Stepped) > 0
	})
	if f.Side != steps.OldSide || f.OldLost || begun || len(c.Licences) == 0 || m.State.Packed[c.Name] == nil {
		return nil
	}
	l := m.scanner(c, false)
	l.Since = m.Since
	a, err := l.Now(ctx, c)
	if err != nil {
		return err
	}
	survey.Close(a.Places)
	f.Drift = a.Facts.Drift
	return nil
}
