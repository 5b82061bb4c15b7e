// Package steps holds the rules of a move: what was done, as the journal
// tells it, and the gates that stop a step from running too early. It is pure:
// it looks at nothing but what it is given.
package steps

import (
	"encoding/json"
	"slices"
	"strconv"
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
	Close      Step = "close"
)

// The journal's events, besides kit.EventMade and kit.EventSealed.
const (
	EventPacked     = "packed"     // an app is sealed: Packed
	EventAsked      = "asked"      // a licence service is being asked: Asked
	EventRequested  = "requested"  // a request was written to a file: Requested
	EventAnswered   = "answered"   // it answered: licence.Answer
	EventStepped    = "stepped"    // a person took one step of a licence's change: Stepped
	EventPlacing    = "placing"    // an item is being put in place: Placed
	EventPlaced     = "placed"     // it is in place: Placed
	EventUndoing    = "undoing"    // it is being taken back: Undone
	EventUndone     = "undone"     // it is taken back: Undone
	EventChecked    = "checked"    // an item was held against the old one: Checked
	EventSeen       = "seen"       // a licence's states were looked at: Seen
	EventOverridden = "overridden" // a gate was overridden: Overridden
	EventAgreed     = "agreed"     // a person agreed to run the commands of an app's card
	EventTicked     = "ticked"     // a person has taken in exports: Ticked
	EventReported   = "reported"   // the hand-over was written
)

// Key names one item of one app, for one user where it is a per-user one.
type Key struct {
	App  string `json:"app"`
	Item string `json:"item"`
	User string `json:"user,omitempty"`
}

// Packed is the data of EventPacked.
type Packed struct {
	Version string   `json:"version,omitempty"` // of the app on the old computer
	Edition string   `json:"edition,omitempty"`
	Items   []Key    `json:"items"`
	Where   []string `json:"where,omitempty"`  // of the items, as the old computer writes it
	Absent  []string `json:"absent,omitempty"` // what the card lists and was not there
	Stays   []Stay   `json:"stays,omitempty"`  // what stays where it is
}

// Stay is an item that stays where it is, and its address as the old computer
// has it.
type Stay struct {
	Item    string    `json:"item"`
	Kind    card.Kind `json:"kind"`
	Address string    `json:"address"`
}

// Asked is the data of EventAsked.
type Asked struct {
	Action licence.Action `json:"action"`
	Key    string         `json:"key"`
}

// Requested is the data of EventRequested: what an answer by file must answer.
type Requested struct {
	Action   licence.Action `json:"action"`
	Computer string         `json:"computer"` // machine.ID
	Nonce    string         `json:"nonce"`
	Version  string         `json:"version,omitempty"`
}

// Stepped is the data of EventStepped: what a person saw and did. Secrets that
// were shown for it are not in it.
type Stepped struct {
	Action   licence.Action `json:"action"`
	Step     int            `json:"step"` // from 1
	Do       string         `json:"do"`
	Ask      string         `json:"ask,omitempty"`
	Answer   string         `json:"answer,omitempty"`
	Evidence string         `json:"evidence,omitempty"` // name of the file
	Hash     string         `json:"hash,omitempty"`     // BLAKE3 of it
}

// Placed is the data of EventPlacing and EventPlaced.
type Placed struct {
	To     string   `json:"to"`               // real path on the new computer
	User   string   `json:"user,omitempty"`   // its user there
	Policy string   `json:"policy,omitempty"` // what was done about what was in the way
	Aside  string   `json:"aside,omitempty"`  // where what was in the way is now
	Same   bool     `json:"same,omitempty"`   // it was there already
	Notes  []string `json:"notes,omitempty"`  // what a person must know or do
}

// Undone is the data of EventUndoing and EventUndone.
type Undone struct {
	From string `json:"from"`           // where the item was in place
	Back string `json:"back,omitempty"` // from where what was set aside got its name back
	Kept string `json:"kept,omitempty"` // where what was worked in since goes
}

// Ticked is the data of EventTicked.
type Ticked struct {
	Files []string `json:"files"` // by their paths in the item
}

// Row is one figure, old and new.
type Row struct {
	What string `json:"what"`
	Old  string `json:"old"`
	New  string `json:"new"`
	Same bool   `json:"same"`
}

// Checked is the data of EventChecked.
type Checked struct {
	Rows  []Row    `json:"rows"`
	Diffs []string `json:"diffs,omitempty"` // at most 20
	Count int64    `json:"count,omitempty"` // how many differences there are
	Equal bool     `json:"equal"`
}

// Seen is the data of EventSeen: a licence's state on both computers.
type Seen struct {
	Old  licence.State `json:"old"`
	New  licence.State `json:"new"`
	Left int           `json:"transfers_left"`
	By   string        `json:"by"` // how it was seen
	// Asked is false where the service could not be asked, and the states are
	// those that the journal remembers, which is no proof.
	Asked bool `json:"asked"`
	Good  bool `json:"good"`
	// Trial is true where the app runs on the new computer without it, and it
	// is not moved yet.
	Trial bool `json:"trial,omitempty"`
}

// Overridden is the data of EventOverridden.
type Overridden struct {
	Gate    string `json:"gate"`
	Step    Step   `json:"step"`
	Why     string `json:"why"`     // what the gate said
	Because string `json:"because"` // the reason given
	// Second names the licence of which a second seat was taken, and the one on
	// the old computer left active.
	Second string `json:"second_seat,omitempty"`
}

// Item is what is known of one item.
type Item struct {
	Key      Key
	Sealed   kit.Sealed
	SealedAt time.Time
	Placing  *Placed // begun, and not ended
	Placed   *Placed
	PlacedAt time.Time
	Undoing  *Undone // begun, and not ended
	Checked  *Checked
	Ticked   map[string]bool // exports that a person has taken in
}

// Licence is what is known of one licence.
type Licence struct {
	App, Name string
	Sealed    *kit.Sealed // its serial and code
	Masked    string
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
	Asides    map[string][]string // what was set aside on the new computer, by app
	Overrides []Override
	Agreed    map[string]bool // apps whose card's commands a person agreed to run
	Reported  time.Time
	Last      time.Time
}

// Fold reads the journal's lines into a State.
func Fold(m kit.Manifest, lines []journal.Line) *State {
	s := &State{Old: m.Old, New: m.New, Items: map[Key]*Item{}, Licences: map[Key]*Licence{}, Packed: map[string]*Packed{}, Asides: map[string][]string{}, Agreed: map[string]bool{}}
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
	case kit.EventSealed:
		sealed := read[kit.Sealed](l)
		if l.Licence != "" {
			s.licence(l).Sealed = sealed
			return
		}
		if s.Items[key] == nil {
			s.Order = append(s.Order, key)
		}
		// What was placed and checked before was another content.
		s.Items[key] = &Item{Key: key, Sealed: *sealed, SealedAt: l.At}
	case EventPacked:
		s.Packed[l.App] = read[Packed](l)
	case EventPlacing, EventPlaced, EventChecked, EventTicked, EventUndoing, EventUndone:
		it := s.Items[key]
		if it == nil {
			return
		}
		switch l.Event {
		case EventPlacing:
			it.Placing = read[Placed](l)
		case EventPlaced:
			it.Placed, it.Placing, it.Checked, it.Undoing = read[Placed](l), nil, nil, nil
			it.PlacedAt = l.At
			if aside := it.Placed.Aside; aside != "" && !slices.Contains(s.Asides[l.App], aside) {
				s.Asides[l.App] = append(s.Asides[l.App], aside)
			}
		case EventChecked:
			it.Checked = read[Checked](l)
		case EventUndoing:
			it.Undoing, it.Checked = read[Undone](l), nil // what was proven is going
		case EventUndone:
			back := read[Undone](l).Back
			it.Placed, it.Placing, it.Checked, it.Undoing, it.Ticked = nil, nil, nil, nil, nil
			it.PlacedAt = time.Time{}
			s.Asides[l.App] = slices.DeleteFunc(s.Asides[l.App], func(aside string) bool { return aside == back })
		case EventTicked:
			for _, f := range read[Ticked](l).Files {
				if it.Ticked == nil {
					it.Ticked = map[string]bool{}
				}
				it.Ticked[f] = true
			}
		}
	case EventAsked:
		s.licence(l).Pending = read[Asked](l)
	case EventAnswered:
		s.answered(l)
	case EventRequested:
		s.licence(l).Requested = read[Requested](l)
	case EventStepped:
		lic := s.licence(l)
		st := *read[Stepped](l)
		lic.Stepped, lic.History = append(lic.Stepped, st), append(lic.History, st)
	case EventSeen:
		lic := s.licence(l)
		lic.Seen, lic.SeenAt = read[Seen](l), l.At
		lic.Old, lic.New, lic.Left = lic.Seen.Old, lic.Seen.New, lic.Seen.Left
	case EventOverridden:
		s.Overrides = append(s.Overrides, Override{Overridden: *read[Overridden](l), App: l.App, Computer: l.Computer, At: l.At})
	case EventAgreed:
		s.Agreed[l.App] = true
	case EventReported:
		s.Reported = l.At
	}
}

func (s *State) licence(l journal.Line) *Licence {
	key := Key{App: l.App, Item: l.Licence}
	if s.Licences[key] == nil {
		s.Licences[key] = &Licence{App: l.App, Name: l.Licence, Old: licence.Unknown, New: licence.Unknown, Left: -1, Answers: map[string]int{}}
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
	// The first activation in the move binds the new computer.
	if a.Computer == s.Old.ID {
		lic.Old, lic.OldAt = a.State, l.At
	} else {
		lic.New, lic.NewAt = a.State, l.At
	}
	if a.Disabled != "" && a.Disabled == s.Old.ID {
		lic.Old, lic.OldAt = licence.Deactivated, l.At // taken over
	}
}

// AppItems returns the items an app was packed with.
func (s *State) AppItems(app string) []*Item {
	p := s.Packed[app]
	if p == nil {
		return nil
	}
	var out []*Item
	for _, k := range p.Items {
		if it := s.Items[k]; it != nil {
			out = append(out, it)
		}
	}
	return out
}

// SecondSeat reports whether a person took a second seat of a licence, and left
// the one on the old computer active.
func (s *State) SecondSeat(app, licence string) bool {
	return slices.ContainsFunc(s.Overrides, func(o Override) bool { return o.App == app && o.Second == licence && licence != "" })
}

// Trying reports whether an app that runs without its licence for a trial
// period is to be tried on the new computer first: its data is not proven
// there, and the licence is not freed.
func (s *State) Trying(c *card.Card) bool {
	for _, l := range c.Licences {
		st := s.Licences[Key{App: c.Name, Item: l.Name}]
		if l.Trial == "" || st != nil && (st.Old == licence.Deactivated || st.New == licence.Active) {
			continue
		}
		for _, it := range s.AppItems(c.Name) {
			if it.Checked == nil || !it.Checked.Equal {
				return true
			}
		}
	}
	return false
}

// Waiting reports whether exports of an app are in place and not all taken in
// by a person.
func (s *State) Waiting(c *card.Card) bool {
	for _, it := range s.AppItems(c.Name) {
		if ci := c.Item(it.Key.Item); ci != nil && ci.Exports != nil && it.Placed != nil && int64(len(it.Ticked)) < it.Sealed.Files {
			return true
		}
	}
	return false
}

// Done says how far one app is with one step.
type Done string

// How far a step is.
const (
	No      Done = "-"    // not begun
	Partly  Done = "part" // begun
	Yes     Done = "done" // whole
	Nothing Done = "none" // the app has nothing for this step
	Bad     Done = "differs"
)

// Progress says how far an app is with a step. licences is how many licences
// its card has.
func (s *State) Progress(app string, step Step, licences int) Done {
	items := s.AppItems(app)
	count := func(total int, is func(i int) bool) Done {
		n := 0
		for i := range total {
			if is(i) {
				n++
			}
		}
		switch {
		case total == 0:
			return Nothing
		case n == 0:
			return No
		case n < total:
			return Partly
		}
		return Yes
	}
	var lics []*Licence
	for _, k := range s.LicOrder {
		if k.App == app {
			lics = append(lics, s.Licences[k])
		}
	}
	switch step {
	case Pack:
		if s.Packed[app] != nil {
			return Yes
		}
		for k := range s.Items {
			if k.App == app {
				return Partly
			}
		}
		return No
	case Deactivate:
		return s.licenceProgress(lics, licences, func(l *Licence) bool { return l.Old == licence.Deactivated || l.Old == licence.NotActivated })
	case Activate:
		return s.licenceProgress(lics, licences, func(l *Licence) bool { return l.New == licence.Active })
	}
	if s.Packed[app] == nil {
		return No
	}
	switch step {
	case Unpack:
		return count(len(items), func(i int) bool { return items[i].Placed != nil })
	case Verify:
		d := count(len(items), func(i int) bool { return items[i].Checked != nil })
		for _, it := range items {
			if it.Checked != nil && !it.Checked.Equal {
				return Bad
			}
		}
		for _, l := range lics {
			if d == Yes && (l.Seen == nil || !l.Seen.Asked || l.Seen.Trial) {
				d = Partly
			}
			if l.Seen != nil && l.Seen.Asked && !l.Seen.Good && !l.Seen.Trial {
				return Bad
			}
		}
		return d
	}
	return No
}

func (s *State) licenceProgress(lics []*Licence, total int, is func(*Licence) bool) Done {
	if total == 0 {
		return Nothing
	}
	n := 0
	for _, l := range lics {
		if is(l) {
			n++
		}
	}
	switch n {
	case 0:
		return No
	case total:
		return Yes
	}
	return Partly
}

// Proven reports whether every item of an app was checked equal and every
// licence seen in its right state since it was last packed and placed.
func (s *State) Proven(app string, licences int) bool {
	return s.Packed[app] != nil && s.Progress(app, Verify, licences) == Yes &&
		s.Progress(app, Unpack, licences) == Yes
}

// AddCount adds a figure of the card, old and new, and holds it against the
// number that the card expects.
func (c *Checked) AddCount(name string, expect *int64, old, new int64) {
	r := Row{What: name, Old: strconv.FormatInt(old, 10), New: strconv.FormatInt(new, 10), Same: old == new}
	if expect != nil && new != *expect {
		r.Same = false
		c.Count++
		c.Diffs = append(c.Diffs, name+": the card expects "+strconv.FormatInt(*expect, 10))
	}
	if !r.Same {
		c.Equal = false
	}
	c.Rows = append(c.Rows, r)
}
