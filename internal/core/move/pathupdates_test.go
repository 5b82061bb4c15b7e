package move_test

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"movekit/internal/core/fault"
	"movekit/internal/core/move"
	"movekit/internal/core/run"
	"movekit/test/lay"
	"movekit/test/office"
)

// TestPathUpdates moves an app whose settings and database contain paths, to a user with another name
// and home, and to a chosen path.
func TestPathUpdates(t *testing.T) {
	t.Parallel()
	cardText := `items:
  - {name: settings, kind: folder, path: ~/.app, update-paths: ['*.ini', sub/*], update-computer-name: true}
  - {name: data, kind: folder, path: /srv/data}
  - {name: recent, kind: sqlite, path: ~/.recent.db, update-paths: [file.path, file.name]}
  - {name: single, kind: file, path: /etc/app.conf, update-paths: ['*']}
`
	o := office.New(t, cardText, "linux", map[string]string{
		"old/home/maren/.app/app.ini": "last=/srv/data/boats.txt\nhost=OLD\nhome=/home/maren/x\nother=/srv/data2/y\n", "old/home/maren/.app/notes.txt": "see /home/maren\n",
		"old/home/maren/.app/sub/deep": "/home/maren/.app\n", "old/home/maren/.app/sub/bin": "/home/maren\x00",
		"old/srv/data/boats.txt": "Tern", "old/etc/app.conf": "data = /srv/data\n",
		"old/etc/passwd": "maren:x:1000:1000::/home/maren:/bin/sh\n", "new/etc/passwd": "mholm:x:1000:1000::/people/mholm:/bin/sh\n", "new/people/mholm/x": "",
	})
	lay.Database(t, filepath.Join(o.Dir, "old/home/maren/.recent.db"), "CREATE TABLE file (path TEXT PRIMARY KEY, name, n INTEGER)", "CREATE TABLE log (x)",
		"INSERT INTO file VALUES ('file:///home/maren/a%20b.txt', '/srv/data/boats.txt', 1), ('/elsewhere', NULL, 2), ('/home/maren/c', '/home/maren/c', 3)", "INSERT INTO log VALUES ('/home/maren stays')")
	if out := o.Pack(); office.Blocked(out) != "" {
		t.Fatal(out.Blocks)
	}
	unpack := func(p run.Technician, change func(*move.Move)) *run.Outcome {
		t.Helper()
		j := o.Job(o.New)
		j.Technician = p
		j.Choices.Users, j.Choices.Places = map[string]string{"maren": "mholm"}, map[string]string{"app/data": "/data/harbour"}
		if change != nil {
			change(j)
		}
		out, err := j.Unpack(ctx)
		if err != nil {
			t.Fatal(err)
		}
		return out[0]
	}
	// In a non-interactive run, nothing of the item is in place.
	if out := unpack(run.NonInteractive{}, nil); fault.KindOf(out.Err) != fault.PathsOutdated || o.Text("new/people/mholm/.app/app.ini") != "" {
		t.Fatalf("nobody was asked: %v", out.Err)
	}
	p := &office.Looker{Says: true}
	out := o.Only([]*run.Outcome{unpack(p, nil)}, nil)
	want := []string{
		"settings|app.ini|1|last=/srv/data/boats.txt|last=/data/harbour/boats.txt", "settings|app.ini|2|host=OLD|host=NEW", "settings|app.ini|3|home=/home/maren/x|home=/people/mholm/x",
		"settings|sub/deep|1|/home/maren/.app|/people/mholm/.app",
		"recent|file|file:///home/maren/a%20b.txt, path|file:///home/maren/a%20b.txt|file:///people/mholm/a%20b.txt",
		"recent|file|file:///home/maren/a%20b.txt, name|/srv/data/boats.txt|/data/harbour/boats.txt",
		"recent|file|/home/maren/c, path|/home/maren/c|/people/mholm/c", "recent|file|/home/maren/c, name|/home/maren/c|/people/mholm/c",
		"single|app.conf|1|data = /srv/data|data = /data/harbour",
	}
	for i, line := range want {
		want[i] = strings.ReplaceAll(line, `file:///home/maren/a%20b.txt, `, `"file:///home/maren/a%20b.txt", `)
		want[i] = strings.ReplaceAll(want[i], `|/home/maren/c, `, `|"/home/maren/c", `)
	}
	if got := strings.Join(p.Lines, "\n"); got != strings.Join(want, "\n") {
		t.Errorf("asked about\n%s\nwant\n%s", got, strings.Join(want, "\n"))
	}
	if got := o.Text("new/people/mholm/.app/app.ini"); got != "last=/data/harbour/boats.txt\nhost=NEW\nhome=/people/mholm/x\nother=/srv/data2/y\n" {
		t.Errorf("settings: %q", got)
	}
	if o.Text("new/data/harbour/boats.txt") != "Tern" || o.Text("new/people/mholm/.app/notes.txt") != "see /home/maren\n" || o.Text("new/people/mholm/.app/sub/bin") != "/home/maren\x00" {
		t.Error("what is not named was changed, or the data is not where it was asked for")
	}
	var notes []string
	for _, i := range out.Items {
		notes = append(notes, i.Notes...)
	}
	if len(notes) != 1 || !strings.Contains(notes[0], "sub/bin") {
		t.Errorf("notes %q", notes)
	}
	// Verify reverses the changes, without asking again.
	verify := func(equal bool) *run.Outcome {
		t.Helper()
		out := o.Verify()
		if out.Equal() != equal {
			for _, i := range out.Items {
				t.Errorf("%s: equal %v, %v", i.Item, i.Equal, i.Diffs)
			}
		}
		return out
	}
	v := verify(true)
	for _, i := range v.Items {
		for _, r := range i.Rows {
			if !r.Same || r.What == "updated paths" && r.New != map[string]string{"settings": "4", "recent": "4", "single": "1"}[i.Item] {
				t.Errorf("%s: %+v", i.Item, r)
			}
		}
	}
	// A second run asks nothing and changes nothing.
	if again := unpack(run.NonInteractive{}, nil); again.Err != nil || again.Items[0].Did != "same" {
		t.Errorf("again: %v %+v", again.Err, again.Items)
	}
	// Another destination needs an undo first.
	if out := unpack(p, func(j *move.Move) { j.Choices.Places = map[string]string{"app/data": "/other"} }); fault.KindOf(out.Err) != fault.Usage {
		t.Errorf("another place: %v", out.Err)
	}
	unpack(p, nil)
	// Later edits are detected, beside a changed path and within it.
	ini := filepath.Join(o.Dir, "new/people/mholm/.app/app.ini")
	good := o.Text("new/people/mholm/.app/app.ini")
	for _, bad := range []string{good + "more\n", strings.Replace(good, "/data/harbour/boats", "/srv/data/boats", 1), strings.Replace(good, "other", "Other", 1)} {
		os.WriteFile(ini, []byte(bad), 0o644)
		verify(false)
	}
	os.WriteFile(ini, []byte(good), 0o644)
	lay.Database(t, filepath.Join(o.Dir, "new/people/mholm/.recent.db"), "UPDATE file SET n = 4 WHERE n = 3")
	if v := verify(false); !strings.Contains(fmt.Sprint(v.Items), "table file") {
		t.Errorf("another row: %+v", v.Items)
	}
	lay.Database(t, filepath.Join(o.Dir, "new/people/mholm/.recent.db"), "UPDATE file SET n = 3 WHERE n = 4")
	verify(true)
	lay.Database(t, filepath.Join(o.Dir, "new/people/mholm/.recent.db"), "ALTER TABLE file RENAME COLUMN name TO called")
	verify(false)
	lay.Database(t, filepath.Join(o.Dir, "new/people/mholm/.recent.db"), "ALTER TABLE file RENAME COLUMN called TO name")
	verify(true)
	// Undo restores everything, and keeps nothing as modified.
	u := o.Only(o.Job(o.New).Undo(ctx))
	for _, i := range u.Items {
		if i.Did != "undone" || i.Aside != "" {
			t.Errorf("undo: %+v", i)
		}
	}
	// Without path updates, the settings equal the sealed ones.
	p = &office.Looker{}
	unpack(p, nil)
	if len(p.Lines) == 0 || !strings.Contains(o.Text("new/people/mholm/.app/app.ini"), "/srv/data/boats") {
		t.Error("a person who says no has them changed")
	}
	verify(true)
	o.Only(o.Job(o.New).Undo(ctx))
	p = &office.Looker{Says: true}
	unpack(p, func(j *move.Move) { j.KeepPaths = true })
	if len(p.Lines) > 0 || !strings.Contains(o.Text("new/people/mholm/.app/app.ini"), "/srv/data/boats") {
		t.Error("paths that are to be left are changed")
	}
	verify(true)
}

// TestPathUpdateTriggers leaves a database as it was if an update would change more than the paths.
func TestPathUpdateTriggers(t *testing.T) {
	t.Parallel()
	o := office.New(t, "items: [{name: recent, kind: sqlite, path: ~/r.db, update-paths: [file.path, none.x]}]\n", "linux", map[string]string{"old/home/maren/x": "", "new/home/m2/x": ""})
	lay.Database(t, filepath.Join(o.Dir, "old/home/maren/r.db"), "CREATE TABLE file (path)", "CREATE TABLE log (x)", "CREATE TRIGGER t AFTER UPDATE ON file BEGIN INSERT INTO log VALUES (new.path); END", "INSERT INTO file VALUES ('/home/maren/a')")
	o.Pack()
	j := o.Job(o.New)
	p := &office.Looker{Says: true}
	j.Technician, j.Choices.Users = p, map[string]string{"maren": "m2"}
	out := o.Only(j.Unpack(ctx))
	if len(p.Lines) > 0 || len(out.Items[0].Notes) == 0 {
		t.Errorf("asked about %v, notes %q", p.Lines, out.Items[0].Notes)
	}
	if v := o.Verify(); !v.Equal() {
		t.Errorf("%+v", v.Items)
	}
}

// TestPathUpdateInterrupted interrupts an unpack with path updates, and an undo, after each line of
// the journal. At the end all data exists once, and no existing data is lost.
func TestPathUpdateInterrupted(t *testing.T) {
	t.Parallel()
	cardText := "items:\n  - {name: settings, kind: folder, path: ~/.app, update-paths: ['*']}\n  - {name: some, kind: folder, path: ~/.some, include: ['*.ini'], update-paths: ['*']}\n  - {name: recent, kind: sqlite, path: ~/r.db, update-paths: [file.path]}\n"
	o := office.New(t, cardText, "linux", map[string]string{"old/home/maren/.app/x.ini": "p=/home/maren/a\n", "new/home/m2/.app/x.ini": "theirs",
		"old/home/maren/.some/x.ini": "p=/home/maren/a\n", "old/home/maren/.some/y.ini": "/home/maren", "new/home/m2/.some/x.ini": "p=/home/maren/a\n", "new/home/m2/.some/z.txt": "theirs"})
	lay.Database(t, filepath.Join(o.Dir, "old/home/maren/r.db"), "CREATE TABLE file (path)", "INSERT INTO file VALUES ('/home/maren/a')")
	lay.Database(t, filepath.Join(o.Dir, "new/home/m2/r.db"), "CREATE TABLE theirs (x)")
	o.Pack()
	first := office.Files(t, o.Dir+"/new/home/m2")
	for round := range 2 {
		office.WhateverCutBy(o, o.New, func(j *move.Move) {
			j.Technician, j.Choices.Users = &office.Looker{Says: true}, map[string]string{"maren": "m2"}
		}, (*move.Move).Unpack)
		for _, name := range []string{".app", ".some"} {
			if got := o.Text("new/home/m2/" + name + "/x.ini"); got != "p=/home/m2/a\n" {
				t.Errorf("round %d: the settings in %s say %q", round, name, got)
			}
		}
		if v := o.Verify(); !v.Equal() {
			t.Errorf("round %d: %+v", round, v.Items)
		}
		office.WhateverCutBy(o, o.New, nil, (*move.Move).Undo)
		if got := office.Files(t, o.Dir+"/new/home/m2"); !slices.Equal(got, first) {
			t.Errorf("round %d: after undo %q, before %q", round, got, first)
		}
	}
}
