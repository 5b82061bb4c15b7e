package test

import (
	"os"
	"path/filepath"
	"testing"

	"movekit/test/lay"
)

// TestTwoCardsOneFolder has two cards with the same folder. Unpack stops before it writes anything, and says
// which they are.
func TestTwoCardsOneFolder(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	lay.Out(t, dir, map[string]string{
		"old/computer.yaml": lay.Ident("linux", "OLD", "1"), "new/computer.yaml": lay.Ident("linux", "NEW", "2"), "old/srv/shared/a": "1", "new/srv/shared/mine": "2",
		"cards/one.yaml": "card: 1\nname: one\ntitle: One\nitems: [{name: data, kind: folder, path: /srv/shared}]\n", "cards/two.yaml": "card: 1\nname: two\ntitle: Two\nitems: [{name: files, kind: folder, path: /srv/shared}]\n",
	})
	must(t, 0, dir, "new", "kit", "--root", "old", "--cards", "cards", "--to", "NEW")
	step(t, 0, dir, "old", "pack")
	step(t, 4, dir, "new", "unpack").tells(t, "data of One and files of Two would both go to /srv/shared")
	if names, err := os.ReadDir(filepath.Join(dir, "new/srv/shared")); err != nil || len(names) != 1 || names[0].Name() != "mine" {
		t.Errorf("%v %v", names, err)
	}
}
