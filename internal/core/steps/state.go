// Package steps holds the rules of a move: what was done, as the journal
// tells it, and the gates that stop a step from running too early. It is pure:
// it looks at nothing but what it is given.
package steps

import (
	"cmp"
	"encoding/json"
	"maps"
	"slices"
	"time"

	"movekit/internal/core/card"
	"movekit/internal/core/journal"
	"movekit/internal/core/kit"
	"movekit/internal/core/licence"
)

// Step is one step of a move.
type Step string

// The steps, in the order of the work.
const (
	Survey     Step = "survey"
	Pack       Step = "pack"
	Deactivate Step = "deactivate"
	Unpack     Step = "unpack"
	Undo       Step = "undo"
	Activate   Step = "activate"
	Verify     Step = "verify"
	Retire     Step = "retire"
	Return     Step = "return" // takes Retire back
	Remove     Step = "remove" // what Retire set aside
	Close      Step = "close"
)

// Item is what is known of one item.
type Item struct {
	Key      Key
	Sealed   kit.Sealed
	SealedAt time.Time
	Placing  *Placed // begun, and not ended
	Placed   *Placed
	// Repointed is what is changed in it where it is in place; nil where nothing is.
	Repointed *Repointed
	Earlier   *Placed // of what was sealed before, and was in place when it was sealed anew
	PlacedAt  time.Time
	Undoing   *Undone // begun, and not ended
	Checked   *Checked
	Ticked    map[string]string // exports that a person has taken in, with what they are called in the app; "" stands for the same
	Retiring  *Retired          // begun on the old computer, and not ended
	Retired   *Retired          // set aside on the old computer
	Returning *Retired          // begun to be moved back there, and not finished
	Removed   *Removed          // and removed there
}

// Licence is what is known of one licence.
type Licence struct {
	App, Name string
	Sealed    *kit.Sealed // its serial and code
	Masked    string
	From      kit.Computer // that it is deactivated on: the old one, or a new one that broke
	Old, New  licence.State
	OldAt     time.Time
	NewAt     time.Time
	Left      int // transfers left, when last seen; -1 where unknown
	Spent     int // transfers spent by this move
	Pending   *Asked
	Answers   map[string]int // answers recorded, by computer
	Requested *Requested     // by file, and not answered yet
	Stepped   []Stepped      // of the change that is going on
	History   []Stepped      // of all changes
	Seen      *Seen
	SeenAt    time.Time
}

// Override is an overridden gate and where it was.
type Override struct {
	Overridden
	App      string    `json:"app"`
	Computer string    `json:"computer"`
	At       time.Time `json:"at"`
}

// State is what the journal tells.
type State struct {
	Old, New  kit.Computer
	Items     map[Key]*Item
	Order     []Key // items in the order they were first sealed
	Licences  map[Key]*Licence
	LicOrder  []Key
	Packed    map[string]*Packed
	Looked    map[string]*Looked  // the apps on the new computer, where they were looked at
	Opened    map[string]*Opened  // the apps that were looked into on the new computer since their data came
	Silenced  map[string]bool     // apps that a person says sync no more on the old computer
	Asides    map[string][]string // what was set aside on the new computer, by app
	Chosen    Chosen              // where things go on the new computer
	Overrides []Override
	Agreed    map[string]bool // apps whose card's commands a person agreed to run
	Reported  time.Time
	HandedTo  string      // a folder outside the kit that has the hand-over; "" where none has
	Closed    *kit.Closed // nil where it is not
	Keep      bool        // it is a safety copy
	Last      time.Time
}

// Fold reads the journal's lines into a State.
func Fold(m kit.Manifest, lines []journal.Line) *State {
	s := &State{Old: m.Old, New: m.New, Keep: m.Keep, Items: map[Key]*Item{}, Licences: map[Key]*Licence{}, Packed: map[string]*Packed{}, Looked: map[string]*Looked{}, Opened: map[string]*Opened{}, Silenced: map[string]bool{}, Asides: map[string][]string{}, Agreed: map[string]bool{}}
	for _, l := range lines {
		s.Add(l)
	}
	return s
}

// read decodes a line's data; a line of another form counts as empty.
func read[T any](l journal.Line) *T {
	v := new(T)
	_ = json.Unmarshal(l.Data, v)
	return v
}

// Add takes one more line of the journal.
func (s *State) Add(l journal.Line) {
	s.Last = l.At
	key := Key{l.App, l.Item, l.User}
	switch l.Event {
	case journal.EventSealed:
		sealed := read[kit.Sealed](l)
		if l.Licence != "" {
			s.licence(l).Sealed = sealed
			return
		}
		if s.Items[key] == nil {
			s.Order = append(s.Order, key)
		}
		// What was placed and checked before was another content.
		it := &Item{Key: key, Sealed: *sealed, SealedAt: l.At}
		if was := s.Items[key]; was != nil {
			it.Earlier, it.Retired, it.Removed = cmp.Or(was.Placed, was.Earlier), was.Retired, was.Removed
			it.Placing, it.Undoing, it.Retiring, it.Returning = was.Placing, was.Undoing, was.Retiring, was.Returning // to be ended all the same
		}
		s.Items[key] = it
	case journal.EventPacked:
		s.Packed[l.App] = read[Packed](l)
	case journal.EventOpened:
		o := read[Opened](l)
		o.At = l.At
		s.Opened[l.App] = o
	case journal.EventSilenced:
		s.Silenced[l.App] = true
	case journal.EventLooked:
		s.Looked[l.App] = read[Looked](l)
	case journal.EventBound:
		s.bind(read[Bound](l))
	case journal.EventChosen:
		s.Chosen = s.Chosen.With(*read[Chosen](l))
	case journal.EventPlacing, journal.EventRepointed, journal.EventPlaced, journal.EventChecked, journal.EventTicked, journal.EventUndoing, journal.EventUndone,
		journal.EventRetiring, journal.EventRetired, journal.EventReturning, journal.EventReturned, journal.EventRemoved:
		it := s.Items[key]
		if it == nil {
			return
		}
		switch l.Event {
		case journal.EventPlacing:
			it.Placing = read[Placed](l)
			it.Placing.Begun = l.At
		case journal.EventRepointed:
			if it.Repointed = read[Repointed](l); it.Repointed.Places == 0 {
				it.Repointed = nil
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
			it.Undoing, it.Checked = read[Undone](l), nil // what was proven is going
		case journal.EventUndone:
			delete(s.Opened, l.App)
			back := read[Undone](l).Back
			it.Placed, it.Placing, it.Checked, it.Undoing, it.Ticked, it.Earlier, it.Repointed = nil, nil, nil, nil, nil, nil, nil
			it.PlacedAt = time.Time{}
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
		s.licence(l).Pending = read[Asked](l)
	case journal.EventAnswered:
		s.answered(l)
	case journal.EventRequested:
		asked := read[Requested](l)
		asked.On = l.Computer
		s.licence(l).Requested = asked
	case journal.EventStepped:
		lic := s.licence(l)
		st := *read[Stepped](l)
		st.On = l.Computer
		lic.Stepped, lic.History = append(lic.Stepped, st), append(lic.History, st)
	case journal.EventSeen:
		lic := s.licence(l)
		lic.Seen, lic.SeenAt = read[Seen](l), l.At
		lic.Old, lic.New, lic.Left = lic.Seen.Old, lic.Seen.New, lic.Seen.Left
	case journal.EventOverridden:
		s.Overrides = append(s.Overrides, Override{Overridden: *read[Overridden](l), App: l.App, Computer: l.Computer, At: l.At})
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

// Was is where an item lay on the old computer, as that writes it; "" where it is not known.
func (s *State) Was(key Key) string {
	if p := s.Packed[key.App]; p != nil {
		if i := slices.Index(p.Items, key); i >= 0 && i < len(p.Where) {
			return p.Where[i]
		}
	}
	return ""
}

// Homes are the profile folders of the old computer's users, as it writes them.
func (s *State) Homes() map[string]string {
	out := map[string]string{}
	for _, p := range s.Packed {
		maps.Copy(out, p.Homes)
	}
	return out
}

// SealedLast is when something was sealed last; zero where nothing is.
func (s *State) SealedLast() (last time.Time) {
	for _, it := range s.Items {
		if it.SealedAt.After(last) {
			last = it.SealedAt
		}
	}
	return last
}

// bind makes a computer the new one. What was done on the one that it is for
// instead of is lost with that, which has to give back its licences.
func (s *State) bind(b *Bound) {
	broken := s.New
	s.New = b.Computer
	if b.Instead == "" {
		return
	}
	for key, it := range s.Items {
		s.Items[key] = &Item{Key: key, Sealed: it.Sealed, SealedAt: it.SealedAt, Retiring: it.Retiring, Returning: it.Returning, Retired: it.Retired, Removed: it.Removed}
	}
	s.Asides, s.Opened, s.Chosen = map[string][]string{}, map[string]*Opened{}, Chosen{}
	for _, lic := range s.Licences {
		if lic.New.Held() || lic.Pending != nil && lic.Pending.Action == licence.Activate {
			lic.From, lic.Old, lic.OldAt = broken, lic.New, lic.NewAt
		}
		lic.New, lic.NewAt, lic.Seen = licence.Unknown, time.Time{}, nil
		lic.Pending, lic.Requested, lic.Stepped = nil, nil, nil
	}
}

// Licence returns what is known of a licence.
func (s *State) Licence(app, name string) Licence {
	l := Licence{App: app, Name: name, Old: licence.Unknown, New: licence.Unknown, Left: -1}
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
		s.Licences[key] = &Licence{App: l.App, Name: l.Licence, From: s.Old, Old: licence.Unknown, New: licence.Unknown, Left: -1, Answers: map[string]int{}}
		s.LicOrder = append(s.LicOrder, key)
	}
	return s.Licences[key]
}

func (s *State) answered(l journal.Line) {
	lic, a := s.licence(l), read[licence.Answer](l)
	lic.Pending, lic.Stepped, lic.Requested = nil, nil, nil
	lic.Left = a.Transfers
	lic.Spent += a.Spent
	lic.Answers[a.Computer]++
	if a.Computer == lic.From.ID {
		lic.Old, lic.OldAt = a.State, l.At
	} else {
		lic.New, lic.NewAt = a.State, l.At
	}
	if a.Disabled != "" && a.Disabled == lic.From.ID {
		lic.Old, lic.OldAt = licence.Deactivated, l.At // taken over
	}
}

// Freed reports whether a licence is known to be deactivated on the old computer.
func (s *State) Freed(app, name string) bool {
	l := s.Licence(app, name)
	return l.Old == licence.Deactivated && l.From.ID == s.Old.ID
}

// Cards are cards with the licences that the pack found besides those that they name: one a
// user (card.Card.ForUsers).
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

// LicencesOf returns what is known of an app's licences.
func (s *State) LicencesOf(app string) (out []*Licence) {
	for _, k := range s.LicOrder {
		if k.App == app {
			out = append(out, s.Licences[k])
		}
	}
	return out
}
