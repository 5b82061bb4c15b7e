package move_test

import (
	"strings"
	"testing"

	"movekit/internal/core/run"
	"movekit/test/lay"
	"movekit/test/office"
)

// TestOpens has a person look into the app, once its data is proven.
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
		j.Person = p
		out := o.Only(j.Verify(ctx))
		if len(answers) == 0 && len(p.Shown) > 0 && out.Opened.Untried == "" {
			t.Error("somebody was asked who had seen it")
		}
		return out
	}
	proven := func() bool { j := o.Job(o.New); return j.State.Proven(j.Cards[0]) }
	if out := verify(); !strings.Contains(out.Opened.String(), "not tried") || !out.Equal() || o.Job(o.New).State.Opened["app"] != nil || !proven() {
		t.Errorf("nobody looked: %+v", out.Opened)
	}
	if out := verify("1"); out.Opened.Good || out.Equal() || out.Opened.String() != "a person saw 1, and 2 were packed" || proven() {
		t.Errorf("a wrong figure: %+v", out.Opened)
	}
	if out := verify("2"); !out.Opened.Good || !out.Equal() || !proven() {
		t.Errorf("the right figure: %+v", out.Opened)
	}
	if out := verify(); !out.Opened.Good || !out.Equal() {
		t.Errorf("seen before: %+v", out.Opened)
	}
	lay.Out(t, o.Dir, map[string]string{"new/srv/data/a.rec": "3"})
	if out := verify("2"); out.Opened.Untried != "its data differs" {
		t.Errorf("what differs was looked at: %+v", out.Opened)
	}
	o.Only(o.Job(o.New).Undo(ctx))
	if o.Job(o.New).State.Opened["app"] != nil {
		t.Error("what was taken back is still said to open")
	}
}
