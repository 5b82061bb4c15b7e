package move_test

import (
	"slices"
	"strings"
	"testing"
	"time"

	"movekit/internal/core/fault"
	"movekit/internal/core/machine"
	"movekit/internal/core/move"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
	"movekit/internal/core/tree"
	"movekit/internal/report"
	"movekit/test/lay"
	"movekit/test/office"
)

// TestExpected stops where a figure is not the number that the card tells, and doubts a
// folder that holds one of its own name.
func TestExpected(t *testing.T) {
	t.Parallel()
	o := office.New(t, `items:
  - {name: projects, kind: folder, path: /srv/projects, counts: [{name: projects, files: '*.prj', expect: 3}]}
  - {name: boats, kind: sqlite, path: /srv/boats.db, counts: [{name: boats, query: SELECT count(*) FROM boat, expect: 2}]}
`, "linux", map[string]string{"old/srv/projects/a.prj": "", "old/srv/projects/b.prj": "", "old/srv/projects/Projects/c.prj": "", "new/srv/.keep": ""})
	fleet := o.Dir + "/old/srv/boats.db"
	lay.Database(t, fleet, "CREATE TABLE boat (n)", "INSERT INTO boat VALUES (1)")
	s, err := o.Job(o.Old).Survey(ctx)
	if err != nil {
		t.Fatal(err)
	}
	if i := s.Apps[0].Items[0]; len(i.Doubts) != 1 || !strings.Contains(i.Doubts[0], "of its own name") || len(i.Counts) != 1 || i.Counts[0].Value != 2 {
		t.Errorf("the survey: %+v", i)
	}
	out := o.Pack()
	if office.Blocked(out) != "as-expected as-expected" || !strings.Contains(out.Blocks[0].Why, "projects of projects: the card expects 3, and 2 are here") || !strings.Contains(out.Blocks[1].Why, "expects 2, and 1 are") {
		t.Errorf("%+v", out.Blocks)
	}
	lay.Out(t, o.Dir, map[string]string{"old/srv/projects/c.prj": ""})
	lay.Database(t, fleet, "INSERT INTO boat VALUES (2)")
	if out := o.Pack(); office.Blocked(out) != "" || len(out.Items[0].Notes) != 1 {
		t.Errorf("%+v", out)
	}
}

// TestOwnLeftovers does not count what a killed run has left as space that is taken.
func TestOwnLeftovers(t *testing.T) {
	t.Parallel()
	o := office.New(t, "items: [{name: diary, kind: folder, path: /srv/diary}]\n", "linux", map[string]string{"old/srv/diary/a": "x", "new/srv/diary" + tree.StageEnding + "/half": "h"})
	o.Pack()
	lay.Out(t, o.Dir, map[string]string{"new/computer.yaml": lay.Ident("linux", "OTHER", "9")}) // a gate stops it
	if out := o.Only(o.Job(office.Open(t, o.Dir+"/new")).Unpack(ctx)); office.Blocked(out) != "right-name" || o.Text("new/srv/diary"+tree.StageEnding+"/half") != "" {
		t.Errorf("%+v", out.Blocks)
	}
}

// TestNamesLeftOut leaves out names that Windows cannot have, where a person goes on in
// spite of them, and names each. The rest is whole.
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
		if len(out.Items) != 1 || known == machine.Linux && len(out.Items[0].Unkept) != want {
			t.Fatalf("made for %s: %+v", known, out)
		}
		if v := o.Verify(); !v.Equal() || o.Text("new/diary/what?") != "" || o.Text("new/diary/aux/in") != "" || o.Text("new/diary/good") != "" || o.Text("new/diary/Good") != "y" {
			t.Errorf("made for %s: %+v", known, v.Items)
		}
	}
}

// TestCovered tells before a licence is freed that it does not cover what is installed
// on the new computer.
func TestCovered(t *testing.T) {
	t.Parallel()
	o := office.New(t, `version: {file: /opt/v, rule: same-or-newer}
requires: [{name: The driver, path: /lib/driver}]
items: [{name: diary, kind: folder, path: /srv/diary}]
licences: [{name: seat, method: guided, covers: '8', deactivate: {steps: [{do: free it}]}, activate: {steps: [{do: take it}]}}]
`, "linux", map[string]string{"old/srv/diary/a": "x", "old/opt/v": "8.1", "new/opt/v": "9.2"})
	o.Pack()
	r, err := o.Job(o.New).OnNew(ctx)
	if err != nil || !slices.ContainsFunc(r.Checks, func(c move.Check) bool { return c.Need == move.NeedCovered && c.What == "licence seat" }) {
		t.Errorf("%+v, %v", r, err)
	}
	out := o.Change(o.Old, agreeing{}, time.Now(), (*move.Move).Deactivate)
	if office.Blocked(out) != "covered" || !strings.Contains(out.Blocks[0].Why, `version "9.2" is on NEW`) {
		t.Errorf("freeing it: %+v", out.Blocks)
	}
	if got := office.Blocked(o.Unpack()); got != "requires-met covered" {
		t.Errorf("unpacking: %q", got)
	}
	lay.Out(t, o.Dir, map[string]string{"new/opt/v": "8.9", "new/lib/driver": ""})
	if got := office.Blocked(o.Unpack()); got != "" {
		t.Errorf("with what it takes: %q", got)
	}
}

// TestAddressNotKnown does not say that everything is the same where an address cannot be
// read.
func TestAddressNotKnown(t *testing.T) {
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
	if r.Only([]*run.Outcome{out}); r.Result != report.Different || !strings.Contains(r.Sentence, "server of The App (address: it cannot be read on this computer)") {
		t.Errorf("%s: %s", r.Result, r.Sentence)
	}
}

// TestPromisedSize refuses a list that promises another size than the journal, by which it
// was seen that there is space.
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
