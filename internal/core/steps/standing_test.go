package steps

import (
	"encoding/json"
	"slices"
	"strings"
	"testing"
	"time"

	"movekit/internal/core/card"
	"movekit/internal/core/journal"
	"movekit/internal/core/kit"
	"movekit/internal/core/licence"
	"movekit/test/fatal"
)

var manifest = kit.Manifest{Old: kit.Computer{Name: "OLD", ID: "o"}, New: kit.Computer{Name: "NEW"}}

// line is a journal line about the app "hoist": about an item, or about a licence if its name
// starts with @.
func line(minutes int, event, what string, data any) journal.Line {
	l := journal.Line{At: noon.Add(time.Duration(minutes) * time.Minute), Event: event, App: "hoist", Computer: "NEW", Item: what}
	if name, is := strings.CutPrefix(what, "@"); is {
		l.Item, l.Licence = "", name
	}
	l.Data, _ = json.Marshal(data)
	return l
}

// rules is a card with two items and a licence with additional fields.
func rules(t *testing.T, more string) *card.Card {
	t.Helper()
	c, err := card.Parse("hoist.yaml", []byte(`card: 1
name: hoist
title: Hoistbook
items:
  - {name: diary, kind: folder, path: /srv/diary}
  - {name: book, kind: folder, path: /srv/book}
licences:
  - {name: seat, method: guided, deactivate: {steps: [{do: deactivate it, ask: code}]}, activate: {steps: [{do: take it, ask: code}]}`+more+`}
`))
	fatal.If(t, err)
	return c
}

func key(item string) Key { return Key{App: "hoist", Item: item} }

func packed() []journal.Line {
	return []journal.Line{
		line(0, journal.EventSealed, "diary", kit.Sealed{Files: 2}), line(0, journal.EventSealed, "book", kit.Sealed{Files: 1}),
		line(0, journal.EventPacked, "", Packed{Version: "3", Items: []Key{key("diary"), key("book")}}),
	}
}

// placed puts both items in place after the given number of minutes. checked lists those that were
// found the same.
func placed(minutes int, equal ...string) []journal.Line {
	out := []journal.Line{line(minutes, journal.EventPlaced, "diary", Placed{}), line(minutes+5, journal.EventPlaced, "book", Placed{})}
	for _, item := range equal {
		out = append(out, line(minutes+6, journal.EventChecked, item, Checked{Equal: true}))
	}
	return out
}

// answer is a recorded answer of the service.
func answer(minutes int, computer string, s licence.State, more func(*licence.Answer)) journal.Line {
	a := licence.Answer{Computer: computer, State: s, Transfers: 1}
	if more != nil {
		more(&a)
	}
	return line(minutes, journal.EventAnswered, "@seat", a)
}

func fold(lines ...[]journal.Line) *State { return Fold(manifest, slices.Concat(lines...)) }

// TestWaitingOnce deactivates a licence twice. Its waiting time and deadline count from the first time, until
// it was active again.
func TestWaitingOnce(t *testing.T) {
	c := rules(t, ", wait: 24h, reactivate-by: 72h")
	at := func(lines ...journal.Line) (time.Time, time.Time) {
		st := fold(packed(), lines).Standing(c, &c.Licences[0], nil, manifest.Made)
		return st.Again, st.BackBy
	}
	again, by := at(answer(10, "o", licence.Deactivated, nil))
	for what, lines := range map[string][]journal.Line{
		"twice":        {answer(10, "o", licence.Deactivated, nil), answer(500, "o", licence.Deactivated, nil)},
		"never active": {answer(10, "o", licence.Deactivated, nil), line(400, journal.EventSeen, "@seat", Seen{Old: licence.Deactivated, New: licence.NotActivated}), answer(500, "o", licence.Deactivated, nil)},
	} {
		if a, b := at(lines...); !a.Equal(again) || !b.Equal(by) || a.IsZero() || b.IsZero() {
			t.Errorf("%s: %v and %v, not %v and %v", what, a, b, again, by)
		}
	}
	if a, _ := at(answer(10, "o", licence.Deactivated, nil), answer(300, "o", licence.Active, nil), answer(500, "o", licence.Deactivated, nil)); !a.Equal(again.Add(490 * time.Minute)) {
		t.Errorf("active in between: %v, not 490 minutes after %v", a, again)
	}
}

func TestStanding(t *testing.T) {
	const D, A, N, X, U = licence.Deactivated, licence.Active, licence.NotActivated, licence.Expired, licence.Unknown
	deactivated := []journal.Line{answer(10, "o", D, nil)}
	taken := append(slices.Clone(deactivated), answer(20, "n", A, nil))
	second := []journal.Line{line(9, journal.EventOverridden, "", Overridden{Second: "seat"})}
	sight := func(here string, more func(*Observation)) *Observation {
		s := &Observation{Old: &licence.Answer{Computer: "o", State: A, Active: []string{"o"}, Seats: 1, Transfers: 3}, Here: here, By: "desk"}
		if more != nil {
			more(s)
		}
		return s
	}
	for name, c := range map[string]struct {
		card  string // fields of the licence
		lines [][]journal.Line
		see   *Observation
		after int // minutes after noon
		want  Standing
	}{
		"nothing is known": {"", nil, nil, 0, Standing{Old: U, New: U, Left: -1, By: "the journal", Proven: No, Next: Pack}},
		"packed":           {"", [][]journal.Line{packed()}, nil, 0, Standing{Old: U, New: U, Left: -1, By: "the journal", Proven: No, Next: Deactivate}},
		"deactivated":      {"", [][]journal.Line{packed(), deactivated}, nil, 15, Standing{Old: D, New: U, OldAt: noon.Add(10 * time.Minute), Left: 1, By: "the journal", Proven: No, Next: Activate}},
		"deactivated, with its rules": {", reactivate-by: 30m, wait: 20m", [][]journal.Line{packed(), deactivated}, nil, 15, Standing{Old: D, New: U, OldAt: noon.Add(10 * time.Minute), Left: 1, By: "the journal", Proven: No, Next: Activate,
			BackBy: noon.Add(40 * time.Minute), Again: noon.Add(30 * time.Minute)}},
		"activated, its rules are over": {", reactivate-by: 30m, wait: 20m", [][]journal.Line{packed(), taken}, nil, 25, Standing{Old: D, New: A, OldAt: noon.Add(10 * time.Minute), NewAt: noon.Add(20 * time.Minute), Left: 1, By: "the journal", Proven: No}},
		"taken over": {"", [][]journal.Line{packed(), {answer(20, "n", A, func(a *licence.Answer) { a.Disabled, a.Used = "o", 2 })}}, nil, 25, Standing{Old: D, New: A,
			OldAt: noon.Add(20 * time.Minute), NewAt: noon.Add(20 * time.Minute), Left: 1, Used: 2, By: "the journal", Proven: No}},
		"another's seat was disabled": {"", [][]journal.Line{packed(), {answer(20, "n", A, func(a *licence.Answer) { a.Disabled = "x" })}}, nil, 25, Standing{Old: U, New: A, NewAt: noon.Add(20 * time.Minute), Left: 1, By: "the journal", Proven: No, Next: Deactivate}},

		"seen on the old computer": {"", [][]journal.Line{packed()}, sight("o", nil), 0, Standing{Old: A, New: N, Beside: 1, Left: 3, By: "desk", Seen: true, Seats: 1, ActiveOn: 1, Proven: No, Next: Deactivate}},
		"seen on the new computer": {"", [][]journal.Line{packed(), taken}, sight("n", func(s *Observation) { s.Old.State, s.Old.Active = D, []string{"n"} }), 25, Standing{Old: D, New: A,
			OldAt: noon.Add(10 * time.Minute), NewAt: noon.Add(20 * time.Minute), Left: 3, By: "desk", Seen: true, Seats: 1, ActiveOn: 1, Good: true, Proven: No}},
		"seen by the old computer, active elsewhere": {"", [][]journal.Line{packed()}, sight("o", func(s *Observation) { s.Old.Active = []string{"o", "n"} }), 0, Standing{Old: A, New: U, Beside: 1, Elsewhere: 1, Left: 3, By: "desk", Seen: true, Seats: 1, ActiveOn: 2, Proven: No, Next: Deactivate}},
		"the old computer does not unsee what the new one did": {"", [][]journal.Line{packed(), taken}, sight("o", func(s *Observation) { s.Old.State, s.Old.Active = D, nil }), 25, Standing{Old: D, New: A,
			OldAt: noon.Add(10 * time.Minute), NewAt: noon.Add(20 * time.Minute), Left: 3, By: "desk", Seen: true, Seats: 1, Proven: No}},
		"gone from the new computer": {"", [][]journal.Line{packed(), taken}, sight("n", func(s *Observation) { s.Old.State, s.Old.Active = D, nil }), 25, Standing{Old: D, New: N,
			OldAt: noon.Add(10 * time.Minute), NewAt: noon.Add(20 * time.Minute), Left: 3, By: "desk", Seen: true, Seats: 1, Proven: No, Next: Activate}},
		"active on both": {"", [][]journal.Line{packed(), taken}, sight("n", func(s *Observation) { s.Old.Active = []string{"o", "n"} }), 25, Standing{Old: A, New: A, Beside: 1,
			OldAt: noon.Add(10 * time.Minute), NewAt: noon.Add(20 * time.Minute), Left: 3, By: "desk", Seen: true, Seats: 1, ActiveOn: 2, Proven: No, Next: Deactivate}},
		"active on both, as a second seat": {"", [][]journal.Line{packed(), second}, sight("n", func(s *Observation) { s.Old.Active, s.Old.Seats = []string{"o", "n"}, 2 }), 25, Standing{Old: A, New: A, Beside: 1,
			Left: 3, By: "desk", Seen: true, Seats: 2, ActiveOn: 2, Second: true, Stays: true, Good: true, Proven: No}},
		"a second seat that is one too many": {"", [][]journal.Line{packed(), second}, sight("n", func(s *Observation) { s.Old.Active = []string{"o", "n"} }), 25, Standing{Old: A, New: A, Beside: 1,
			Left: 3, By: "desk", Seen: true, Seats: 1, ActiveOn: 2, Second: true, Stays: true, Proven: No}},
		"asked for the new computer by itself": {"", [][]journal.Line{packed()}, sight("n", func(s *Observation) { s.Old.State, s.New = N, &licence.Answer{State: A} }), 0, Standing{Old: N, New: A, Left: 3, By: "desk", Seen: true, Seats: 1, ActiveOn: 1, Good: true, Proven: No}},
		"what its service allows": {"", [][]journal.Line{packed()}, sight("n", func(s *Observation) {
			s.Old.Covers, s.Old.Edition, s.Old.Takeover, s.Old.Again, s.Old.Issued, s.Old.Signed = "3", "Port", true, noon.Unix(), noon.Unix(), "jws"
		}), 0, Standing{Old: A, New: N, Beside: 1, Left: 3, By: "desk", Seen: true, Seats: 1, ActiveOn: 1, Covers: "3", Edition: "Port", AllowsTakeover: true, Again: noon, ServiceTime: noon, Proven: No, Next: Deactivate}},
		"the longer of two waiting times": {", wait: 20m", [][]journal.Line{packed(), deactivated}, sight("n", func(s *Observation) {
			s.Old.State, s.Old.Active, s.Old.Again = D, nil, noon.Add(time.Hour).Unix()
		}), 0, Standing{Old: D, New: N, OldAt: noon.Add(10 * time.Minute), Left: 3, By: "desk", Seen: true, Seats: 1, Again: noon.Add(time.Hour), Proven: No, Next: Activate}},
		"it expired": {"", [][]journal.Line{packed()}, sight("n", func(s *Observation) {
			s.Old.State, s.Old.Active, s.Old.Until = N, []string{"n"}, noon.Unix()
		}), 0, Standing{Old: N, New: X, Left: 3, By: "desk", Seen: true, Seats: 1, ActiveOn: 1, Until: noon, Proven: No, Next: Activate}},
		"it has not expired where its service is": {"", [][]journal.Line{packed()}, sight("n", func(s *Observation) {
			s.Old.State, s.Old.Active, s.Old.Until, s.Old.Signed, s.Old.Issued = N, []string{"n"}, noon.Unix(), "jws", noon.Unix()-1
		}), 0, Standing{Old: N, New: A, Left: 3, By: "desk", Seen: true, Seats: 1, ActiveOn: 1, Until: noon, ServiceTime: noon.Add(-time.Second), Good: true, Proven: No}},

		"to be tried first":                   {", trial: 1h", [][]journal.Line{packed()}, nil, 0, Standing{Old: U, New: U, Left: -1, By: "the journal", Proven: No, Trying: true, Next: Unpack}},
		"tried, and not compared":             {", trial: 1h", [][]journal.Line{packed(), placed(10)}, nil, 30, Standing{Old: U, New: U, Left: -1, By: "the journal", Proven: No, Trial: noon.Add(70 * time.Minute), Trying: true, Next: Verify}},
		"tried, and one item differs":         {", trial: 1h", [][]journal.Line{packed(), placed(10, "diary")}, nil, 30, Standing{Old: U, New: U, Left: -1, By: "the journal", Proven: No, Trial: noon.Add(70 * time.Minute), Trying: true, Next: Verify}},
		"tried, and the same":                 {", trial: 1h", [][]journal.Line{packed(), placed(10, "diary", "book")}, nil, 30, Standing{Old: U, New: U, Left: -1, By: "the journal", Proven: No, Trial: noon.Add(70 * time.Minute), Next: Deactivate}},
		"tried for too long":                  {", trial: 1h", [][]journal.Line{packed(), placed(10)}, nil, 70, Standing{Old: U, New: U, Left: -1, By: "the journal", Proven: No, Trying: true, Next: Unpack}},
		"deactivated while it is being tried": {", trial: 1h", [][]journal.Line{packed(), placed(10), deactivated}, nil, 30, Standing{Old: D, New: U, OldAt: noon.Add(10 * time.Minute), Left: 1, By: "the journal", Proven: No, Trial: noon.Add(70 * time.Minute), Next: Activate}},
		"activated after the trial":           {", trial: 1h", [][]journal.Line{packed(), placed(10), taken}, nil, 30, Standing{Old: D, New: A, OldAt: noon.Add(10 * time.Minute), NewAt: noon.Add(20 * time.Minute), Left: 1, By: "the journal", Proven: No}},
	} {
		crd := rules(t, c.card)
		got := fold(c.lines...).Standing(crd, &crd.Licences[0], c.see, noon.Add(time.Duration(c.after)*time.Minute))
		c.want.From = "OLD"
		got, c.want = utc(got), utc(c.want)
		if got != c.want {
			t.Errorf("%s:\n got %+v\nwant %+v", name, got, c.want)
		}
	}
}

// utc converts all times of a standing to UTC, so that they can be compared.
func utc(s Standing) Standing {
	for _, at := range []*time.Time{&s.OldAt, &s.NewAt, &s.Until, &s.Again, &s.BackBy, &s.ServiceTime, &s.Trial} {
		if !at.IsZero() {
			*at = at.UTC()
		}
	}
	return s
}

// TestRecord checks the recorded part of a standing, and whether it verifies the licence.
func TestRecord(t *testing.T) {
	const D, A, N = licence.Deactivated, licence.Active, licence.NotActivated
	for _, c := range []struct {
		st    Standing
		trial bool
		want  Done
	}{
		{Standing{Old: D, New: A, Seen: true, Good: true}, false, Yes},
		{Standing{Old: D, New: A}, false, Partly}, // nobody could be asked
		{Standing{Old: D, New: N, Seen: true}, false, Bad},
		{Standing{Old: A, New: N, Beside: 1, Seen: true, Trial: noon}, true, Partly},
		{Standing{Old: D, New: N, Seen: true, Trial: noon}, false, Bad},
		{Standing{Old: A, New: A, Seen: true, Trial: noon}, false, Bad},
		{Standing{Old: A, New: N, Beside: 1, Trial: noon}, false, Partly},
	} {
		c.st.Left, c.st.By = 2, "desk"
		r := c.st.Record()
		if want := (Seen{Old: c.st.Old, New: c.st.New, Left: 2, By: "desk", Asked: c.st.Seen, Good: c.st.Good, Trial: c.trial}); r != want || r.result() != c.want {
			t.Errorf("%+v: %+v is %s, want %+v and %s", c.st, r, r.result(), want, c.want)
		}
	}
}

// TestWork goes through a move line by line, and checks after each line the progress of every step
// and the next step.
func TestWork(t *testing.T) {
	c, plain := rules(t, ""), &card.Card{Name: "rota"}
	plain.Items = []card.Item{{Name: "rota"}}
	rota := func(minutes int, event string, data any) journal.Line {
		l := line(minutes, event, "rota", data)
		l.App = "rota"
		return l
	}
	s := fold()
	seen := func(good bool) journal.Line {
		return line(50, journal.EventSeen, "@seat", Seen{Old: licence.Deactivated, New: licence.Active, Asked: true, Good: good})
	}
	for i, c1 := range []struct {
		line                                     journal.Line
		pack, deactivate, unpack, activate, test Done
		next                                     Step
		apps                                     string
	}{
		{packed()[0], Partly, No, No, No, No, Pack, "hoist rota"},
		{packed()[1], Partly, No, No, No, No, Pack, "hoist rota"},
		{packed()[2], Yes, No, No, No, No, Pack, "rota"},
		{rota(1, journal.EventSealed, kit.Sealed{}), Yes, No, No, No, No, Pack, "rota"},
		{rota(1, journal.EventPacked, Packed{Items: []Key{{App: "rota", Item: "rota"}}}), Yes, No, No, No, No, Deactivate, "hoist"},
		{answer(10, "o", licence.Deactivated, nil), Yes, Yes, No, No, No, Unpack, "hoist rota"},
		{placed(20)[0], Yes, Yes, Partly, No, No, Unpack, "hoist rota"},
		{placed(20)[1], Yes, Yes, Yes, No, No, Unpack, "rota"},
		{rota(21, journal.EventPlaced, Placed{}), Yes, Yes, Yes, No, No, Activate, "hoist"},
		{answer(30, "n", licence.Active, nil), Yes, Yes, Yes, Yes, No, Verify, "hoist rota"},
		{line(40, journal.EventChecked, "diary", Checked{Equal: true}), Yes, Yes, Yes, Yes, Partly, Verify, "hoist rota"},
		{line(40, journal.EventChecked, "book", Checked{Equal: true}), Yes, Yes, Yes, Yes, Partly, Verify, "hoist rota"}, // the licence was not seen
		{seen(false), Yes, Yes, Yes, Yes, Bad, Verify, "hoist rota"},
		{seen(true), Yes, Yes, Yes, Yes, Yes, Verify, "rota"},
		{line(51, journal.EventChecked, "book", Checked{}), Yes, Yes, Yes, Yes, Bad, Verify, "hoist rota"},
		{line(52, journal.EventChecked, "book", Checked{Equal: true}), Yes, Yes, Yes, Yes, Yes, Verify, "rota"},
		{rota(53, journal.EventChecked, Checked{Equal: true}), Yes, Yes, Yes, Yes, Yes, Retire, "hoist rota"},
		{line(53, journal.EventRetiring, "diary", Retired{}), Yes, Yes, Yes, Yes, Yes, Retire, "hoist rota"},
		{line(53, journal.EventRetired, "diary", Retired{}), Yes, Yes, Yes, Yes, Yes, Retire, "hoist rota"},
		{line(53, journal.EventRetired, "book", Retired{}), Yes, Yes, Yes, Yes, Yes, Retire, "rota"},
		{line(53, journal.EventReturned, "book", nil), Yes, Yes, Yes, Yes, Yes, Retire, "hoist rota"},
		{line(53, journal.EventRetired, "book", Retired{}), Yes, Yes, Yes, Yes, Yes, Retire, "rota"},
		{rota(53, journal.EventRetired, Retired{}), Yes, Yes, Yes, Yes, Yes, Report, ""},
		{line(54, journal.EventReported, "", nil), Yes, Yes, Yes, Yes, Yes, Close, ""},
		{line(55, journal.EventUndoing, "book", Undone{}), Yes, Yes, Yes, Yes, Partly, Verify, "hoist"},
		{line(56, journal.EventUndone, "book", Undone{}), Yes, Yes, Partly, Yes, Partly, Unpack, "hoist"},
		{line(57, journal.EventPlaced, "book", Placed{}), Yes, Yes, Yes, Yes, Partly, Verify, "hoist"},
		{line(58, journal.EventChecked, "book", Checked{Equal: true}), Yes, Yes, Yes, Yes, Yes, Close, ""},
		{packed()[0], Yes, Yes, Partly, Yes, Partly, Unpack, "hoist"}, // what is there is of an earlier pack
		{line(59, journal.EventClosed, "", nil), Yes, Yes, Partly, Yes, Partly, "", ""},
	} {
		s.Add(c1.line)
		got := []Done{s.Progress(c, Pack), s.Progress(c, Deactivate), s.Progress(c, Unpack), s.Progress(c, Activate), s.Progress(c, Verify)}
		if want := []Done{c1.pack, c1.deactivate, c1.unpack, c1.activate, c1.test}; !slices.Equal(got, want) {
			t.Errorf("after line %d (%s): %v, want %v", i, c1.line.Event, got, want)
		}
		if p := s.Proven(c); p != (c1.test == Yes && c1.unpack == Yes) {
			t.Errorf("after line %d it is proven: %t", i, p)
		}
		if d := s.Next([]*card.Card{c, plain}); d.Step != c1.next || strings.Join(d.Apps, " ") != c1.apps {
			t.Errorf("after line %d %s is next for %v, want %s for %s", i, d.Step, d.Apps, c1.next, c1.apps)
		}
	}
	if p := s.Progress(plain, Deactivate); p != Nothing || s.Progress(plain, Survey) != No {
		t.Errorf("an app without licences is deactivated: %s", p)
	}
	for step, side := range map[Step]Side{Pack: OldSide, Deactivate: OldSide, Unpack: NewSide, Activate: NewSide, Verify: NewSide} {
		if !slices.ContainsFunc(Work, func(w struct {
			Step Step
			Side Side
		}) bool {
			return w.Step == step && w.Side == side
		}) {
			t.Errorf("%s must not run on the %s computer", step, side)
		}
	}
}

// TestNextOfATrial checks that the data is unpacked and verified before the licence is deactivated.
func TestNextOfATrial(t *testing.T) {
	c := rules(t, ", trial: 1h")
	s := fold(packed())
	next := func(want Step) {
		t.Helper()
		if d := s.Next([]*card.Card{c}); d.Step != want {
			t.Errorf("%s is next, want %s", d.Step, want)
		}
	}
	next(Unpack)
	for _, l := range placed(10) {
		s.Add(l)
	}
	next(Verify)
	s.Add(line(20, journal.EventChecked, "diary", Checked{Equal: true}))
	next(Verify)
	s.Add(line(20, journal.EventChecked, "book", Checked{Equal: true}))
	next(Deactivate)
	s.Add(answer(30, "o", licence.Deactivated, nil))
	next(Activate)
	s.Add(line(31, journal.EventChecked, "book", Checked{}))
	next(Activate) // it is deactivated: trying is over

	// Another app's licence does not wait for the first app's trial.
	s = fold(packed())
	plain := *rules(t, "")
	plain.Name = "crane"
	l := packed()[2]
	l.App = "crane"
	s.Add(l)
	if d := s.Next([]*card.Card{c, &plain}); d.Step != Deactivate || len(d.Apps) != 1 || d.Apps[0] != "crane" {
		t.Errorf("%+v", d)
	}
	// A licence that is active here already has no trial, and every licence counts.
	s = fold(packed(), placed(10), []journal.Line{answer(20, "n", licence.Active, nil)})
	if s.Trying(c) {
		t.Error("an active licence is tried")
	}
	c.Licences = append([]card.Licence{{Name: "module"}}, card.Licence{Name: "second", Trial: c.Licences[0].Trial})
	if !s.Trying(c) {
		t.Error("the second licence is not tried")
	}
}

// TestExportsBeforeVerify checks that exports are imported before verify.
func TestExportsBeforeVerify(t *testing.T) {
	c, err := card.Parse("hoist.yaml", []byte("card: 1\nname: hoist\ntitle: Hoistbook\nitems:\n  - {name: diary, kind: exports, path: /srv/diary, exports: {number: 2, import: take it in}}\n"))
	fatal.If(t, err)
	s := fold([]journal.Line{line(0, journal.EventSealed, "diary", kit.Sealed{Files: 2}), line(0, journal.EventPacked, "", Packed{Items: []Key{key("diary")}})})
	waits := func(want bool, next Step) {
		t.Helper()
		if d := s.Next([]*card.Card{c}); s.Waiting(c) != want || d.Step != next {
			t.Errorf("it waits: %t, and %s is next; want %t and %s", s.Waiting(c), d.Step, want, next)
		}
	}
	waits(false, Unpack)
	s.Add(line(1, journal.EventPlaced, "diary", Placed{}))
	waits(true, Todo)
	other := &card.Card{Name: "rota", Items: []card.Item{{Name: "rota"}}}
	if d := s.Next([]*card.Card{c, other}); d.Step != Pack {
		t.Errorf("%s is next, before the other app is packed", d.Step)
	}
	s.Add(line(2, journal.EventTicked, "diary", Ticked{Files: []string{"a.csv"}}))
	waits(true, Todo)
	s.Add(line(2, journal.EventTicked, "diary", Ticked{Files: []string{"a.csv", "b.csv"}}))
	waits(false, Verify)
	if side := s.Next([]*card.Card{c}).Side; side != NewSide {
		t.Error(side)
	}
}

// TestOtherEvents checks the effect of all other lines.
func TestOtherEvents(t *testing.T) {
	s := fold(packed(), []journal.Line{
		line(1, journal.EventPlacing, "diary", Placed{To: "/a"}), line(1, journal.EventPlaced, "other", Placed{To: "/b"}),
		line(2, journal.EventSealed, "@seat", kit.Sealed{Files: 1}), line(3, journal.EventAsked, "@seat", Asked{Key: "k"}), line(3, journal.EventRequested, "@seat", Requested{Nonce: "n"}),
		line(4, journal.EventStepDone, "@seat", StepDone{Do: "deactivate it"}), line(5, journal.EventOverridden, "", Overridden{Gate: "fits"}), line(6, journal.EventAgreed, "", nil),
	})
	it, lic := s.Items[key("diary")], s.Licences[key("seat")]
	if it.Placing == nil || it.Placing.To != "/a" || it.Placed != nil || len(s.Items) != 2 || !it.SealedAt.Equal(noon) || it.Sealed.Files != 2 {
		t.Errorf("item: %+v", it)
	}
	if lic.Sealed == nil || lic.Pending == nil || lic.Pending.Key != "k" || lic.Requested.Nonce != "n" || len(lic.Stepped) != 1 || lic.Left != -1 || lic.Old != licence.Unknown || lic.Name != "seat" || lic.App != "hoist" {
		t.Errorf("licence: %+v", lic)
	}
	if o := s.Overrides; len(o) != 1 || o[0].Gate != "fits" || o[0].App != "hoist" || o[0].Computer != "NEW" || !o[0].At.Equal(noon.Add(5*time.Minute)) || s.SecondSeat("hoist", "") || s.SecondSeat("hoist", "seat") || !s.Agreed["hoist"] {
		t.Errorf("overrides: %+v", o)
	}
	if !s.Last.Equal(noon.Add(6*time.Minute)) || len(s.LicencesOf("hoist")) != 1 || s.LicencesOf("rota") != nil || s.AppItems("rota") != nil {
		t.Error("of another app")
	}
	s.Add(answer(7, "o", licence.Deactivated, func(a *licence.Answer) { a.Used = 1 }))
	s.Add(answer(8, "n", licence.Active, func(a *licence.Answer) { a.Used = 1 }))
	if lic.Pending != nil || lic.Requested != nil || lic.Stepped != nil || len(lic.History) != 1 || lic.Used != 2 || lic.Answers["o"] != 1 || lic.Answers["n"] != 1 {
		t.Errorf("answered: %+v", lic)
	}
	for _, aside := range []string{"/c", "/c", ""} {
		s.Add(line(9, journal.EventPlaced, "diary", Placed{To: "/a", Aside: aside}))
	}
	if !slices.Equal(s.Asides["hoist"], []string{"/c"}) || it.Placing != nil || !it.PlacedAt.Equal(noon.Add(9*time.Minute)) {
		t.Errorf("aside: %v %+v", s.Asides, it)
	}
	s.Add(line(10, journal.EventUndoing, "diary", Undone{From: "/a"}))
	if it.Undoing == nil || it.Undoing.From != "/a" {
		t.Errorf("undoing: %+v", it)
	}
	s.Add(line(11, journal.EventUndone, "diary", Undone{From: "/a", Back: "/c"}))
	if len(s.Asides["hoist"]) != 0 || it.Placed != nil || it.Undoing != nil || !it.PlacedAt.IsZero() {
		t.Errorf("undone: %v %+v", s.Asides, it)
	}
	s.Add(journal.Line{Event: journal.EventSealed, App: "hoist", Item: "diary", Data: []byte("{")})
	if s.Items[key("diary")].Sealed.Files != 0 || len(s.Order) != 2 {
		t.Error("a line of another form")
	}
}

// TestCounts compares counts with each other and with the expected number.
func TestCounts(t *testing.T) {
	three := int64(3)
	for _, c := range []struct {
		expect   *int64
		old, new int64
		equal    bool
		diffs    int64
	}{{nil, 3, 3, true, 0}, {nil, 3, 2, false, 0}, {&three, 3, 3, true, 0}, {&three, 2, 2, false, 1}, {&three, 2, 3, false, 0}} {
		got := Checked{Equal: true}
		got.AddCount("berths", c.expect, c.old, c.new)
		if got.Equal != c.equal || got.Count != c.diffs || int64(len(got.Diffs)) != c.diffs || len(got.Rows) != 1 || got.Rows[0].Same != c.equal || got.Rows[0].What != "berths" {
			t.Errorf("%d and %d: %+v", c.old, c.new, got)
		}
	}
}

// TestTruths checks every combination of the conditions that decide about seats.
func TestTruths(t *testing.T) {
	for n := range 8 {
		a, b, c := n&1 > 0, n&2 > 0, n&4 > 0
		old := map[bool]licence.State{true: licence.Deactivated, false: licence.Active}[c]
		f := Facts{Seat: &SeatFacts{Takeover: a, Licence: Standing{AllowsTakeover: b, Old: old}}}
		if got, want := f.TakesOver(), a && b && !c; got != want {
			t.Errorf("takes over %v, requested %v, allowed %v, deactivated %v", got, a, b, c)
		}
	}
	for n := range 32 {
		st := Standing{Seen: n&1 > 0, New: licence.NotActivated, Old: licence.Deactivated, ActiveOn: 1, Seats: 2}
		if n&2 > 0 {
			st.New = licence.Active
		}
		if n&4 > 0 {
			st.Old = licence.Active
		}
		if n&8 > 0 {
			st.Elsewhere = 1
		}
		if n&16 > 0 {
			st.ActiveOn = 2
		}
		if got, want := st.Taken(), n == 1|8|16; got != want {
			t.Errorf("taken: %v of %+v", got, st)
		}
	}
	if !(Standing{Seen: true, New: licence.NotActivated, Old: licence.Deactivated, Elsewhere: 3, ActiveOn: 3, Seats: 2}).Taken() {
		t.Error("more computers than seats")
	}
}

// TestInterruptedOnNew asks the old computer's service while a change on the new computer was interrupted: only a signed answer
// that names no other computer proves that the new one has nothing.
func TestInterruptedOnNew(t *testing.T) {
	c := rules(t, "")
	for what, k := range map[string]struct {
		begun  bool
		answer licence.Answer
		want   licence.State
	}{
		"not begun":         {false, licence.Answer{Computer: "o", State: licence.Deactivated}, licence.NotActivated},
		"begun, unsigned":   {true, licence.Answer{Computer: "o", State: licence.Deactivated}, licence.Unknown},
		"begun, signed":     {true, licence.Answer{Computer: "o", State: licence.Deactivated, Signed: "x"}, licence.NotActivated},
		"active elsewhere":  {false, licence.Answer{Computer: "o", State: licence.Deactivated, Active: []string{"x"}}, licence.Unknown},
		"signed, elsewhere": {true, licence.Answer{Computer: "o", State: licence.Deactivated, Signed: "x", Active: []string{"x"}}, licence.Unknown},
		"active on the old": {false, licence.Answer{Computer: "o", State: licence.Active, Active: []string{"o"}}, licence.NotActivated},
	} {
		s := Fold(kit.Manifest{Old: kit.Computer{Name: "OLD", ID: "o"}, New: kit.Computer{Name: "NEW", ID: "n"}}, packed())
		if k.begun {
			s.Add(line(10, journal.EventAsked, "@seat", Asked{Action: licence.Activate, Computer: "n"}))
		}
		st := s.Standing(c, &c.Licences[0], &Observation{Old: &k.answer, Here: "o"}, noon)
		if st.New != k.want {
			t.Errorf("%s: %s, want %s", what, st.New, k.want)
		}
	}
}

// TestManualStepsOfAnotherChange forgets the manual steps of a change when another one begins, and not when the same one goes on.
func TestManualStepsOfAnotherChange(t *testing.T) {
	first := Asked{Key: "k", Action: licence.Deactivate, Computer: "o"}
	for what, k := range map[string]struct {
		again Asked
		steps int
	}{
		"the same":         {first, 1},
		"another computer": {Asked{Key: "l", Action: licence.Deactivate, Computer: "n"}, 0},
		"another change":   {Asked{Key: "l", Action: licence.Activate, Computer: "o"}, 0},
	} {
		s := fold(packed(), []journal.Line{line(1, journal.EventAsked, "@seat", first), line(2, journal.EventStepDone, "@seat", StepDone{Do: "x"}), line(3, journal.EventAsked, "@seat", k.again)})
		if lic := s.Licences[key("seat")]; len(lic.Stepped) != k.steps || lic.On[k.again.Computer].State != licence.Unknown {
			t.Errorf("%s: %+v", what, lic)
		}
	}
	s := fold(packed(), []journal.Line{line(1, journal.EventAsked, "@seat", Asked{Key: "k"})})
	if lic := s.Licences[key("seat")]; len(lic.On) != 0 {
		t.Errorf("a change of no computer: %+v", lic.On)
	}
}

// TestAddress selects items by their addresses.
func TestAddress(t *testing.T) {
	plain, of := Key{App: "hoist", Item: "diary"}, Key{App: "hoist", Item: "diary", User: "maren"}
	if plain.Address() != "hoist/diary" || of.Address() != "hoist/diary@maren" {
		t.Errorf("%s %s", plain.Address(), of.Address())
	}
	for address, want := range map[string][2]bool{"hoist/diary": {true, true}, "hoist/diary@maren": {false, true}, "hoist/diary@tobias": {false, false}, "hoist/book": {false, false}, "tide/diary": {false, false}} {
		if got := [2]bool{plain.Is(address), of.Is(address)}; got != want {
			t.Errorf("%s selects %v, want %v", address, got, want)
		}
	}
	// One of several items that the card's item names, for one user.
	year := Key{App: "hoist", Item: "years@2024", User: "maren"}
	for address, want := range map[string]bool{"hoist/years@2024@maren": true, "hoist/years@2024": true, "hoist/years@maren": true, "hoist/years": true, "hoist/years@2025": false, "hoist/years@2024@tobias": false, "hoist/year": false} {
		if year.Is(address) != want {
			t.Errorf("%s selects %s: %v", address, year.Address(), !want)
		}
	}
}

// TestTakenOver disables the licence on the old computer when the new one takes it over, and records again only what changed.
func TestTakenOver(t *testing.T) {
	s := fold(packed(), []journal.Line{answer(1, "o", licence.Active, nil)})
	lic := s.Licences[key("seat")]
	s.Add(answer(2, "n", licence.Active, func(a *licence.Answer) { a.Disabled = "x" }))
	if lic.Old != licence.Active {
		t.Errorf("another computer was disabled: %s", lic.Old)
	}
	s.Add(answer(3, "n", licence.Active, func(a *licence.Answer) { a.Disabled = "o" }))
	if lic.Old != licence.Deactivated || lic.New != licence.Active || !lic.NewAt.Equal(noon.Add(2*time.Minute)) || !lic.OldAt.Equal(noon.Add(3*time.Minute)) {
		t.Errorf("%s since %v, %s since %v", lic.Old, lic.OldAt, lic.New, lic.NewAt)
	}
}

// TestContributions records who did which step where, once each, and steps only.
func TestContributions(t *testing.T) {
	by := func(l journal.Line, who string) journal.Line { l.By = who; return l }
	lines := packed()
	s := fold(lines[:2], []journal.Line{by(lines[2], "Maren"), by(lines[2], "Maren"), by(lines[2], "Tobias"), by(lines[0], "Zoe"), line(3, journal.EventPlaced, "diary", Placed{})})
	if want := []Contribution{{"Maren", Pack, "NEW"}, {"Tobias", Pack, "NEW"}}; !slices.Equal(s.Contributions, want) {
		t.Errorf("%+v", s.Contributions)
	}
	if !slices.Equal(s.Technicians(), []string{"Maren", "Tobias"}) {
		t.Errorf("%q", s.Technicians())
	}
}

// TestHolder returns the computer that a deactivation is about.
func TestHolder(t *testing.T) {
	s := fold(packed(), []journal.Line{answer(1, "o", licence.Active, nil)})
	if h := s.Holder("hoist"); h.ID != "o" {
		t.Errorf("%+v", h)
	}
	lic := s.Licences[key("seat")]
	lic.From = kit.Computer{Name: "BROKEN", ID: "b"}
	for old, want := range map[licence.State]string{licence.Active: "b", licence.Unknown: "b", licence.Deactivated: "o"} {
		if lic.Old = old; s.Holder("hoist").ID != want {
			t.Errorf("%s there: %+v", old, s.Holder("hoist"))
		}
	}
}

// TestNextOfACopy packs a safety copy, and nothing else.
func TestNextOfACopy(t *testing.T) {
	c := rules(t, "")
	s := Fold(kit.Manifest{Old: manifest.Old, Keep: true}, nil)
	if d := s.Next([]*card.Card{c}); d.Step != Pack || !slices.Equal(d.Apps, []string{"hoist"}) {
		t.Errorf("%+v", d)
	}
	for _, l := range packed() {
		s.Add(l)
	}
	if d := s.Next([]*card.Card{c}); d.Step != "" {
		t.Errorf("after the pack: %+v", d)
	}
}

// TestNextOfABrokenComputer deactivates the licence of a new computer that broke before anything else, on the one that replaces it.
func TestNextOfABrokenComputer(t *testing.T) {
	c := rules(t, "")
	s := fold(packed(), []journal.Line{answer(1, "o", licence.Active, nil)})
	if d := s.Next([]*card.Card{c}); d.Step != Deactivate || d.Side != OldSide || d.Lost != "" {
		t.Errorf("nothing broke: %+v", d)
	}
	s.Add(answer(2, "o", licence.Deactivated, nil))
	lic := s.Licences[key("seat")]
	lic.From, lic.On["b"] = kit.Computer{Name: "BROKEN", ID: "b"}, Held{State: licence.Active}
	s.derive(lic)
	if d := s.Next([]*card.Card{c}); d.Step != Deactivate || d.Side != NewSide || d.Lost != "BROKEN" || !slices.Equal(d.Apps, []string{"hoist"}) {
		t.Errorf("it broke: %+v", d)
	}
	lic.On["b"] = Held{State: licence.Deactivated}
	s.derive(lic)
	if d := s.Next([]*card.Card{c}); d.Step == Deactivate || d.Lost != "" {
		t.Errorf("it is deactivated: %+v", d)
	}
}
