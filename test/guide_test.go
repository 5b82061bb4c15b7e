package test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/goccy/go-yaml"

	"movekit/test/fatal"
	"movekit/test/lay"
)

// TestGuide makes a whole move with the guide alone, with a user of another name, settings with
// updated paths, and existing data. Then it leaves the guide and continues.
func TestGuide(t *testing.T) {
	t.Parallel()
	dir := settled(t)
	os.RemoveAll(filepath.Join(dir, "kit"))
	fatal.If(t, os.MkdirAll(filepath.Join(dir, "cards"), 0o755))
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
	// On the old computer: create a kit, survey and pack. The passphrase is not asked again.
	out := atTerminal(t, dir, "nonsense\nnew\nkit\ncards\n?\nb\n\n\nold\nNEW\nwrong words\nlater\n\n\nq\n", "--root", "old")
	expect(out, "This is OLD", "Please enter", "That is not right. The passphrase is", "old is this computer, the old one", "The name is checked on the new computer", "$ movekit new kit --to NEW --root old", "the old computer", "$ movekit survey --kit kit --root old", "$ movekit pack --kit kit --root old", "sealed and verified",
		"Next is unpack on NEW", "take the stick there", "Nothing is lost")
	_, rest, _ := strings.Cut(out, "apart from the kit:")
	words := strings.Fields(rest)
	if len(words) == 0 || strings.Contains(out, "Passphrase of the kit") {
		t.Fatalf("the passphrase: %s", out)
	}
	pass := words[0]
	// On the new computer the passphrase is asked once. The mapped user is asked once and
	// remembered.
	out = atTerminal(t, dir, "\n\n"+pass+"\nmholm\n\na\ny\n\nq\n", "--root", "new")
	expect(out, "continue the move from OLD to NEW", "Which user here gets maren's data", "$ movekit ready --user maren=mholm", "is mholm here", "$ movekit unpack --kit kit --root new", "existing data:", "+home=/home/mholm/berths",
		"$ movekit verify --kit kit --root new", "is on NEW and identical (2 items)", "Next is retire on OLD")
	if strings.Count(out, "Passphrase of the kit") != 1 {
		t.Errorf("the passphrase is asked %d times", strings.Count(out, "Passphrase of the kit"))
	}
	out = atTerminal(t, dir, "\n\n\n"+pass+"\n\n"+filepath.Join(dir, "handover")+"\n\ny\nq\n", "--root", "old")
	expect(out, "$ movekit retire", "set aside", "$ movekit report --to", "$ movekit close", "Nothing is due: the kit is closed")
	if _, err := os.Stat(filepath.Join(dir, "handover/handover.html")); err != nil {
		t.Error(err)
	}
	// Other choices in the guide: another step, selected items, another kit, and none.
	os.RemoveAll(filepath.Join(dir, "kit"))
	out = atTerminal(t, dir, "look\nq\n", "--root", "old")
	expect(out, "create a safety copy", "$ movekit survey --wide --root old")
	out = atTerminal(t, dir, "keep\ncopy\n\nlater\napps\ndiary/diary\nother\npack\nkit\nq\n", "--root", "old")
	expect(out, "$ movekit new copy --keep", "now: diary/diary", "$ movekit pack diary/diary --kit copy", "the safety copy of OLD")
	if strings.Contains(out, "settings of maren") && strings.Contains(strings.SplitN(out, "$ movekit pack", 2)[1], "settings of maren  ") {
		t.Errorf("what was not selected was packed: %s", out)
	}
	// Without a terminal, help is printed.
	if s := must(t, 0, dir); !strings.Contains(s.out, "Usage:") {
		t.Errorf("without a terminal: %s", s.out)
	}
}

// TestCardByQuestions makes a card by answering questions, and packs with it.
func TestCardByQuestions(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	lay.Out(t, dir, map[string]string{
		"old/computer.yaml": "name: OLD\nsystem: linux\nhardware-id: h-old\n", "old/etc/passwd": "maren:x:1000:1000::/home/maren:/bin/sh\nbert:x:1001:1001::/home/bert:/bin/sh\n",
		"old/home/maren/.config/hoistbook/hoist.ini": "home=/home/maren/lifts\n", "old/home/bert/.config/hoistbook/hoist.ini": "home=/home/bert\n", "old/home/maren/.config/other/x.ini": "x",
	})
	lay.Database(t, filepath.Join(dir, "old/home/maren/.config/hoistbook/lifts.db"), "CREATE TABLE lift (n)", "INSERT INTO lift VALUES (1), (2)")
	// Invalid answers are reported and asked again. Enter accepts the proposal.
	out := atTerminal(t, dir, "99\n1\nTwo⏎lines\nHoist\nb\nHoistbook\nNot A Name\nhoistbook\n\n/nowhere\n\n\n\nSlipway Tools\n\nbin/hoist\nhoist\n/etc/none\n/etc/passwd\nnewer\nsame-or-newer\ny\nlifts\nn\n2\nrelative --state\nactive\nfree\ntake\n5\n\n\n\nChoose the printer⏎Sign in\n\n\n", "card", "make", "--root", "old")
	for _, want := range []string{"Please enter one of the numbers", "Please use a-z", " /nowhere", "has no full path", "Wrote the card cards/hoistbook.yaml", "counted: lifts", "a product key", "by hand: Choose the printer", "by hand: Sign in", "several lines were pasted", "of each user who has it, here bert, maren", "Please enter names only", "There is neither a file nor a package /etc/none", "Please enter one of exact", "Please enter a number from 0 to", "This card moves 2 folders, 1 database"} {
		if !strings.Contains(out, want) {
			t.Errorf("no %q in\n%s", want, out)
		}
	}
	if strings.Count(out, "Move $XDG_CONFIG_HOME/hoistbook") != 2 { // once, and again after the path that is not there
		t.Errorf("the place of two users is asked for twice: %s", out)
	}
	must(t, 0, dir, "card", "check", "cards/hoistbook.yaml")
	must(t, 0, dir, "new", "kit", "--root", "old", "--to", "NEW")
	if s := must(t, 0, dir, "survey", "--kit", "kit", "--root", "old"); !strings.Contains(s.out, "lifts of maren") || !strings.Contains(s.out, "hoistbook of bert") {
		t.Errorf("survey by the card: %s", s.out)
	}
	// One answer is changed, and the rest of the card stays. An invalid answer is asked again.
	before, _ := os.ReadFile(filepath.Join(dir, "cards/hoistbook.yaml"))
	out = atTerminal(t, dir, "title\nThe Hoistbook\nlicence\n3\nUnregister it\n\nRegister it\n\nhand\n\n\n", "card", "make", "hoistbook", "--root", "old")
	after, _ := os.ReadFile(filepath.Join(dir, "cards/hoistbook.yaml"))
	kept, _ := os.ReadFile(filepath.Join(dir, "cards/hoistbook.yaml.before"))
	if !bytes.Equal(kept, before) || !strings.Contains(out, "Wrote the card cards/hoistbook.yaml") {
		t.Errorf("changed: %s", out)
	}
	for text, want := range map[string]bool{"title: 'The Hoistbook'": true, "method: guided": true, "method: command": false, "Choose the printer": false, "# by-hand: none": true, "# Numbers that the owner": true} {
		if strings.Contains(string(after), text) != want {
			t.Errorf("%q is there: %v\n%s", text, !want, after)
		}
	}
	must(t, 0, dir, "card", "check", "cards/hoistbook.yaml")
	must(t, 2, dir, "card", "make", "nobody").tells(t, "card make asks questions")
	// If the user quits, nothing is written, and an existing card is not overwritten.
	out = atTerminal(t, dir, "/home/maren/.config/other\n\nhoistbook\nother\nq\n", "card", "make", "--root", "old")
	if !strings.Contains(out, "The card hoistbook already exists") || !strings.Contains(out, "No card was written") {
		t.Errorf("left: %s", out)
	}
	if _, err := os.Stat(filepath.Join(dir, "cards/other.yaml")); !os.IsNotExist(err) {
		t.Errorf("a card was written: %v", err)
	}
	must(t, 2, dir, "card", "make").tells(t, "card make asks questions")
}

// TestBothProgramsInKit adds the other system's program to the kit if it is beside this one.
func TestBothProgramsInKit(t *testing.T) {
	t.Parallel()
	dir := office(t)
	self, err := os.ReadFile(program)
	fatal.If(t, err)
	own := filepath.Join(dir, "stick/movekit")
	lay.Out(t, dir, map[string]string{"stick/movekit.exe": "the other one"})
	fatal.If(t, os.WriteFile(own, self, 0o755))
	cmd := command(t.Context(), dir, "new", "kit", "--root", "old", "--cards", "diary.yaml", "--to", "NEW")
	cmd.Path = own
	if s := finish(t, cmd); s.code != 0 {
		t.Fatalf("%s%s", s.out, s.err)
	}
	if data, _ := os.ReadFile(filepath.Join(dir, "kit/movekit.exe")); string(data) != "the other one" {
		t.Errorf("the other program is not in the kit: %q", data)
	}
	must(t, 0, dir, "inspect", "--kit", "kit")
}

// TestCollection uses the cards of the office's collection whose apps are installed.
func TestCollection(t *testing.T) {
	t.Parallel()
	dir := office(t)
	os.Mkdir(filepath.Join(dir, "cards"), 0o755)
	os.Rename(filepath.Join(dir, "diary.yaml"), filepath.Join(dir, "cards/diary.yaml"))
	lay.Out(t, dir, map[string]string{
		"cards/none.yaml":   "card: 1\nname: none\ntitle: Nowhere\nversion: {file: /opt/none/v}\nitems: [{name: data, kind: folder, path: /srv/none}]\n",
		"cards/server.yaml": "card: 1\nname: server\ntitle: Ledger\nitems: [{name: ledger, kind: network, address: 'QUAY-SRV:1'}]\n",
	})
	if s := must(t, 0, dir, "card", "list", "--cards", "cards", "--root", "old"); !strings.Contains(s.out, "v3.4.0") || !strings.Contains(strings.Join(strings.Fields(s.out), " "), "none Nowhere 1 0 - ") {
		t.Errorf("which are here: %s", s.out)
	}
	s := must(t, 0, dir, "new", "kit", "--root", "old", "--to", "NEW")
	if !strings.Contains(s.out, "apps  diary, server") || !strings.Contains(s.err, "Left out, because not on OLD: none") {
		t.Errorf("%s%s", s.out, s.err)
	}
	if s := must(t, 0, dir, "new", "all", "--root", "old", "--to", "NEW", "--cards", "cards"); !strings.Contains(s.out, "apps  diary, none, server") {
		t.Errorf("named: %s", s.out)
	}
	if s := must(t, 0, dir, "new", "one", "--root", "old", "--to", "NEW", "--app", "none"); !strings.Contains(s.out, "apps  none") {
		t.Errorf("one: %s", s.out)
	}
	os.Remove(filepath.Join(dir, "cards/diary.yaml"))
	os.Remove(filepath.Join(dir, "cards/server.yaml"))
	must(t, 2, dir, "new", "empty", "--root", "old", "--to", "NEW").tells(t, "no app that a card describes is on OLD")
}

// TestCardAdd adds cards to the collection: all or none, and never over another card.
func TestCardAdd(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	const one = "card: 1\nname: %s\ntitle: %s\nitems: [{name: data, kind: folder, path: /srv/%[1]s}] # as the vendor says\n"
	mooring := fmt.Sprintf(one, "mooring", "Mooring Plan")
	lay.Out(t, dir, map[string]string{"from/a.yaml": mooring, "from/b.yaml": fmt.Sprintf(one, "buoys", "Buoys"), "bad.yaml": "card: 1\nname: bad\n"})
	must(t, 1, dir, "card", "add", "from", "bad.yaml").tells(t, "bad.yaml")
	gone := func(name string) {
		t.Helper()
		if _, err := os.Lstat(filepath.Join(dir, name)); err == nil {
			t.Errorf("%s was written", name)
		}
	}
	gone("cards")
	if s := must(t, 0, dir, "card", "add", "from"); !strings.Contains(s.out, "mooring, Mooring Plan: added as cards/mooring.yaml") {
		t.Errorf("added: %s", s.out)
	}
	if data, _ := os.ReadFile(filepath.Join(dir, "cards/mooring.yaml")); string(data) != mooring {
		t.Errorf("not as it was written: %q", data)
	}
	lay.Out(t, dir, map[string]string{"from/b.yaml": fmt.Sprintf(one, "buoys", "Buoys of the north"), "from/c.yaml": fmt.Sprintf(one, "crane", "Crane")})
	must(t, 2, dir, "card", "add", "from").tells(t, "cards/buoys.yaml. No card was added")
	gone("cards/crane.yaml")
	if s := must(t, 0, dir, "card", "add", "from/a.yaml", "from/c.yaml", "--to", "cards"); !strings.Contains(s.out, "mooring, Mooring Plan: already there\ncrane, Crane: added") {
		t.Errorf("again: %s", s.out)
	}
	cmd := command(t.Context(), t.TempDir(), "card", "list")
	os.MkdirAll(filepath.Join(dir, "movekit"), 0o755)
	os.Rename(filepath.Join(dir, "cards"), filepath.Join(dir, "movekit/cards"))
	cmd.Env = append(cmd.Env, "XDG_CONFIG_HOME="+dir)
	if s := finish(t, cmd); s.code != 0 || !strings.Contains(s.out, "Mooring Plan") {
		t.Errorf("of the user's configuration: %s%s", s.out, s.err)
	}
}

// TestHelpFits reads the help at a terminal: no line is wider than the terminal, and laid-out text
// keeps its lines.
func TestHelpFits(t *testing.T) {
	t.Parallel()
	need(t, "script")
	for _, columns := range []int{80, 100} {
		var lines strings.Builder
		for _, c := range []string{"", "new", "unpack", "deactivate", "close", "survey", "card draft", "desk serve", "licence"} {
			fmt.Fprintf(&lines, "%s %s --help; ", program, c)
		}
		fmt.Fprintf(&lines, "%[1]s help stick; %[1]s help app-closed", program)
		out, err := exec.CommandContext(t.Context(), "script", "-qec", fmt.Sprintf("stty cols %d; %s", columns, lines.String()), "/dev/null").CombinedOutput()
		text := strings.ReplaceAll(string(out), "\r\n", "\n")
		if err != nil || !strings.Contains(text, "\n  skip        keep it, and") || !strings.Contains(text, "--run-as-me") || !strings.Contains(text, "Pulled out: plug") || !strings.Contains(text, "To override it: --override") {
			t.Fatalf("%v: %s", err, text)
		}
		for l := range strings.Lines(text) {
			if n := utf8.RuneCountInString(strings.TrimRight(l, "\n")); n > columns {
				t.Errorf("%d characters at %d columns: %s", n, columns, l)
			}
		}
	}
}

// TestProgressForPrograms reports progress as lines of JSON.
func TestProgressForPrograms(t *testing.T) {
	t.Parallel()
	dir := office(t)
	made(t, dir)
	s := must(t, 0, dir, "pack", "--kit", "kit", "--root", "old", "--json")
	var sealing struct {
		Progress struct {
			Doing, App, Item string
			Total            int64
			All              int64 `json:"all_total"`
		}
	}
	for line := range strings.Lines(s.err) {
		if strings.HasPrefix(line, "{") {
			if err := json.Unmarshal([]byte(line), &sealing); err != nil {
				t.Errorf("%v: %s", err, line)
			}
			if sealing.Progress.Doing == "sealing" {
				break
			}
		}
	}
	if p := sealing.Progress; p.Doing != "sealing" || p.App == "" || p.Item == "" || p.Total == 0 || p.All < p.Total {
		t.Errorf("%+v\n%s", p, s.err)
	}
	if !json.Valid([]byte(s.out)) {
		t.Errorf("the facts are no JSON: %s", s.out)
	}
}

// TestGuideByFile answers all questions of the guide and its commands from a file: a whole move
// without a terminal.
func TestGuideByFile(t *testing.T) {
	t.Parallel()
	dir := settled(t)
	os.RemoveAll(filepath.Join(dir, "kit"))
	os.MkdirAll(filepath.Join(dir, "cards"), 0o755)
	for _, c := range []string{"diary.yaml", "settings.yaml"} {
		os.Rename(filepath.Join(dir, c), filepath.Join(dir, "cards", c))
	}
	guided := func(root string, answers ...string) said {
		t.Helper()
		data, _ := yaml.Marshal(map[string][]string{"prompts": answers})
		lay.Out(t, dir, map[string]string{"answers.yaml": string(data), "words": passphrase})
		return must(t, 0, dir, "--answers", "answers.yaml", "--root", root, "--passphrase-file", "words")
	}
	s := guided("old", "new", "kit", "cards", "NEW", "", "")
	if !strings.Contains(s.out, "sealed and verified") || !strings.Contains(s.err, "take the stick there") || !strings.Contains(s.err, "(the file has no more answers)") {
		t.Errorf("%s\n%s", s.out, s.err)
	}
	s = guided("new", "", "", "mholm", "", "a", "y", "", "q")
	if !strings.Contains(s.out, "is on NEW and identical (2 items)") || !strings.Contains(s.err, "Which user here gets maren's data") {
		t.Errorf("%s\n%s", s.out, s.err)
	}
	lay.Out(t, dir, map[string]string{"answers.yaml": "prompts: {a: b}\n"})
	must(t, 2, dir, "--answers", "answers.yaml").tells(t, "prompts is a list")
}
