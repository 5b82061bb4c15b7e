// Package holder has the methods by which licences are held, a file each. All are queried and changed by the code of
// package licence: what no service changes answers like a service, with what files, a vendor's program or a person
// report.
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

// method is how one licence is held. A nil function means the usual.
type method struct {
	// named returns what the licence is known by at its service. nil: by the app and the licence of the card.
	named func() (serial, product string)
	// by returns who reported the state. nil: the person who answered last.
	by func(ctx context.Context) string
	// copy returns what is wrong with the app's own copy of the licence here, if it is active. nil: the app keeps none.
	copy func() string
	// complete asks for secrets that are not on the computer; files are those that hold the licence. nil: typeIn.
	complete func(ctx context.Context, s *licence.Secrets, files []string) error
	// keep gives the app its copy of the licence after a change, or takes it away. nil: the app keeps none.
	keep func(action licence.Action, a *licence.Answer, out *run.LicenceOutcome) error

	service func() (licence.Service, error) // nil: no service changes the licence, and local answers
	desk    *card.Desk                      // that can be asked by file or telephone; nil: none
	local
}

// local is how a licence that no service changes is seen and changed on this computer.
type local struct {
	// see adds what this computer shows to what is remembered. nil: nothing.
	see func(ctx context.Context, a *licence.Answer) error
	// change deactivates the licence here, or activates it. nil: a person takes the steps.
	change func(ctx context.Context, action licence.Action, r licence.Request, a *licence.Answer) error
	// steps returns what a person does for a change. nil: the steps of the card.
	steps func(action licence.Action) *card.Change
	// lostSteps returns what a person does if the old computer cannot deactivate it. nil: the vendor is asked to.
	lostSteps func() *card.Change
	// remains: something of the licence is on the old computer to be set aside, even if it cannot be deactivated there.
	remains bool
}

// methods is the table of all methods.
var methods = map[card.Method]func(*Handle) method{
	card.MethodDesk:    newDesk,
	card.MethodCommand: newCommand,
	card.MethodGuided:  func(*Handle) method { return method{} },
	card.MethodFile:    newFiles,
	card.MethodKey:     newKey,
	card.MethodToken:   newToken,
	card.MethodAccount: newAccount,
}

// Wishes are what a person wants beside the usual, each with the reason.
type Exceptions struct {
	Takeover string // licences are activated although they are active on the old computer; "" where they are not
	Second   string // a second seat is taken, and the one on the old computer stays active; "" where it is not
	Lost     string // licences cannot be deactivated on the old computer itself; "" where they can
}

// Room is where licences are held: a run, and what its licences need besides.
type Session struct {
	*run.Run
	Exceptions
	Kinds   item.Table
	Choices item.Choices
	Asks    func(*card.Licence) licence.Service // in place of the cards' desks; nil stands for those
	Pause   time.Duration                       // before a service that is down is asked again; 0 stands for the usual
}

// Frees reports whether licences are deactivated by this run, rather than activated: on
// the old computer, or in its name.
func (r *Session) Deactivates() bool { return r.Side() == steps.OldSide || r.Lost != "" }

// Held is one licence with what is needed to ask for it and to change it.
type Handle struct {
	*Session
	Card    *card.Card
	Licence *card.Licence
	Key     steps.Key
	Secrets licence.Secrets
	Request licence.Request // about this computer, or the one in whose name it is asked
	method  method
	service licence.Service
	aside   []string // files that were set aside by a change
}

// Open opens a licence's sealed facts and its service. version is the app's on
// this computer.
func (r *Session) Open(c *card.Card, l *card.Licence, version string) (*Handle, error) {
	h := &Handle{Session: r, Card: c, Licence: l, Key: steps.Key{App: c.Name, Item: l.Name}}
	h.method = methods[l.Method](h)
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
	h.Request.Serial, h.Request.Product = h.Key.App+"/"+h.Key.Item, h.Card.Title
	if h.method.named != nil {
		h.Request.Serial, h.Request.Product = h.method.named()
	}
	var err error
	h.service, err = h.Service()
	return h, err
}

// Service returns who is asked for the licence's state and for changes.
func (h *Handle) Service() (licence.Service, error) {
	if h.method.service != nil {
		return h.method.service()
	}
	return here{h}, nil
}

// Desk returns the licence desk that can be asked by file or telephone, or nil.
func (h *Handle) Desk() *card.Desk { return h.method.desk }

// keep gives the app its copy of the licence after a change, or takes it away.
func (h *Handle) keep(action licence.Action, a *licence.Answer, out *run.LicenceOutcome) error {
	if h.method.keep == nil {
		return nil
	}
	return h.method.keep(action, a, out)
}

// state is what the journal knows of the licence.
func (h *Handle) state() steps.Licence { return h.State.Licence(h.Key.App, h.Key.Item) }

// recorder writes the licence's questions and answers into the journal.
type recorder struct{ *Handle }

func (r recorder) Asked(action licence.Action, key string) error {
	return r.RecordLicence(journal.EventAsked, r.Key, steps.Asked{Action: action, Key: key})
}

func (r recorder) Answered(a *licence.Answer) error {
	return r.RecordLicence(journal.EventAnswered, r.Key, a)
}

// change is the change of the licence that the request is about.
func (h *Handle) change() licence.Change {
	return licence.Change{Service: h.service, Move: h.Manifest.ID, Round: h.state().Answers[h.Request.Computer], Record: recorder{h}, Request: h.Request, Pause: h.Pause}
}

// ask asks for the state on a computer.
func (h *Handle) ask(ctx context.Context, computer string) (*licence.Answer, error) {
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
func (h *Handle) Standing(ctx context.Context) (steps.Standing, error) {
	see, err := h.see(ctx)
	return h.State.Standing(h.Card, h.Licence, see, h.Now()), err
}

func (h *Handle) see(ctx context.Context) (*steps.Observation, error) {
	here := h.Self().ID
	old, err := h.ask(ctx, h.state().From.ID)
	if err != nil {
		return nil, err
	}
	see := &steps.Observation{Old: old, Here: here}
	if h.Desk() == nil && here != h.state().From.ID {
		// What this computer shows comes before what is remembered.
		if see.New, err = h.ask(ctx, here); err != nil {
			return nil, err
		}
	}
	see.By = h.by(ctx)
	if here != h.state().From.ID && h.method.copy != nil {
		see.Copy = h.method.copy()
	}
	return see, nil
}

// Free frees the licence.
func (h *Handle) Free(ctx context.Context) (*run.LicenceOutcome, error) {
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
	return out, h.keep(licence.Deactivate, a, out)
}

// TakeUp takes the licence up, or takes it over from a computer.
func (h *Handle) TakeUp(ctx context.Context) (*run.LicenceOutcome, error) {
	a, err := h.change().Do(ctx, licence.Activate)
	if err != nil {
		return nil, err
	}
	out := h.Outcome(a)
	out.Did, out.Good, out.Disabled = did(a, "activated"), true, a.Disabled != ""
	return out, h.keep(licence.Activate, a, out)
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
func (h *Handle) Outcome(a *licence.Answer) *run.LicenceOutcome {
	now := h.state()
	return &run.LicenceOutcome{
		Licence: h.Licence.Name, Serial: masked(h.Secrets.Serial),
		Old: now.Old, New: now.New, Transfers: a.Transfers, Spent: now.Spent,
	}
}

// Seen is what verify saw of the licence.
func (h *Handle) Seen(st steps.Standing) *run.LicenceOutcome {
	out := &run.LicenceOutcome{
		Licence: h.Licence.Name, Serial: masked(h.Secrets.Serial), Old: st.Old, New: st.New,
		Transfers: st.Left, Spent: st.Spent, Did: "seen", By: st.By, Copy: st.CopyProblem, Good: st.Good,
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
