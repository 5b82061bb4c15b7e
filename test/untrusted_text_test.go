package test

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"movekit/test/lay"
)

// TestUntrustedText uses files and computers whose names clear the screen, change the text
// direction, and imitate lines of the program. None of that reaches a terminal or a page unescaped,
// and a card with such a text is rejected.
func TestUntrustedText(t *testing.T) {
	t.Parallel()
	dir := office(t)
	evil := "x\nerror: all is lost\n\x1b[2J\x1b[H\u202egpj"
	lay.Out(t, dir, map[string]string{"old/srv/diary/" + evil: "x", "old/srv/diary/plain": "y"})
	os.Symlink("/etc", filepath.Join(dir, "old/srv/diary/"+evil+"-link"))
	made(t, dir)
	own := regexp.MustCompile(`\x1b\[[0-9;]*m`)
	shown := 0
	check := func(what, text string) {
		t.Helper()
		if strings.Contains(text, "all is lost") {
			shown++
		}
		text = own.ReplaceAllString(text, "")
		if strings.ContainsAny(text, "\x1b\u202e") || strings.Contains(text, "\nerror: all is lost") {
			t.Errorf("%s shows it as it is:\n%q", what, text)
		}
	}
	for _, args := range [][]string{{"survey", "--root", "old", "--cards", "diary.yaml"}, {"survey", "--wide", "--root", "old", "--cards", "diary.yaml"}, {"pack", "--kit", "kit", "--root", "old"}, {"pack", "--kit", "kit", "--root", "old", "-v"}} {
		s := finish(t, command(t.Context(), dir, args...))
		check(args[0], s.out+s.err)
	}
	step(t, 0, dir, "new", "unpack")
	os.Remove(filepath.Join(dir, "new/srv/diary/"+evil))
	s := step(t, 3, dir, "new", "verify")
	check("verify", s.out+s.err)
	s = finish(t, command(t.Context(), dir, "status", "--kit", "kit", "--root", "old", "--check"))
	check("status", s.out+s.err)
	finish(t, command(t.Context(), dir, "report", "--kit", "kit", "--root", "new", "--out", "papers"))
	filepath.Walk(filepath.Join(dir, "papers"), func(path string, info os.FileInfo, err error) error {
		if err == nil && !info.IsDir() && !strings.HasSuffix(path, ".json") {
			text, _ := os.ReadFile(path)
			check(path, string(text))
		}
		return nil
	})
	s = finish(t, command(t.Context(), dir, "verify", "--kit", "kit", "--root", "new", evil))
	check("an argument", s.out+s.err)
	// The guide, and the questions for a card, in a terminal on a computer with such a name.
	lay.Out(t, dir, map[string]string{"odd/computer.yaml": "name: \"x\\nerror: all is lost\\e[2J\"\nsystem: linux\nhardware-id: odd\n", "odd/etc/x": "", "odd/home/maren/.config/" + evil + "/a.db": "SQLite format 3\x00"})
	erase := regexp.MustCompile(`\r?\x1b\[K`)
	for _, args := range [][]string{{"--root", "odd"}, {"card", "make", "--root", "odd"}} {
		check("the guide", strings.ReplaceAll(erase.ReplaceAllString(atTerminal(t, dir, "1\nq\nq\n", args...), ""), "\r\n", "\n"))
	}
	if shown < 6 {
		t.Errorf("it is shown %d times only, and not much is tried", shown)
	}
	lay.Out(t, dir, map[string]string{"evil.yaml": "card: 1\nname: evil\ntitle: \"Diary\\e[2J\"\nitems: [{name: a, kind: file, path: /srv/a}]\n", "tag.yaml": "card: 1\nname: evil\ntitle: x\nitems: !a\n", "deep.yaml": strings.Repeat("[", 50000)})
	for card, told := range map[string]string{"evil.yaml": "invisible character", "tag.yaml": "tag.yaml:", "deep.yaml": "nested too deeply"} {
		s := must(t, 1, dir, "card", "check", card)
		if check(card, s.out+s.err); !strings.Contains(s.out+s.err, told) {
			t.Errorf("%s: %s%s", card, s.out, s.err)
		}
	}
}
