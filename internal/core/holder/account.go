package holder

import (
	"movekit/internal/core/card"
	"movekit/internal/core/licence"
)

// newAccount is a seat that is bound to a computer of an account, and is reset at the vendor. Nothing of that is done
// on the old computer, so the steps for a lost one are the same.
func newAccount(h *Handle) method {
	return method{local: local{lostSteps: func() *card.Change { return h.stepsFor(licence.Deactivate) }}}
}
