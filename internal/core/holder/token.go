package holder

import (
	"context"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/licence"
	"movekit/internal/core/machine"
)

// token is a hardware token, which changes computers.
type token struct{ person }

// LostSteps are the usual ones: nothing of them is done on the old computer
// itself.
func (t token) LostSteps() *card.Change { return t.Steps(licence.Deactivate) }

// Change sees that the token is in this computer before it is taken up here. It
// changes computers, not the licence.
func (t token) Change(ctx context.Context, action licence.Action, r licence.Request, a *licence.Answer) error {
	if t.Card.USB != "" && action == licence.Activate {
		there, err := machine.USB(t.Computer, t.Card.USB)
		if err != nil {
			return fault.Wrap(fault.Unreadable, err, "cannot look for the token %s", t.Card.USB)
		}
		if !there {
			return fault.New(fault.Waits, "the token of the licence %s of %s (USB %s) is not plugged into %s, or its driver is missing", t.Card.Name, t.App.Title, t.Card.USB, t.Computer.Name())
		}
	}
	return t.person.Change(ctx, action, r, a)
}

// By also says whether the token is plugged in.
func (t token) By(ctx context.Context) string {
	by := t.person.By(ctx)
	if t.Card.USB != "" {
		if there, err := machine.USB(t.Computer, t.Card.USB); err == nil && there {
			by += "; the token " + t.Card.USB + " is plugged in"
		}
	}
	return by
}
