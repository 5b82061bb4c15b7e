// Package run is one run of a step: the kit and its state, the computer that is
// worked on, who is asked, and who is told how it gets on. It knows nothing of
// what the steps do.
package run

import (
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

// Kit is what a run needs of a kit: its journal, and room for sealed streams.
// *kit.Kit is one in a folder.
type Kit interface {
	// Facts are the manifest and the cards.
	Facts() (*kit.Manifest, []*card.Card)
	// Place is the folder that it lies in; "" where it lies in none.
	Place() string
	// Lines are those of the journal.
	Lines() []journal.Line
	// Record adds a line to the journal, flushes it, and returns it as it is
	// written.
	Record(line journal.Line, data any) (journal.Line, error)
	// Unlocked reports whether it was opened with its passphrase, and so whether
	// its journal can be believed.
	Unlocked() bool
	// Inspect returns what is damaged of the files of apps.
	Inspect(ctx context.Context, apps []string, progress func(int64)) ([]kit.Damage, error)
	// TotalBytes is the size of the files that Inspect reads.
	TotalBytes(apps []string) int64
	// Unwhole returns the sealed files of an item that do not read back whole.
	Unwhole(ctx context.Context, app string, s kit.Sealed) []string
	// MendChecksums enters the sealed files that the journal tells of into the
	// kit's checksums.
	MendChecksums() error
	// Seal starts a sealed stream of an app.
	Seal(app, name string, o seal.Options) (kit.Stream, error)
	// Open reads a sealed stream of an app.
	Open(app string, parts []seal.Part) (io.ReadCloser, error)
	// Tidy removes what runs that were killed have left.
	Tidy() error
	// Discard removes sealed files that are not recorded, or not any more.
	Discard(app string, parts []seal.Part)
}

// Run is one run of a step.
type Run struct {
	*Host
	Kit       Kit
	Manifest  *kit.Manifest
	Cards     []*card.Card
	State     *steps.State      // what the journal tells; every recorded line advances it
	Apps      []string          // which apps; all where empty
	Items     []string          // which of their items, by address (steps.Key.Is); all of those of an app of which none is named
	Overrides map[string]string // reason by gate
	Instead   string            // why this computer is the new one, and not the one that is bound; "" where it is not
	PartSize  int64             // largest sealed file, in bytes; 0 stands for the usual
	Now       func() time.Time
	Marks     string // folder that remembers how far kits were; "" stands for one in the user's cache
	stale     string // what another copy of the kit has and this one has not
}

// New begins a run. The journal is read once, here.
func New(k Kit, h *Host) *Run {
	m, cards := k.Facts()
	s := steps.Fold(*m, k.Lines())
	return &Run{Host: h, Kit: k, Manifest: m, Cards: s.Cards(cards), State: s, Now: time.Now}
}

// Self is this computer, told from the others. One that was made from the image of
// the old one has the id of the same system, and gets another.
func (r *Run) Self() kit.Computer {
	c := kit.ComputerOf(r.Computer)
	if c.ID == r.Manifest.Old.ID && !c.Is(r.Manifest.Old) {
		c.ID = machine.IDOf(c.ID + c.Firmware + c.Name)
	}
	return c
}

// Side tells which computer of the move this is. A safety copy is for any.
func (r *Run) Side() steps.Side {
	self := r.Self()
	switch {
	case self.Is(r.Manifest.Old):
		return steps.OldSide
	case r.bound() && !self.Is(r.State.New) && r.Instead == "":
		return steps.ThirdSide
	}
	return steps.NewSide
}

// bound reports whether a computer is bound as the new one.
func (r *Run) bound() bool { return r.State.New.ID != "" }

// bind makes this computer the new one, where a step is about to work on it.
func (r *Run) bind(step steps.Step, c *card.Card, o *Outcome) error {
	self := r.Self()
	if step != steps.Unpack && step != steps.Activate || r.Manifest.Keep || r.Side() != steps.NewSide || self.Is(r.State.New) {
		return nil
	}
	b := steps.Bound{Computer: self}
	if r.bound() {
		b.Instead = r.Instead
		o.Overrode = append(o.Overrode, steps.Overridden{Gate: "new-computer", Step: step, Why: "this is " + self.Name + ", and the new computer was " + r.State.New.Name, Because: b.Instead})
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

// Chosen returns the cards of the chosen apps.
func (r *Run) Chosen() ([]*card.Card, error) {
	if len(r.Apps) == 0 {
		return r.Cards, nil
	}
	var out []*card.Card
	for _, name := range r.Apps {
		c := r.Card(name)
		if c == nil {
			for _, c := range r.Cards {
				if c.Item(name) != nil {
					return nil, fault.New(fault.Usage, "%s is an item of the app %s: name it %s/%s", name, c.Name, c.Name, name)
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

// Picked reports whether an item is one of the chosen.
func (r *Run) Picked(k steps.Key) bool {
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

// Record writes a line about an item of an app into the journal.
func (r *Run) Record(event string, key steps.Key, data any) error {
	return r.record(journal.Line{Event: event, App: key.App, Item: key.Item, User: key.User}, data)
}

// RecordLicence writes a line about a licence of an app into the journal.
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

// Facts are those that the gates of every step look at.
func (r *Run) Facts(c *card.Card) steps.Facts {
	done := r.State.Progress(c, steps.Unpack)
	return steps.Facts{
		Side: r.Side(), Here: r.Computer.Name(), OldName: r.Manifest.Old.Name, NewName: r.State.New.Name, Bound: r.bound(), Keep: r.Manifest.Keep, Title: c.Title,
		Placed: done == steps.Yes || done == steps.Nothing, Proven: r.State.Proven(c), HandedOver: r.State.HandedTo != "",
		Packed: r.State.Packed[c.Name] != nil, Now: r.Now(), Written: r.State.Last, Behind: r.stale,
	}
}

// Check runs a step's gates. Those that an override was given for are
// journalled; the others are noted in the outcome. It reports whether the step
// may go on.
func (r *Run) Check(step steps.Step, c *card.Card, f steps.Facts, o *Outcome) (bool, error) {
	blocks, err := steps.Check(step, f)
	if err != nil {
		return false, err
	}
	for _, b := range blocks {
		because, given := r.Overrides[b.Gate]
		if !given || b.Firm {
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
		if err := r.Record(journal.EventOverridden, steps.Key{App: c.Name}, over); err != nil {
			return false, err
		}
	}
	return true, nil
}

// Overrode journals a gate that a person went past with a reason, once.
func (r *Run) Overrode(c *card.Card, o *Outcome, over steps.Overridden) error {
	for _, was := range r.State.Overrides {
		if was.App == c.Name && was.Overridden == over {
			return nil
		}
	}
	o.Overrode = append(o.Overrode, over)
	return r.Record(journal.EventOverridden, steps.Key{App: c.Name}, over)
}

// Each runs a step for every chosen app. An app that fails or is stopped does
// not keep the others from their turn.
func (r *Run) Each(ctx context.Context, do func(context.Context, *card.Card, *Outcome) error) ([]*Outcome, error) {
	cards, err := r.Chosen()
	if err != nil {
		return nil, err
	}
	defer r.Private.Drop()
	if r.stale = r.behind(); r.stale == "" || r.Overrides["newest-copy"] != "" {
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

// agreed records that a person agreed to run the commands of an app's card.
func (r *Run) agreed(c *card.Card) error {
	if !r.Commands || len(c.Commands()) == 0 || r.State.Agreed[c.Name] {
		return nil
	}
	return r.Record(journal.EventAgreed, steps.Key{App: c.Name}, c.Commands())
}

// For is the computer as it is looked at for one app: the card's commands may
// run where a person has agreed to that before. Only an unlocked kit's journal
// is believed.
func (r *Run) For(c *card.Card) *Host {
	h := *r.Host
	h.Commands = h.Commands || r.Kit.Unlocked() && r.State.Agreed[c.Name]
	return &h
}

// AgreeToCommands has a person see the commands of an app's card and agree to
// them, once for the kit.
func (r *Run) AgreeToCommands(c *card.Card) error {
	var list []string
	for _, args := range c.Commands() {
		list = append(list, strings.Join(args, " "))
	}
	if err := r.Technician.AgreeToRun("The card of " + c.Title + " has these commands run on " + r.Computer.Name() + ":\n  " + strings.Join(list, "\n  ") + "\nMay they run?"); err != nil {
		return err
	}
	return r.Record(journal.EventAgreed, steps.Key{App: c.Name}, c.Commands())
}
