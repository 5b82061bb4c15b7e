// Package run represents one run of a step: the kit and its state, the computer, the technician,
// and the listener for progress. It does not depend on the steps.
package run

import (
	"cmp"
	"context"
	"io"
	"slices"
	"strings"
	"time"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/journal"
	"movekit/internal/core/kit"
	"movekit/internal/core/machine"
	"movekit/internal/core/seal"
	"movekit/internal/core/steps"
)

// Kit is the part of a kit that a run needs: its journal and its sealed streams. *kit.Kit
// implements it for a folder.
type Kit interface {
	// Facts returns the manifest and the cards.
	Facts() (*kit.Manifest, []*card.Card)
	// Place returns the kit's folder, or "" if it has none.
	Place() string
	// Lines returns the journal's lines.
	Lines() []journal.Line
	// Record appends a line to the journal, flushes it, and returns it as written.
	Record(line journal.Line, data any) (journal.Line, error)
	// Unlocked reports whether the kit was opened with its passphrase, so that its journal can be
	// trusted.
	Unlocked() bool
	// Installer returns the installer of an app in the kit, after checking its files; "" if there is none.
	Installer(app, run string) (string, error)
	// Inspect returns the damage in the files of apps. Of the files in later it checks only the size, which is given by name.
	Inspect(ctx context.Context, apps []string, later map[string]int64, progress func(int64)) ([]kit.Damage, error)
	// TotalBytes returns the size of the files that Inspect reads.
	TotalBytes(apps []string, later map[string]int64) int64
	// DamagedFiles returns the damaged sealed files of an item.
	DamagedFiles(ctx context.Context, app string, s kit.Sealed) []string
	// MendChecksums adds the sealed files in the journal to the kit's checksums.
	MendChecksums() error
	// Seal starts a sealed stream of an app.
	Seal(app, name string, o seal.Options) (kit.Stream, error)
	// Open reads a sealed stream of an app.
	Open(app string, parts []seal.Part) (io.ReadCloser, error)
	// Tidy removes leftovers of interrupted runs.
	Tidy() error
	// Discard removes sealed files that the journal does not need.
	Discard(app string, parts []seal.Part)
}

// Run is one run of a step.
type Run struct {
	*Host
	Kit           Kit
	Manifest      *kit.Manifest
	Cards         []*card.Card
	State         *steps.State      // the state from the journal; every recorded line updates it
	Apps          []string          // selected apps; empty means all
	Items         []string          // selected items, by address (steps.Key.Is); an app without selected items is selected completely
	Overrides     map[string]string // reason by gate
	ReplaceReason string            // reason for changing the new computer; "" if it is not changed
	MoreMedia     bool              // the kit continues on another medium when its own is full
	PartSize      int64             // largest sealed file, in bytes; 0 means the default
	Distant       bool              // the kit is on another computer
	Roomy         bool              // the medium has room for much more than the data, so that time counts more than bytes
	Now           func() time.Time
	Marks         string // folder for the records of this computer; "" means the user's cache
	here          *local
	stale         string // what another copy of the kit has and this one does not
}

// New starts a run. It reads the journal once.
func New(k Kit, h *Host) *Run {
	m, cards := k.Facts()
	s := steps.Fold(*m, k.Lines())
	return &Run{Host: h, Kit: k, Manifest: m, Cards: s.Cards(cards), State: s, Now: time.Now}
}

// Self identifies this computer. A computer restored from an image of the old one has the same
// system id, and gets another id here.
func (r *Run) Self() kit.Computer {
	c := kit.ComputerOf(r.Computer)
	if c.ID == r.Manifest.Old.ID && !c.Is(r.Manifest.Old) {
		c.ID = machine.IDOf(c.ID + c.Firmware + c.Name)
	}
	return c
}

// Side returns which computer of the move this is. A safety copy can be used on any.
func (r *Run) Side() steps.Side {
	self := r.Self()
	switch {
	case self.Is(r.Manifest.Old):
		return steps.OldSide
	case r.bound() && !self.Is(r.State.New) && r.ReplaceReason == "":
		return steps.ThirdSide
	}
	return steps.NewSide
}

// bound reports whether a computer is bound as the new one.
func (r *Run) bound() bool { return r.State.New.ID != "" }

// bind makes this computer the new one before a step changes it.
func (r *Run) bind(step steps.Step, c *card.Card, o *Outcome) error {
	self := r.Self()
	if step != steps.Unpack && step != steps.Activate && (step != steps.Deactivate || r.ReplaceReason == "") || r.Manifest.Keep || r.Side() != steps.NewSide || self.Is(r.State.New) {
		return nil
	}
	b := steps.Bound{Computer: self}
	if r.bound() {
		b.Because = r.ReplaceReason
		o.Overrode = append(o.Overrode, steps.Overridden{Gate: "new-computer", Step: step, Why: "this is " + self.Name + ", but the new computer was " + r.State.New.Name, Because: b.Because})
	}
	return r.Record(journal.EventBound, steps.Key{}, b)
}

// Card returns the card of an app, or nil.
func (r *Run) Card(app string) *card.Card {
	for _, c := range r.Cards {
		if c.Name == app {
			return c
		}
	}
	return nil
}

// SelectedCards returns the cards of the selected apps.
func (r *Run) SelectedCards() ([]*card.Card, error) {
	if len(r.Apps) == 0 {
		return r.Cards, nil
	}
	var out []*card.Card
	for _, name := range r.Apps {
		c := r.Card(name)
		if c == nil {
			for _, c := range r.Cards {
				if c.Item(name) != nil {
					return nil, fault.New(fault.Usage, "%s is an item of the app %s: use %s/%s", name, c.Name, c.Name, name)
				}
			}
			return nil, fault.New(fault.Usage, "the kit has no app %q; it has %s", name, strings.Join(r.Manifest.Apps, ", "))
		}
		if !slices.Contains(out, c) {
			out = append(out, c)
		}
	}
	return out, nil
}

// Selected reports whether an item is selected.
func (r *Run) Selected(k steps.Key) bool {
	some := false
	for _, address := range r.Items {
		if app, _, _ := strings.Cut(address, "/"); app == k.App {
			if k.Is(address) {
				return true
			}
			some = true
		}
	}
	return !some
}

// SelectNeeded also selects the items that are needed to prove the selected ones: the database that has
// the records of an export, and a database that another is attached to.
func (r *Run) SelectNeeded() {
	for _, c := range r.Cards {
		for _, it := range c.Items {
			needed := it.Attached
			if it.Exports != nil {
				needed = cmp.Or(it.Exports.Item, needed)
			}
			selected := slices.ContainsFunc(r.Items, func(address string) bool {
				app, rest, _ := strings.Cut(address, "/")
				name, _, _ := strings.Cut(rest, "@")
				return app == c.Name && name == it.Name
			})
			if needed != "" && selected {
				r.Items = append(r.Items, c.Name+"/"+needed)
			}
		}
	}
}

// Record appends a journal line about an item.
func (r *Run) Record(event string, key steps.Key, data any) error {
	return r.record(journal.Line{Event: event, App: key.App, Item: key.Item, User: key.User}, data)
}

// RecordLicence appends a journal line about a licence.
func (r *Run) RecordLicence(event string, key steps.Key, data any) error {
	return r.record(journal.Line{Event: event, App: key.App, Licence: key.Item}, data)
}

func (r *Run) record(l journal.Line, data any) error {
	l.Computer = r.Computer.Name()
	written, err := r.Kit.Record(l, data)
	if err != nil {
		return err
	}
	r.State.Add(written)
	r.Detail(steps.Key{App: l.App, Item: l.Item + l.Licence, User: l.User}, "journal: "+l.Event)
	return nil
}

// Facts returns the facts that gates of every step read.
func (r *Run) Facts(c *card.Card) steps.Facts {
	done := r.State.Progress(c, steps.Unpack)
	return steps.Facts{
		Side: r.Side(), Here: r.Computer.Name(), OldName: r.Manifest.Old.Name, NewName: r.State.New.Name, Bound: r.bound(), Keep: r.Manifest.Keep, Title: c.Title,
		Placed: done == steps.Yes || done == steps.Nothing, Proven: r.State.Proven(c), HandedOver: r.State.HandedTo != "",
		Packed: r.State.Packed[c.Name] != nil, Now: r.Now(), Written: r.State.Last, Behind: r.stale, Unconfirmed: r.unconfirmed(),
	}
}

// unconfirmed describes the choices in the journal that were not made on this computer. Those for a
// computer that broke do not matter.
func (r *Run) unconfirmed() []string {
	if r.Side() == steps.OldSide && !r.Manifest.Keep || r.ReplaceReason != "" && !r.Self().Is(r.State.New) {
		return nil
	}
	_, others := r.Trusted()
	return others
}

// Check runs a step's gates, and reports whether the step may continue. Overridden gates are
// recorded in the journal, the others in the outcome.
func (r *Run) Check(step steps.Step, c *card.Card, f steps.Facts, o *Outcome) (bool, error) {
	blocks, err := steps.Check(step, f)
	if err != nil {
		return false, err
	}
	for _, b := range blocks {
		because, given := r.Overrides[b.Gate]
		if !given || b.Firm {
			if slices.Contains(o.Blocks, b) {
				continue
			}
			o.Blocks = append(o.Blocks, b)
			r.Detail(steps.Key{App: c.Name}, "stopped by the gate "+b.Gate+": "+b.Why)
			continue
		}
		o.Overrode = append(o.Overrode, steps.Overridden{Gate: b.Gate, Step: step, Why: b.Why, Because: because})
	}
	if len(o.Blocks) > 0 {
		return false, nil
	}
	if err := r.bind(step, c, o); err != nil {
		return false, err
	}
	for _, over := range o.Overrode {
		if r.overrode(c, over) {
			continue
		}
		if err := r.Record(journal.EventOverridden, steps.Key{App: c.Name}, over); err != nil {
			return false, err
		}
	}
	return true, nil
}

// overrode reports whether the journal has an overridden gate already, with the same finding and reason.
func (r *Run) overrode(c *card.Card, over steps.Overridden) bool {
	return slices.ContainsFunc(r.State.Overrides, func(was steps.Override) bool { return was.App == c.Name && was.Overridden == over })
}

// Overrode records an overridden gate in the journal, once.
func (r *Run) Overrode(c *card.Card, o *Outcome, over steps.Overridden) error {
	if r.overrode(c, over) {
		return nil
	}
	o.Overrode = append(o.Overrode, over)
	return r.Record(journal.EventOverridden, steps.Key{App: c.Name}, over)
}

// Each runs a step for every selected app. If one app fails or is stopped, the others still run.
func (r *Run) Each(ctx context.Context, do func(context.Context, *card.Card, *Outcome) error) ([]*Outcome, error) {
	cards, err := r.SelectedCards()
	if err != nil {
		return nil, err
	}
	defer r.Private.Drop()
	if r.stale = r.outdated(); r.stale == "" || r.Overrides["newest-copy"] != "" {
		defer r.remember()
	}
	var out []*Outcome
	for _, c := range cards {
		o := &Outcome{App: c.Name, Title: c.Title}
		out = append(out, o)
		err := r.agreed(c)
		if err == nil {
			err = do(ctx, c, o)
		}
		o.Fail(err)
		if err != nil {
			r.Detail(steps.Key{App: c.Name}, "failed: "+err.Error())
		}
		if ctx.Err() != nil {
			break
		}
	}
	return out, nil
}

// agreed records that the user agreed to run the commands of a card.
func (r *Run) agreed(c *card.Card) error {
	if !r.Commands || len(c.Commands()) == 0 || r.State.Agreed[c.Name] {
		return nil
	}
	return r.Record(journal.EventAgreed, steps.Key{App: c.Name}, c.Commands())
}

// ForApp returns the host for one app. Its commands may run if the user agreed earlier, according to
// the journal of an unlocked kit.
func (r *Run) ForApp(c *card.Card) *Host {
	h := *r.Host
	h.Commands = h.Commands || r.Kit.Unlocked() && r.State.Agreed[c.Name]
	return &h
}

// CommandLine returns a command on one line, for a question.
func CommandLine(args []string) string {
	return strings.NewReplacer("\n", `\n`, "\r", `\r`).Replace(strings.Join(args, " "))
}

// AgreeToCommands shows the user the commands of a card and asks for consent, once per kit.
func (r *Run) AgreeToCommands(c *card.Card) error {
	var list []string
	for _, args := range c.Commands() {
		list = append(list, CommandLine(args))
	}
	if err := r.Technician.AgreeToRun("The card of " + c.Title + " runs these commands on " + r.Computer.Name() + ":\n  " + strings.Join(list, "\n  ") + "\nAllow them to run?"); err != nil {
		return err
	}
	return r.Record(journal.EventAgreed, steps.Key{App: c.Name}, c.Commands())
}
