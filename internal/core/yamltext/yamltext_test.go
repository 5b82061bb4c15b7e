package yamltext

import (
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
)

var hostile = map[string]string{
	"brackets": strings.Repeat("[", 50000), "braces": strings.Repeat("{a: ", 20000), "indents": func() string {
		var b strings.Builder
		for i := range 500 {
			b.WriteString(strings.Repeat(" ", i) + "a:\n")
		}
		return b.String()
	}(), "dashes": strings.Repeat("- ", 20000) + "a", "size": "a: " + strings.Repeat("x", MaxSize), "tag on a list": "items: !a\n  - b\n", "tag alone": "!a [", "alias": "a: &a [*a]", "anchors": "a: &a [x]\nb: &b [*a, *a, *a, *a, *a, *a, *a, *a, *a]\nc: &c [*b, *b, *b, *b, *b, *b, *b, *b, *b]\nd: &d [*c, *c, *c, *c, *c, *c, *c, *c, *c]\ne: &e [*d, *d, *d, *d, *d, *d, *d, *d, *d]\nf: &f [*e, *e, *e, *e, *e, *e, *e, *e, *e]\ng: [*f, *f, *f, *f, *f, *f, *f, *f, *f]",
}

func TestHostile(t *testing.T) {
	for name, text := range hostile {
		var into struct {
			Items []string `yaml:"items"`
		}
		if err := Decode([]byte(text), &into, yaml.Strict()); err == nil && name != "tag on a list" {
			t.Errorf("%s is read", name)
		}
		Parse([]byte(text)) //nolint:errcheck // it ends, and does not panic
	}
	var into map[string]any
	if err := Decode([]byte("a: {b: [1, {c: d}]}\nlist:\n  - {x: y}\n"), &into); err != nil || len(into) != 2 {
		t.Errorf("%v %v", into, err)
	}
}

// TestBounds accepts input at the limits, and rejects input just above them.
func TestBounds(t *testing.T) {
	brackets := func(n int) string { return "a: " + strings.Repeat("[", n) + strings.Repeat("]", n) }
	braces := func(n int) string { return strings.Repeat("{a: ", n) + "x" + strings.Repeat("}", n) }
	dashes := func(columns int) string { return strings.Repeat("- ", columns/2) + "- x" }
	indented := func(spaces int) string {
		var b strings.Builder
		for i := 0; i < spaces; i += 10 {
			b.WriteString(strings.Repeat(" ", i) + "a:\n")
		}
		return b.String() + strings.Repeat(" ", spaces) + "a: x\n"
	}
	comment := "a: x #"
	for name, c := range map[string]struct {
		text string
		read bool
	}{
		"brackets": {brackets(maxDepth), true}, "a bracket more": {brackets(maxDepth + 1), false},
		"braces": {braces(maxDepth), true}, "a brace more": {braces(maxDepth + 1), false},
		"side by side":  {"a: [" + strings.Repeat("[],{}, ", 2*maxDepth) + "[]]", true},
		"dashes":        {dashes(maxColumn - 2), true},
		"a dash more":   {dashes(maxColumn), false},
		"indented":      {indented(maxColumn), true},
		"indented more": {indented(maxColumn + 1), false},
		"a long line":   {"a: [" + strings.Repeat("x, ", maxColumn) + "y]", true},
		"whole":         {comment + strings.Repeat(".", MaxSize-len(comment)), true},
		"a byte more":   {comment + strings.Repeat(".", MaxSize-len(comment)+1), false},
	} {
		var into any
		if err := Decode([]byte(c.text), &into); (err == nil) != c.read {
			t.Errorf("%s: %v", name, err)
		}
		if f, err := Parse([]byte(c.text)); (err == nil) != c.read || (f == nil) == c.read {
			t.Errorf("%s is parsed: %v", name, err)
		}
	}
}

func FuzzDecode(f *testing.F) {
	for _, text := range hostile {
		f.Add([]byte(text[:min(len(text), 200)]))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		var into struct {
			A []string          `yaml:"a"`
			B map[string]string `yaml:"b"`
			C struct{ D int }   `yaml:"c"`
		}
		Decode(data, &into, yaml.Strict()) //nolint:errcheck // it ends, and does not panic
	})
}
