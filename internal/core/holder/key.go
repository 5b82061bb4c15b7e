package holder

import (
	"context"

	"movekit/internal/core/card"
	"movekit/internal/core/licence"
)

// key is a product key with the registered name.
type key struct{ person }

func (k key) Complete(ctx context.Context, s *licence.Secrets, _ []string) error {
	return k.typeIn(ctx, s)
}

// Shown is the registered name: it is what is to be seen.
func (k key) Shown() string { return k.Secrets.Code }

// Steps are those of the card, or the usual ones.
func (k key) Steps(action licence.Action) *card.Change {
	if own := k.person.Steps(action); own != nil {
		return own
	}
	if action == licence.Deactivate {
		return &card.Change{Steps: []card.Guide{{Do: "Take the key out of the app on this computer where it lets you, and see that nobody starts it here any more."}}}
	}
	enter := "Enter in the app: registered name {code}, key {serial}"
	if k.Secrets.Code == "" {
		enter = "Enter in the app: key {serial}"
	}
	return &card.Change{Steps: []card.Guide{
		{Do: enter},
		{Do: "Look where the app shows whom it is registered to.", Ask: "What does it show?"},
	}}
}
