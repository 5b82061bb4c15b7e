package move_test

import (
	"path/filepath"
	"strings"
	"testing"
	"time"

	"movekit/internal/core/kit"
	"movekit/internal/core/licence"
	"movekit/internal/core/machine"
	"movekit/internal/core/move"
	"movekit/internal/core/ready"
	"movekit/internal/core/steps"
	"movekit/test/lay"
	"movekit/test/office"
)

const seated = `items: [{name: diary, kind: folder, path: /srv/diary}]
licences: [{name: seat, method: guided, deactivate: {steps: [{do: deactivate it}]}, activate: {steps: [{do: take it}]}, lost: {steps: [{do: call the vendor}]}}]
`

// TestThirdComputer binds the first new computer, refuses another one, and continues there if the
// first one broke. Its licence counts as a lost computer's.
func TestThirdComputer(t *testing.T) {
	t.Parallel()
	o := office.New(t, seated, "linux", map[string]string{"old/srv/diary/a": "x", "new/srv/.keep": ""})
	third := o.Another("third", lay.Ident("linux", "THIRD", "3"))
	o.Pack()
	now := time.Now()
	o.Change(o.Old, office.Agreeing{}, now, (*move.Move).Deactivate)
	if out := o.Only(o.Job(third).Unpack(ctx)); office.Blocked(out) != "right-name" || !strings.Contains(out.Blocks[0].Why, "this is THIRD, but the kit was made for NEW") {
		t.Errorf("before it is bound: %+v", out.Blocks)
	}
	o.Unpack()
	o.Change(o.New, office.Agreeing{}, now, (*move.Move).Activate)
	if out := o.Verify(); !out.Equal() {
		t.Fatalf("%+v", out)
	}
	for name, step := range map[string]func(*move.Move) string{
		"unpack":   func(m *move.Move) string { return office.Blocked(o.Only(m.Unpack(ctx))) },
		"undo":     func(m *move.Move) string { return office.Blocked(o.Only(m.Undo(ctx))) },
		"activate": func(m *move.Move) string { return office.Blocked(o.Only(m.Activate(ctx))) },
		"verify":   func(m *move.Move) string { return office.Blocked(o.Only(m.Verify(ctx))) },
	} {
		if got := step(o.Job(third)); got != "new-computer" {
			t.Errorf("%s on a third computer is stopped by %q", name, got)
		}
	}
	if _, err := o.Job(third).Tick(map[int]string{1: ""}); err == nil || !strings.Contains(err.Error(), "on the new computer, NEW") {
		t.Errorf("a third computer ticks something off: %v", err)
	}
	if r, err := o.Job(third).Ready(ctx); err != nil || r.Ready() || r.Checks[0].Need != ready.NeedOther {
		t.Errorf("a third computer is ready: %+v, %v", r, err)
	}
	if s, err := o.Job(third).Licences().Statuses(ctx); err != nil || s[0].New == licence.Active || s[0].By != "the technician on NEW" {
		t.Errorf("where nobody activated it, and by whom that was seen: %+v, %v", s, err)
	}
	lost := o.Job(third)
	lost.Exceptions.Lost = "stolen"
	if got := office.Blocked(o.Only(lost.Deactivate(ctx))); got != "new-computer" {
		t.Errorf("a third computer frees in the old one's name: %q", got)
	}

	m := o.Job(third)
	m.ReplaceReason = "the new one fell into the harbour"
	if out := o.Only(m.Unpack(ctx)); office.Blocked(out) != "" || len(out.Overrode) != 1 || out.Overrode[0].Because != m.ReplaceReason || o.Text("third/srv/diary/a") != "x" {
		t.Fatalf("instead: %+v", out)
	}
	s := o.Job(third).State
	st := s.Standing(o.Kit.Cards[0], &o.Kit.Cards[0].Licences[0], nil, now)
	if s.New.Name != "THIRD" || st.From != "NEW" || st.Old != licence.Active || st.New != licence.Unknown || st.Next != steps.Deactivate || s.Proven(o.Kit.Cards[0]) {
		t.Errorf("after that: %s, %+v", s.New.Name, st)
	}
	if got := office.Blocked(o.Only(o.Job(o.New).Verify(ctx))); got != "new-computer" {
		t.Errorf("the broken one: %q", got)
	}
	out := o.Change(third, office.Agreeing{}, now, (*move.Move).Activate)
	if office.Blocked(out) != "old-deactivated" || !strings.Contains(out.Blocks[0].Why, "active on NEW") {
		t.Errorf("it is still activated on the broken one: %+v", out)
	}
	lost = o.Job(third)
	lost.Technician, lost.Exceptions.Lost = office.Agreeing{}, "it is in the harbour"
	if out := o.Only(lost.Deactivate(ctx)); out.Licences[0].Did != "deactivated" {
		t.Errorf("deactivated in its name: %+v", out)
	}
	o.Change(third, office.Agreeing{}, now, (*move.Move).Activate)
	if out := o.Only(o.Job(third).Verify(ctx)); !out.Equal() {
		t.Errorf("proven on the third: %+v", out)
	}
}

// TestSameImage distinguishes computers that were restored from one image.
func TestSameImage(t *testing.T) {
	t.Parallel()
	o := office.New(t, seated, "linux", map[string]string{"old/srv/diary/a": "x", "new/srv/.keep": ""})
	o.Pack()
	clone := o.Another("clone", lay.Ident("linux", "NEW", "1"))
	if side := o.Job(clone).Side(); side != steps.NewSide {
		t.Errorf("a computer with the system's id of the old one, and another name: %s", side)
	}
	out := o.Only(o.Job(clone).Unpack(ctx))
	if office.Blocked(out) != "" || o.Text("clone/srv/diary/a") != "x" || o.Job(o.Old).Side() != steps.OldSide || o.Job(o.New).Side() != steps.ThirdSide || o.Job(clone).Self().ID == machine.ID(o.Old) {
		t.Errorf("%+v; %s, %s", out, o.Job(o.Old).Side(), o.Job(o.New).Side())
	}
	a, b := kit.Computer{Name: "A", ID: "1", Firmware: "f"}, kit.Computer{Name: "B", ID: "1", Firmware: "f"}
	if !a.Is(b) {
		t.Error("a computer that was given another name is another")
	}
	if b.Firmware = "g"; a.Is(b) || a.Is(kit.Computer{Name: "B", ID: "1"}) || !a.Is(kit.Computer{Name: "a", ID: "1"}) || (kit.Computer{Name: "A"}).Is(kit.Computer{Name: "A"}) {
		t.Error("computers are told apart wrongly")
	}
}

// TestSafetyCopy packs a safety copy, and unpacks it on the computer after a new installation, and
// on another computer. The licence is not changed.
func TestSafetyCopy(t *testing.T) {
	t.Parallel()
	o := office.New(t, seated, "linux", map[string]string{"old/srv/diary/a": "x", "new/srv/.keep": ""})
	o.Kit.Manifest.Keep, o.Kit.Manifest.New = true, kit.Computer{System: "linux"}
	o.Pack()
	for _, c := range []machine.Computer{o.Old, o.New} {
		m := o.Job(c)
		m.Technician = office.Agreeing{}
		if got := office.Blocked(o.Only(m.Deactivate(ctx))) + office.Blocked(o.Only(m.Activate(ctx))); !strings.Contains(got, "not-a-copy") {
			t.Errorf("the licence: stopped by %q", got)
		}
	}
	if d := o.Job(o.Old).State.Next(o.Kit.Cards); d.Step != "" {
		t.Errorf("%s is due", d.Step)
	}
	lay.Out(t, o.Dir, map[string]string{"old/srv/diary/a": "y"})
	if out := o.Pack(); out.Items[0].Did != "sealed" {
		t.Errorf("%+v", out.Items)
	}
	anew := o.Another("anew", lay.Ident("linux", "OLD", "7"))
	for _, c := range []machine.Computer{anew, o.New, o.Old} {
		if out := o.Only(o.Job(c).Unpack(ctx)); office.Blocked(out) != "" {
			t.Errorf("unpacking on %s: %+v", c.Name(), out.Blocks)
		}
		if out := o.Only(o.Job(c).Verify(ctx)); office.Blocked(out) != "" || !out.Equal() || len(out.Licences) > 0 || !o.Job(c).State.Proven(o.Kit.Cards[0]) {
			t.Errorf("verifying on %s: %+v", c.Name(), out)
		}
	}
	if o.Text("anew/srv/diary/a") != "y" || o.Text("new/srv/diary/a") != "y" {
		t.Error("it is not there")
	}
}

// TestChangeComputerDiscardsRecords discards records about the computer that broke.
func TestChangeComputerDiscardsRecords(t *testing.T) {
	t.Parallel()
	o := office.New(t, "items: [{name: diary, kind: folder, path: /srv/diary}]\n", "linux", map[string]string{"old/srv/diary/a": "x", "new/srv/.keep": "", "third/srv/.keep": "", "third/computer.yaml": lay.Ident("linux", "THIRD", "3")})
	o.Pack()
	j := o.Job(o.New)
	j.Choices.Places = map[string]string{"app/diary": "/elsewhere"}
	if o.Only(j.Unpack(ctx)); o.Text("new/elsewhere/a") != "x" {
		t.Fatal("it is not where it was asked for")
	}
	j = o.Job(office.Open(t, filepath.Join(o.Dir, "third")))
	j.ReplaceReason = "it broke"
	o.Only(j.Unpack(ctx))
	if o.Text("third/srv/diary/a") != "x" || o.Text("third/elsewhere/a") != "" {
		t.Error("it went where it was asked for on the other one")
	}
}
