package steps

import (
	"errors"
	"fmt"
	"maps"
	"strconv"
	"strings"
	"time"

	"movekit/internal/core/card"
	"movekit/internal/core/kit"
	"movekit/internal/core/licence"
)

// What the lines of the journal hold, event by event.

// Key names one item of one app, for one user where it is a per-user one.
type Key struct {
	App  string `json:"app"`
	Item string `json:"item"`
	User string `json:"user,omitempty"`
}

// Address is how a person names the item: APP/ITEM, with @ and the user behind it where it is
// a user's.
func (k Key) Address() string {
	if k.User == "" {
		return k.App + "/" + k.Item
	}
	return k.App + "/" + k.Item + "@" + k.User
}

// Is reports whether an address means the item: its own, or that of an item of many or of all
// users.
func (k Key) Is(address string) bool {
	which, user := k, k
	which.User, user.Item = "", strings.SplitN(k.Item, "@", 2)[0]
	both := user
	both.User = ""
	return address == k.Address() || address == which.Address() || address == user.Address() || address == both.Address()
}

// Packed is the data of journal.EventPacked.
type Packed struct {
	Version string   `json:"version,omitempty"` // of the app on the old computer
	Edition string   `json:"edition,omitempty"`
	Items   []Key    `json:"items"`
	Where   []string `json:"where,omitempty"`  // of the items, as the old computer writes it
	Absent  []string `json:"absent,omitempty"` // what the card lists and was not there
	// NotChosen is what was there and left out by whoever packed, and not sealed before.
	NotChosen []string `json:"not_chosen,omitempty"`
	// Homes are the profile folders of the old computer's users, as it writes them.
	Homes map[string]string `json:"homes,omitempty"`
	Stays []Stay            `json:"stays,omitempty"` // what stays where it is
}

// Stay is an item that stays where it is, and its address as the old computer
// has it.
type Stay struct {
	Item    string    `json:"item"`
	Kind    card.Kind `json:"kind"`
	Address string    `json:"address"`
}

// Asked is the data of journal.EventAsked.
type Asked struct {
	Action licence.Action `json:"action"`
	Key    string         `json:"key"`
}

// Requested is the data of journal.EventRequested: what an answer by file must answer.
type Requested struct {
	Action   licence.Action `json:"action"`
	Computer string         `json:"computer"` // machine.ID
	Nonce    string         `json:"nonce"`
	Version  string         `json:"version,omitempty"`
	By       string         `json:"by"` // machine.ID of the computer that asked
	On       string         `json:"-"`  // and its name, as the line tells it
}

// Stepped is the data of journal.EventStepped: what a person saw and did. Secrets that
// were shown for it are not in it.
type Stepped struct {
	Action   licence.Action `json:"action"`
	Step     int            `json:"step"` // from 1
	Do       string         `json:"do"`
	Ask      string         `json:"ask,omitempty"`
	Answer   string         `json:"answer,omitempty"`
	Evidence string         `json:"evidence,omitempty"` // name of the file
	Hash     string         `json:"hash,omitempty"`     // BLAKE3 of it
	On       string         `json:"-"`                  // name of the computer, as the line tells it
}

// Bound is the data of journal.EventBound: which computer is the new one from here on.
type Bound struct {
	kit.Computer
	// Instead is why it is this one, and not the one that was bound before; "" for
	// the first.
	Instead string `json:"instead,omitempty"`
}

// Looked is the data of journal.EventLooked: the app as it is on the new computer.
type Looked struct {
	Version string `json:"version,omitempty"`
	Edition string `json:"edition,omitempty"`
}

// Chosen is the data of journal.EventChosen: where things go on the new computer, as a
// person said. Later lines add to it.
type Chosen struct {
	Users  map[string]string `json:"users,omitempty"`  // its user by user of the old computer
	Places map[string]string `json:"places,omitempty"` // path by address of the item (Key.Address)
	Drives map[string]string `json:"drives,omitempty"` // folder by letter of a drive that only the old computer has
}

// With is what was said, and what is said now.
func (s Chosen) With(now Chosen) Chosen {
	return Chosen{both(s.Users, now.Users), both(s.Places, now.Places), both(s.Drives, now.Drives)}
}

func both(was, now map[string]string) map[string]string {
	out := map[string]string{}
	maps.Copy(out, was)
	maps.Copy(out, now)
	return out
}

// Same reports whether another says the same.
func (s Chosen) Same(other Chosen) bool {
	return maps.Equal(s.Users, other.Users) && maps.Equal(s.Places, other.Places) && maps.Equal(s.Drives, other.Drives)
}

// Repointed is the data of journal.EventRepointed. What is sealed are the changes, by
// which what was there can be told from what is there.
type Repointed struct {
	kit.Sealed
	Places int64 `json:"places"` // how many are changed; 0 stands for none
	Within int64 `json:"within"` // in how many files, tables or keys
}

// Placed is the data of journal.EventPlacing and journal.EventPlaced.
type Placed struct {
	To        string            `json:"to"`                 // as the new computer writes it
	Policy    string            `json:"policy,omitempty"`   // what was done about what was in the way
	Aside     string            `json:"aside,omitempty"`    // where what was in the way is now
	Stamp     string            `json:"stamp,omitempty"`    // changes when somebody works in it; "" where that is not known
	Rewritten map[string]string `json:"remade,omitempty"`   // digests of what a database's engine here writes otherwise than it was sealed, though it is the same
	Unkept    []string          `json:"not_kept,omitempty"` // owners and marks that could not be kept
	Same      bool              `json:"same,omitempty"`     // it was there already
	Waits     string            `json:"waits,omitempty"`    // what a person must do before it is in place; "" where it is
	Notes     []string          `json:"notes,omitempty"`    // what a person must know or do
	Plan      *Plan             `json:"plan,omitempty"`     // of one that is not finished
	Begun     time.Time         `json:"-"`                  // of one that is not finished: when it was recorded
}

// Mapped returns a copy of p with every name replaced by what rename returns for it.
func (p Placed) Mapped(rename func(string) (string, error)) (*Placed, error) {
	plan, err := p.Plan.Mapped(rename)
	p.Plan = plan
	return &p, errors.Join(err, renameAll(rename, &p.To, &p.Aside))
}

func renameAll(rename func(string) (string, error), names ...*string) (err error) {
	for _, name := range names {
		if *name != "" && err == nil {
			*name, err = rename(*name)
		}
	}
	return err
}

// Undone is the data of journal.EventUndoing and journal.EventUndone.
type Undone struct {
	From string `json:"from"`           // where the item was in place
	Back string `json:"back,omitempty"` // from where what was set aside got its name back
	Kept string `json:"kept,omitempty"` // where data that was edited since is kept
	Plan *Plan  `json:"plan,omitempty"` // of one that is not finished
}

// Mapped returns a copy of u with every name replaced by what rename returns for it.
func (u Undone) Mapped(rename func(string) (string, error)) (*Undone, error) {
	plan, err := u.Plan.Mapped(rename)
	u.Plan = plan
	return &u, errors.Join(err, renameAll(rename, &u.From, &u.Back, &u.Kept))
}

// Retired is the data of journal.EventRetiring, journal.EventRetired and journal.EventReturning. Paths are in
// the old computer's own terms.
type Retired struct {
	From string `json:"from"`
	To   string `json:"to,omitempty"`   // "" where it was not there any more
	Note string `json:"note,omitempty"` // the file that says where the data went
	Plan *Plan  `json:"plan,omitempty"` // of one that is not finished
}

// Mapped returns a copy of r with every name replaced by what rename returns for it.
func (r Retired) Mapped(rename func(string) (string, error)) (*Retired, error) {
	plan, err := r.Plan.Mapped(rename)
	r.Plan = plan
	return &r, errors.Join(err, renameAll(rename, &r.From, &r.To, &r.Note))
}

// Removed is the data of journal.EventRemoved.
type Removed struct {
	Because string `json:"because"`
}

// Reported is the data of journal.EventReported.
type Reported struct {
	To string `json:"to,omitempty"` // a folder outside the kit; "" where there is none
}

// Ticked is the data of journal.EventTicked.
type Ticked struct {
	Files []string          `json:"files"`        // by their paths in the item
	As    map[string]string `json:"as,omitempty"` // what each is called in the app, where that is another name
}

// Row is one figure, old and new.
type Row struct {
	What string `json:"what"`
	Old  string `json:"old"`
	New  string `json:"new"`
	Same bool   `json:"same"`
}

// Checked is the data of journal.EventChecked.
type Checked struct {
	Rows  []Row    `json:"rows"`
	Diffs []string `json:"diffs,omitempty"` // at most 20
	Count int64    `json:"count,omitempty"` // how many differences there are
	Equal bool     `json:"equal"`
	// Skipped says that a person had what was here left as it was: that it differs is
	// no fault.
	Skipped bool `json:"skipped,omitempty"`
}

// Good reports whether an item is as it should be.
func (c *Checked) Good() bool { return c != nil && (c.Equal || c.Skipped) }

// Seen is the data of journal.EventSeen: a licence's state on both computers.
type Seen struct {
	Old  licence.State `json:"old"`
	New  licence.State `json:"new"`
	Left int           `json:"transfers_left"`
	By   string        `json:"by"`             // how it was seen
	Copy string        `json:"copy,omitempty"` // what is wrong with the app's own copy of it there; "" where nothing is
	// Asked is false where the service could not be asked, and the states are
	// those that the journal remembers, which is no proof.
	Asked bool `json:"asked"`
	Good  bool `json:"good"`
	// Trial is true where the app runs on the new computer without it, and it
	// is not moved yet.
	Trial bool `json:"trial,omitempty"`
}

// Opened is the data of journal.EventOpened: that the app itself showed its data on the new
// computer.
type Opened struct {
	By       string `json:"by"`                 // its own command, or a person
	Said     string `json:"said"`               // what was seen
	Expected string `json:"expected,omitempty"` // the figure that was packed; "" where the card names none
	Good     bool   `json:"good"`
	// Untried is why nobody could see it yet; such is not recorded.
	Untried string    `json:"not_tried,omitempty"`
	At      time.Time `json:"-"` // as the line tells it
}

// String says it for a person.
func (o *Opened) String() string {
	switch {
	case o.Untried != "":
		return "not tried: " + o.Untried
	case o.Good:
		return fmt.Sprintf("%s saw %s", o.By, o.Said)
	case o.Expected != "":
		return fmt.Sprintf("%s saw %s, and %s were packed", o.By, o.Said, o.Expected)
	}
	return fmt.Sprintf("%s does not show it: %s", o.By, o.Said)
}

// Overridden is the data of journal.EventOverridden.
type Overridden struct {
	Gate    string `json:"gate"`
	Step    Step   `json:"step"`
	Why     string `json:"why"`     // what the gate said
	Because string `json:"because"` // the reason given
	// Second names the licence of which a second seat was taken, and the one on
	// the old computer left active.
	Second string `json:"second_seat,omitempty"`
}

// Differs says that what was compared is not the same, and how.
func (c *Checked) Differs(how string) {
	c.Equal = false
	c.Count++
	c.Diffs = append(c.Diffs, how)
}

// Add adds a row, and how its two sides differ, if they do.
func (c *Checked) Add(r Row, how string) {
	c.Rows = append(c.Rows, r)
	if !r.Same {
		c.Differs(how)
	}
}

// AddCount adds a figure of the card, old and new, and holds it against the
// number that the card expects.
func (c *Checked) AddCount(name string, expect *int64, old, new int64) {
	r := Row{What: name, Old: strconv.FormatInt(old, 10), New: strconv.FormatInt(new, 10), Same: old == new}
	if expect != nil && new != *expect {
		r.Same = false
		c.Differs(name + ": the card expects " + strconv.FormatInt(*expect, 10))
	}
	if !r.Same {
		c.Equal = false
	}
	c.Rows = append(c.Rows, r)
}
