package steps

import (
	"cmp"
	"maps"
	"slices"
	"time"

	"movekit/internal/core/card"
	"movekit/internal/core/licence"
)

// Observation is a report about a licence at one moment, from its service or from the computer
// itself.
type Observation struct {
	Old   *licence.Answer // for the computer that it is deactivated on
	New   *licence.Answer // for the new computer if asked separately; else nil
	Here  string          // machine.ID of this computer
	OnOld bool            // this is the old computer
	Own   licence.State   // the state on the old computer, if the licence is deactivated on another one; else ""
	By    string          // who reported it
	Copy  string          // problem with the app's own copy of the licence on the new computer; "" if none
}

// Standing is the state of one licence: observed and recorded states, the rules of its service and
// card, and the next step.
type Standing struct {
	From         string // name of the computer that it is deactivated on; Old is its state there
	Old, New     licence.State
	OldAt, NewAt time.Time // when each state was recorded; zero if it was not
	Left, Used   int       // transfers; Left is -1 if unknown
	By           string    // who observed it
	Seen         bool      // it was observed now, not only recorded in the journal

	Covers         string    // major version that is covered; "" means any
	Edition        string    // edition that is covered; "" means any
	Seats          int       // number of computers that may use it at the same time
	ActiveOn       int       // number of computers that use it
	AllowsTakeover bool      // activating it on the new computer may disable it on the old one
	Until          time.Time // when it expires; zero if never
	Again          time.Time // earliest time of the next activation; zero if it may be activated now
	BackBy         time.Time // deadline for the next activation; zero if none
	ServiceTime    time.Time // the service's own clock; zero if it has none

	CopyProblem string        // problem with the app's own copy of the licence on the new computer; "" if none is known
	Second      bool          // the user activated a second seat, and the other seat stays active
	Own         licence.State // the state on the old computer, if a new one that broke is From; else ""
	Stays       bool          // the user chose that the old computer's own seat stays active
	Beside      int           // other computers of this move that have it
	Elsewhere   int           // computers outside this move that have it
	Good        bool          // it is in its final state
	Proven      Done          // result of the last verify
	Trial       time.Time     // end of the trial period on the new computer; zero if none
	Trying      bool          // the data must be verified on the new computer first
	Next        Step          // the next step; "" if none
}

// clockTime returns the current time for comparing deadlines: the service's clock if it has one.
func (s Standing) clockTime(now time.Time) time.Time {
	if s.ServiceTime.IsZero() {
		return now
	}
	return s.ServiceTime
}

// CanActivateElsewhere reports whether a licence in state s may be activated on another computer.
func CanActivateElsewhere(s licence.State) bool {
	return s == licence.Deactivated || s == licence.NotActivated
}

// Standing derives the state of a licence from the journal, the card and a new observation; see is
// nil if nothing was asked.
func (s *State) Standing(c *card.Card, l *card.Licence, see *Observation, now time.Time) Standing {
	known := s.Licence(c.Name, l.Name)
	st := Standing{
		From: known.From.Name, Old: known.Old, New: known.New, Left: known.Left, Used: known.Used, OldAt: known.OldAt, NewAt: known.NewAt,
		By: "the journal", Proven: known.Seen.result(),
	}
	st.Second, st.Stays = known.Second, known.Stays
	if known.From.ID != s.Old.ID {
		st.Own = licence.Active // until something shows that it is not
		if held, is := known.On[s.Old.ID]; is {
			st.Own = held.State
		}
	}
	held, is := known.On[s.New.ID]
	sure := see != nil && st.see(see, now, is && held.State == licence.Unknown)
	if see != nil {
		known.On = maps.Clone(known.On)
		known.On[known.From.ID] = Held{State: st.Old}
		if st.Own != "" {
			known.On[s.Old.ID] = Held{State: st.Own}
		}
		st.Elsewhere = max(st.ActiveOn-s.Beside(known)-count(st.New.Held()), 0)
	}
	st.Beside = s.Beside(known)
	if known.Old == licence.Deactivated && st.New != licence.Active {
		st.BackBy = l.BackBy.From(known.OldAt)
		if wait := l.Wait.From(known.OldAt); wait.After(st.Again) {
			st.Again = wait
		}
	}
	chosen := (st.Second || known.Stays) && st.ActiveOn <= st.Seats
	st.Good = sure && st.New == licence.Active && st.CopyProblem == "" && (st.Beside == 0 || chosen)
	st.Trying = s.Trying(c)
	if until := s.trialUntil(c, l); !st.New.Held() && until.After(now) {
		st.Trial = until
	}
	st.Next = st.due(s.Packed[c.Name] != nil)
	return st
}

func count(is bool) int {
	if is {
		return 1
	}
	return 0
}

// Taken reports whether the licence is not on a computer of this move, and no seat of it is free.
func (s Standing) Taken() bool {
	return s.Seen && !s.New.Held() && !s.Old.Held() && s.Elsewhere > 0 && s.ActiveOn >= s.Seats
}

// Back returns the standing for a move that goes back: the old computer is the one that the licence is activated on.
// newName is the name of the new one.
func (s Standing) Back(newName string) Standing {
	s.From, s.Old, s.New, s.OldAt, s.NewAt, s.Own = newName, s.New, s.Old, s.NewAt, s.OldAt, ""
	return s
}

// see applies an observation, and reports whether it covers the new computer too. A service asked
// on the old computer may not know the new one. begun means that a change on the new one was interrupted.
func (s *Standing) see(see *Observation, now time.Time, begun bool) bool {
	a := see.Old
	s.Seen, s.By, s.Own = true, see.By, cmp.Or(see.Own, s.Own)
	s.Old, s.Left = a.State, a.Transfers
	s.Covers, s.Edition, s.Seats, s.ActiveOn, s.AllowsTakeover = a.Covers, a.Edition, a.Seats, a.Seated(), a.Takeover
	s.Until, s.Again, s.ServiceTime = licence.When(a.Until), licence.When(a.Again), see.clock()
	elsewhere := slices.ContainsFunc(a.Active, func(c string) bool { return c != a.Computer })
	switch {
	case see.New != nil:
		s.New = see.New.State
	case see.Here == a.Computer || see.OnOld:
		if s.New == licence.Unknown && !elsewhere && (!begun || a.Signed != "") {
			s.New = licence.NotActivated
		}
		return elsewhere
	case !slices.Contains(a.Active, see.Here):
		s.New = licence.NotActivated
	case !s.Until.IsZero() && !s.clockTime(now).Before(s.Until):
		s.New = licence.Expired
	default:
		s.New, s.CopyProblem = licence.Active, see.Copy
	}
	return true
}

// clock returns the service's own time, or the zero time.
func (s *Observation) clock() time.Time {
	if s.Old.Signed == "" {
		return time.Time{}
	}
	return licence.When(s.Old.Issued)
}

// due returns the step that the licence waits for. A licence in its trial period waits until the
// data is verified.
func (s *Standing) due(packed bool) Step {
	switch {
	case !packed:
		return Pack
	case !s.oldDone() && CanActivateElsewhere(s.Old):
		return Deactivate
	case s.Second && s.New == licence.Active && s.CopyProblem == "":
		return ""
	case s.Trying && !CanActivateElsewhere(s.Old) && s.Trial.IsZero():
		return Unpack
	case s.Trying && !CanActivateElsewhere(s.Old):
		return Verify
	case !CanActivateElsewhere(s.Old):
		return Deactivate
	case s.New != licence.Active || s.CopyProblem != "":
		return Activate
	}
	return ""
}

// trialUntil returns the end of the trial period on the new computer, counted from the unpack, or
// the zero time.
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

// Record returns the part of a standing that is recorded in the journal.
func (s Standing) Record() Seen {
	seen := Seen{Old: s.Old, New: s.New, Left: s.Left, By: s.By, CopyProblem: s.CopyProblem, Asked: s.Seen, Good: s.Good, Trial: s.OnTrial(), Own: s.Own}
	if !s.ServiceTime.IsZero() {
		seen.Issued = s.ServiceTime.Unix()
	}
	return seen
}

// OnTrial reports whether the app runs on the new computer while its licence is still on the old
// one.
func (s Standing) OnTrial() bool {
	return s.Seen && !s.New.Held() && s.Old.Held() && !s.Trial.IsZero()
}

// result returns how far an observation verifies a licence.
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
