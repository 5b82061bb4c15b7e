//go:build unix

package holder_test

import (
	"context"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"movekit/internal/core/licence"
	"movekit/internal/core/machine"
	"movekit/internal/core/move"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
	"movekit/test/lay"
	"movekit/test/office"
)

// More than two computers, and moves that go back.

const computersCard = `items: [{name: data, kind: file, path: /srv/data}, {name: cert, kind: file, path: /srv/office.key, secret: true}]
licences:
  - {name: seat, method: guided, seats: SEATS, deactivate: {steps: [{do: release it}]}, activate: {steps: [{do: take it}]}}
  - {name: signing, method: file, items: [cert]}
`

// computers is an office with three computers.
type computers struct {
	*office.Office
	third machine.Computer
}

func newComputers(t *testing.T, seats string) computers {
	t.Helper()
	o := office.New(t, strings.Replace(computersCard, "SEATS", seats, 1), "linux", map[string]string{"old/srv/data": "x", "old/srv/office.key": "k", "new/srv/.keep": "", "third/srv/.keep": "", "third/computer.yaml": lay.Ident("linux", "THIRD", "h-third")})
	o.Pack()
	return computers{o, office.Open(t, filepath.Join(o.Dir, "third"))}
}

// do runs a step on a computer, with exceptions.
func (o computers) do(c machine.Computer, step func(*move.Move, context.Context) ([]*run.Outcome, error), with func(*move.Move)) *run.Outcome {
	o.T.Helper()
	j := o.Job(c)
	j.Technician, j.Overrides = yes(), map[string]string{}
	if with != nil {
		with(j)
	}
	return o.Only(step(j, ctx))
}

// held returns the computers that have each licence, according to the journal.
func (o computers) held(name string) string {
	var on []string
	st := o.Job(o.Old).State.Licence("app", name)
	for _, c := range []machine.Computer{o.Old, o.New, o.third} {
		if st.On[machine.ID(c)].State == licence.Active {
			on = append(on, c.Name())
		}
	}
	return strings.Join(on, " ")
}

func (o computers) next() steps.Due {
	j := o.Job(o.Old)
	return j.State.Next(j.Cards)
}

// moved deactivates the licences on the old computer, and unpacks and activates on the new one.
func (o computers) moved() {
	o.T.Helper()
	o.do(o.Old, (*move.Move).Deactivate, nil)
	o.do(o.New, (*move.Move).Unpack, nil)
	if out := o.do(o.New, (*move.Move).Activate, nil); len(out.Blocks) > 0 || out.Err != nil || o.held("seat") != "NEW" || o.held("signing") != "NEW" {
		o.T.Fatalf("%+v, %q and %q", out, o.held("seat"), o.held("signing"))
	}
}

// TestMoveGoesBack undoes a move whose licences are active on the new computer already.
func TestMoveGoesBack(t *testing.T) {
	t.Parallel()
	o := newComputers(t, "1")
	o.moved()
	back := func(j *move.Move) { j.Exceptions.Back = "the app does not run there" }
	if out := o.do(o.New, (*move.Move).Undo, nil); office.Blocked(out) != "not-active-here" {
		t.Errorf("undo: %+v", out)
	}
	if out := o.do(o.Old, (*move.Move).Activate, back); !strings.HasPrefix(office.Blocked(out), "old-deactivated") || !strings.Contains(out.Blocks[0].Why, "is active on NEW") {
		t.Errorf("active on NEW: %+v", out)
	}
	if out := o.do(o.Old, (*move.Move).Deactivate, back); office.Blocked(out) != "other-computer" {
		t.Errorf("on the old computer: %+v", out)
	}
	if out := o.do(o.New, (*move.Move).Deactivate, back); len(out.Blocks) > 0 || out.Err != nil || o.held("seat")+o.held("signing") != "" || o.Text("new/srv/office.key") != "" {
		t.Fatalf("deactivated on NEW: %+v", out)
	}
	if out := o.do(o.New, (*move.Move).Undo, nil); len(out.Blocks) > 0 || out.Err != nil {
		t.Errorf("undo: %+v", out)
	}
	if out := o.do(o.New, (*move.Move).Activate, back); office.Blocked(out) != "old-computer" {
		t.Errorf("on the new computer: %+v", out)
	}
	out := o.do(o.Old, (*move.Move).Activate, back)
	if len(out.Blocks) > 0 || out.Err != nil || o.held("seat") != "OLD" || o.held("signing") != "OLD" || o.Text("old/srv/office.key") != "k" {
		t.Errorf("activated on OLD: %+v, %q and %q", out, o.held("seat"), o.held("signing"))
	}
	if d := o.next(); d.Step != steps.Deactivate || d.Side != steps.OldSide {
		t.Errorf("next: %+v", d)
	}
	// The move can be made once more.
	o.moved()
}

// TestNewComputerLostAndBack goes back although the new computer is gone.
func TestNewComputerLostAndBack(t *testing.T) {
	t.Parallel()
	o := newComputers(t, "1")
	o.moved()
	with := func(j *move.Move) { j.Exceptions.Back, j.Exceptions.Lost = "it was stolen", "it was stolen" }
	if out := o.do(o.Old, (*move.Move).Deactivate, with); len(out.Blocks) > 0 || out.Err != nil || o.held("seat")+o.held("signing") != "" {
		t.Fatalf("%+v, %q and %q", out, o.held("seat"), o.held("signing"))
	}
	if out := o.do(o.Old, (*move.Move).Activate, func(j *move.Move) { j.Exceptions.Back = "it was stolen" }); len(out.Blocks) > 0 || out.Err != nil || o.held("seat") != "OLD" || o.held("signing") != "OLD" {
		t.Errorf("%+v, %q and %q", out, o.held("seat"), o.held("signing"))
	}
}

// TestNewComputerReplaced replaces a new computer that broke while it had the licences. The old computer is
// retired as before.
func TestNewComputerReplaced(t *testing.T) {
	t.Parallel()
	o := newComputers(t, "1")
	o.moved()
	replace := func(j *move.Move) { j.ReplaceReason = "NEW broke" }
	if out := o.do(o.third, (*move.Move).Unpack, replace); office.Blocked(out) != "licence-deactivated" {
		t.Errorf("its licence file may still be on NEW: %+v", out)
	}
	o.do(o.third, (*move.Move).Unpack, func(j *move.Move) {
		replace(j)
		j.Items = []string{"app/data"}
		j.Overrides = office.Alone()
		j.Overrides["licence-deactivated"] = "it is checked later"
	})
	if d := o.next(); d.Step != steps.Deactivate || d.Side != steps.NewSide || d.Lost != "NEW" {
		t.Errorf("next: %+v", d)
	}
	// On the old computer nothing is left to deactivate, and that says nothing about NEW.
	o.do(o.Old, (*move.Move).Deactivate, nil)
	if o.held("seat") != "NEW" || o.held("signing") != "NEW" {
		t.Errorf("after a deactivation on OLD: %q and %q", o.held("seat"), o.held("signing"))
	}
	if out := o.do(o.third, (*move.Move).Activate, nil); !strings.HasPrefix(office.Blocked(out), "old-deactivated") || !strings.Contains(out.Blocks[0].Why, "is active on NEW") {
		t.Errorf("active on NEW: %+v", out)
	}
	if out := o.do(o.third, (*move.Move).Deactivate, func(j *move.Move) { j.Exceptions.Lost = "NEW broke" }); len(out.Blocks) > 0 || out.Err != nil || o.held("seat")+o.held("signing") != "" {
		t.Fatalf("%+v, %q and %q", out, o.held("seat"), o.held("signing"))
	}
	if out := o.do(o.third, (*move.Move).Unpack, nil); len(out.Blocks) > 0 {
		t.Fatalf("%+v", out)
	}
	if out := o.do(o.third, (*move.Move).Activate, nil); len(out.Blocks) > 0 || o.held("seat") != "THIRD" || o.held("signing") != "THIRD" {
		t.Errorf("%+v, %q and %q", out, o.held("seat"), o.held("signing"))
	}
	if out := o.do(o.third, (*move.Move).Verify, nil); !out.Equal() {
		t.Errorf("%+v", out)
	}
	if d := o.next(); d.Step != steps.Retire || d.Side != steps.OldSide {
		t.Errorf("next: %+v", d)
	}
	// Somebody restores the old computer's image.
	lay.Out(t, o.Dir, map[string]string{"old/srv/office.key": "k"})
	if _, err := o.Job(o.Old).Licences().Statuses(ctx); err != nil || o.held("signing") != "OLD THIRD" {
		t.Errorf("restored: %v, %q", err, o.held("signing"))
	}
	if o.Job(o.third).State.Proven(o.Job(o.third).Cards[0]) {
		t.Error("the licence is on two computers, and the move counts as proven")
	}
}

// TestSecondSeat leaves the old computer's seat active: nothing is left to deactivate, and a deactivation is
// stopped. After the new computer is replaced, no third seat is taken without a request.
func TestSecondSeat(t *testing.T) {
	t.Parallel()
	o := newComputers(t, "2")
	second := func(j *move.Move) {
		j.Exceptions.Second, j.Overrides = "both work until Friday", map[string]string{"licence-deactivated": "two people"}
	}
	o.do(o.New, (*move.Move).Unpack, second)
	o.do(o.New, (*move.Move).Activate, second)
	if o.held("seat") != "NEW" && o.held("seat") != "OLD NEW" {
		t.Fatalf("%q", o.held("seat"))
	}
	st := o.Job(o.Old).State
	if l := st.Licence("app", "seat"); !l.Second || !l.Stays {
		t.Errorf("%+v", l)
	}
	if out := o.do(o.Old, (*move.Move).Deactivate, nil); !strings.Contains(office.Blocked(out), "seat-stays") {
		t.Errorf("%+v", out)
	}
	c := o.Job(o.Old).Cards[0]
	if standing := st.Standing(c, &c.Licences[0], nil, time.Now()); standing.Next != "" {
		t.Errorf("next for the seat: %s", standing.Next)
	}
	o.do(o.third, (*move.Move).Unpack, func(j *move.Move) { second(j); j.ReplaceReason = "NEW broke" })
	if out := o.do(o.third, (*move.Move).Activate, nil); !strings.Contains(office.Blocked(out), "old-deactivated") {
		t.Errorf("a third seat: %+v", out)
	}
}

// TestUsableAgain warns before a licence is deactivated that expires, or must be active again, before its waiting
// time ends.
func TestUsableAgain(t *testing.T) {
	t.Parallel()
	tomorrow := time.Now().Add(24 * time.Hour).Format("2006-01-02")
	for rule, want := range map[string]string{
		"wait: 240h\n    expires: " + tomorrow:         "usable-again",
		"wait: 240h\n    reactivate-by: 72h":           "usable-again",
		"wait: 1h\n    expires: 2199-12-31":            "",
		"wait: calendar-day\n    reactivate-by: 8760h": "",
	} {
		o := ruled(t, rule)
		out := o.Change(o.Old, yes(), time.Now(), (*move.Move).Deactivate)
		if office.Blocked(out) != want {
			t.Errorf("%q: %+v %v", rule, out.Blocks, out.Err)
		}
	}
}
