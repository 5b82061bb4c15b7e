package holder

import (
	"movekit/internal/core/card"
	"movekit/internal/core/licence"
)

// newKey returns the method for a product key with a registered name.
func newKey(h *Handle) method {
	return method{local: local{steps: func(action licence.Action) *card.Change {
		if own := h.Licence.Change(action == licence.Deactivate); own != nil {
			return own
		}
		if action == licence.Deactivate {
			return &card.Change{Steps: []card.Guide{{Do: "Remove the key from the app on this computer, if the app allows it, and make sure that nobody starts it here again."}}}
		}
		enter := "Enter in the app: registered name {code}, key {serial}"
		if h.Secrets.Code == "" {
			enter = "Enter in the app: key {serial}"
		}
		return &card.Change{Steps: []card.Guide{
			{Do: enter},
			{Do: "Find where the app shows the name it is registered to.", Ask: "What does it show?"},
		}}
	}}}
}
