package test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"movekit/test/lay"
)

// TestChangeComputer continues with another new computer, with a reason.
func TestChangeComputer(t *testing.T) {
	t.Parallel()
	dir := office(t)
	lay.Out(t, dir, map[string]string{"third/computer.yaml": "name: THIRD\nsystem: linux\nhardware-id: h-third\n", "third/opt/app/version": "3.4.9", "third/srv/.keep": ""})
	made(t, dir)
	step(t, 0, dir, "old", "pack")
	step(t, 0, dir, "new", "unpack")
	step(t, 4, dir, "third", "unpack").tells(t, "the new computer of this move is NEW")
	step(t, 2, dir, "third", "unpack", "--change-computer", "--because", " ")
	step(t, 0, dir, "third", "unpack", "--change-computer", "--because", "NEW fell into the harbour")
	step(t, 0, dir, "third", "verify")
	step(t, 4, dir, "new", "verify").tells(t, "the new computer of this move is THIRD")
	if s := step(t, 0, dir, "third", "report"); s.err == "" && s.out == "" {
		t.Error("no report")
	}
	if text, _ := os.ReadFile(filepath.Join(dir, "kit/report/handover.txt")); !strings.Contains(string(text), "NEW fell into the harbour") {
		t.Errorf("the reason is not in the handover: %s", text)
	}
}

// TestKeptBothKilled kills an unpack with keep-both, and its undo, at random moments: at the end
// all files of both exist, and undo restores the original files.
func TestKeptBothKilled(t *testing.T) {
	t.Parallel()
	dir := office(t)
	files := map[string]string{}
	for i := range 400 {
		files[fmt.Sprintf("old/srv/diary/many/%03d.rec", i)] = strings.Repeat("lift ", i*20)
		files[fmt.Sprintf("new/srv/diary/many/%03d.rec", i+200)] = strings.Repeat("own  ", i*20)
	}
	lay.Out(t, dir, files)
	made(t, dir)
	step(t, 0, dir, "old", "pack")
	before := picture(t, filepath.Join(dir, "new/srv"))
	random := rand.New(rand.NewPCG(4, 9))
	unpack := []string{"unpack", "--kit", "kit", "--root", "new", "--existing", "keep-both"}
	undo := []string{"undo", "--yes", "--kit", "kit", "--root", "new"}
	for _, args := range [][]string{unpack, undo} {
		killedAnywhere(t, random, 10, 3, 800*time.Millisecond, dir, args...)
		must(t, 0, dir, args...)
		if args[0] == "unpack" {
			step(t, 0, dir, "new", "verify")
			all, _ := filepath.Glob(filepath.Join(dir, "new/srv/diary/many/*"))
			numbered, _ := filepath.Glob(filepath.Join(dir, "new/srv/diary/many/* (2).rec"))
			if len(all) != 800 || len(numbered) != 200 {
				t.Errorf("%d files, %d with a number", len(all), len(numbered))
			}
		}
	}
	if after := picture(t, filepath.Join(dir, "new/srv")); after != before {
		t.Errorf("after undo\n%.2000s\nbefore\n%.2000s", after, before)
	}
}

// TestExistingData unpacks over existing files with each policy. Only replace loses any.
func TestExistingData(t *testing.T) {
	t.Parallel()
	for policy, want := range map[string][3]string{ // a.rec, own.rec, where the old a.rec is
		"set-aside": {"one", "", "mine"}, "keep-both": {"one", "own", "mine"}, "skip": {"mine", "own", "mine"}, "replace": {"one", "own", ""},
	} {
		dir := office(t)
		made(t, dir)
		step(t, 0, dir, "old", "pack")
		lay.Out(t, dir, map[string]string{"new/srv/diary/2025/a.rec": "mine", "new/srv/diary/2025/b.rec": "two", "new/srv/diary/own.rec": "own", "new/srv/diary/deep/own": "own"})
		before := picture(t, filepath.Join(dir, "new/srv"))
		s := step(t, 0, dir, "new", "unpack", "--yes", "--existing", policy)
		text := func(name string) string {
			data, _ := os.ReadFile(filepath.Join(dir, "new/srv", name))
			return string(data)
		}
		if got := [2]string{text("diary/2025/a.rec"), text("diary/own.rec")}; got[0] != want[0] || got[1] != want[1] {
			t.Errorf("%s: %q\n%s", policy, got, s.out)
		}
		found := ""
		all, _ := filepath.Glob(filepath.Join(dir, "new/srv/diary*/2025/a*.rec"))
		for _, a := range all {
			if data, _ := os.ReadFile(a); string(data) == "mine" {
				found = "mine"
			}
		}
		if found != want[2] {
			t.Errorf("%s: of what was there %q is left", policy, found)
		}
		if policy == "keep-both" {
			// In one folder: equal files once, others side by side with a number. Verify counts the
			// sealed ones.
			if text("diary/2025/a (2).rec") != "mine" || text("diary/deep/own") != "own" || text("diary/2025/b.rec") != "two" || text("diary/2025/b (2).rec") != "" || !strings.Contains(s.out+s.err, "check 3 files of the existing data, which were added, 1 with a number after the name (1 other the same)") {
				t.Errorf("merged: %s\n%s", picture(t, filepath.Join(dir, "new/srv")), s.out)
			}
			if s := step(t, 0, dir, "new", "unpack", "--existing", policy); !strings.Contains(s.out, "already the same") {
				t.Errorf("kept both twice: %s", s.out)
			}
			step(t, 0, dir, "new", "verify")
			lay.Out(t, dir, map[string]string{"new/srv/diary/2025/b.rec": "else"})
			step(t, 3, dir, "new", "verify")
			lay.Out(t, dir, map[string]string{"new/srv/diary/2025/b.rec": "two"})
			step(t, 0, dir, "new", "undo", "--yes")
			kept, _ := filepath.Glob(filepath.Join(dir, "new/srv/diary.set-aside-*"))
			for _, k := range kept { // it was worked in
				os.RemoveAll(k)
			}
			if after := picture(t, filepath.Join(dir, "new/srv")); after != before || len(kept) != 1 {
				t.Errorf("after undo (%v)\n%s\nbefore\n%s", kept, after, before)
			}
			step(t, 0, dir, "new", "unpack", "--existing", policy)
			step(t, 0, dir, "new", "undo", "--yes")
			if after := picture(t, filepath.Join(dir, "new/srv")); after != before {
				t.Errorf("after undo of what nobody worked in\n%s\nbefore\n%s", after, before)
			}
		}
		left, _ := filepath.Glob(filepath.Join(dir, "new/srv/*movekit-part*"))
		if len(left) > 0 {
			t.Errorf("%s left %v", policy, left)
		}
	}
}
