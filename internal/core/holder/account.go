package holder

import (
	"movekit/internal/core/card"
	"movekit/internal/core/licence"
)

// account is a seat bound to an account's computer, which is reset at the maker.
type account struct{ person }

// LostSteps are the usual ones: nothing of them is done on the old computer
// itself.
func (a account) LostSteps() *card.Change { return a.Steps(licence.Deactivate) }
