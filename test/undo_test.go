package test

import (
	"crypto/sha256"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"movekit/test/fatal"
	"movekit/test/lay"
)

// undoOffice makes two computers with an app that has something in the way on
// the new one, for every way in which items are put in place.
func undoOffice(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	lay.Out(t, dir, map[string]string{
		"old/computer.yaml": "name: OLD\nsystem: linux\nhardware-id: h-old\n", "new/computer.yaml": "name: NEW\nsystem: linux\nhardware-id: h-new\n",
		"old/srv/diary/a.txt": "lift of the Grey Wagtail\n", "old/srv/diary/sub/b.txt": "b\n", "old/srv/only/one.rec": "1\n", "old/srv/only/two.rec": "2\n", "old/srv/only/skip.log": "log\n", "old/etc/hoist.ini": "lang=sv\n", "old/srv/fresh/x.txt": "x\n",
		"new/srv/diary/a.txt": "another\n", "new/srv/only/one.rec": "theirs\n", "new/srv/only/other.txt": "not ours\n", "new/etc/hoist.ini": "lang=en\n",
		"hoist.yaml": `card: 1
name: hoist
title: Hoistbook
items:
  - {name: diary, kind: folder, path: /srv/diary}
  - {name: only, kind: folder, path: /srv/only, include: ["*.rec"]}
  - {name: settings, kind: file, path: /etc/hoist.ini}
  - {name: fresh, kind: folder, path: /srv/fresh}
  - {name: berths, kind: sqlite, path: /srv/berths.db}
`,
	})
	lay.Database(t, filepath.Join(dir, "old/srv/berths.db"), "CREATE TABLE berth (id INTEGER PRIMARY KEY); INSERT INTO berth VALUES (1), (2)")
	lay.Database(t, filepath.Join(dir, "new/srv/berths.db"), "CREATE TABLE theirs (id INTEGER)")
	must(t, 0, dir, "new", "kit", "--root", "old", "--cards", "hoist.yaml", "--to", "NEW")
	step(t, 0, dir, "old", "pack")
	return dir
}

// files lists a folder: every file with the hash of its content, and folders.
func files(t *testing.T, dir string) (out []string) {
	t.Helper()
	filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
		fatal.If(t, err)
		line := strings.TrimPrefix(path, dir)
		if !e.IsDir() {
			data, _ := os.ReadFile(path)
			line += fmt.Sprintf(" %x", sha256.Sum256(data))
		}
		out = append(out, line)
		return nil
	})
	return out
}

func TestUndo(t *testing.T) {
	t.Parallel()
	dir := undoOffice(t)
	before := files(t, filepath.Join(dir, "new"))
	if s := step(t, 0, dir, "new", "undo"); strings.Contains(s.out, "taken back") {
		t.Errorf("nothing was put here: %s", s.out)
	}
	step(t, 0, dir, "new", "unpack")
	if s := step(t, 0, dir, "new", "undo"); strings.Count(s.out, "taken back") != 5 || strings.Count(s.out, "has its name back") != 4 {
		t.Errorf("undo: %s", s.out)
	}
	if after := files(t, filepath.Join(dir, "new")); !slices.Equal(before, after) {
		t.Errorf("before %q\nafter %q", before, after)
	}
	if s := must(t, 0, dir, "status", "--kit", "kit"); strings.Contains(s.out, "set aside") {
		t.Errorf("status: %s", s.out)
	}
	// What was worked in since is kept.
	step(t, 0, dir, "new", "unpack")
	lay.Out(t, dir, map[string]string{"new/srv/diary/today.txt": "worked in\n", "new/srv/only/one.rec": "worked in\n", "new/etc/hoist.ini": "lang=de\n"})
	if s := step(t, 0, dir, "new", "undo"); strings.Count(s.out, "was worked in since") != 3 {
		t.Errorf("undo: %s", s.out)
	}
	after := files(t, filepath.Join(dir, "new"))
	for _, line := range before {
		if !slices.Contains(after, line) {
			t.Errorf("%s is not back", line)
		}
	}
	if n := strings.Count(strings.Join(after, "\n"), fmt.Sprintf("%x", sha256.Sum256([]byte("worked in\n")))); n != 2 {
		t.Errorf("what was worked in is there %d times: %q", n, after)
	}
	// What was there before, and what was put over it because one said so, stays.
	step(t, 2, dir, "new", "unpack", "--in-the-way", "replace").tells(t, "undo cannot give it back")
	step(t, 0, dir, "new", "unpack", "--yes", "--in-the-way", "replace")
	now := files(t, filepath.Join(dir, "new"))
	if s := step(t, 0, dir, "new", "undo"); !strings.Contains(s.out, "it was put over what was here") {
		t.Errorf("undo: %s", s.out)
	}
	for _, line := range now {
		if !strings.Contains(line, "fresh") && !slices.Contains(files(t, filepath.Join(dir, "new")), line) {
			t.Errorf("%s is gone", line)
		}
	}
	if s := step(t, 4, dir, "old", "undo"); !strings.Contains(s.err, "old computer") {
		t.Errorf("on the old computer: %s", s.err)
	}
}

// TestUndoKilled kills the program in the middle of taking back: the same
// command again ends well.
func TestUndoKilled(t *testing.T) {
	t.Parallel()
	dir := undoOffice(t)
	for i := range 1000 {
		lay.Out(t, dir, map[string]string{fmt.Sprintf("old/srv/only/%d.rec", i): fmt.Sprint(i), fmt.Sprintf("new/srv/only/%d.rec", i): "theirs"})
	}
	step(t, 0, dir, "old", "pack")
	before := files(t, filepath.Join(dir, "new"))
	for _, wait := range []time.Duration{120, 200, 300, 450} {
		step(t, 0, dir, "new", "unpack")
		cmd := command(t.Context(), dir, "undo", "--kit", "kit", "--root", "new")
		fatal.If(t, cmd.Start())
		time.Sleep(wait * time.Millisecond)
		cmd.Process.Kill()
		cmd.Wait()
		step(t, 0, dir, "new", "undo")
		if after := files(t, filepath.Join(dir, "new")); !slices.Equal(before, after) {
			t.Fatalf("killed after %d ms: %d lines before, %d after", wait, len(before), len(after))
		}
	}
}

// TestAnotherProfile meets a profile of the same name that the app made on the new computer: it
// is told apart by what the card names, before and after.
func TestAnotherProfile(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	lay.Out(t, dir, map[string]string{
		"old/computer.yaml": "name: OLD\nsystem: linux\nhardware-id: h-old\n", "new/computer.yaml": "name: NEW\nsystem: linux\nhardware-id: h-new\n",
		"p": passphrase + "\n", "old/srv/mail/a.default/id.ini": "Id=quay-7\n", "old/srv/mail/a.default/letters": "many", "old/srv/mail/b.other/id.ini": "Id=quay-8\n",
		"new/srv/mail/a.default/id.ini": "Id=fresh\n", "new/srv/mail/b.other/id.ini": "Id=quay-8\n", "new/srv/mail/b.other/more": "x",
		"mail.yaml": "card: 1\nname: mail\ntitle: Pier Mail\nitems: [{name: profile, kind: folder, path: /srv/mail, each: '*', identity: {file: id.ini, pattern: 'Id=(\\S+)'}}]\n",
	})
	must(t, 0, dir, "new", "kit", "--root", "old", "--cards", "mail.yaml", "--to", "NEW")
	step(t, 0, dir, "old", "pack")
	if s := step(t, 0, dir, "new", "survey", "--on-new"); strings.Count(s.out, "another profile than the one that comes") != 1 {
		t.Errorf("on the new one: %s", s.out)
	}
	if s := step(t, 3, dir, "new", "verify"); strings.Count(s.out, "it is another profile of the same name") != 1 || !strings.Contains(s.out, "a.default: it is another profile") {
		t.Errorf("before: %s", s.out)
	}
	if s := atTerminal(t, dir, "\n\n", "unpack", "--kit", "kit", "--root", "new", "--passphrase-file", "p"); strings.Count(s, "it is another profile than the one that comes") != 1 {
		t.Errorf("unpack: %s", s)
	}
	if s := step(t, 0, dir, "new", "verify", "--details"); strings.Count(s.out, "profile  ") < 2 {
		t.Errorf("after: %s", s.out)
	}
}
