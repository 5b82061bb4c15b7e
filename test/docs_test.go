package test

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"

	"movekit/internal/core/card"
	"movekit/test/fatal"
)

// TestCardsAreDescribed sees that the description of cards has a row for every
// kind and every method, with the fields that it takes.
func TestCardsAreDescribed(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile("../docs/cards.md")
	fatal.If(t, err)
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

// TestCardsAsWritten sees that cards come out as JSON as they are written.
func TestCardsAsWritten(t *testing.T) {
	t.Parallel()
	files, _ := filepath.Glob("../examples/cards/*.yaml")
	if len(files) < 4 {
		t.Fatal(files)
	}
	for _, name := range files {
		written, err := os.ReadFile(name)
		fatal.If(t, err)
		whole, _ := filepath.Abs(name)
		shown := must(t, 0, t.TempDir(), "card", "show", strings.TrimSuffix(filepath.Base(name), ".yaml"), "--cards", whole, "--json").out
		var want, got any
		fatal.If(t, errors.Join(yaml.Unmarshal(written, &want), yaml.Unmarshal([]byte(shown), &got)))
		if a, b := fmt.Sprint(want), fmt.Sprint(got); a != b {
			t.Errorf("%s is\n%s\nand comes out as\n%s", name, a, b)
		}
	}
}
