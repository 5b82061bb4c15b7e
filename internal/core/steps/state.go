// Package steps holds the rules of a move: the state that the journal records, and the gates that
// stop a step from running too early. It is pure: it uses only its arguments.
package steps

import (
	"maps"
	"slices"
	"time"

	"movekit/internal/core/bytejson"
	"movekit/internal/core/card"
	"movekit/internal/core/journal"
	"movekit/internal/core/kit"
	"movekit/internal/core/licence"
)

// Step is one step of a move.
type Step string

// The steps, in order.
const (
	Survey     Step = "survey"
	Pack       Step = "pack"
	Deactivate Step = "deactivate"
	Unpack     Step = "unpack"
	Undo       Step = "undo"
	Activate   Step = "activate"
	Verify     Step = "verify"
	Retire     Step = "retire"
	Return     Step = "return" // undoes Retire
	Remove     Step = "remove" // removes the data that Retire set aside
	Close      Step = "close"

	DeactivateBack Step = "deactivate-back" // on the new computer, for a move that goes back
	ActivateBack   Step = "activate-back"   // on the old computer, after that
)

// Item is the recorded state of one item.
type Item struct {
	Key      Key
	Sealed   kit.Sealed
	SealedAt time.Time
	Placing  *Placed // started and not finished
	Placed   *Placed
	// PathUpdates describes the path updates in the placed data; nil if there are none.
	PathUpdates *PathUpdates
	Earlier     *Placed // an earlier unpack that was in place when the item was sealed again
	PlacedAt    time.Time
	Undoing     *Undone // started and not finished
	Checked     *Checked
	Ticked      map[string]string // exports that were imported by hand, with their names in the app; "" means the same name
	Retiring    *Retired          // started on the old computer and not finished
	Retired     *Retired          // set aside on the old computer
	Returning   *Retired          // started to move back there and not finished
	Removed     *Removed          // removed there
}

// JobState says how a system runs a job. It is the data of journal.EventStopped and journal.EventStarted.
type JobState struct {
	On      string `json:"on"`                // machine.ID
	Starts  Starts `json:"starts"`            // when the system starts it
	Running bool   `json:"running,omitempty"` // of a service: it is running now
}

// Starts says when a system starts a job.
type Starts string

// The values of Starts.
const (
	Never     Starts = "disabled"
	Manually  Starts = "manual"
	Delayed   Starts = "automatic (delayed)"
	Automatic Starts = "automatic"
)

// Acts reports whether the job runs, or is started by the system.
func (j JobState) Acts() bool { return j.Running || j.Starts == Automatic || j.Starts == Delayed }

// String describes the state.
func (j JobState) String() string {
	if j.Running {
		return string(j.Starts) + ", running"
	}
	return string(j.Starts)
}

// Licence is the recorded state of one licence.
type Licence struct {
	App, Name string
	Sealed    *kit.Sealed // its serial and code
	Masked    string
	From      kit.Computer    // the computer that it is deactivated on: the old one, or a new one that broke
	On        map[string]Held // its state on each computer, by id; "" is a new one that is not bound yet
	Old, New  licence.State   // its state on From and on the new computer, from On
	OldAt     time.Time
	NewAt     time.Time
	Second    bool // the user activated a second seat on the new computer
	Stays     bool // the user chose that the old computer's own seat stays active
	Left      int  // transfers left when last observed; -1 if unknown
	Used      int  // transfers used by this move
	Pending   *Asked
	Answers   map[string]int // number of recorded answers, by computer
	Requested *Requested     // requested by file and not answered yet
	Stepped   []StepDone     // manual steps of the current change
	History   []StepDone     // manual steps of all changes
	Seen      *Seen
	SeenAt    time.Time
}

// Held is the state of a licence on one computer, and since when it is known.
type Held struct {
	State licence.State
	At    time.Time
}

// Override is an overridden gate and the app that it stopped.
type Override struct {
	Overridden
	App      string    `json:"app"`
	Computer string    `json:"computer"`
	At       time.Time `json:"at"`
}

// State is the state of the move that the journal records.
type State struct {
	Old, New      kit.Computer
	Items         map[Key]*Item
	Order         []Key // items in the order they were first sealed
	Licences      map[Key]*Licence
	LicOrder      []Key
	Packed        map[string]*Packed
	Found         map[string]*AppFound // apps as they were found on the new computer
	Opened        map[string]*Opened   // apps that were checked in the app itself since their data was placed
	SyncOff       map[string]bool      // apps that no longer sync on the old computer, according to the technician
	Asides        map[string][]string  // data set aside on the new computer, by app
	Chosen        Chosen               // destinations on the new computer
	Overrides     []Override
	Stopped       map[Key]map[string]JobState // jobs that the move stopped, by computer (machine.ID): as they were before
	Started       map[Key]bool                // jobs that the move started on the new computer
	Agreed        map[string]bool             // apps whose commands the user agreed to run
	Back          *TakenBack                  // nil if the move is not taken back
	Reported      time.Time
	HandedTo      string         // a folder outside the kit that has the handover; "" if none
	Closed        *kit.Closed    // nil if the kit is open
	Keep          bool           // the kit is a safety copy
	States        []Copy         // the kept states of a safety copy, the newest last
	Past          int            // journal line of the state in use; 0 is the newest content of the kit
	latest        Copy           // the newest content of the kit
	Contributions []Contribution // who did which step where, in the order of the first line of each
	Last          time.Time
}

// Fold builds the State from the journal's lines.
func Fold(m kit.Manifest, lines []journal.Line) *State {
	s := &State{Old: m.Old, New: m.New, Keep: m.Keep, Items: map[Key]*Item{}, Licences: map[Key]*Licence{}, Packed: map[string]*Packed{}, Found: map[string]*AppFound{}, Opened: map[string]*Opened{}, SyncOff: map[string]bool{}, Asides: map[string][]string{}, Agreed: map[string]bool{}, Stopped: map[Key]map[string]JobState{}, Started: map[Key]bool{}}
	s.latest = Copy{Items: map[Key]SealedItem{}, Packed: map[string]*Packed{}}
	for _, l := range lines {
		s.Add(l)
	}
	return s
}

// read decodes a line's data. If that fails, it returns an empty value.
func read[T any](l journal.Line) *T {
	v := new(T)
	_ = bytejson.Unmarshal(l.Data, v)
	return v
}

// Add applies one more journal line.
func (s *State) Add(l journal.Line) {
	s.Last = l.At
	s.did(l)
	key := Key{l.App, l.Item, l.User}
	switch l.Event {
	case journal.EventSealed:
		sealed := read[kit.Sealed](l)
		if l.Licence != "" {
			s.licence(l).Sealed = sealed
			return
		}
		s.latest.Items[key] = SealedItem{*sealed, l.At}
		s.use(key, s.latest.Items[key])
	case journal.EventStopped:
		job := read[JobState](l)
		if s.Stopped[key] == nil {
			s.Stopped[key] = map[string]JobState{}
		}
		if _, known := s.Stopped[key][job.On]; !known {
			s.Stopped[key][job.On] = *job
		}
		if job.On != s.Old.ID {
			s.Started[key] = false
		}
	case journal.EventStarted:
		if job := read[JobState](l); job.On == s.Old.ID {
			delete(s.Stopped[key], job.On)
		} else {
			s.Started[key] = true
		}
	case journal.EventPacked:
		s.Packed[l.App] = read[Packed](l)
		s.latest.Packed[l.App] = s.Packed[l.App]
	case journal.EventCopied:
		s.copied(read[kit.Copied](l), l)
	case journal.EventStateChosen:
		s.choose(read[StateChosen](l).Line)
	case journal.EventOpened:
		o := read[Opened](l)
		o.At = l.At
		s.Opened[l.App] = o
	case journal.EventSyncOff:
		s.SyncOff[l.App] = true
	case journal.EventFound:
		s.Found[l.App] = read[AppFound](l)
		s.Found[l.App].At = l.At
	case journal.EventBound:
		s.bind(read[Bound](l))
	case journal.EventTakenBack:
		s.Back = read[TakenBack](l)
		s.Back.At = l.At
	case journal.EventChosen:
		s.Chosen = s.Chosen.With(*read[Chosen](l))
	case journal.EventPlacing, journal.EventPathsPlanned, journal.EventPlaced, journal.EventChecked, journal.EventTicked, journal.EventUndoing, journal.EventUndone,
		journal.EventRetiring, journal.EventRetired, journal.EventReturning, journal.EventReturned, journal.EventRemoved:
		it := s.Items[key]
		if it == nil {
			return
		}
		switch l.Event {
		case journal.EventPlacing:
			it.Placing = read[Placed](l)
			it.Placing.Begun = l.At
		case journal.EventPathsPlanned:
			if it.PathUpdates = read[PathUpdates](l); it.PathUpdates.Places == 0 {
				it.PathUpdates = nil
			}
		case journal.EventPlaced:
			delete(s.Opened, l.App)
			it.Placed, it.Placing, it.Checked, it.Undoing, it.Earlier = read[Placed](l), nil, nil, nil, nil
			it.PlacedAt = l.At
			if aside := it.Placed.Aside; aside != "" && !slices.Contains(s.Asides[l.App], aside) {
				s.Asides[l.App] = append(s.Asides[l.App], aside)
			}
		case journal.EventChecked:
			it.Checked = read[Checked](l)
		case journal.EventUndoing:
			it.Undoing, it.Checked = read[Undone](l), nil // the verified data is being removed
		case journal.EventUndone:
			delete(s.Opened, l.App)
			back := read[Undone](l).Back
			it.Placed, it.Placing, it.Checked, it.Undoing, it.Ticked, it.Earlier, it.PathUpdates = nil, nil, nil, nil, nil, nil, nil
			it.PlacedAt = time.Time{}
			s.forgetJobs(key)
			s.Asides[l.App] = slices.DeleteFunc(s.Asides[l.App], func(aside string) bool { return aside == back })
		case journal.EventRetiring:
			it.Retiring = read[Retired](l)
		case journal.EventRetired:
			it.Retired, it.Retiring = read[Retired](l), nil
		case journal.EventReturning:
			it.Returning = read[Retired](l)
		case journal.EventReturned:
			it.Retired, it.Retiring, it.Returning = nil, nil, nil
		case journal.EventRemoved:
			it.Removed = read[Removed](l)
		case journal.EventTicked:
			t := read[Ticked](l)
			for _, f := range t.Files {
				if it.Ticked == nil {
					it.Ticked = map[string]string{}
				}
				it.Ticked[f] = t.As[f]
			}
		}
	case journal.EventAsked:
		lic, asked := s.licence(l), read[Asked](l)
		if p := lic.Pending; p != nil && (p.Action != asked.Action || p.Computer != asked.Computer) {
			lic.Stepped = nil // this change may reverse them
		}
		lic.Pending = asked
		if asked.Computer != "" {
			lic.On[asked.Computer] = Held{licence.Unknown, l.At} // until the answer is there
			s.derive(lic)
		}
	case journal.EventAnswered:
		s.answered(l)
	case journal.EventRequested:
		asked := read[Requested](l)
		asked.On = l.Computer
		s.licence(l).Requested = asked
	case journal.EventStepDone:
		lic := s.licence(l)
		st := *read[StepDone](l)
		st.On = l.Computer
		lic.Stepped, lic.History = append(lic.Stepped, st), append(lic.History, st)
	case journal.EventSeen:
		lic := s.licence(l)
		lic.Seen, lic.SeenAt = read[Seen](l), l.At
		lic.Left = lic.Seen.Left
		s.became(lic, lic.From.ID, lic.Seen.Old, l.At)
		s.became(lic, s.New.ID, lic.Seen.New, l.At)
		if lic.Seen.Own != "" {
			s.became(lic, s.Old.ID, lic.Seen.Own, l.At)
		}
	case journal.EventOverridden:
		over := read[Overridden](l)
		s.Overrides = append(s.Overrides, Override{Overridden: *over, App: l.App, Computer: l.Computer, At: l.At})
		if over.Second != "" {
			l.Licence = over.Second
			lic := s.licence(l)
			lic.Second, lic.Stays = true, lic.Stays || lic.From.ID == s.Old.ID
		}
	case journal.EventAgreed:
		s.Agreed[l.App] = true
	case journal.EventReported:
		s.Reported = l.At
		if to := read[Reported](l).To; to != "" {
			s.HandedTo = to
		}
	case journal.EventClosed:
		s.Closed = read[kit.Closed](l)
	}
}

// Was returns the location of an item on the old computer, as that computer writes it, or "".
func (s *State) Was(key Key) string {
	if p := s.Packed[key.App]; p != nil {
		if i := slices.Index(p.Items, key); i >= 0 && i < len(p.Where) {
			return p.Where[i]
		}
	}
	return ""
}

// Homes maps the old computer's users to their profile folders, as it writes them.
func (s *State) Homes() map[string]string {
	out := map[string]string{}
	for _, p := range s.Packed {
		maps.Copy(out, p.Homes)
	}
	return out
}

// SealedLast returns the time of the last pack, or the zero time.
func (s *State) SealedLast() (last time.Time) {
	for _, it := range s.Items {
		if it.SealedAt.After(last) {
			last = it.SealedAt
		}
	}
	return last
}

// bind makes a computer the new one. If it replaces another, everything done there is discarded,
// and its licences must be deactivated.
func (s *State) bind(b *Bound) {
	broken := s.New
	s.New = b.Computer
	for _, lic := range s.Licences {
		if held, is := lic.On[""]; is && broken.ID == "" {
			lic.On[s.New.ID] = held
			delete(lic.On, "")
		}
	}
	if b.Because == "" {
		return
	}
	for key, it := range s.Items {
		s.forgetJobs(key)
		s.Items[key] = &Item{Key: key, Sealed: it.Sealed, SealedAt: it.SealedAt, Retiring: it.Retiring, Returning: it.Returning, Retired: it.Retired, Removed: it.Removed}
	}
	s.Asides, s.Opened, s.Found, s.Chosen = map[string][]string{}, map[string]*Opened{}, map[string]*AppFound{}, Chosen{}
	for _, lic := range s.Licences {
		if held, is := lic.On[broken.ID]; held.State.Held() || is && held.State == licence.Unknown {
			earlier := lic.From
			lic.From = broken
			if !held.State.Held() && earlier.ID != s.Old.ID && lic.On[earlier.ID].State.Held() {
				lic.From.Name = earlier.Name + " or " + broken.Name // the activation that should have moved it was interrupted
			}
		}
		lic.Seen, lic.Second = nil, false
		lic.Pending, lic.Requested, lic.Stepped = nil, nil, nil
		s.derive(lic)
	}
}

// forgetJobs discards what the move did with a job on the new computer.
func (s *State) forgetJobs(key Key) {
	maps.DeleteFunc(s.Stopped[key], func(on string, _ JobState) bool { return on != s.Old.ID })
	delete(s.Started, key)
}

// Licence returns the recorded state of a licence.
func (s *State) Licence(app, name string) Licence {
	l := Licence{App: app, Name: name, On: map[string]Held{}, Old: licence.Unknown, New: licence.Unknown, Left: -1}
	if known := s.Licences[Key{App: app, Item: name}]; known != nil {
		l = *known
	}
	if l.From.ID == "" {
		l.From = s.Old
	}
	return l
}

func (s *State) licence(l journal.Line) *Licence {
	key := Key{App: l.App, Item: l.Licence}
	if s.Licences[key] == nil {
		s.Licences[key] = &Licence{App: l.App, Name: l.Licence, From: s.Old, On: map[string]Held{}, Old: licence.Unknown, New: licence.Unknown, Left: -1, Answers: map[string]int{}}
		s.LicOrder = append(s.LicOrder, key)
	}
	return s.Licences[key]
}

func (s *State) answered(l journal.Line) {
	lic, a := s.licence(l), read[licence.Answer](l)
	lic.Pending, lic.Stepped, lic.Requested = nil, nil, nil
	lic.Left = a.Transfers
	lic.Used += a.Used
	lic.Answers[a.Computer]++
	s.became(lic, a.Computer, a.State, l.At)
	if a.Disabled == lic.From.ID || a.Disabled == s.Old.ID {
		s.became(lic, a.Disabled, licence.Deactivated, l.At) // taken over
	}
}

// became records a licence's state on a computer. The same state again does not restart a waiting time or a
// deadline.
func (s *State) became(lic *Licence, computer string, now licence.State, at time.Time) {
	if now == licence.Unknown {
		return
	}
	if was := lic.On[computer]; was.State != now || was.At.IsZero() {
		lic.On[computer] = Held{now, at}
	}
	s.derive(lic)
}

// derive sets the state on the computer that the licence is deactivated on, and on the new one.
func (s *State) derive(lic *Licence) {
	state := func(computer string) (licence.State, time.Time) {
		if held, known := lic.On[computer]; known {
			return held.State, held.At
		}
		return licence.Unknown, time.Time{}
	}
	lic.Old, lic.OldAt = state(lic.From.ID)
	newer := s.New.ID
	for computer := range lic.On {
		if newer == "" && computer != lic.From.ID && computer != s.Old.ID {
			newer = computer // it is not bound yet, and answered already
		}
	}
	lic.New, lic.NewAt = state(newer)
}

// Beside returns how many computers besides the new one have the licence, as far as is known.
func (s *State) Beside(l Licence) (n int) {
	for computer, held := range l.On {
		if held.State.Held() && (computer == l.From.ID || computer == s.Old.ID) {
			n++
		}
	}
	return n
}

// Deactivated reports whether a licence is known to be deactivated on the old computer, and on a new one that broke.
func (s *State) Deactivated(app, name string) bool {
	l := s.Licence(app, name)
	return l.Old == licence.Deactivated && l.On[s.Old.ID].State == licence.Deactivated
}

// Cards adds the per-user licences that the pack found to the cards (card.Card.ForUsers).
func (s *State) Cards(cards []*card.Card) []*card.Card {
	out := make([]*card.Card, len(cards))
	for i, c := range cards {
		var names []string
		for _, l := range s.LicencesOf(c.Name) {
			names = append(names, l.Name)
		}
		out[i] = c.ForUsers(names)
	}
	return out
}

// LicencesOf returns the recorded state of an app's licences.
func (s *State) LicencesOf(app string) (out []*Licence) {
	for _, k := range s.LicOrder {
		if k.App == app {
			out = append(out, s.Licences[k])
		}
	}
	return out
}
