// Package move carries out the steps of a move on real computers: it observes
// what the gates want to know, does the work through the item kinds and the
// licence services, and records it in the kit's journal.
package move

import (
	"context"
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
	"movekit/internal/core/survey"
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
	Apps      []string                            // which apps; all where empty
	Overrides map[string]string                   // reason by gate
	PartSize  int64                               // largest sealed file, in bytes; 0 stands for the usual
	Policy    tree.Policy                         // what happens to what is in the way; "" stands for set-aside
	TakeOver  bool                                // what ran as a user of a database server who is not here runs as who unpacks
	Users     map[string]string                   // user on the new computer by user on the old
	Commands  bool                                // whether a person has agreed to run the commands of the cards
	Ask       func(prompt string) (string, error) // asks a person for a password; nil where nobody can be asked
	Asks      func(question string) error         // has a person agree to the commands of a card; nil where nobody is there
	Agree     func(question string) error         // has a person agree to what cannot be taken back; nil where that was done
	Takeover  string                              // why licences are taken up although they are active on the old computer; "" where they are not
	Second    string                              // why a second seat is taken, and the one on the old computer stays active; "" where it is not
	OldLost   string                              // why licences cannot be freed on the old computer itself; "" where they can
	Person    Person                              // takes the steps of licences; nil where nobody is there
	Limit     time.Duration                       // how long a network place may keep silent; 0 stands for survey.Limit
	Temp      string                              // private folder for snapshots; "" stands for one in the user's cache
	Notify    func(Event)
	Service   func(card.Licence) (licence.Service, error) // nil stands for the card's desk
	Now       func() time.Time                            // nil stands for time.Now
	Marks     string                                      // folder that remembers how far kits were; "" stands for one in the user's cache
	asked     map[string]string
	together  map[steps.Key][]survey.Place // databases that are packed as of one moment
	snapshots map[steps.Key]string         // of such, taken already
	stale     string                       // what another copy of the kit has and this one has not
}

func (j *Job) now() time.Time {
	if j.Now != nil {
		return j.Now()
	}
	return time.Now()
}

// passwords are those that were asked for, for the whole run.
func (j *Job) passwords() map[string]string {
	if j.asked == nil {
		j.asked = map[string]string{}
	}
	return j.asked
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

// Side tells which computer of the move this is.
func (j *Job) Side() steps.Side {
	if machine.ID(j.Computer) == j.Kit.Manifest.Old.ID {
		return steps.OldSide
	}
	return steps.NewSide
}

// Frees reports whether licences are freed by this job, rather than taken up:
// on the old computer, or in its name.
func (j *Job) Frees() bool { return j.Side() == steps.OldSide || j.OldLost != "" }

// facts are those that every step looks at.
func (j *Job) facts(c *card.Card) steps.Facts {
	st := j.State()
	return steps.Facts{
		Side: j.Side(), Here: j.Computer.Name(), OldName: j.Kit.Manifest.Old.Name, Title: c.Title,
		Packed: st.Packed[c.Name] != nil, Now: j.now(), Written: st.Last, Behind: j.stale,
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
	Did   string      `json:"did"` // sealed, kept, placed, same, skipped, checked; by undo: taken back, was here, not taken back, unfinished, nothing
	Files int64       `json:"files"`
	Bytes int64       `json:"bytes"`
	Size  int64       `json:"sealed_bytes,omitempty"`
	To    string      `json:"to,omitempty"`
	Aside string      `json:"set_aside,omitempty"`
	Back  string      `json:"back_from,omitempty"` // what was set aside, and has its name back
	Left  []string    `json:"left_behind,omitempty"`
	Notes []string    `json:"notes,omitempty"` // what a person must know or do
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
	Did       string        `json:"did"`                   // deactivated, activated, nothing, seen
	Trial     *time.Time    `json:"trial_until,omitempty"` // until when the app runs here without it
	Disabled  bool          `json:"taken_over,omitempty"`  // taking it up disabled it on the old computer
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
	if j.stale = j.behind(); j.stale == "" || j.Overrides["newest-copy"] != "" {
		defer j.remember()
	}
	var out []*Outcome
	for _, c := range cards {
		o := &Outcome{App: c.Name, Title: c.Title}
		out = append(out, o)
		if err := j.agree(c); err != nil {
			o.fail(err)
			continue
		}
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

// looker looks at this computer for the apps of the kit.
func (j *Job) looker(estimate bool) *survey.Looker {
	return &survey.Looker{
		Computer: j.Computer, KitDir: j.Kit.Dir, Target: j.Kit.Manifest.New.System,
		Commands: j.Commands, Estimate: estimate, Limit: j.Limit, Temp: j.Temp,
		Ask: j.Ask, Passwords: j.passwords(),
	}
}

// lookerFor is the looker for one app, which may run the card's commands where
// a person has agreed to that before. Only an unlocked kit's journal is
// believed.
func (j *Job) lookerFor(c *card.Card, estimate bool) *survey.Looker {
	l := j.looker(estimate)
	l.Commands = l.Commands || j.Kit.Unlocked() && j.State().Agreed[c.Name]
	return l
}

// agree records that a person agreed to run the commands of an app's card.
func (j *Job) agree(c *card.Card) error {
	if !j.Commands || len(c.Commands()) == 0 || j.State().Agreed[c.Name] {
		return nil
	}
	return j.Kit.Record(j.line(steps.EventAgreed, steps.Key{App: c.Name}), c.Commands())
}

// source is how an item's files are walked at a real path.
func (j *Job) source(it *card.Item, path string) tree.Source {
	return survey.SourceAt(j.Computer, it, path)
}

// version reads the version of an app on this computer; it is empty where the
// app is not there.
func (j *Job) version(ctx context.Context, c *card.Card) (survey.Version, error) {
	return j.lookerFor(c, false).Version(ctx, c)
}

func (j *Job) running(ctx context.Context, c *card.Card) ([]string, error) {
	return j.looker(false).Running(ctx, c)
}
