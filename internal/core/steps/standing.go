package steps

import (
	"slices"
	"time"

	"movekit/internal/core/card"
	"movekit/internal/core/licence"
)

// Sight is what whoever can tell says of a licence at one moment.
type Observation struct {
	Old  *licence.Answer // of the computer that it is deactivated on
	New  *licence.Answer // of the new one, where it was asked for by itself; else nil
	Here string          // machine.ID of this computer
	By   string          // who tells
	Copy string          // what is wrong with the app's own copy of it on the new computer; "" where nothing is
}

// Standing is where one licence stands: what was seen, or is remembered, what
// its service and its card allow, and what is due.
type Standing struct {
	From         string // name of the computer that it is deactivated on: Old is its state there
	Old, New     licence.State
	OldAt, NewAt time.Time // when that was recorded; zero where it was not
	Left, Spent  int       // transfers; Left is -1 where it is not known
	By           string    // who saw it
	Seen         bool      // whether it was seen, and is not what the journal remembers

	Covers         string    // major version that is covered; "" stands for any
	Edition        string    // edition that is covered; "" stands for any
	Seats          int       // computers it may be active on at a time
	ActiveOn       int       // computers it is active on
	AllowsTakeover bool      // activating it on the new computer may disable it on the old one
	Until          time.Time // when it runs out; zero where it does not
	Again          time.Time // from when it may be activated again; zero where at once
	BackBy         time.Time // by when it must be activated again; zero where that does not matter
	ServiceTime    time.Time // by the service's own clock; zero where it has none

	CopyProblem string    // what is wrong with the app's own copy of it on the new computer; "" where nothing is seen to be
	Second      bool      // a person took a second seat, and the one on the old computer stays
	Good        bool      // it is where it belongs
	Proven      Done      // what verify saw last
	Trial       time.Time // until when the app runs on the new computer without it; zero where it does not
	Trying      bool      // the data is to be proven on the new computer first
	Next        Step      // what is due; "" where nothing is
}

// judged is the time that waiting times and last days are judged by.
func (s Standing) judged(now time.Time) time.Time {
	if s.ServiceTime.IsZero() {
		return now
	}
	return s.ServiceTime
}

// Free reports whether a licence in a state may be activated on another
// computer.
func Free(s licence.State) bool { return s == licence.Deactivated || s == licence.NotActivated }

// Stand derives where a licence stands from the journal, the card, and what was
// seen now; see is nil where nobody was asked.
func (s *State) Standing(c *card.Card, l *card.Licence, see *Observation, now time.Time) Standing {
	known := s.Licence(c.Name, l.Name)
	st := Standing{
		From: known.From.Name, Old: known.Old, New: known.New, Left: known.Left, Spent: known.Spent, OldAt: known.OldAt, NewAt: known.NewAt,
		By: "the journal", Proven: known.Seen.result(),
	}
	st.Second = s.SecondSeat(c.Name, l.Name)
	sure := see != nil && st.see(see, now)
	if known.Old == licence.Deactivated && st.New != licence.Active {
		st.BackBy = l.BackBy.From(known.OldAt)
		if wait := l.Wait.From(known.OldAt); wait.After(st.Again) {
			st.Again = wait
		}
	}
	st.Good = sure && st.New == licence.Active && st.CopyProblem == "" && (!st.Old.Held() || st.Second && st.ActiveOn <= st.Seats)
	st.Trying = s.Trying(c)
	if until := s.trialUntil(c, l); !st.New.Held() && until.After(now) {
		st.Trial = until
	}
	st.Next = st.due(s.Packed[c.Name] != nil)
	return st
}

// see takes in what was seen, and reports whether that tells of the new computer
// too. Who is asked on the old one may know of no other.
func (s *Standing) see(see *Observation, now time.Time) bool {
	a := see.Old
	s.Seen, s.By = true, see.By
	s.Old, s.Left = a.State, a.Transfers
	s.Covers, s.Edition, s.Seats, s.ActiveOn, s.AllowsTakeover = a.Covers, a.Edition, a.Seats, a.Seated(), a.Takeover
	s.Until, s.Again, s.ServiceTime = licence.When(a.Until), licence.When(a.Again), see.clock()
	elsewhere := slices.ContainsFunc(a.Active, func(c string) bool { return c != a.Computer })
	switch {
	case see.New != nil:
		s.New = see.New.State
	case see.Here == a.Computer:
		if s.New == licence.Unknown && !elsewhere {
			s.New = licence.NotActivated
		}
		return elsewhere
	case !slices.Contains(a.Active, see.Here):
		s.New = licence.NotActivated
	case !s.Until.IsZero() && !s.judged(now).Before(s.Until):
		s.New = licence.Expired
	default:
		s.New, s.CopyProblem = licence.Active, see.Copy
	}
	return true
}

// clock is the service's own, where it has one.
func (s *Observation) clock() time.Time {
	if s.Old.Signed == "" {
		return time.Time{}
	}
	return licence.When(s.Old.Issued)
}

// due is the step that the licence waits for. One that is tried first waits for
// its data to be proven.
func (s *Standing) due(packed bool) Step {
	switch {
	case !packed:
		return Pack
	case s.Second && s.New == licence.Active && s.CopyProblem == "":
		return ""
	case s.Trying && !Free(s.Old) && s.Trial.IsZero():
		return Unpack
	case s.Trying && !Free(s.Old):
		return Verify
	case !Free(s.Old):
		return Deactivate
	case s.New != licence.Active || s.CopyProblem != "":
		return Activate
	}
	return ""
}

// trialUntil is until when the app runs on the new computer without a licence,
// counted from when its data was put in place; or the zero time.
func (s *State) trialUntil(c *card.Card, l *card.Licence) (until time.Time) {
	if l.Trial.Duration == 0 {
		return until
	}
	var first time.Time
	for _, it := range s.AppItems(c.Name) {
		if at := it.PlacedAt; !at.IsZero() && (first.IsZero() || at.Before(first)) {
			first = at
		}
	}
	if first.IsZero() {
		return first
	}
	return first.Add(l.Trial.Duration)
}

// Record is what the journal keeps of a standing.
func (s Standing) Record() Seen {
	return Seen{Old: s.Old, New: s.New, Left: s.Left, By: s.By, Copy: s.CopyProblem, Asked: s.Seen, Good: s.Good, Trial: s.OnTrial()}
}

// OnTrial reports whether the app runs on the new computer without the licence,
// which is still on the old one.
func (s Standing) OnTrial() bool {
	return s.Seen && !s.New.Held() && s.Old.Held() && !s.Trial.IsZero()
}

// result says how far a licence is proven by what was seen.
func (s *Seen) result() Done {
	switch {
	case s == nil:
		return No
	case s.Good:
		return Yes
	case s.Asked && !s.Trial:
		return Bad
	}
	return Partly
}
