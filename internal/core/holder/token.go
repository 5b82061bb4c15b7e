package holder

import (
	"context"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/licence"
	"movekit/internal/core/machine"
)

// newToken returns the method for a hardware token, which is itself moved. Nothing happens on the
// old computer, so the steps for a lost computer are the same.
func newToken(h *Handle) method {
	t := token{h}
	return method{by: t.by, local: local{change: t.change, lostSteps: func() *card.Change { return h.stepsFor(licence.Deactivate) }}}
}

type token struct{ *Handle }

// change checks that the token is plugged in before the licence is activated here.
func (t token) change(ctx context.Context, action licence.Action, r licence.Request, a *licence.Answer) error {
	if t.Licence.USB != "" && action == licence.Activate {
		there, err := machine.USB(t.Computer, t.Licence.USB)
		if err != nil {
			return fault.Wrap(fault.Unreadable, err, "cannot look for the token %s", t.Licence.USB)
		}
		if !there {
			return fault.New(fault.ManualStep, "the token of the licence %s of %s (USB %s) is not plugged into %s, or its driver is missing", t.Licence.Name, t.Card.Title, t.Licence.USB, t.Computer.Name())
		}
	}
	return t.bySteps(ctx, action, r, a)
}

// by also reports whether the token is plugged in.
func (t token) by(context.Context) string {
	by := t.lastPerson()
	if t.Licence.USB != "" {
		if there, err := machine.USB(t.Computer, t.Licence.USB); err == nil && there {
			by += "; the token " + t.Licence.USB + " is plugged in"
		}
	}
	return by
}
