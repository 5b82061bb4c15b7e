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

// The types below are the data of journal lines, one for each event.

// Key identifies one item of one app, and its user if it is a per-user item.
type Key struct {
	App  string `json:"app"`
	Item string `json:"item"`
	User string `json:"user,omitempty"`
}

// Address returns the item's address: APP/ITEM, or APP/ITEM@USER.
func (k Key) Address() string {
	if k.User == "" {
		return k.App + "/" + k.Item
	}
	return k.App + "/" + k.Item + "@" + k.User
}

// Is reports whether an address selects the item: its own address, or one that covers several items
// or all users.
func (k Key) Is(address string) bool {
	which, user := k, k
	which.User, user.Item = "", strings.SplitN(k.Item, "@", 2)[0]
	both := user
	both.User = ""
	return address == k.Address() || address == which.Address() || address == user.Address() || address == both.Address()
}

// Packed is the data of journal.EventPacked.
type Packed struct {
	Version string   `json:"version,omitempty"` // the app's version on the old computer
	Edition string   `json:"edition,omitempty"`
	Items   []Key    `json:"items"`
	Where   []string `json:"where,omitempty"`  // locations of the items, as the old computer writes them
	Absent  []string `json:"absent,omitempty"` // items in the card that were missing
	// NotChosen lists items that the user did not select for this pack and that were not sealed
	// before.
	NotChosen []string `json:"not_chosen,omitempty"`
	// Homes maps the old computer's users to their profile folders, as it writes them.
	Homes map[string]string `json:"homes,omitempty"`
	Stays []Stay            `json:"stays,omitempty"` // items that stay where they are
}

// Stay is an item that stays where it is, and its address on the old computer.
type Stay struct {
	Item    string    `json:"item"`
	Kind    card.Kind `json:"kind"`
	Address string    `json:"address"`
}

// Asked is the data of journal.EventAsked.
type Asked struct {
	Action   licence.Action `json:"action"`
	Key      string         `json:"key"`
	Computer string         `json:"computer,omitempty"` // machine.ID
}

// Requested is the data of journal.EventRequested: the request that an answer file must match.
type Requested struct {
	Action   licence.Action `json:"action"`
	Computer string         `json:"computer"` // machine.ID
	Nonce    string         `json:"nonce"`
	Version  string         `json:"version,omitempty"`
	By       string         `json:"by"` // machine.ID of the computer that asked
	On       string         `json:"-"`  // its name, from the journal line
}

// StepDone is the data of journal.EventStepDone: the technician's answer to a manual step. It
// contains no secrets.
type StepDone struct {
	Action   licence.Action `json:"action"`
	Step     int            `json:"step"` // from 1
	Do       string         `json:"do"`
	Ask      string         `json:"ask,omitempty"`
	Answer   string         `json:"answer,omitempty"`
	Evidence string         `json:"evidence,omitempty"` // name of the file
	Hash     string         `json:"hash,omitempty"`     // BLAKE3 hash of the file
	On       string         `json:"-"`                  // name of the computer, from the journal line
}

// Bound is the data of journal.EventBound: the computer that is the new one from then on.
type Bound struct {
	kit.Computer
	// Instead is the reason for changing the new computer; "" for the first one.
	Because string `json:"because,omitempty"`
}

// AppFound is the data of journal.EventFound: the app as it was found on the new computer.
type AppFound struct {
	Version string    `json:"version,omitempty"`
	Edition string    `json:"edition,omitempty"`
	At      time.Time `json:"-"`
}

// Same reports whether both have the same version and edition.
func (f AppFound) Same(other AppFound) bool {
	return f.Version == other.Version && f.Edition == other.Edition
}

// Chosen is the data of journal.EventChosen: the user's choices of destinations on the new
// computer. Later lines add to it.
type Chosen struct {
	Users  map[string]string `json:"users,omitempty"`  // user here, by user of the old computer
	Places map[string]string `json:"places,omitempty"` // path here, by item address (Key.Address)
	Drives map[string]string `json:"drives,omitempty"` // folder here, by letter of a drive that only the old computer has
}

// With returns s with the choices of now added. A choice in now replaces the same one in s.
func (s Chosen) With(now Chosen) Chosen {
	return Chosen{both(s.Users, now.Users), both(s.Places, now.Places), both(s.Drives, now.Drives)}
}

func both(was, now map[string]string) map[string]string {
	out := map[string]string{}
	maps.Copy(out, was)
	maps.Copy(out, now)
	return out
}

// Same reports whether both make the same choices.
func (s Chosen) Same(other Chosen) bool {
	return maps.Equal(s.Users, other.Users) && maps.Equal(s.Places, other.Places) && maps.Equal(s.Drives, other.Drives)
}

// TakenBack is the data of journal.EventTakenBack: the kit that moves the apps back to the old computer.
type TakenBack struct {
	Kit string    `json:"kit"`
	At  time.Time `json:"-"`
}

// PathUpdates is the data of journal.EventPathsPlanned. The sealed part has the changes, which are
// needed to compare and to undo.
type PathUpdates struct {
	kit.Sealed
	Places int64 `json:"places"` // number of changed paths
	Within int64 `json:"within"` // number of files, tables or keys with changes
}

// Placed is the data of journal.EventPlacing and journal.EventPlaced.
type Placed struct {
	To          string            `json:"to"`                     // destination, as the new computer writes it
	Policy      string            `json:"policy,omitempty"`       // how existing data was treated
	Aside       string            `json:"aside,omitempty"`        // where the existing data is now
	Stamp       string            `json:"stamp,omitempty"`        // changes when somebody edits the data; "" if unknown
	Rewritten   map[string]string `json:"rewritten,omitempty"`    // digests of objects that the database engine here writes differently although they are the same
	NotRestored []string          `json:"not_restored,omitempty"` // owners and file metadata that could not be restored
	Parents     int               `json:"parents,omitempty"`      // number of folders above it that did not exist
	Same        bool              `json:"same,omitempty"`         // the same data was already here
	ManualStep  string            `json:"manual_step,omitempty"`  // manual step before the item is in place; "" if none
	Notes       []string          `json:"notes,omitempty"`        // notes for the technician
	Plan        *Plan             `json:"plan,omitempty"`         // the plan of an unfinished run
	Begun       time.Time         `json:"-"`                      // start of an unfinished run
}

// Mapped returns a copy of p with rename applied to every name.
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
	Back string `json:"back,omitempty"` // spare of the set-aside data that was moved back
	Kept string `json:"kept,omitempty"` // where modified data is kept
	Plan *Plan  `json:"plan,omitempty"` // the plan of an unfinished run
}

// Mapped returns a copy of u with rename applied to every name.
func (u Undone) Mapped(rename func(string) (string, error)) (*Undone, error) {
	plan, err := u.Plan.Mapped(rename)
	u.Plan = plan
	return &u, errors.Join(err, renameAll(rename, &u.From, &u.Back, &u.Kept))
}

// Retired is the data of journal.EventRetiring, journal.EventRetired and journal.EventReturning.
// Paths are in the old computer's own terms.
type Retired struct {
	From string `json:"from"`
	To   string `json:"to,omitempty"`   // where the data was moved; "" if it was gone
	Note string `json:"note,omitempty"` // the file that says where the data went
	Plan *Plan  `json:"plan,omitempty"` // the plan of an unfinished run
}

// Mapped returns a copy of r with rename applied to every name.
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
	To string `json:"to,omitempty"` // a folder outside the kit; "" if none
}

// Ticked is the data of journal.EventTicked.
type Ticked struct {
	Files []string          `json:"files"`        // paths within the item
	As    map[string]string `json:"as,omitempty"` // the name of each in the app, if it differs
}

// ContentRow is the name of the row that compares content, not a count.
const ContentRow = "content"

// Row is one count, old and new.
type Row struct {
	What string `json:"what"`
	Old  string `json:"old"`
	New  string `json:"new"`
	Same bool   `json:"same"`
	Text bool   `json:"text,omitempty"` // Old and New are text, even if they are all digits
}

// Checked is the data of journal.EventChecked.
type Checked struct {
	Rows  []Row    `json:"rows"`
	Diffs []string `json:"diffs,omitempty"` // at most 20
	Count int64    `json:"count,omitempty"` // number of differences
	Equal bool     `json:"equal"`
	Notes []string `json:"notes,omitempty"` // files that still name places of the old computer
	// Skipped is true if the user kept the existing data, so that a difference is expected.
	Skipped bool `json:"skipped,omitempty"`
}

// Good reports whether an item is as expected.
func (c *Checked) Good() bool { return c != nil && (c.Equal || c.Skipped) }

// Seen is the data of journal.EventSeen: a licence's state on both computers.
type Seen struct {
	Old         licence.State `json:"old"`
	New         licence.State `json:"new"`
	Left        int           `json:"transfers_left"`
	By          string        `json:"by"`             // how the state was observed
	CopyProblem string        `json:"copy,omitempty"` // problem with the app's own copy of the licence there; "" if none
	// Asked is false if the service could not be asked. The states are then from the journal and
	// prove nothing.
	Asked bool `json:"asked"`
	Good  bool `json:"good"`
	// Issued is the service's own time of the answer, in seconds since 1970; 0 if it has no clock.
	Issued int64 `json:"issued,omitempty"`
	// Own is the state on the old computer, if a new one that broke has the licence; else "".
	Own licence.State `json:"own,omitempty"`
	// Trial is true if the app runs on the new computer without the licence, which has not moved
	// yet.
	Trial bool `json:"trial,omitempty"`
}

// Opened is the data of journal.EventOpened: whether the app itself showed its data on the new
// computer.
type Opened struct {
	By       string `json:"by"`                 // its own command, or the technician
	Said     string `json:"said"`               // what was seen
	Expected string `json:"expected,omitempty"` // the packed count; "" if the card has none
	Good     bool   `json:"good"`
	// Untried is why it could not be checked yet. This is not recorded.
	NotChecked string    `json:"not_checked,omitempty"`
	At         time.Time `json:"-"` // from the journal line
}

// String returns a sentence for the user.
func (o *Opened) String() string {
	switch {
	case o.NotChecked != "":
		return "not checked: " + o.NotChecked
	case o.Good:
		return fmt.Sprintf("%s saw %s", o.By, o.Said)
	case o.Expected != "":
		return fmt.Sprintf("%s saw %s, but %s were packed", o.By, o.Said, o.Expected)
	}
	return fmt.Sprintf("%s found a problem: %s", o.By, o.Said)
}

// Overridden is the data of journal.EventOverridden.
type Overridden struct {
	Gate    string `json:"gate"`
	Step    Step   `json:"step"`
	Why     string `json:"why"`     // the gate's finding
	Because string `json:"because"` // the reason given
	// Second is the licence that has a second seat while the old computer's seat stays active.
	Second string `json:"second_seat,omitempty"`
	// For is the id of the computer on whose behalf licences are deactivated, because it is lost.
	For string `json:"for,omitempty"`
}

// Differs records a difference.
func (c *Checked) Differs(how string) {
	c.Equal = false
	c.Count++
	c.Diffs = append(c.Diffs, how)
}

// Add adds a row, and records how its two sides differ, if they do.
func (c *Checked) Add(r Row, how string) {
	c.Rows = append(c.Rows, r)
	if !r.Same {
		c.Differs(how)
	}
}

// AddCount adds a count, old and new, and compares it with the number that the card expects.
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
