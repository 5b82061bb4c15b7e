package move_test

import (
	"maps"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	"movekit/internal/core/fault"
	"movekit/internal/core/kit"
	"movekit/internal/core/machine"
	"movekit/internal/core/move"
	"movekit/internal/core/ready"
	"movekit/internal/core/run"
	"movekit/internal/core/spare"
	"movekit/internal/core/steps"
	"movekit/internal/core/survey"
	"movekit/internal/report"
	"movekit/test/fatal"
	"movekit/test/lay"
	"movekit/test/office"
)

// TestExpected stops if a count is not the expected one, and warns of a folder that contains a
// folder of the same name.
func TestExpected(t *testing.T) {
	t.Parallel()
	o := office.New(t, `items:
  - {name: projects, kind: folder, path: /srv/projects, counts: [{name: projects, files: '*.prj', expect: 3}]}
  - {name: boats, kind: sqlite, path: /srv/boats.db, counts: [{name: boats, query: SELECT count(*) FROM boat, expect: 2}]}
`, "linux", map[string]string{"old/srv/projects/a.prj": "", "old/srv/projects/b.prj": "", "old/srv/projects/Projects/c.prj": "", "new/srv/.keep": ""})
	fleet := o.Dir + "/old/srv/boats.db"
	lay.Database(t, fleet, "CREATE TABLE boat (n)", "INSERT INTO boat VALUES (1)")
	s, err := o.Job(o.Old).Survey(ctx)
	fatal.If(t, err)
	if i := s.Apps[0].Items[0]; len(i.Warnings) != 1 || !strings.Contains(i.Warnings[0], "with the same name") || len(i.Counts) != 1 || i.Counts[0].Value != 2 {
		t.Errorf("the survey: %+v", i)
	}
	out := o.Pack()
	if office.Blocked(out) != "counts-expected counts-expected" || !strings.Contains(out.Blocks[0].Why, "projects of projects: the card expects 3, but there are 2") || !strings.Contains(out.Blocks[1].Why, "expects 2, but there are 1") {
		t.Errorf("%+v", out.Blocks)
	}
	lay.Out(t, o.Dir, map[string]string{"old/srv/projects/c.prj": ""})
	lay.Database(t, fleet, "INSERT INTO boat VALUES (2)")
	if out := o.Pack(); office.Blocked(out) != "" || len(out.Items[0].Notes) != 1 {
		t.Errorf("%+v", out)
	}
}

// TestOwnLeftovers checks that staged data of a killed run stays until a run passes its gates, and
// is gone when the item is in place.
func TestOwnLeftovers(t *testing.T) {
	t.Parallel()
	o := office.New(t, "items: [{name: diary, kind: folder, path: /srv/diary}]\n", "linux", map[string]string{"old/srv/diary/a": "x"})
	left := "new/srv/diary." + o.Kit.Manifest.ID + spare.StageEnding
	lay.Out(t, o.Dir, map[string]string{left + "/half": strings.Repeat("h", 1<<20)})
	o.Pack()
	lay.Out(t, o.Dir, map[string]string{"new/computer.yaml": lay.Ident("linux", "OTHER", "9")})
	if out := o.Only(o.Job(office.Open(t, o.Dir+"/new")).Unpack(ctx)); office.Blocked(out) != "right-name" || len(o.Text(left+"/half")) != 1<<20 {
		t.Errorf("another computer: %+v", out.Blocks)
	}
	o.Unpack()
	if _, err := os.Lstat(filepath.Join(o.Dir, left)); !os.IsNotExist(err) || !o.Verify().Equal() {
		t.Errorf("left: %v", err)
	}
}

// TestNamesLeftOut leaves out names that Windows forbids if the user overrides the gate, and lists
// each. Everything else is complete.
func TestNamesLeftOut(t *testing.T) {
	t.Parallel()
	for _, known := range []machine.System{machine.Windows, machine.Linux} { // what the kit was made for
		o := office.New(t, "items: [{name: diary, kind: folder, path: {linux: /srv/diary, windows: 'C:\\diary'}}]\n", known, map[string]string{
			"old/srv/diary/good": "x", "old/srv/diary/what?": "x", "old/srv/diary/Good": "y", "old/srv/diary/aux/in": "z", "new/computer.yaml": lay.Ident("windows", "NEW", "2"), "new/Users/.keep": "",
		})
		o.New = office.Open(t, o.Dir+"/new")
		want := 3 // of files and folders, one of the two that differ in letter case only
		if known == machine.Windows {
			if got := office.Blocked(o.Pack()); got != "names-fit" {
				t.Errorf("the pack is stopped by %q", got)
			}
		}
		over := map[string]string{"names-fit": "they are old notes"}
		j := o.Job(o.Old)
		j.Overrides = over
		packed := o.Only(j.Pack(ctx)).Items[0]
		if known == machine.Windows && len(packed.Left) != want {
			t.Errorf("left behind: %q", packed.Left)
		}
		j = o.Job(o.New)
		if known == machine.Linux {
			if out := o.Only(o.Job(o.New).Unpack(ctx)); office.Blocked(out) != "names-fit" || !strings.Contains(out.Blocks[0].Why, "what? (Windows forbids ?") {
				t.Errorf("the unpack is stopped by %+v", out.Blocks)
			}
			j.Overrides = over
			want++ // and what is in a folder, file by file
		}
		out := o.Only(j.Unpack(ctx))
		if len(out.Items) != 1 || known == machine.Linux && len(out.Items[0].NotRestored) != want {
			t.Fatalf("made for %s: %+v", known, out)
		}
		if v := o.Verify(); !v.Equal() || o.Text("new/diary/what?") != "" || o.Text("new/diary/aux/in") != "" || o.Text("new/diary/good") != "" || o.Text("new/diary/Good") != "y" {
			t.Errorf("made for %s: %+v", known, v.Items)
		}
	}
}

// TestCovered reports before a licence is deactivated that it does not cover the version on the new
// computer.
func TestCovered(t *testing.T) {
	t.Parallel()
	o := office.New(t, `version: {file: /opt/v, rule: same-or-newer}
requires: [{name: The driver, path: /lib/driver}]
items: [{name: diary, kind: folder, path: /srv/diary}]
licences: [{name: seat, method: guided, covers: '8', deactivate: {steps: [{do: deactivate it}]}, activate: {steps: [{do: take it}]}}]
`, "linux", map[string]string{"old/srv/diary/a": "x", "old/opt/v": "8.1", "new/opt/v": "9.2"})
	o.Pack()
	r, err := o.Job(o.New).Ready(ctx)
	if err != nil || !slices.ContainsFunc(r.Checks, func(c ready.Check) bool { return c.Need == ready.NeedCovered && c.What == "licence seat" }) {
		t.Errorf("%+v, %v", r, err)
	}
	out := o.Change(o.Old, office.Agreeing{}, time.Now(), (*move.Move).Deactivate)
	if office.Blocked(out) != "licence-covers" || !strings.Contains(out.Blocks[0].Why, `version "9.2" is on NEW`) {
		t.Errorf("deactivating it: %+v", out.Blocks)
	}
	if got := office.Blocked(o.Unpack()); got != "requirements-met licence-covers" {
		t.Errorf("unpacking: %q", got)
	}
	lay.Out(t, o.Dir, map[string]string{"new/opt/v": "8.9", "new/lib/driver": ""})
	if got := office.Blocked(o.Unpack()); got != "" {
		t.Errorf("with what it takes: %q", got)
	}
	if out := o.Change(o.Old, office.Agreeing{}, time.Now(), (*move.Move).Deactivate); len(out.Blocks) > 0 {
		t.Errorf("the unpack saw version 8.9, and deactivate: %+v", out.Blocks)
	}
}

// TestUnknownAddress does not report a match if an address cannot be read.
func TestUnknownAddress(t *testing.T) {
	t.Parallel()
	o := office.New(t, `items:
  - {name: diary, kind: folder, path: /srv/diary}
  - {name: server, kind: network, from: {file: /etc/app.ini, key: main/server}}
`, "linux", map[string]string{"old/srv/diary/a": "x", "old/etc/app.ini": "[main]\nserver = quay-srv:9\n", "new/srv/.keep": ""})
	o.Pack()
	o.Unpack()
	out := o.Verify()
	if out.Equal() {
		t.Fatalf("%+v", out.Items)
	}
	j := o.Job(o.New)
	r := report.Build(*j.Manifest, j.Cards, j.State)
	if r.Only([]*run.Outcome{out}); r.Result != report.Different || !strings.Contains(r.Sentence, "server of The App (address: unreadable on this computer)") {
		t.Errorf("%s: %s", r.Result, r.Sentence)
	}
}

// TestPromisedSize rejects a list with another size than the journal, which was used to check the
// free space.
func TestPromisedSize(t *testing.T) {
	t.Parallel()
	o := office.New(t, "items: [{name: diary, kind: folder, path: /srv/diary}]\n", machine.Linux, map[string]string{"old/srv/diary/a": "x", "new/srv/.keep": ""})
	o.Pack()
	j := o.Job(o.New)
	j.State.Items[steps.Key{App: "app", Item: "diary"}].Sealed.Bytes = 1 << 40
	j.Overrides = map[string]string{"fits": "it is tried"}
	out, err := j.Unpack(ctx)
	if err == nil {
		err = out[0].Err
	}
	if fault.KindOf(err) != fault.Hostile || o.Text("new/srv/diary/a") != "" {
		t.Errorf("%v", err)
	}
}

// TestModifiedAfterPack changes the old computer after the pack in every way. Nothing is
// deactivated until the changes are sealed too, and only changed items are sealed again.
func TestModifiedAfterPack(t *testing.T) {
	t.Parallel()
	const text = `items:
  - {name: diary, kind: folder, path: /srv/diary}
  - {name: boats, kind: sqlite, path: /srv/boats.db}
licences: [{name: seat, method: guided, deactivate: {steps: [{do: deactivate it}]}, activate: {steps: [{do: take it}]}}]
`
	for name, c := range map[string]struct {
		work   func(dir string) // below the old computer's data
		same   bool
		says   []string
		sealed string // what the next pack seals anew
	}{
		"nothing":              {func(string) {}, true, nil, ""},
		"a file is added":      {func(d string) { lay.Out(t, d, map[string]string{"diary/new": "x"}) }, false, []string{"new was not in the sealed data"}, "diary"},
		"a file is changed":    {func(d string) { lay.Out(t, d, map[string]string{"diary/a": "other"}) }, false, []string{"a had 1 bytes, has 5"}, "diary"},
		"one of the same size": {func(d string) { lay.Out(t, d, map[string]string{"diary/a": "y"}) }, false, []string{"a has other content"}, "diary"},
		"its time is set back": {func(d string) {
			info, _ := os.Stat(d + "/diary/a")
			lay.Out(t, d, map[string]string{"diary/a": "y"})
			os.Chtimes(d+"/diary/a", info.ModTime(), info.ModTime())
		}, false, []string{"a has other content"}, "diary"},
		"the database's time is set back": {func(d string) {
			info, _ := os.Stat(d + "/boats.db")
			lay.Database(t, d+"/boats.db", "UPDATE boat SET n = 9 WHERE n = 2")
			os.Chtimes(d+"/boats.db", info.ModTime(), info.ModTime())
		}, false, []string{"boat"}, "boats"},
		"a file is replaced": {func(d string) {
			info, _ := os.Stat(d + "/diary/a")
			lay.Out(t, d, map[string]string{"diary/tmp": "z"})
			os.Chtimes(d+"/diary/tmp", info.ModTime(), info.ModTime())
			os.Rename(d+"/diary/tmp", d+"/diary/a")
		}, false, []string{"a has other content"}, "diary"},
		"permissions are changed": {func(d string) { os.Chmod(d+"/diary/a", 0o600) }, false, []string{"a had the permissions 0644, has 0600"}, "diary"},
		"they are set back":       {func(d string) { os.Chmod(d+"/diary/a", 0o600); os.Chmod(d+"/diary/a", 0o644) }, true, nil, "diary"},
		"a file is removed":       {func(d string) { os.Remove(d + "/diary/b") }, false, []string{"b is missing"}, "diary"},
		"it is only touched":      {func(d string) { os.Chtimes(d+"/boats.db", time.Now(), time.Now()) }, true, nil, "boats"},
		"a row is added":          {func(d string) { lay.Database(t, d+"/boats.db", "INSERT INTO boat VALUES (3)") }, false, []string{"boat"}, "boats"},
		"an index is added":       {func(d string) { lay.Database(t, d+"/boats.db", "CREATE INDEX i ON boat(n)") }, false, []string{"index i: was not in the sealed data"}, "boats"},
		"the folder is renamed":   {func(d string) { os.Rename(d+"/diary", d+"/diary2") }, false, []string{"it no longer exists"}, ""},
		"both":                    {func(d string) { lay.Out(t, d, map[string]string{"diary/c": "x"}); os.Remove(d + "/boats.db") }, false, []string{"c was not in the sealed data", "it no longer exists"}, "diary"},
	} {
		o := office.New(t, text, "linux", map[string]string{"old/srv/diary/a": "x", "old/srv/diary/b": "y", "new/srv/.keep": ""})
		old := filepath.Join(o.Dir, "old/srv")
		lay.Database(t, old+"/boats.db", "CREATE TABLE boat (n)", "INSERT INTO boat VALUES (1), (2)")
		o.Pack()
		c.work(old)
		s, err := o.Job(o.Old).Survey(ctx)
		fatal.If(t, err)
		var said []string
		same := true
		for _, i := range s.Apps[0].Items {
			if i.Since == nil || i.Since.Sealed.IsZero() {
				t.Fatalf("%s: nothing is said of %s", name, i.Item)
			}
			same, said = same && i.Since.Same, append(said, i.Since.Diffs...)
		}
		if same != c.same {
			t.Errorf("%s: it is the same: %t", name, same)
		}
		for _, want := range c.says {
			if !slices.ContainsFunc(said, func(d string) bool { return strings.Contains(d, want) }) {
				t.Errorf("%s: %q is not said: %q", name, want, said)
			}
		}
		out := o.Change(o.Old, office.Agreeing{}, time.Now(), (*move.Move).Deactivate)
		if got := office.Blocked(out); (got == "") != c.same || got != "" && (got != "old-unchanged" || !strings.Contains(out.Blocks[0].Why, " changed (")) || out.Err != nil {
			t.Errorf("%s: stopped by %q, %v", name, got, out.Err)
		}
		if c.same {
			continue
		}
		again := o.Job(o.Old)
		again.Overrides = map[string]string{"items-present": "it is in the kit"}
		did := ""
		for _, i := range o.Only(again.Pack(ctx)).Items {
			if i.Did == "sealed" {
				did += i.Item
			}
		}
		if did != c.sealed {
			t.Errorf("%s: %q is sealed anew, want %q", name, did, c.sealed)
		}
		out = o.Change(o.Old, office.Agreeing{}, time.Now(), (*move.Move).Deactivate)
		if gone := strings.Contains(strings.Join(said, " "), "no longer exists"); (office.Blocked(out) == "old-unchanged") != gone {
			t.Errorf("%s, and packed again: %+v %v", name, out.Blocks, out.Err)
		}
	}
}

// TestOneBadItem packs an app with two damaged databases. The other items are sealed, both errors are
// reported, and the app counts as packed once they can be read.
func TestOneBadItem(t *testing.T) {
	t.Parallel()
	o := office.New(t, "items:\n  - {name: one, kind: sqlite, path: /srv/one.db}\n  - {name: notes, kind: folder, path: /srv/notes}\n  - {name: two, kind: sqlite, path: /srv/two.db}\n  - {name: last, kind: file, path: /srv/last}\n", "linux",
		map[string]string{"old/srv/notes/a": "1", "old/srv/last": "2", "new/srv/.keep": ""})
	for _, name := range []string{"one", "two"} {
		file := filepath.Join(o.Dir, "old/srv", name+".db")
		lay.Database(t, file, "CREATE TABLE a (n)", "INSERT INTO a VALUES (1)", "CREATE TABLE b (n)")
		data, err := os.ReadFile(file)
		fatal.If(t, err)
		fatal.If(t, os.WriteFile(file, append(data[:4096:4096], make([]byte, len(data)-4096)...), 0o644))
	}
	out, err := o.Job(o.Old).Pack(ctx)
	if err != nil || len(out[0].Errs()) != 2 || len(out[0].Items) != 2 || out[0].Items[0].Did != "sealed" {
		t.Fatalf("%+v %v %v", out[0].Items, out[0].Errs(), err)
	}
	if j := o.Job(o.Old); j.State.Packed["app"] != nil {
		t.Error("it counts as packed")
	}
	for _, name := range []string{"one", "two"} {
		os.Remove(filepath.Join(o.Dir, "old/srv", name+".db"))
		lay.Database(t, filepath.Join(o.Dir, "old/srv", name+".db"), "CREATE TABLE a (n)")
	}
	did := map[string]string{}
	for _, i := range o.Pack().Items {
		did[i.Item] = i.Did
	}
	if want := (map[string]string{"one": "sealed", "two": "sealed", "notes": "kept", "last": "kept"}); !maps.Equal(did, want) {
		t.Errorf("%v", did)
	}
}

// TestThorough detects a change that leaves size and time unchanged. Windows shows no change time without
// opening the file, so a quick check misses it there.
func TestThorough(t *testing.T) {
	t.Parallel()
	o := office.New(t, "items: [{name: diary, kind: folder, path: /srv/diary}]\n", "linux", map[string]string{"old/srv/diary/a": "x"})
	o.Pack()
	name := filepath.Join(o.Dir, "old/srv/diary/a")
	info, _ := os.Stat(name)
	os.WriteFile(name, []byte("y"), 0o644)
	os.Chtimes(name, info.ModTime(), info.ModTime())
	for how, same := range map[survey.Since]bool{survey.Quick: runtime.GOOS == "windows", survey.Thorough: false} {
		j := o.Job(o.Old)
		j.Since = how
		s, err := j.Survey(ctx)
		if err != nil || s.Apps[0].Items[0].Since.Same != same {
			t.Errorf("%d: %+v %v", how, s.Apps[0].Items[0].Since, err)
		}
	}
	// Without the passphrase, a change is only reported as possible.
	os.Chtimes(name, time.Now(), time.Now())
	locked, err := kit.Open(filepath.Join(o.Dir, "kit"))
	fatal.If(t, err)
	defer locked.Close()
	s, err := move.New(o.Run(locked, o.Old)).Survey(ctx)
	if d := s.Apps[0].Items[0].Since; err != nil || d == nil || d.Same || d.Known || !strings.Contains(d.Why, "passphrase") {
		t.Errorf("%+v %v", d, err)
	}
	// On the new computer nothing is reported.
	lay.Out(t, o.Dir, map[string]string{"new/srv/diary/a": "x"})
	if s, err := o.Job(o.New).Survey(ctx); err != nil || s.Apps[0].Items[0].Since != nil {
		t.Errorf("%+v %v", s.Apps[0].Items[0].Since, err)
	}
}

// TestOpensWithoutCount asks whether the app showed what was expected, if the card has no number to compare.
func TestOpensWithoutCount(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		answers []string
		good    bool
	}{{[]string{"12 boats", "y"}, true}, {[]string{"12 boats", "Yes "}, true}, {[]string{"Error 17: cannot open its data", "n"}, false}, {[]string{"12 boats", "what?"}, false}} {
		o := office.New(t, "opens: {look: 'Open it'}\nitems: [{name: data, kind: folder, path: /srv/data}]\n", "linux", map[string]string{"old/srv/data/a": "1"})
		o.Pack()
		o.Unpack()
		j, p := o.Job(o.New), &office.Person{}
		for _, a := range c.answers {
			p.Answers = append(p.Answers, run.Reply{Answer: a})
		}
		j.Technician = p
		if out := o.Only(j.Verify(ctx)); out.Opened.Good != c.good || out.Opened.Said != c.answers[0] || out.Equal() != c.good {
			t.Errorf("%q: %+v", c.answers, out.Opened)
		}
	}
}

// TestOpens asks the technician to check the app once its data is verified.
func TestOpens(t *testing.T) {
	t.Parallel()
	const cardText = "opens: {look: 'Open it: how many records?', count: records}\nitems: [{name: data, kind: folder, path: /srv/data, counts: [{name: records, files: '*.rec'}]}]\n"
	o := office.New(t, cardText, "linux", map[string]string{"old/srv/data/a.rec": "1", "old/srv/data/b.rec": "2"})
	o.Pack()
	o.Unpack()
	verify := func(answers ...string) *run.Outcome {
		t.Helper()
		j := o.Job(o.New)
		p := &office.Person{}
		for _, a := range answers {
			p.Answers = append(p.Answers, run.Reply{Answer: a})
		}
		j.Technician = p
		out := o.Only(j.Verify(ctx))
		if len(answers) == 0 && len(p.Shown) > 0 && out.Opened.NotChecked == "" {
			t.Error("somebody was asked who had seen it")
		}
		return out
	}
	proven := func() bool { j := o.Job(o.New); return j.State.Proven(j.Cards[0]) }
	if out := verify(); !strings.Contains(out.Opened.String(), "not checked") || !out.Equal() || o.Job(o.New).State.Opened["app"] != nil || !proven() {
		t.Errorf("nobody looked: %+v", out.Opened)
	}
	if out := verify("1"); out.Opened.Good || out.Equal() || out.Opened.String() != "the technician saw 1, but 2 were packed" || proven() {
		t.Errorf("a wrong figure: %+v", out.Opened)
	}
	if out := verify("2"); !out.Opened.Good || !out.Equal() || !proven() {
		t.Errorf("the right figure: %+v", out.Opened)
	}
	if out := verify(); !out.Opened.Good || !out.Equal() {
		t.Errorf("seen before: %+v", out.Opened)
	}
	lay.Out(t, o.Dir, map[string]string{"new/srv/data/a.rec": "3"})
	if out := verify("2"); out.Opened.NotChecked != "its data differs" {
		t.Errorf("what differs was looked at: %+v", out.Opened)
	}
	o.Only(o.Job(o.New).Undo(ctx))
	if o.Job(o.New).State.Opened["app"] != nil {
		t.Error("what was taken back is still said to open")
	}
}

// TestSurveyAfterRetire surveys the old computer after its data was set aside. Nothing is reported as
// missing.
func TestSurveyAfterRetire(t *testing.T) {
	t.Parallel()
	o := office.New(t, "items:\n  - {name: data, kind: folder, path: /srv/data}\n  - {name: gone, kind: file, path: /srv/gone}\n", "linux", map[string]string{"old/srv/data/a": "1", "old/srv/gone": "2", "new/srv/.keep": ""})
	o.Pack()
	o.Unpack()
	o.Verify()
	j := o.Job(o.Old)
	j.Items = []string{"app/data"}
	o.Only(j.Retire(ctx))
	os.Remove(filepath.Join(o.Dir, "old/srv/gone"))
	s, err := o.Job(o.Old).Survey(ctx)
	fatal.If(t, err)
	if got := strings.Join(s.Apps[0].Facts.Pack.Missing, "; "); got != "gone at /srv/gone" {
		t.Errorf("%q", got)
	}
}
