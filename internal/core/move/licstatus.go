package move

import (
	"context"
	"slices"
	"time"

	"movekit/internal/core/card"
	"movekit/internal/core/licence"
	"movekit/internal/core/machine"
	"movekit/internal/core/steps"
)

// LicenceStatus is where one licence stands.
type LicenceStatus struct {
	App     string        `json:"app"`
	Title   string        `json:"title"`
	Licence string        `json:"licence"`
	Method  card.Method   `json:"method"`
	Old     licence.State `json:"old"`
	New     licence.State `json:"new"`
	OldAt   *time.Time    `json:"old_at,omitempty"` // when that was recorded
	NewAt   *time.Time    `json:"new_at,omitempty"`
	Left    int           `json:"transfers_left"` // -1 where it is not known
	By      string        `json:"seen_by"`
	Again   *time.Time    `json:"again_from,omitempty"`
	BackBy  *time.Time    `json:"back_by,omitempty"`     // by when it must be taken up again
	Trial   *time.Time    `json:"trial_until,omitempty"` // until when the app runs on the new computer without it
	Expires *time.Time    `json:"expires,omitempty"`
	Next    steps.Step    `json:"next,omitempty"` // the step that is due; "" where none is
	Why     string        `json:"why,omitempty"`  // why nothing newer is known
	second  bool          // a second seat was taken, and the old one stays
}

// LicenceStatuses tells where every licence of the chosen apps stands: live,
// where the service or this computer tells, else as the journal remembers.
// Nothing is recorded.
func (j *Job) LicenceStatuses(ctx context.Context) ([]LicenceStatus, error) {
	cards, err := j.cards()
	if err != nil {
		return nil, err
	}
	st := j.State()
	out := []LicenceStatus{}
	for _, c := range cards {
		for _, l := range c.Licences {
			s := LicenceStatus{App: c.Name, Title: c.Title, Licence: l.Name, Method: l.Method, Old: licence.Unknown, New: licence.Unknown, Left: -1, By: "the journal"}
			if known := st.Licences[steps.Key{App: c.Name, Item: l.Name}]; known != nil {
				s.Old, s.New, s.Left = known.Old, known.New, known.Left
				s.OldAt, s.NewAt = orNil(known.OldAt), orNil(known.NewAt)
				if known.Old == licence.Deactivated && known.New != licence.Active {
					s.Again = j.ahead(again(l, known))
					s.BackBy = orNil(backBy(l, known.OldAt))
				}
			}
			s.second = st.SecondSeat(c.Name, l.Name)
			if s.New != licence.Active {
				s.Trial = j.ahead(j.trialUntil(c, l))
			}
			if err := j.live(ctx, c, l, &s); err != nil {
				s.Why = err.Error()
			}
			s.Next = due(s, st.Packed[c.Name] != nil, st.Trying(c))
			out = append(out, s)
		}
	}
	return out, ctx.Err()
}

// live asks for the states.
func (j *Job) live(ctx context.Context, c *card.Card, l card.Licence, s *LicenceStatus) error {
	if !j.Kit.Unlocked() {
		return nil
	}
	h, err := j.hold(c, l, "")
	if err != nil {
		return err
	}
	here := machine.ID(j.Computer)
	a, err := h.status(ctx, here)
	if err != nil {
		return err
	}
	s.Left, s.By = a.Transfers, "the licence desk"
	if at := j.ahead(licence.When(a.Again)); at != nil && !a.State.Held() {
		s.Again = at
	}
	s.Expires = orNil(licence.When(a.Until))
	if h.by != nil {
		s.By = h.by(ctx)
	}
	if j.Side() == steps.OldSide {
		s.Old = a.State
		elsewhere := slices.ContainsFunc(a.Active, func(c string) bool { return c != here })
		if s.New == licence.Unknown && !elsewhere {
			s.New = licence.NotActivated
		}
		return nil
	}
	s.New = a.State
	old, err := h.status(ctx, j.Kit.Manifest.Old.ID)
	if err != nil {
		return err
	}
	s.Old = old.State
	return nil
}

// ahead is a time that is still to come, or nil.
func (j *Job) ahead(t time.Time) *time.Time {
	if t.After(j.now()) {
		return &t
	}
	return nil
}

// orNil is a time that is known, or nil.
func orNil(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}

// due is the step that a licence waits for. One that is tried first waits for
// its data to be proven.
func due(s LicenceStatus, packed, trying bool) steps.Step {
	free := slices.Contains([]licence.State{licence.Deactivated, licence.NotActivated}, s.Old)
	switch {
	case !packed:
		return steps.Pack
	case s.second && s.New == licence.Active:
		return ""
	case trying && !free && s.Trial == nil:
		return steps.Unpack
	case trying && !free:
		return steps.Verify
	case !free:
		return steps.Deactivate
	case s.New != licence.Active:
		return steps.Activate
	}
	return ""
}
