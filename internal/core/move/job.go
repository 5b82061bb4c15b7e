// Package move carries out the steps of a move on real computers: it observes
// what the gates want to know, does the work through the item kinds and the
// licence services, and records it in the kit's journal.
package move

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"filippo.io/age"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/journal"
	"movekit/internal/core/kit"
	"movekit/internal/core/licence"
	"movekit/internal/core/machine"
	"movekit/internal/core/seal"
	"movekit/internal/core/steps"
	"movekit/internal/core/tree"
)

// Event tells how a step gets on.
type Event struct {
	App, Item, User string
	What            string // what is being done; "" where only bytes are told
	Total           int64  // bytes to be done in all, where What is told; 0 where not known
	Bytes           int64  // bytes done since the last event
}

// Job is one run of a step.
type Job struct {
	Kit       *kit.Kit
	Computer  machine.Computer
	Apps      []string          // which apps; all where empty
	Overrides map[string]string // reason by gate
	PartSize  int64             // largest sealed file, in bytes; 0 stands for the usual
	Policy    tree.Policy       // what happens to what is in the way; "" stands for set-aside
	Users     map[string]string // user on the new computer by user on the old
	Temp      string            // private folder for snapshots; "" stands for one in the user's cache
	Notify    func(Event)
	Service   func(card.Licence) (licence.Service, error) // nil stands for the card's desk
	Now       func() time.Time                            // nil stands for time.Now
}

func (j *Job) now() time.Time {
	if j.Now != nil {
		return j.Now()
	}
	return time.Now()
}

func (j *Job) notify(e Event) {
	if j.Notify != nil {
		j.Notify(e)
	}
}

func (j *Job) bytes(n int64) { j.notify(Event{Bytes: n}) }

// begin tells that work on an item begins, and returns what counts its bytes.
func (j *Job) begin(key steps.Key, what string, total int64) func(int64) {
	j.notify(Event{App: key.App, Item: key.Item, User: key.User, What: what, Total: total})
	return j.bytes
}

// State folds the kit's journal.
func (j *Job) State() *steps.State { return steps.Fold(j.Kit.Manifest, j.Kit.Log.Lines) }

// cards returns the cards of the chosen apps.
func (j *Job) cards() ([]*card.Card, error) {
	if len(j.Apps) == 0 {
		return j.Kit.Cards, nil
	}
	var out []*card.Card
	for _, name := range j.Apps {
		c := j.Kit.Card(name)
		if c == nil {
			return nil, fault.New(fault.Usage, "the kit has no app %q; it has %s", name, strings.Join(j.Kit.Manifest.Apps, ", "))
		}
		if !slices.Contains(out, c) {
			out = append(out, c)
		}
	}
	return out, nil
}

// side tells which computer of the move this is.
func (j *Job) side() steps.Side {
	if machine.ID(j.Computer) == j.Kit.Manifest.Old.ID {
		return steps.OldSide
	}
	return steps.NewSide
}

// facts are those that every step looks at.
func (j *Job) facts(c *card.Card) steps.Facts {
	return steps.Facts{
		Side: j.side(), Here: j.Computer.Name(), OldName: j.Kit.Manifest.Old.Name, Title: c.Title,
		Packed: j.State().Packed[c.Name] != nil,
	}
}

// Outcome is what a step did with one app.
type Outcome struct {
	App      string             `json:"app"`
	Title    string             `json:"title"`
	Blocks   []steps.Block      `json:"stopped_by,omitempty"`
	Overrode []steps.Overridden `json:"overridden,omitempty"`
	Items    []ItemOutcome      `json:"items,omitempty"`
	Licences []LicenceOutcome   `json:"licences,omitempty"`
	Err      error              `json:"-"`
	Error    string             `json:"error,omitempty"`
}

// ItemOutcome is what a step did with one item.
type ItemOutcome struct {
	Item  string      `json:"item"`
	User  string      `json:"user,omitempty"`
	Did   string      `json:"did"` // sealed, kept, placed, same, skipped, checked
	Files int64       `json:"files"`
	Bytes int64       `json:"bytes"`
	Size  int64       `json:"sealed_bytes,omitempty"`
	To    string      `json:"to,omitempty"`
	Aside string      `json:"set_aside,omitempty"`
	Left  []string    `json:"left_behind,omitempty"`
	Equal bool        `json:"equal,omitempty"`
	Rows  []steps.Row `json:"rows,omitempty"`
	Diffs []string    `json:"differences,omitempty"`
	Count int64       `json:"difference_count,omitempty"`
}

// LicenceOutcome is what a step did with one licence, or saw of it.
type LicenceOutcome struct {
	Licence   string        `json:"licence"`
	Serial    string        `json:"serial"` // masked
	Old       licence.State `json:"old"`
	New       licence.State `json:"new"`
	Transfers int           `json:"transfers_left"`
	Spent     int           `json:"transfers_spent"`
	Did       string        `json:"did"` // deactivated, activated, nothing, seen
	Token     string        `json:"token,omitempty"`
	Aside     string        `json:"set_aside,omitempty"`
	By        string        `json:"by,omitempty"`
	Good      bool          `json:"good"`
}

// fail notes an error in the outcome.
func (o *Outcome) fail(err error) {
	if err != nil && o.Err == nil {
		o.Err, o.Error = err, err.Error()
	}
}

// check runs a step's gates. Those that an override was given for are
// journalled; the others are returned.
func (j *Job) check(step steps.Step, c *card.Card, f steps.Facts, o *Outcome) error {
	for _, b := range steps.Check(step, f) {
		because, given := j.Overrides[b.Gate]
		if !given || b.Firm {
			o.Blocks = append(o.Blocks, b)
			continue
		}
		over := steps.Overridden{Gate: b.Gate, Step: step, Why: b.Why, Because: because}
		o.Overrode = append(o.Overrode, over)
	}
	if len(o.Blocks) > 0 {
		return nil
	}
	for _, over := range o.Overrode {
		if err := j.Kit.Record(j.line(steps.EventOverridden, steps.Key{App: c.Name}), over); err != nil {
			return err
		}
	}
	return nil
}

func (j *Job) line(event string, key steps.Key) journal.Line {
	return journal.Line{Event: event, App: key.App, Item: key.Item, User: key.User, Computer: j.Computer.Name()}
}

// each runs a step for every chosen app. An app that fails or is stopped does
// not keep the others from their turn.
func (j *Job) each(ctx context.Context, do func(context.Context, *card.Card, *Outcome) error) ([]*Outcome, error) {
	cards, err := j.cards()
	if err != nil {
		return nil, err
	}
	var out []*Outcome
	for _, c := range cards {
		o := &Outcome{App: c.Name, Title: c.Title}
		out = append(out, o)
		o.fail(do(ctx, c, o))
		if ctx.Err() != nil {
			break
		}
	}
	return out, nil
}

// seal options of this kit.
func (j *Job) sealing(workers int) seal.Options {
	return seal.Options{To: j.Kit.Recipient(), PartSize: j.PartSize, Workers: workers}
}

func (j *Job) identity() age.Identity { return j.Kit.Identity() }

// temp returns the private folder of this kit for snapshots. It lies in the
// user's cache, not on the kit's medium: what is in it is not sealed.
func (j *Job) temp() (string, error) {
	dir := j.Temp
	if dir == "" {
		cache, err := os.UserCacheDir()
		if err != nil {
			return "", fault.Wrap(fault.CannotPlace, err, "there is no folder for temporary files")
		}
		dir = filepath.Join(cache, "movekit", "kit-"+j.Kit.Manifest.ID)
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return "", fault.Wrap(fault.CannotPlace, err, "cannot make the folder %s", dir)
	}
	return dir, nil
}

// dropTemp removes the private folder with what an earlier, interrupted run
// left in it.
func (j *Job) dropTemp() {
	if dir, err := j.temp(); err == nil {
		tree.RemoveTree(dir)
		os.Remove(filepath.Dir(dir))
	}
}

// place is where an item lies on a computer, for one user or for all.
type place struct {
	key   steps.Key
	item  *card.Item
	user  *machine.User
	path  string // real path; "" where the card has none for this system
	found bool
}

// label names the place for a person.
func (p place) label() string {
	if p.user != nil {
		return fmt.Sprintf("%s of %s", p.item.Name, p.user.Name)
	}
	return p.item.Name
}

// places returns where the items of an app are on this computer. A per-user
// item is there once for every user who has it, or once, not found, where
// none has.
func (j *Job) places(c *card.Card) ([]place, error) {
	var out []place
	for i := range c.Items {
		it := &c.Items[i]
		path := it.Path.On(string(j.Computer.System()))
		if path == "" {
			out = append(out, place{key: steps.Key{App: c.Name, Item: it.Name}, item: it})
			continue
		}
		var found, absent []place
		for _, u := range machine.Profiles(j.Computer, path) {
			p := place{key: steps.Key{App: c.Name, Item: it.Name}, item: it, user: u}
			if u != nil {
				p.key.User = u.Name
			}
			var err error
			if p.path, err = j.Computer.Locate(path, u); err != nil {
				return nil, err
			}
			if p.found, err = machine.Exists(p.path); err != nil {
				return nil, fault.Wrap(fault.Unreadable, err, "cannot look at %s of %s", it.Name, c.Title)
			}
			if p.found {
				found = append(found, p)
			} else {
				absent = append(absent, p)
			}
		}
		switch {
		case len(found) > 0:
			out = append(out, found...)
		case len(absent) > 0:
			p := absent[0]
			p.user, p.key.User = nil, ""
			out = append(out, p)
		default:
			out = append(out, place{key: steps.Key{App: c.Name, Item: it.Name}, item: it})
		}
	}
	return out, nil
}

// source is how an item's files are walked at a real path.
func (j *Job) source(it *card.Item, path string) tree.Source {
	if real, err := filepath.EvalSymlinks(path); err == nil {
		path = real
	}
	return tree.Source{
		Root: path, Single: it.Kind == card.File, Include: it.Include, Skip: it.Skip,
		Fold: j.Computer.System() == machine.Windows,
	}
}

// version reads the version of an app on this computer; "" where it is not
// there.
func (j *Job) version(c *card.Card) (string, error) {
	if c.Version == nil {
		return "", nil
	}
	return machine.Value(j.Computer, c.Version.File, c.Version.Pattern, nil)
}

func (j *Job) running(ctx context.Context, c *card.Card) ([]string, error) {
	programs, err := j.Computer.Running(ctx, c.Programs)
	if err != nil {
		return nil, err
	}
	var out []string
	for _, p := range programs {
		out = append(out, fmt.Sprintf("%s (process %d)", p.Name, p.PID))
	}
	return out, nil
}
