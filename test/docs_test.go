package test

import (
	"os"
	"strings"
	"testing"

	"movekit/internal/core/card"
)

// TestCardsAreDescribed sees that the description of cards has a row for every
// kind and every method, with the fields that it takes.
func TestCardsAreDescribed(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile("../docs/cards.md")
	if err != nil {
		t.Fatal(err)
	}
	row := func(name, about string, fields []string) {
		t.Helper()
		want := "| `" + name + "` | " + about + " | " + strings.Join(fields, ", ") + " |"
		if !strings.Contains(string(text), "\n"+want+"\n") {
			t.Errorf("docs/cards.md lacks the row\n%s", want)
		}
	}
	for _, k := range card.Kinds {
		row(string(k.Kind), k.About, k.Fields)
	}
	for _, m := range card.Methods {
		row(string(m.Method), m.About, m.Fields)
	}
}
