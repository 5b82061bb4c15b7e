package cli

import (
	"slices"
	"testing"

	"movekit/test/fatal"
)

// TestBuiltInCollection checks that every built-in card says what it is based on, for each system, and that it can be used where
// only a part of its data is.
func TestBuiltInCollection(t *testing.T) {
	all, err := builtInCards()
	fatal.If(t, err)
	if len(all) < 50 {
		t.Errorf("only %d cards", len(all))
	}
	for _, c := range all {
		if c.Documentation == "" || c.Version == nil || c.About == "" {
			t.Errorf("%s: no documentation, version or purpose", c.Name)
		}
		if len(c.Commands()) > 0 {
			t.Errorf("%s runs commands", c.Name)
		}
		systems := map[string]bool{}
		for _, it := range c.Items {
			if !it.Optional && !it.Kind.Info().Served() {
				t.Errorf("%s: %s is not optional", c.Name, it.Name)
			}
			for system, path := range map[string]string{"linux": it.Path.Linux, "windows": it.Path.Windows, "macos": it.Path.MacOS} {
				systems[system] = systems[system] || path != ""
			}
		}
		for _, system := range []string{"linux", "windows", "macos"} {
			tried := system == "linux" && len(c.Tried) > 0 // on Debian
			if systems[system] && tried == slices.Contains(c.Untested, system) {
				t.Errorf("%s on %s: tried %v, untested %v", c.Name, system, c.Tried, c.Untested)
			}
			if !systems[system] && slices.Contains(c.Untested, system) && c.Items[0].Path.From == nil {
				t.Errorf("%s has nothing on %s, and lists it as untested", c.Name, system)
			}
		}
	}
}
