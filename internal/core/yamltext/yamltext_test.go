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
