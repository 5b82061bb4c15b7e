// Package holder has the licence methods, one file each. Package licence queries and changes all
// licences. If there is no service for a licence, a local service answers from files, a vendor's
// program or the technician's answers.
package holder

import (
	"context"
	"slices"
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

// method says how one licence is held. A nil function means the default.
type method struct {
	// named returns the licence's serial and product name at its service. nil: the app and the
	// licence name in the card.
	named func() (serial, product string)
	// by returns who reported the state. nil: the technician who answered last.
	by func(ctx context.Context) string
	// copy returns the problem with the app's own copy of an active licence here, or "". nil: the
	// app has no copy.
	copy func() string
	// complete asks for secrets that are not on the computer. files are the licence's files. nil:
	// typeIn.
	complete func(ctx context.Context, s *licence.Secrets, files []string) error
	// keep updates the app's copy of the licence after a change. nil: the app has no copy.
	keep func(action licence.Action, a *licence.Answer, out *run.LicenceOutcome) error

	service func() (licence.Service, error) // nil: there is no service, and local answers
	desk    *card.Desk                      // the desk that can be asked by file or telephone; nil: none
	local
}

// local says how to read and change a licence on this computer without a service.
type local struct {
	// see updates the recorded state from evidence on this computer. nil: nothing.
	see func(ctx context.Context, a *licence.Answer) error
	// change deactivates or activates the licence here. nil: by manual steps.
	change func(ctx context.Context, action licence.Action, r licence.Request, a *licence.Answer) error
	// steps returns the manual steps of a change. nil: the steps in the card.
	steps func(action licence.Action) *card.Change
	// lostSteps returns the manual steps if the old computer cannot deactivate the licence. nil:
	// ask the vendor.
	lostSteps func() *card.Change
	// remains is true if part of the licence on the old computer must be set aside, even if it
	// cannot be deactivated there.
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

// Exceptions are exceptions that the user requested, each with the reason.
type Exceptions struct {
	Takeover string // activate licences that are active on the old computer; "" means no
	Second   string // activate a second seat and leave the old computer's seat active; "" means no
	Lost     string // the computer that has licences cannot deactivate them; "" means that it can
	Back     string // the move goes back to the old computer; "" means no
}

// Session opens licences in a run.
type Session struct {
	*run.Run
	Exceptions
	Kinds   item.Table
	Choices item.Choices
	Asks    func(*card.Licence) licence.Service // replaces the cards' licence desks; nil means the cards' own
	Pause   time.Duration                       // wait before asking an unreachable service again; 0 means the default
}

// Deactivates reports whether this run deactivates licences rather than activates them: on the old
// computer, or on its behalf. A move that goes back does the opposite.
func (r *Session) Deactivates() bool {
	return (r.Side() == steps.OldSide) != (r.Back != "") || r.Lost != ""
}

// Handle is an open licence.
type Handle struct {
	*Session
	Card    *card.Card
	Licence *card.Licence
	Key     steps.Key
	Secrets licence.Secrets
	Request licence.Request // about this computer, or the one on whose behalf it asks
	method  method
	service licence.Service
	aside   []string       // files that a change set aside
	doing   licence.Action // the change that this run makes; "" if it only asks for the state
}

// Open opens a licence's secrets and its service. version is the app's version on this computer.
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
	switch {
	case r.Lost != "" && r.Back != "":
		h.Request.Computer = r.State.New.ID
	case r.Lost != "":
		h.Request.Computer = h.state().From.ID // on its behalf
	}
	h.Request.Serial, h.Request.Product = h.Key.App+"/"+h.Key.Item, h.Card.Title
	if h.method.named != nil {
		h.Request.Serial, h.Request.Product = h.method.named()
	}
	var err error
	h.service, err = h.Service()
	return h, err
}

// Service returns the service that reports and changes the licence's state.
func (h *Handle) Service() (licence.Service, error) {
	if h.method.service != nil {
		return h.method.service()
	}
	return localService{h}, nil
}

// Desk returns the licence desk that can be asked by file or telephone, or nil.
func (h *Handle) Desk() *card.Desk { return h.method.desk }

// keep updates the app's copy of the licence after a change.
func (h *Handle) keep(action licence.Action, a *licence.Answer, out *run.LicenceOutcome) error {
	if h.method.keep == nil {
		return nil
	}
	return h.method.keep(action, a, out)
}

// state returns the recorded state of the licence.
func (h *Handle) state() steps.Licence { return h.State.Licence(h.Key.App, h.Key.Item) }

// recorder writes requests and answers to the journal.
type recorder struct{ *Handle }

func (r recorder) Asked(action licence.Action, key string) error {
	return r.RecordLicence(journal.EventAsked, r.Key, steps.Asked{Action: action, Key: key, Computer: r.Request.Computer})
}

func (r recorder) Answered(a *licence.Answer) error {
	return r.RecordLicence(journal.EventAnswered, r.Key, a)
}

// change returns the change of the licence that the request describes.
func (h *Handle) change() licence.Change {
	return licence.Change{Service: h.service, Move: h.Manifest.ID, Round: h.state().Answers[h.Request.Computer], Record: recorder{h}, Request: h.Request, Pause: h.Pause}
}

// ask asks for the state on a computer.
func (h *Handle) ask(ctx context.Context, computer string) (*licence.Answer, error) {
	c := h.change()
	c.Request.Computer, c.Request.Also = computer, []string{h.Self().ID}
	for _, id := range []string{h.Manifest.Old.ID, h.state().From.ID, h.State.New.ID} {
		if id != "" && id != computer && !slices.Contains(c.Request.Also, id) {
			c.Request.Also = append(c.Request.Also, id)
		}
	}
	a, err := c.Look(ctx)
	if err != nil {
		h.Detail(h.Key, "asked for the state: "+err.Error())
		return nil, err
	}
	h.Detail(h.Key, "asked for the state: "+string(a.State))
	return a, nil
}

// Standing asks for the state of the licence. If no source answers, it returns the recorded state,
// and the error says why.
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
	see := &steps.Observation{Old: old, Here: here, OnOld: h.Side() == steps.OldSide}
	if h.state().From.ID != h.Manifest.Old.ID {
		own, err := h.ask(ctx, h.Manifest.Old.ID)
		if err != nil {
			return nil, err
		}
		see.Own = own.State
	}
	if h.Desk() == nil && !see.OnOld && here != h.state().From.ID {
		// What this computer shows takes precedence over the record.
		if see.New, err = h.ask(ctx, here); err != nil {
			return nil, err
		}
	}
	see.By = h.by(ctx)
	if !see.OnOld && here != h.state().From.ID && h.method.copy != nil {
		see.Copy = h.method.copy()
	}
	return see, nil
}

// Deactivate deactivates the licence.
func (h *Handle) Deactivate(ctx context.Context) (*run.LicenceOutcome, error) {
	h.Begin(h.Key, "deactivating", 0)
	h.doing = licence.Deactivate
	a, err := h.change().Do(ctx, licence.Deactivate)
	if err != nil {
		return nil, err
	}
	out := h.Outcome(a)
	out.Did, out.Good, out.Aside = did(a, "deactivated"), true, strings.Join(h.aside, ", ")
	if out.New == licence.Unknown && a.Seated() == 0 {
		out.New = licence.NotActivated // on no computer, according to the answer
	}
	if h.Request.Computer != h.Self().ID {
		return out, nil // the app's copy is lost with that computer
	}
	return out, h.keep(licence.Deactivate, a, out)
}

// Activate activates the licence, or takes it over from another computer.
func (h *Handle) Activate(ctx context.Context) (*run.LicenceOutcome, error) {
	h.doing = licence.Activate
	a, err := h.change().Do(ctx, licence.Activate)
	if err != nil {
		return nil, err
	}
	out := h.Outcome(a)
	out.Did, out.Good, out.Disabled = did(a, "activated"), true, a.Disabled != ""
	if a.Disabled != "" {
		out.DisabledOn = h.lostName()
	}
	return out, h.keep(licence.Activate, a, out)
}

// did describes whether an action was carried out now or in an earlier run.
func did(a *licence.Answer, word string) string {
	switch {
	case a.State == licence.NotActivated:
		return "was not active here"
	case a.Action == licence.Status:
		return "already " + word
	}
	return word
}

// Outcome returns the result of a step from an answer.
func (h *Handle) Outcome(a *licence.Answer) *run.LicenceOutcome {
	now := h.state()
	return &run.LicenceOutcome{
		Licence: h.Licence.Name, Serial: masked(h.Secrets.Serial),
		Old: now.Old, New: now.New, Transfers: a.Transfers, Used: now.Used,
	}
}

// Seen returns the result of verify for the licence.
func (h *Handle) Seen(st steps.Standing) *run.LicenceOutcome {
	out := &run.LicenceOutcome{
		Licence: h.Licence.Name, Serial: masked(h.Secrets.Serial), Old: st.Old, New: st.New,
		Transfers: st.Left, Used: st.Used, Did: "seen", By: st.By, Copy: st.CopyProblem, Good: st.Good,
	}
	if st.OnTrial() {
		out.Trial = &st.Trial
	}
	if st.Own.Held() && !st.Stays {
		out.AlsoOn = h.Manifest.Old.Name
	}
	return out
}

// masked returns the last characters of a serial, or "".
func masked(serial string) string {
	if serial == "" {
		return ""
	}
	return licence.Mask(serial)
}
