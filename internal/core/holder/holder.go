// Package holder knows how licences are held: one file a method. All of them are
// asked and changed by the same code, package licence's; what no service changes
// answers like one, with what files, a maker's program or a person say.
package holder

import (
	"context"
	"strings"
	"time"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/item"
	"movekit/internal/core/journal"
	"movekit/internal/core/licence"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
)

// Holder is how one licence is held.
type Holder interface {
	// Service is who is asked for its state and for changes.
	Service() (licence.Service, error)
	// Named is what it is known by there: a serial, and a product.
	Named() (serial, product string)
	// Travels is the desk that can be asked by file or telephone; nil where there
	// is none.
	Travels() *card.Desk
	// By says who told its state.
	By(ctx context.Context) string
	// Copy says what is wrong with the app's own copy of it on this computer, where it is
	// active; "" where nothing is, or the app keeps none.
	Copy() string
	// Complete asks a person for what of its secrets is not on the computer. files
	// are those that hold it.
	Complete(ctx context.Context, s *licence.Secrets, files []string) error
	// Settle gives the app what it keeps of the licence, or takes that away, after
	// a change.
	Settle(action licence.Action, a *licence.Answer, out *run.LicenceOutcome) error

	// What follows is asked of those that no service changes.

	// See adds what this computer shows to what is remembered of it.
	See(ctx context.Context, a *licence.Answer) error
	// Change frees it on this computer, or takes it up.
	Change(ctx context.Context, action licence.Action, r licence.Request, a *licence.Answer) error
	// Steps are what a person does for a change.
	Steps(action licence.Action) *card.Change
	// LostSteps are what a person does to free it where the old computer cannot.
	LostSteps() *card.Change
	// Remains reports whether something of it is on the old computer to be set
	// aside, even where it cannot be freed there.
	Remains() bool
	// Shown is the one of its secrets that is no secret.
	Shown() string
}

// methods is the table of all methods.
var methods = map[card.Method]func(*Held) Holder{
	card.MethodDesk:    func(h *Held) Holder { return desk{person{h}} },
	card.MethodCommand: func(h *Held) Holder { return command{person{h}} },
	card.MethodGuided:  func(h *Held) Holder { return person{h} },
	card.MethodFile:    func(h *Held) Holder { return files{person{h}} },
	card.MethodKey:     func(h *Held) Holder { return key{person{h}} },
	card.MethodToken:   func(h *Held) Holder { return token{person{h}} },
	card.MethodAccount: func(h *Held) Holder { return account{person{h}} },
}

// Wishes are what a person wants beside the usual, each with the reason.
type Wishes struct {
	Takeover string // licences are taken up although they are active on the old computer; "" where they are not
	Second   string // a second seat is taken, and the one on the old computer stays active; "" where it is not
	Lost     string // licences cannot be freed on the old computer itself; "" where they can
}

// Room is where licences are held: a run, and what its licences need besides.
type Room struct {
	*run.Run
	Wishes
	Kinds   item.Table
	Choices item.Choices
	Asks    func(*card.Licence) licence.Service // in place of the cards' desks; nil stands for those
	Pause   time.Duration                       // before a service that is down is asked again; 0 stands for the usual
}

// Frees reports whether licences are freed by this run, rather than taken up: on
// the old computer, or in its name.
func (r *Room) Frees() bool { return r.Side() == steps.OldSide || r.Lost != "" }

// Held is one licence with what is needed to ask for it and to change it.
type Held struct {
	*Room
	App     *card.Card
	Card    *card.Licence
	Key     steps.Key
	Secrets licence.Secrets
	Request licence.Request // about this computer, or the one in whose name it is asked
	Holder  Holder
	service licence.Service
	aside   []string // files that were set aside by a change
}

// Open opens a licence's sealed facts and its service. version is the app's on
// this computer.
func (r *Room) Open(c *card.Card, l *card.Licence, version string) (*Held, error) {
	h := &Held{Room: r, App: c, Card: l, Key: steps.Key{App: c.Name, Item: l.Name}}
	h.Holder = methods[l.Method](h)
	st := h.state()
	if l.Method.Info().Sealed() && st.Sealed == nil {
		return nil, fault.New(fault.Missing, "the %s and %s of the licence %s of %s are not in the kit", l.Method.Info().Serial, l.Method.Info().Code, l.Name, c.Title)
	}
	if st.Sealed != nil {
		if err := r.OpenJSON(c.Name, st.Sealed.Parts, &h.Secrets); err != nil {
			return nil, err
		}
	}
	h.Request = licence.Request{Code: h.Secrets.Code, Computer: r.Self().ID, Version: version}
	if r.Lost != "" && r.Side() == steps.NewSide {
		h.Request.Computer = h.state().From.ID // in its name
	}
	h.Request.Serial, h.Request.Product = h.Holder.Named()
	var err error
	h.service, err = h.Holder.Service()
	return h, err
}

// state is what the journal knows of the licence.
func (h *Held) state() steps.Licence { return h.State.Licence(h.Key.App, h.Key.Item) }

// recorder writes the licence's questions and answers into the journal.
type recorder struct{ *Held }

func (r recorder) Asked(action licence.Action, key string) error {
	return r.RecordLicence(journal.EventAsked, r.Key, steps.Asked{Action: action, Key: key})
}

func (r recorder) Answered(a *licence.Answer) error {
	return r.RecordLicence(journal.EventAnswered, r.Key, a)
}

// change is the change of the licence that the request is about.
func (h *Held) change() licence.Change {
	return licence.Change{Service: h.service, Move: h.Manifest.ID, Round: h.state().Answers[h.Request.Computer], Record: recorder{h}, Request: h.Request, Pause: h.Pause}
}

// ask asks for the state on a computer.
func (h *Held) ask(ctx context.Context, computer string) (*licence.Answer, error) {
	c := h.change()
	c.Request.Computer, c.Request.Also = computer, []string{h.Self().ID}
	a, err := c.Look(ctx)
	if err != nil {
		h.Detail(h.Key, "asked for the state: "+err.Error())
		return nil, err
	}
	h.Detail(h.Key, "asked for the state: "+string(a.State))
	return a, nil
}

// Stand asks where the licence stands. Where nobody can be asked, it is as the
// journal remembers it, and the error says why.
func (h *Held) Stand(ctx context.Context) (steps.Standing, error) {
	see, err := h.see(ctx)
	return h.State.Stand(h.App, h.Card, see, h.Now()), err
}

func (h *Held) see(ctx context.Context) (*steps.Sight, error) {
	here := h.Self().ID
	old, err := h.ask(ctx, h.state().From.ID)
	if err != nil {
		return nil, err
	}
	see := &steps.Sight{Old: old, Here: here}
	if h.Holder.Travels() == nil && here != h.state().From.ID {
		// What this computer shows comes before what is remembered.
		if see.New, err = h.ask(ctx, here); err != nil {
			return nil, err
		}
	}
	if see.By = h.Holder.By(ctx); here != h.state().From.ID {
		see.Copy = h.Holder.Copy()
	}
	return see, nil
}

// Free frees the licence.
func (h *Held) Free(ctx context.Context) (*run.LicenceOutcome, error) {
	h.Begin(h.Key, "deactivating", 0)
	a, err := h.change().Do(ctx, licence.Deactivate)
	if err != nil {
		return nil, err
	}
	out := h.Outcome(a)
	out.Did, out.Good, out.Aside = did(a, "deactivated"), true, strings.Join(h.aside, ", ")
	if out.New == licence.Unknown && a.Seated() == 0 {
		out.New = licence.NotActivated // nowhere, as the answer says
	}
	if h.Side() == steps.NewSide {
		return out, nil // the app's own copy is lost with the old computer
	}
	return out, h.Holder.Settle(licence.Deactivate, a, out)
}

// TakeUp takes the licence up, or takes it over from a computer.
func (h *Held) TakeUp(ctx context.Context) (*run.LicenceOutcome, error) {
	a, err := h.change().Do(ctx, licence.Activate)
	if err != nil {
		return nil, err
	}
	out := h.Outcome(a)
	out.Did, out.Good, out.Disabled = did(a, "activated"), true, a.Disabled != ""
	return out, h.Holder.Settle(licence.Activate, a, out)
}

// did tells whether an answer is that of an action or of an earlier run.
func did(a *licence.Answer, word string) string {
	switch {
	case a.State == licence.NotActivated:
		return "was not active here"
	case a.Action == licence.Status:
		return "already " + word
	}
	return word
}

// Outcome is what a step did with the licence, after an answer.
func (h *Held) Outcome(a *licence.Answer) *run.LicenceOutcome {
	now := h.state()
	return &run.LicenceOutcome{
		Licence: h.Card.Name, Serial: masked(h.Secrets.Serial),
		Old: now.Old, New: now.New, Transfers: a.Transfers, Spent: now.Spent,
	}
}

// Seen is what verify saw of the licence.
func (h *Held) Seen(st steps.Standing) *run.LicenceOutcome {
	out := &run.LicenceOutcome{
		Licence: h.Card.Name, Serial: masked(h.Secrets.Serial), Old: st.Old, New: st.New,
		Transfers: st.Left, Spent: st.Spent, Did: "seen", By: st.By, Copy: st.Copy, Good: st.Good,
	}
	if st.OnTrial() {
		out.Trial = &st.Trial
	}
	return out
}

// masked shows the last of a serial, and nothing where there is none.
func masked(serial string) string {
	if serial == "" {
		return ""
	}
	return licence.Mask(serial)
}
