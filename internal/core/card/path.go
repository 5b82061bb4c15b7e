package card

import (
	"fmt"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/invopop/jsonschema"
)

// Path is a location in a system's own terms (%APPDATA%\X, ~/.config/x). A card writes it as one
// text for all systems, or as a mapping with one text per system. The path of an item can also come
// from an app's setting, and can contain {version}, {major} and {minor} of the installed app.
type Path struct {
	Any     string // used for a system without its own path
	Windows string
	Linux   string
	MacOS   string
	From    *Source
}

// On returns the path for a system ("windows", "linux" or "macos"), or "" if the card has none.
func (p Path) On(system string) string {
	own := map[string]string{"windows": p.Windows, "linux": p.Linux, "macos": p.MacOS}[system]
	if own != "" {
		return own
	}
	return p.Any
}

// PathOn returns a path that is for one system only.
func PathOn(system, path string) (p Path) {
	switch system {
	case "windows":
		p.Windows = path
	case "linux":
		p.Linux = path
	case "macos":
		p.MacOS = path
	}
	return p
}

// Texts returns the paths for all systems.
func (p Path) Texts() []string {
	return slices.DeleteFunc([]string{p.Any, p.Windows, p.Linux, p.MacOS}, func(s string) bool { return s == "" })
}

// IsZero reports whether the card has no path at all.
func (p Path) IsZero() bool { return p == Path{} }

// UnmarshalYAML reads a text, or a mapping from systems to texts.
func (p *Path) UnmarshalYAML(n ast.Node) error {
	if err := yaml.NodeToValue(n, &p.Any); err == nil {
		return nil
	}
	var by bySystem
	if err := yaml.NodeToValue(n, &by, yaml.Strict()); err != nil {
		return fmt.Errorf("expected a path, or a mapping with windows, linux and macos, or with from")
	}
	*p = Path{Windows: by.Windows, Linux: by.Linux, MacOS: by.MacOS, From: by.From}
	return nil
}

// bySystem is a path as a mapping.
type bySystem struct {
	Windows string  `yaml:"windows,omitempty"`
	Linux   string  `yaml:"linux,omitempty"`
	MacOS   string  `yaml:"macos,omitempty"`
	From    *Source `yaml:"from,omitempty"`
}

// MarshalYAML writes a text, or a mapping from systems to texts.
func (p Path) MarshalYAML() (any, error) {
	if p.Any != "" {
		return p.Any, nil
	}
	return bySystem{p.Windows, p.Linux, p.MacOS, p.From}, nil
}

// UnmarshalYAML reads a text, a number or a source.
func (s *Setting) UnmarshalYAML(n ast.Node) error {
	if err := yaml.NodeToValue(n, &s.Text); err == nil {
		return nil
	}
	s.From = &Source{}
	if err := yaml.NodeToValue(n, s.From, yaml.Strict()); err != nil {
		return fmt.Errorf("expected a text, or a source")
	}
	return nil
}

// MarshalYAML writes a text or a source.
func (s Setting) MarshalYAML() (any, error) {
	if s.From != nil {
		return s.From, nil
	}
	return s.Text, nil
}

// OneLine returns the path as a card has it, on one line.
func (p Path) OneLine() string {
	data, _ := marshal(p, yaml.Flow(true))
	return strings.TrimSpace(string(data))
}

// JSONSchema describes both ways to write a setting.
func (Setting) JSONSchema() *jsonschema.Schema {
	return &jsonschema.Schema{OneOf: []*jsonschema.Schema{
		{Type: "string", MinLength: new(uint64(1))}, {Type: "integer"},
		{Type: "object", Description: "The place in the app's settings; see version."},
	}}
}

// JSONSchema describes both ways to write a path.
func (Path) JSONSchema() *jsonschema.Schema {
	text := func(about string) *jsonschema.Schema {
		return &jsonschema.Schema{Type: "string", MinLength: new(uint64(1)), Description: about}
	}
	systems := jsonschema.NewProperties()
	systems.Set("windows", text(`For example %APPDATA%\Tidewright.`))
	systems.Set("linux", text(`For example ~/.config/tidewright.`))
	systems.Set("macos", text(`For example ~/Library/Application Support/Tidewright.`))
	systems.Set("from", &jsonschema.Schema{Type: "object", Description: "Items only: the app's setting that has the path; see version."})
	return &jsonschema.Schema{OneOf: []*jsonschema.Schema{
		text("One path for every system."),
		{Type: "object", Properties: systems, AdditionalProperties: jsonschema.FalseSchema, MinProperties: new(uint64(1))},
	}}
}
