package holder

import (
	"movekit/internal/core/card"
	"movekit/internal/core/licence"
)

// newKey is a product key with the registered name.
func newKey(h *Handle) method {
	return method{local: local{steps: func(action licence.Action) *card.Change {
		if own := h.Licence.Change(action == licence.Deactivate); own != nil {
			return own
		}
		if action == licence.Deactivate {
			return &card.Change{Steps: []card.Guide{{Do: "Take the key out of the app on this computer where it lets you, and see that nobody starts it here any more."}}}
		}
		enter := "Enter in the app: registered name {code}, key {serial}"
		if h.Secrets.Code == "" {
			enter = "Enter in the app: key {serial}"
		}
		return &card.Change{Steps: []card.Guide{
			{Do: enter},
			{Do: "Look where the app shows whom it is registered to.", Ask: "What does it show?"},
		}}
	}}}
}
