package test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"movekit/test/lay"
)

// TestMovingBack moves an app with its licence to a new computer, and back two weeks later: with what was changed meanwhile, to the
// user who had it. What was set aside on the old computer stays aside. It works with the earlier kit, and with its record alone.
func TestMovingBack(t *testing.T) {
	t.Parallel()
	for _, closed := range []bool{false, true} {
		dir := t.TempDir()
		lay.Out(t, dir, map[string]string{
			"old/computer.yaml": "name: OLD\nsystem: linux\nhardware-id: h-old\n", "old/etc/passwd": "maren:x:1000:1000::/home/maren:/bin/sh\n", "old/home/maren/.diary/a.rec": "one", "old/srv/plans/p": "plan", "old/opt/app/version": "3.4.9",
			"new/computer.yaml": "name: NEW\nsystem: linux\nhardware-id: h-new\n", "new/etc/passwd": "mholm:x:1000:1000::/home/mholm:/bin/sh\n", "new/home/mholm/.x": "", "new/srv/.keep": "", "new/opt/app/version": "3.4.9",
			"diary.yaml": `card: 1
name: diary
title: Diary
items:
  - {name: data, kind: folder, path: ~/.diary}
  - {name: plans, kind: folder, path: /srv/plans}
licences:
  - {name: seat, method: guided, deactivate: {steps: [{do: Give it up}]}, activate: {steps: [{do: Take it}]}}
`,
			"answers.yaml": "steps: {diary: {seat: {deactivate: [done], activate: [done]}}}\n", "passphrase": passphrase + "\n",
		})
		on := func(code int, side, kit string, args ...string) said {
			t.Helper()
			return must(t, code, dir, append(args, "--kit", kit, "--root", side, "--answers", "answers.yaml", "--yes")...)
		}
		whole := func(kit, from, to string, flags ...string) {
			t.Helper()
			on(0, from, kit, "pack")
			on(0, from, kit, "deactivate")
			on(0, to, kit, append([]string{"unpack"}, flags...)...)
			on(0, to, kit, "activate")
			on(0, to, kit, "verify")
			on(0, from, kit, "retire")
		}
		must(t, 0, dir, "new", "there", "--root", "old", "--cards", "diary.yaml", "--to", "NEW", "--office", "Tern Quay")
		must(t, 2, dir, "new", "early", "--back", "there", "--root", "new").tells(t, "nothing was moved")
		whole("there", "old", "new", "--user", "maren=mholm")
		if _, err := os.Stat(filepath.Join(dir, "old/srv/plans.moved-to-NEW.txt")); err != nil {
			t.Fatalf("no note: %v", err)
		}
		first := "there"
		if closed {
			on(0, "new", "there", "report", "--to", "papers")
			must(t, 0, dir, "close", "--kit", "there", "--yes")
		}
		lay.Out(t, dir, map[string]string{"new/home/mholm/.diary/b.rec": "two", "new/srv/plans/p": "plan, changed"})
		must(t, 2, dir, "new", "back", "--back", first, "--root", "old").tells(t, "went to NEW")
		must(t, 2, dir, "new", "back", "--back", first, "--root", "new", "--to", "OTHER").tells(t, "leave out")
		// A record's cards could be anybody's: what they ask databases is shown first.
		card, _ := os.ReadFile(filepath.Join(dir, first, "cards/diary.yaml"))
		if closed {
			lay.Out(t, dir, map[string]string{first + "/cards/diary.yaml": strings.Replace(string(card), "items:\n", "items:\n  - {name: db, kind: sqlite, path: /srv/d.db, optional: true, counts: [{name: all, query: SELECT count(*) FROM secret}]}\n", 1)})
			must(t, 2, dir, "new", "back", "--back", first, "--root", "new").tells(t, "Allow these queries?")
			lay.Out(t, dir, map[string]string{first + "/cards/diary.yaml": string(card)})
		}
		s := must(t, 0, dir, "new", "back", "--back", first, "--root", "new")
		if !strings.Contains(s.out, "from  NEW") || !strings.Contains(s.out, "to    OLD") {
			t.Errorf("%s", s.out)
		}
		if s := run(t, dir, "status", "--kit", first); !closed && !strings.Contains(s.out, "takes this move back") {
			t.Errorf("the first kit: %s", s.out)
		}
		if !closed {
			must(t, 2, dir, "new", "again", "--back", first, "--root", "new").tells(t, "already taken back")
		}
		whole("back", "new", "old", "--user", "mholm=maren")
		for name, want := range map[string]string{"old/home/maren/.diary/a.rec": "one", "old/home/maren/.diary/b.rec": "two", "old/srv/plans/p": "plan, changed"} {
			if got, _ := os.ReadFile(filepath.Join(dir, name)); string(got) != want {
				t.Errorf("%s has %q", name, got)
			}
		}
		notes, _ := filepath.Glob(filepath.Join(dir, "old/*/*.moved-to-*"))
		more, _ := filepath.Glob(filepath.Join(dir, "old/home/maren/.*.moved-to-*"))
		aside, _ := filepath.Glob(filepath.Join(dir, "old/srv/plans.set-aside-*/p"))
		if len(notes)+len(more) > 0 || len(aside) != 1 {
			t.Errorf("notes %v %v, set aside %v", notes, more, aside)
		} else if got, _ := os.ReadFile(aside[0]); string(got) != "plan" {
			t.Errorf("what was set aside has %q", got)
		}
		if s := must(t, 0, dir, "board", "."); !strings.Contains(s.out, "moved back") || !strings.Contains(s.out, "Tern Quay") {
			t.Errorf("the board: %s", s.out)
		}
		if s := on(0, "old", "back", "licence", "status"); !strings.Contains(s.out, "OLD") {
			t.Errorf("the licence: %s", s.out)
		}
		on(0, "old", "back", "report")
		if text, _ := os.ReadFile(filepath.Join(dir, "back/report/handover.txt")); !strings.Contains(string(text), "takes the move of the kit") {
			t.Errorf("the handover does not say that it goes back: %s", text)
		}
	}
}
