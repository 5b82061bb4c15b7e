package holder

import (
	"context"
	"time"

	"movekit/internal/core/card"
	"movekit/internal/core/journal"
	"movekit/internal/core/licence"
	"movekit/internal/core/steps"
)

// Status is the state of one licence, for display.
type Status struct {
	App     string        `json:"app"`
	Title   string        `json:"title"`
	Licence string        `json:"licence"`
	Method  card.Method   `json:"method"`
	From    string        `json:"from"`          // the computer that it is deactivated on; Old is its state there
	Own     licence.State `json:"own,omitempty"` // its state on the old computer, if From is another one
	Old     licence.State `json:"old"`
	New     licence.State `json:"new"`
	OldAt   *time.Time    `json:"old_at,omitempty"` // when that was recorded
	NewAt   *time.Time    `json:"new_at,omitempty"`
	Left    int           `json:"transfers_left"` // -1 if unknown
	By      string        `json:"seen_by"`
	Copy    string        `json:"copy,omitempty"` // problem with the app's own copy of it here
	Again   *time.Time    `json:"again_from,omitempty"`
	BackBy  *time.Time    `json:"back_by,omitempty"`     // deadline for the next activation
	Trial   *time.Time    `json:"trial_until,omitempty"` // end of the trial period on the new computer
	Expires *time.Time    `json:"expires,omitempty"`
	Next    steps.Step    `json:"next,omitempty"` // the next step; "" if none
	Why     string        `json:"why,omitempty"`  // why there is nothing newer
}

// Statuses returns the state of every licence of the selected apps: from the service or this
// computer if possible, else from the journal. It records a state that is not the recorded one.
func (r *Session) Statuses(ctx context.Context) ([]Status, error) {
	cards, err := r.SelectedCards()
	if err != nil {
		return nil, err
	}
	defer r.Private.Drop()
	out := []Status{}
	for _, c := range cards {
		for i := range c.Licences {
			l := &c.Licences[i]
			st, err := r.stand(ctx, c, l)
			s := Status{App: c.Name, Title: c.Title, Licence: l.Name, Method: l.Method, From: st.From, Own: st.Own, Old: st.Old, New: st.New, Left: st.Left, By: st.By, Copy: st.CopyProblem, Next: st.Next,
				OldAt: timeOrNil(st.OldAt), NewAt: timeOrNil(st.NewAt), BackBy: timeOrNil(st.BackBy), Trial: timeOrNil(st.Trial), Expires: timeOrNil(st.Until)}
			if st.Again.After(r.Now()) && !st.New.Held() {
				s.Again = &st.Again
			}
			if err != nil {
				s.Why = err.Error()
			}
			out = append(out, s)
		}
	}
	return out, ctx.Err()
}

// stand asks for the state of a licence, if the commands may run.
func (r *Session) stand(ctx context.Context, c *card.Card, l *card.Licence) (steps.Standing, error) {
	if !r.Kit.Unlocked() {
		return r.State.Standing(c, l, nil, r.Now()), nil
	}
	h, err := r.Open(c, l, "")
	if err != nil {
		return r.State.Standing(c, l, nil, r.Now()), err
	}
	known := h.state()
	st, err := h.Standing(ctx)
	contradicts := st.Own != "" && st.Own != known.On[r.Manifest.Old.ID].State || known.Old != licence.Unknown && st.Old != known.Old || known.New != licence.Unknown && st.New != known.New
	if err == nil && st.Seen && contradicts && r.Side() != steps.ThirdSide {
		err = r.RecordLicence(journal.EventSeen, h.Key, st.Record())
	}
	return st, err
}

// Observe records the state of an app's licences in files, if it is not the recorded one: the computer may
// have been restored from an image.
func (r *Session) Observe(ctx context.Context, c *card.Card) error {
	for i := range c.Licences {
		if l := &c.Licences[i]; len(l.Items) > 0 && !r.Manifest.Keep && r.State.Packed[c.Name] != nil {
			if _, err := r.stand(ctx, c, l); err != nil {
				return err
			}
		}
	}
	return nil
}

// timeOrNil returns nil for the zero time.
func timeOrNil(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}
