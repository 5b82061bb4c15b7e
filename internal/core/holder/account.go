package holder

import (
	"movekit/internal/core/card"
	"movekit/internal/core/licence"
)

// newAccount returns the method for a seat that is bound to one computer of an account and reset at
// the vendor. Nothing happens on the old computer, so the steps for a lost computer are the same.
func newAccount(h *Handle) method {
	return method{local: local{lostSteps: func() *card.Change { return h.stepsFor(licence.Deactivate) }}}
}
