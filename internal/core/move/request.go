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

// errPassed passes a licence over.
var errPassed = errors.New("passed over")

// Request writes the requests for the chosen apps' licences at desks: to deactivate them
// on the old computer, to activate them on the new. The gates are those of the
// steps.
func (m *Move) Request(ctx context.Context) (*licence.RequestFile, []*run.Outcome, error) {
	file := &licence.RequestFile{Format: 1, Kit: m.Manifest.ID, Computer: m.Computer.Name(), Made: m.Now().UTC()}
	onPaper := func(h *holder.Handle) error {
		if h.Desk() == nil {
			return errPassed
		}
		h.OnPaper(file)
		return nil
	}
	change := m.takeUp
	if m.Licences().Deactivates() {
		change = m.free
	}
	out, err := m.Each(ctx, func(ctx context.Context, c *card.Card, o *run.Outcome) error { return change(ctx, c, o, onPaper) })
	return file, out, err
}

// requested notes a licence whose request is written, which is no error.
func requested(h *holder.Handle, o *run.Outcome, err error) error {
	if !errors.Is(err, holder.ErrWritten) {
		return err
	}
	o.Licences = append(o.Licences, run.LicenceOutcome{Licence: h.Licence.Name, Did: "requested", Good: true})
	return nil
}

// Accept takes in the answers to requests of this kit. Each must be signed by
// the desk that its card names, and answer the newest request for its licence.
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
					return fault.Wrap(fault.DeskSignature, err, "the answer for the licence %s of %s is not taken in", h.Licence.Name, c.Title)
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

// eachAtDesk opens every licence of an app that is a seat at a desk.
func (m *Move) eachAtDesk(c *card.Card, use func(*holder.Handle) error) error {
	for i := range c.Licences {
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

// accept takes in one answer, where it is one for the licence.
func accept(h *holder.Handle, signed string) (did *run.LicenceOutcome, mine bool, err error) {
	a, err := licence.Verify(signed, h.Desk().Key.PublicKey)
	if err != nil {
		return nil, false, nil //nolint:nilerr // another desk's; told when nobody takes it
	}
	if a.Licence != licence.LicenceID(h.Secrets.Serial) {
		return nil, false, nil
	}
	want, request := h.Waiting()
	if want == nil {
		return nil, true, fault.New(fault.DeskSignature, "no request waits for it: it was taken in already, or belongs to an older one")
	}
	if err := a.Answers(request, want.Action); err != nil {
		return nil, true, err
	}
	did, err = h.TakeIn(a)
	return did, true, err
}

// AcceptSpoken takes in an answer that was typed from the telephone: that to
// the newest request for one of this kit's licences.
func (m *Move) AcceptSpoken(ctx context.Context, text string) ([]*run.Outcome, error) {
	var mistyped error
	taken := false
	out, err := m.Each(ctx, func(_ context.Context, c *card.Card, o *run.Outcome) error {
		if m.State.Packed[c.Name] == nil {
			return nil // nothing of it can wait for an answer
		}
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
				return nil //nolint:nilerr // an answer to another; told when nobody takes it
			}
			taken = true
			did, err := h.TakeIn(a)
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
		err = fault.New(fault.DeskSignature, "no request of this kit waits for that answer: it was taken in already, or answers an older request")
	}
	return out, err
}
