package move_test

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"movekit/internal/core/kit"
	"movekit/internal/core/move"
	"movekit/internal/core/run"
	"movekit/internal/core/survey"
	"movekit/test/lay"
	"movekit/test/office"
)

// agreeing does what a step asks for.
type agreeing struct{ run.Nobody }

func (agreeing) Guide(context.Context, run.Guided) (run.Reply, error) {
	return run.Reply{Answer: "done"}, nil
}

// TestWorkedOnAfterThePack changes the old computer after the pack in every way.
// Nothing is freed before what changed is sealed too, and only that is sealed anew.
func TestWorkedOnAfterThePack(t *testing.T) {
	t.Parallel()
	const text = `items:
  - {name: diary, kind: folder, path: /srv/diary}
  - {name: boats, kind: sqlite, path: /srv/boats.db}
licences: [{name: seat, method: guided, deactivate: {steps: [{do: free it}]}, activate: {steps: [{do: take it}]}}]
`
	for name, c := range map[string]struct {
		work   func(dir string) // below the old computer's data
		same   bool
		says   []string
		sealed string // what the next pack seals anew
	}{
		"nothing":               {func(string) {}, true, nil, ""},
		"a file is added":       {func(d string) { lay.Out(t, d, map[string]string{"diary/new": "x"}) }, false, []string{"new was not in what was sealed"}, "diary"},
		"a file is changed":     {func(d string) { lay.Out(t, d, map[string]string{"diary/a": "other"}) }, false, []string{"a had 1 bytes, has 5"}, "diary"},
		"one of the same size":  {func(d string) { lay.Out(t, d, map[string]string{"diary/a": "y"}) }, false, []string{"a has other content"}, "diary"},
		"a file is removed":     {func(d string) { os.Remove(d + "/diary/b") }, false, []string{"b is missing"}, "diary"},
		"it is only touched":    {func(d string) { os.Chtimes(d+"/boats.db", time.Now(), time.Now()) }, true, nil, "boats"},
		"a row is added":        {func(d string) { lay.Database(t, d+"/boats.db", "INSERT INTO boat VALUES (3)") }, false, []string{"boat"}, "boats"},
		"an index is added":     {func(d string) { lay.Database(t, d+"/boats.db", "CREATE INDEX i ON boat(n)") }, false, []string{"index i: was not in what was sealed"}, "boats"},
		"the folder is renamed": {func(d string) { os.Rename(d+"/diary", d+"/diary2") }, false, []string{"it is not there any more"}, ""},
		"both":                  {func(d string) { lay.Out(t, d, map[string]string{"diary/c": "x"}); os.Remove(d + "/boats.db") }, false, []string{"c was not in what was sealed", "it is not there any more"}, "diary"},
	} {
		o := office.New(t, text, "linux", map[string]string{"old/srv/diary/a": "x", "old/srv/diary/b": "y", "new/srv/.keep": ""})
		old := filepath.Join(o.Dir, "old/srv")
		lay.Database(t, old+"/boats.db", "CREATE TABLE boat (n)", "INSERT INTO boat VALUES (1), (2)")
		o.Pack()
		c.work(old)
		s, err := o.Job(o.Old).Survey(ctx)
		if err != nil {
			t.Fatal(err)
		}
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
		out := o.Change(o.Old, agreeing{}, time.Now(), (*move.Move).Deactivate)
		if got := office.Blocked(out); (got == "") != c.same || got != "" && (got != "old-unchanged" || !strings.Contains(out.Blocks[0].Why, " changed (")) || out.Err != nil {
			t.Errorf("%s: stopped by %q, %v", name, got, out.Err)
		}
		if c.same {
			continue
		}
		again := o.Job(o.Old)
		again.Overrides = map[string]string{"items-there": "it is in the kit"}
		did := ""
		for _, i := range o.Only(again.Pack(ctx)).Items {
			if i.Did == "sealed" {
				did += i.Item
			}
		}
		if did != c.sealed {
			t.Errorf("%s: %q is sealed anew, want %q", name, did, c.sealed)
		}
		out = o.Change(o.Old, agreeing{}, time.Now(), (*move.Move).Deactivate)
		if gone := strings.Contains(strings.Join(said, " "), "not there any more"); (office.Blocked(out) == "old-unchanged") != gone {
			t.Errorf("%s, and packed again: %+v %v", name, out.Blocks, out.Err)
		}
	}
}

// TestThoroughLook sees a change that neither size nor time tells.
func TestThoroughLook(t *testing.T) {
	t.Parallel()
	o := office.New(t, "items: [{name: diary, kind: folder, path: /srv/diary}]\n", "linux", map[string]string{"old/srv/diary/a": "x"})
	o.Pack()
	name := filepath.Join(o.Dir, "old/srv/diary/a")
	info, _ := os.Stat(name)
	os.WriteFile(name, []byte("y"), 0o644)
	os.Chtimes(name, info.ModTime(), info.ModTime())
	for how, same := range map[survey.Since]bool{survey.Quick: true, survey.Thorough: false} {
		j := o.Job(o.Old)
		j.Since = how
		s, err := j.Survey(ctx)
		if err != nil || s.Apps[0].Items[0].Since.Same != same {
			t.Errorf("%d: %+v %v", how, s.Apps[0].Items[0].Since, err)
		}
	}
	// Without the passphrase it is only known that something may have changed.
	os.Chtimes(name, time.Now(), time.Now())
	locked, err := kit.Open(filepath.Join(o.Dir, "kit"))
	if err != nil {
		t.Fatal(err)
	}
	defer locked.Close()
	s, err := move.New(o.Run(locked, o.Old)).Survey(ctx)
	if d := s.Apps[0].Items[0].Since; err != nil || d == nil || d.Same || d.Known || !strings.Contains(d.Why, "passphrase") {
		t.Errorf("%+v %v", d, err)
	}
	// On the new computer nothing is said.
	lay.Out(t, o.Dir, map[string]string{"new/srv/diary/a": "x"})
	if s, err := o.Job(o.New).Survey(ctx); err != nil || s.Apps[0].Items[0].Since != nil {
		t.Errorf("%+v %v", s.Apps[0].Items[0].Since, err)
	}
}
