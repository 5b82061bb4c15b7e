package test

import (
	"debug/buildinfo"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"movekit/internal/about"
)

// TestVersion has the program and a kit tell what the program was built from, and
// name every module in it with its licence.
func TestVersion(t *testing.T) {
	t.Parallel()
	dir := office(t)
	var b about.Build
	if err := json.Unmarshal([]byte(must(t, 0, dir, "version", "--json").out), &b); err != nil || b.Version == "" || b.Go == "" || b.System == "" {
		t.Errorf("%+v %v", b, err)
	}
	if said := must(t, 0, dir, "version").out; !strings.Contains(said, b.String()) {
		t.Errorf("%q does not tell %q", said, b)
	}
	made(t, dir)
	if manifest, err := os.ReadFile(filepath.Join(dir, "kit", "kit.yaml")); err != nil || !strings.Contains(string(manifest), b.String()) {
		t.Errorf("the kit does not tell %q (%v):\n%s", b, err, manifest)
	}
	notices := must(t, 0, dir, "version", "--notices").out
	if there, err := os.ReadFile(filepath.Join(dir, "kit", "NOTICES.txt")); err != nil || !strings.HasSuffix(notices, string(there)) {
		t.Errorf("the kit has other notices: %v", err)
	}
	info, err := buildinfo.ReadFile(program)
	if err != nil || len(info.Deps) < 20 {
		t.Fatal(info, err)
	}
	for _, m := range info.Deps {
		_, text, found := strings.Cut(notices, "\n==== "+m.Path+" "+m.Version+"\n")
		text, _, _ = strings.Cut(text, "\n==== ")
		if !found || len(text) < 300 {
			t.Errorf("the notices lack %s %s: run make notices", m.Path, m.Version)
		}
	}
}
