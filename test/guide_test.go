package test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestGuide takes a whole move through the guide alone, with a user of another name, settings
// that are re-pointed and something in the way; then it leaves, and goes on.
func TestGuide(t *testing.T) {
	t.Parallel()
	dir := settled(t)
	os.RemoveAll(filepath.Join(dir, "kit"))
	if err := os.MkdirAll(filepath.Join(dir, "cards"), 0o755); err != nil {
		t.Fatal(err)
	}
	for _, c := range []string{"diary.yaml", "settings.yaml"} {
		os.Rename(filepath.Join(dir, c), filepath.Join(dir, "cards", c))
	}
	expect := func(out string, wanted ...string) {
		t.Helper()
		for _, w := range wanted {
			if !strings.Contains(out, w) {
				t.Errorf("no %q in\n%s", w, out)
			}
		}
	}
	// On the old computer: a kit is made, looked at and packed, and its passphrase is not asked.
	out := atTerminal(t, dir, "nonsense\nnew\nkit\ncards\nNEW\n\n\nq\n", "--root", "old")
	expect(out, "This is OLD", "Please answer", "$ movekit new kit --to NEW --root old", "the old computer", "$ movekit survey --kit kit --root old", "$ movekit pack --kit kit --root old", "sealed, read back",
		"Next is unpack on NEW", "take the stick there", "Nothing is lost")
	_, rest, _ := strings.Cut(out, "apart from the kit:")
	words := strings.Fields(rest)
	if len(words) == 0 || strings.Contains(out, "Passphrase of the kit") {
		t.Fatalf("the passphrase: %s", out)
	}
	pass := words[0]
	// On the new one it is asked once; who takes over is asked, and remembered.
	out = atTerminal(t, dir, "\n\n"+pass+"\nmholm\n\na\ny\n\nq\n", "--root", "new")
	expect(out, "go on with the move from OLD to NEW", "Who takes over from maren here", "$ movekit survey --on-new --user maren=mholm", "is mholm here", "$ movekit unpack --kit kit --root new", "in the way:", "+home=/home/mholm/berths",
		"$ movekit verify --kit kit --root new", "is on NEW and the same (2 items)", "Next is retire on OLD")
	if strings.Count(out, "Passphrase of the kit") != 1 {
		t.Errorf("the passphrase is asked %d times", strings.Count(out, "Passphrase of the kit"))
	}
	out = atTerminal(t, dir, "\n\n"+pass+"\n\n"+filepath.Join(dir, "hand-over")+"\n\ny\nq\n", "--root", "old")
	expect(out, "$ movekit retire", "set aside", "$ movekit report --to", "$ movekit close", "Nothing is due: the kit is closed")
	if _, err := os.Stat(filepath.Join(dir, "hand-over/handover.html")); err != nil {
		t.Error(err)
	}
	// Other ways in it: another step, chosen items, another kit, and none.
	os.RemoveAll(filepath.Join(dir, "kit"))
	out = atTerminal(t, dir, "look\nq\n", "--root", "old")
	expect(out, "make a safety copy", "$ movekit survey --wide --root old")
	out = atTerminal(t, dir, "keep\ncopy\n\napps\ndiary/diary\nother\npack\nkit\nq\n", "--root", "old")
	expect(out, "$ movekit new copy --keep", "now: diary/diary", "$ movekit pack diary/diary --kit copy", "the safety copy of OLD")
	if strings.Contains(out, "settings of maren") && strings.Contains(strings.SplitN(out, "$ movekit pack", 2)[1], "settings of maren  ") {
		t.Errorf("what was not chosen was packed: %s", out)
	}
	// Where nobody types, it is the help.
	if s := must(t, 0, dir); !strings.Contains(s.out, "Usage:") {
		t.Errorf("without a terminal: %s", s.out)
	}
}
