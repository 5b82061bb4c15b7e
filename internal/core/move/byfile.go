package move

import (
	"context"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/licence"
	"movekit/internal/core/machine"
	"movekit/internal/core/steps"
)

// onPaper answers for a desk that cannot be reached: with what the journal
// remembers, and by writing requests into a file.
type onPaper struct {
	byHand
	file *licence.RequestFile
}

var errWritten = fault.New(fault.Waits, "the request is written, and waits for its answer")

// Ask remembers a state, or writes a request.
func (p onPaper) Ask(_ context.Context, action licence.Action, r licence.Request, key string) (*licence.Answer, error) {
	if action == licence.Status {
		a := p.remembered(r.Computer)
		if a.Transfers < 0 {
			a.Transfers = 1 // the desk says whether one is left
		}
		a.Takeover = true // and whether it can be taken over
		a.Action, a.Nonce, a.Licence, a.Product, a.Issued = action, r.Nonce, r.ID(), r.Product, p.now().Unix()
		return a, nil
	}
	line := p.line(steps.EventRequested, steps.Key{App: p.key.App})
	line.Licence = p.card.Name
	if err := p.Kit.Record(line, steps.Requested{Action: action, Computer: r.Computer, Nonce: r.Nonce, Version: r.Version}); err != nil {
		return nil, err
	}
	spoken, _ := r.Speak(action) // where it cannot be asked for so, the file can
	p.file.Requests = append(p.file.Requests, licence.Travelling{
		Spoken: spoken,
		App:    p.app.Title, Licence: p.card.Name, Action: action, Desk: p.card.Desk.URL, Key: p.card.Desk.Key, Pin: p.card.Desk.Pin, Once: key, Request: r.Sealed(action, key),
	})
	return nil, errWritten
}

// Request writes the requests for the chosen apps' desk licences: to free them
// on the old computer, to take them up on the new. The gates are those of the
// steps.
func (j *Job) Request(ctx context.Context) (*licence.RequestFile, []*Outcome, error) {
	file := &licence.RequestFile{Format: 1, Kit: j.Kit.Manifest.ID, Computer: j.Computer.Name(), Made: j.now().UTC()}
	freeing := j.Frees()
	out, err := j.each(ctx, func(ctx context.Context, c *card.Card, o *Outcome) error {
		if freeing {
			if free, err := j.mayFree(ctx, c, o); err != nil || !free {
				return err
			}
		}
		version, err := j.version(ctx, c)
		if err != nil {
			return err
		}
		for _, l := range c.Licences {
			if l.Method != card.MethodDesk {
				continue
			}
			j.Service = func(card.Licence) (licence.Service, error) {
				return onPaper{byHand{Job: j, app: c, card: l, key: steps.Key{App: c.Name, Item: l.Name}}, file}, nil
			}
			var lo *LicenceOutcome
			if freeing {
				lo, err = j.deactivate(ctx, c, l, version.Value)
			} else {
				lo, err = j.activate(ctx, c, l, version, o)
			}
			if fault.KindOf(err) == fault.Waits {
				o.Licences = append(o.Licences, LicenceOutcome{Licence: l.Name, Did: "requested", Good: true})
				continue
			}
			if err != nil {
				return fault.Wrap(fault.DeskDown, err, "the request for the licence %s of %s is not written", l.Name, c.Title)
			}
			if lo != nil {
				o.Licences = append(o.Licences, *lo)
			}
		}
		return nil
	})
	return file, out, err
}

// Accept takes in the answers to requests of this kit. Each must be signed by
// the desk that its card names, and answer the newest request for its licence.
func (j *Job) Accept(ctx context.Context, f *licence.AnswerFile) ([]*Outcome, error) {
	if f.Kit != j.Kit.Manifest.ID {
		return nil, fault.New(fault.Usage, "these answers belong to the kit %s, not to this one (%s)", f.Kit, j.Kit.Manifest.ID)
	}
	left := map[string]bool{}
	for _, a := range f.Answers {
		left[a] = true
	}
	out, err := j.each(ctx, func(ctx context.Context, c *card.Card, o *Outcome) error {
		for _, l := range c.Licences {
			if l.Method != card.MethodDesk {
				continue
			}
			for signed := range left {
				lo, mine, err := j.accept(c, l, signed)
				if mine {
					delete(left, signed)
				}
				if err != nil {
					return fault.Wrap(fault.DeskSignature, err, "the answer for the licence %s of %s is not taken in", l.Name, c.Title)
				}
				if lo != nil {
					o.Licences = append(o.Licences, *lo)
				}
			}
		}
		return nil
	})
	if err == nil && len(left) > 0 {
		err = fault.New(fault.DeskSignature, "%d of the answers belong to no licence of this kit", len(left))
	}
	return out, err
}

// AcceptSpoken takes in an answer that was typed from the telephone: that to
// the newest request for one of this kit's licences.
func (j *Job) AcceptSpoken(ctx context.Context, text string) ([]*Outcome, error) {
	var mistyped error
	taken := false
	out, err := j.each(ctx, func(_ context.Context, c *card.Card, o *Outcome) error {
		for _, l := range c.Licences {
			if l.Method != card.MethodDesk || taken {
				continue
			}
			h, err := j.hold(c, l, "")
			if err != nil || h.state.Requested == nil {
				continue // nothing waits for an answer
			}
			a, err := h.requested().Hear(h.state.Requested.Action, text)
			if fault.KindOf(err) == fault.Usage {
				mistyped = err
			}
			if err != nil {
				continue
			}
			taken = true
			lo, err := j.takeIn(h, l, a)
			if lo != nil {
				o.Licences = append(o.Licences, *lo)
			}
			return err
		}
		return nil
	})
	if err == nil && mistyped != nil {
		return nil, mistyped
	}
	if err == nil && !taken {
		err = fault.New(fault.DeskSignature, "no request of this kit waits for that answer: it was taken in already, or answers an older request")
	}
	return out, err
}

// requested is the request that waits for its answer.
func (h *held) requested() licence.Request {
	r, want := h.change.Request, h.state.Requested
	r.Nonce, r.Computer, r.Version = want.Nonce, want.Computer, want.Version
	return r
}

// accept takes in one answer, where it is one for the licence.
func (j *Job) accept(c *card.Card, l card.Licence, signed string) (lo *LicenceOutcome, mine bool, err error) {
	h, err := j.hold(c, l, "")
	if err != nil {
		return nil, false, err
	}
	key, err := l.Desk.PublicKey()
	if err != nil {
		return nil, false, fault.Wrap(fault.BadCard, err, "the licence %s has no key", l.Name)
	}
	a, err := licence.Verify(signed, key)
	if err != nil {
		return nil, false, nil //nolint:nilerr // another desk's; told when nobody takes it
	}
	if a.Licence != licence.LicenceID(h.secrets.Serial) {
		return nil, false, nil
	}
	want := h.state.Requested
	if want == nil {
		return nil, true, fault.New(fault.DeskSignature, "no request waits for it: it was taken in already, or belongs to an older one")
	}
	if err := a.Answers(h.requested(), want.Action); err != nil {
		return nil, true, err
	}
	lo, err = j.takeIn(h, l, a)
	return lo, true, err
}

// takeIn records the answer to the request that waits for it, and gives the app
// its activation or takes it away.
func (j *Job) takeIn(h *held, l card.Licence, a *licence.Answer) (*LicenceOutcome, error) {
	want := h.state.Requested
	if err := h.change.Record.Answered(a); err != nil {
		return nil, err
	}
	lo := h.outcome(j, a)
	lo.Did, lo.Good, lo.Disabled = string(want.Action)+"d", true, a.Disabled != ""
	if want.Computer != machine.ID(j.Computer) {
		return lo, nil
	}
	var err error
	if want.Action == licence.Deactivate {
		lo.Aside, err = j.dropToken(l)
		return lo, err
	}
	return lo, j.writeToken(l, a, lo)
}
