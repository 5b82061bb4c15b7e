package move

import (
	"context"
	"errors"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/holder"
	"movekit/internal/core/licence"
	"movekit/internal/core/run"
)

// errSkipped skips a licence.
var errSkipped = errors.New("passed over")

// Request returns requests to licence desks for the selected apps: to deactivate on the old
// computer, or to activate on the new one. The gates of those steps apply.
func (m *Move) Request(ctx context.Context) (*licence.RequestFile, []*run.Outcome, error) {
	file := &licence.RequestFile{Format: 1, Kit: m.Manifest.ID, Computer: m.Computer.Name(), Made: m.Now().UTC()}
	onPaper := func(h *holder.Handle) error {
		if h.Desk() == nil {
			return errSkipped
		}
		h.AskByFile(file)
		return nil
	}
	change := m.activateApp
	if m.Licences().Deactivates() {
		change = m.deactivateApp
	}
	out, err := m.Each(ctx, func(ctx context.Context, c *card.Card, o *run.Outcome) error { return change(ctx, c, o, onPaper) })
	return file, out, err
}

// requested records that a request was written, which is not an error.
func requested(h *holder.Handle, o *run.Outcome, err error) error {
	if !errors.Is(err, holder.ErrWritten) {
		return err
	}
	o.Licences = append(o.Licences, run.LicenceOutcome{Licence: h.Licence.Name, Did: "requested", Good: true})
	return nil
}

// Accept applies answers to this kit's requests. The desk in the card must have signed each answer,
// and it must match the newest request for its licence.
func (m *Move) Accept(ctx context.Context, f *licence.AnswerFile) ([]*run.Outcome, error) {
	if f.Kit != m.Manifest.ID {
		return nil, fault.New(fault.Usage, "these answers belong to the kit %s, not to this one (%s)", f.Kit, m.Manifest.ID)
	}
	left := map[string]bool{}
	for _, a := range f.Answers {
		left[a] = true
	}
	out, err := m.Each(ctx, func(_ context.Context, c *card.Card, o *run.Outcome) error {
		return m.eachAtDesk(c, func(h *holder.Handle) error {
			for signed := range left {
				did, mine, err := accept(h, signed)
				if mine {
					delete(left, signed)
				}
				if err != nil {
					return fault.Wrap(fault.DeskSignature, err, "the answer for the licence %s of %s was not accepted", h.Licence.Name, c.Title)
				}
				if did != nil {
					o.Licences = append(o.Licences, *did)
				}
			}
			return nil
		})
	})
	if err == nil && len(left) > 0 {
		err = fault.New(fault.DeskSignature, "%d of the answers belong to no licence of this kit", len(left))
	}
	return out, err
}

// eachAtDesk opens every licence of an app that is a seat at a desk and is in the kit. No request
// can be waiting for any other.
func (m *Move) eachAtDesk(c *card.Card, use func(*holder.Handle) error) error {
	for i := range c.Licences {
		if m.State.Licence(c.Name, c.Licences[i].Name).Sealed == nil {
			continue
		}
		h, err := m.Licences().Open(c, &c.Licences[i], "")
		if err == nil && h.Desk() != nil {
			err = use(h)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// accept applies one answer if it belongs to the licence.
func accept(h *holder.Handle, signed string) (did *run.LicenceOutcome, mine bool, err error) {
	a, err := licence.Verify(signed, h.Desk().Key.PublicKey)
	if err != nil {
		return nil, false, nil //nolint:nilerr // it is for another desk; reported if no licence accepts it
	}
	if a.Licence != licence.LicenceID(h.Secrets.Serial) {
		return nil, false, nil
	}
	want, request := h.Waiting()
	if want == nil {
		return nil, true, fault.New(fault.DeskSignature, "no request is waiting for it: it was accepted already, or answers an older request")
	}
	if err := a.Answers(request, want.Action); err != nil {
		return nil, true, err
	}
	did, err = h.Accept(a)
	return did, true, err
}

// AcceptByPhone applies an answer that was typed in from the telephone. It must match the newest
// request for one of this kit's licences.
func (m *Move) AcceptByPhone(ctx context.Context, text string) ([]*run.Outcome, error) {
	var mistyped error
	taken := false
	out, err := m.Each(ctx, func(_ context.Context, c *card.Card, o *run.Outcome) error {
		return m.eachAtDesk(c, func(h *holder.Handle) error {
			want, request := h.Waiting()
			if taken || want == nil {
				return nil
			}
			a, err := request.ReadPhoneAnswer(want.Action, text)
			if fault.KindOf(err) == fault.Usage {
				mistyped = err
			}
			if err != nil {
				return nil //nolint:nilerr // it answers another request; reported if no licence accepts it
			}
			taken = true
			did, err := h.Accept(a)
			if did != nil {
				o.Licences = append(o.Licences, *did)
			}
			return err
		})
	})
	if err == nil && mistyped != nil {
		return nil, mistyped
	}
	if err == nil && !taken {
		err = fault.New(fault.DeskSignature, "no request of this kit is waiting for that answer: it was accepted already, or answers an older request")
	}
	return out, err
}
