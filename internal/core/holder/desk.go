package holder

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"time"

	"movekit/internal/core/fault"
	"movekit/internal/core/journal"
	"movekit/internal/core/licence"
	"movekit/internal/core/machine"
	"movekit/internal/core/run"
	"movekit/internal/core/spare"
	"movekit/internal/core/steps"
)

// newDesk returns the method for a seat at a licence desk, which has the state of both computers.
func newDesk(h *Handle) method {
	d := desk{h}
	return method{
		named: func() (serial, product string) { return h.Secrets.Serial, h.Licence.Product },
		by:    func(context.Context) string { return "the licence desk" },
		copy:  d.copy, keep: d.keep, service: d.service, desk: h.Licence.Desk,
	}
}

type desk struct{ *Handle }

func (d desk) service() (licence.Service, error) {
	if d.Asks != nil {
		return d.Asks(d.Licence), nil
	}
	return &licence.Desk{URL: d.Licence.Desk.URL, Key: d.Licence.Desk.Key.PublicKey, Pin: d.Licence.Desk.Pin}, nil
}

// keep writes the desk's signed answer for the app, or sets it aside.
func (d desk) keep(action licence.Action, a *licence.Answer, out *run.LicenceOutcome) error {
	path, err := d.token()
	if path == "" || err != nil {
		return err
	}
	if action == licence.Deactivate {
		return d.drop(path, out)
	}
	return d.write(path, a, out)
}

// token returns where the app keeps the desk's signed answer on this computer, or "". In a profile
// it is the path for the user who has the licence.
func (d desk) token() (string, error) {
	p := d.Licence.Token.On(string(d.Computer.System()))
	if p == "" {
		return "", nil
	}
	user := d.Secrets.User
	if d.Side() != steps.OldSide {
		user = d.Choices.UserHere(user)
	}
	return d.Computer.Locate(p, machine.FindUser(d.Computer, user))
}

// drop sets the app's copy of an activation aside, because it is no longer valid.
func (d desk) drop(path string, out *run.LicenceOutcome) error {
	if there, err := machine.Exists(path); err != nil || !there {
		return nil //nolint:nilerr // a file that cannot be read does not exist for the app
	}
	aside, err := setAside(path, d.Now())
	if err != nil {
		return fault.Wrap(fault.CannotPlace, err, "the licence is deactivated, but %s could not be set aside", path)
	}
	out.Aside = aside
	return nil
}

// setAside renames a file to an unused name, and returns that name.
func setAside(path string, at time.Time) (string, error) {
	aside, err := spare.Aside(path, at)
	if err != nil {
		return "", err
	}
	return aside, os.Rename(path, aside)
}

// write writes the desk's signed answer for the app.
func (d desk) write(path string, a *licence.Answer, out *run.LicenceOutcome) error {
	if a.Signed == "" {
		return nil
	}
	wrong := d.wrong(path)
	if wrong == "" {
		out.Token = path
		return nil
	}
	if there, err := machine.Exists(path); err == nil && there {
		if out.Aside, err = setAside(path, d.Now()); err != nil {
			return fault.Wrap(fault.CannotPlace, err, "the licence is active, but %s could not be set aside", path)
		}
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return fault.Wrap(fault.CannotPlace, err, "the licence is active, but its file could not be written")
	}
	if err := journal.WriteFile(path, []byte(a.Signed+"\n"), 0o644); err != nil {
		return fault.Wrap(fault.CannotPlace, err, "the licence is active, but its file could not be written")
	}
	out.Token = path
	return nil
}

// copy returns the problem with the signed answer that the app keeps here, or "".
func (d desk) copy() string {
	path, err := d.token()
	switch {
	case err != nil:
		return err.Error()
	case path == "":
		return ""
	}
	if wrong := d.wrong(path); wrong != "" {
		return "the app's own activation, " + machine.DisplayPath(d.Computer, path) + ", " + wrong
	}
	return ""
}

// wrong returns why a file is not a valid activation for this computer, signed by the desk, or "".
func (d desk) wrong(path string) string {
	signed, err := os.ReadFile(path)
	if err != nil {
		return "is missing or unreadable"
	}
	a, err := licence.Verify(strings.TrimSpace(string(signed)), d.Licence.Desk.Key.PublicKey)
	switch {
	case err != nil || a.Licence != licence.LicenceID(d.Secrets.Serial):
		return "is not signed by the desk for this licence"
	case a.Computer != d.Self().ID || a.State != licence.Active:
		return "is not for " + d.Computer.Name()
	case a.Until != 0 && !d.Now().Before(licence.When(a.Until)):
		return "expired on " + licence.When(a.Until).Local().Format(day)
	}
	return ""
}

// fileService answers for a desk that cannot be reached: from the journal, and by writing requests
// to a file.
type fileService struct {
	*Handle
	file *licence.RequestFile
}

// AskByFile replaces the licence's service with a file of requests. Writing a request returns
// ErrWritten.
func (h *Handle) AskByFile(file *licence.RequestFile) { h.service = fileService{h, file} }

// ErrWritten means that a request was written.
var ErrWritten = fault.New(fault.ManualStep, "the request is written and waits for its answer")

// Ask returns the recorded state, or writes a request.
func (p fileService) Ask(_ context.Context, action licence.Action, r licence.Request, once string) (*licence.Answer, error) {
	if action == licence.Status {
		a := p.remembered(r.Computer)
		a.Takeover = true // the desk decides whether it can be taken over
		a.Action, a.Nonce, a.Licence, a.Product, a.Issued = action, r.Nonce, r.ID(), r.Product, p.Now().Unix()
		return a, nil
	}
	if err := p.RecordLicence(journal.EventRequested, p.Key, steps.Requested{Action: action, Computer: r.Computer, Nonce: r.Nonce, Version: r.Version, By: p.Self().ID}); err != nil {
		return nil, err
	}
	spoken, _ := r.ForPhone(action) // if it cannot be asked by telephone, it can be asked by file
	d := p.Licence.Desk
	p.file.Requests = append(p.file.Requests, licence.FileRequest{
		Spoken: spoken,
		App:    p.Card.Title, Licence: p.Licence.Name, Action: action, Desk: d.URL, Key: d.Key.String(), Pin: d.Pin, Once: once, Request: r.Sealed(action, once),
	})
	return nil, ErrWritten
}

// Waiting returns the request that waits for an answer, or nil.
func (h *Handle) Waiting() (*steps.Requested, licence.Request) {
	want, r := h.state().Requested, h.Request
	if want != nil {
		r.Nonce, r.Computer, r.Version = want.Nonce, want.Computer, want.Version
	}
	return want, r
}

// Accept records the answer to the waiting request, and updates the app's copy of its activation.
func (h *Handle) Accept(a *licence.Answer) (*run.LicenceOutcome, error) {
	want := *h.state().Requested
	if want.By != h.Self().ID {
		return nil, fault.New(fault.Elsewhere, "the request was made on %s: accept the answer there. The answer was not used", want.On)
	}
	if seen := h.state().Seen; seen != nil && a.Issued != 0 && seen.Issued > a.Issued && want.Computer == h.Self().ID {
		now := seen.New
		if h.Side() == steps.OldSide {
			now = seen.Old
		}
		if now != a.State {
			return nil, fault.New(fault.DeskRefused, "the answer is from %s, and the licence desk said at %s that the licence is %s here: it has changed since", steps.Moment(licence.When(a.Issued)), steps.Moment(licence.When(seen.Issued)), now)
		}
	}
	if err := (recorder{h}).Answered(a); err != nil {
		return nil, err
	}
	if err := a.Reached(want.Action); err != nil {
		return nil, err
	}
	out := h.Outcome(a)
	if a.Disabled != "" {
		out.DisabledOn = h.state().From.Name
	}
	out.Did, out.Good, out.Disabled = string(want.Action)+"d", true, a.Disabled != ""
	if want.Computer != h.Self().ID {
		return out, nil
	}
	return out, h.keep(want.Action, a, out)
}
