package move

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/journal"
	"movekit/internal/core/licence"
	"movekit/internal/core/machine"
	"movekit/internal/core/steps"
	"movekit/internal/core/tree"
)

// recorder writes a licence's questions and answers into the journal.
type recorder struct {
	j    *Job
	line journal.Line
}

func (r recorder) Asked(action licence.Action, key string) error {
	l := r.line
	l.Event = steps.EventAsked
	return r.j.Kit.Record(l, steps.Asked{Action: action, Key: key})
}

func (r recorder) Answered(a *licence.Answer) error {
	l := r.line
	l.Event = steps.EventAnswered
	return r.j.Kit.Record(l, a)
}

// held is a licence with what is needed to ask for it.
type held struct {
	card    card.Licence
	key     steps.Key
	state   *steps.Licence
	service licence.Service
	by      func(context.Context) string // how its state is seen; nil for a desk's
	secrets licence.Secrets
	aside   []string // files that were set aside by a change
	change  licence.Change
}

// hold opens a licence's sealed facts and its service.
func (j *Job) hold(c *card.Card, l card.Licence, version string) (*held, error) {
	h := &held{card: l, key: steps.Key{App: c.Name, Item: l.Name}}
	h.state = j.State().Licences[h.key]
	if h.state == nil && !l.Method.Sealed() {
		h.state = &steps.Licence{App: c.Name, Name: l.Name, Old: licence.Unknown, New: licence.Unknown, Left: -1}
	}
	if h.state == nil || l.Method.Sealed() && h.state.Sealed == nil {
		return nil, fault.New(fault.Missing, "the serial and code of the licence %s of %s are not in the kit", l.Name, c.Title)
	}
	if h.state.Sealed != nil {
		if err := j.openJSON(c.Name, h.state.Sealed.Parts, &h.secrets); err != nil {
			return nil, err
		}
	}
	here := machine.ID(j.Computer)
	r := licence.Request{Serial: h.secrets.Serial, Code: h.secrets.Code, Product: l.Product, Computer: here, Version: version}
	var err error
	if l.Method == card.MethodDesk {
		h.service, err = j.service(l)
	} else {
		b := byHand{j, c, l, h.key, h.secrets, &h.aside}
		h.service, h.by = b, b.seenBy
		r.Serial, r.Product = c.Name+"/"+l.Name, c.Title // names it where nobody else does
	}
	if err != nil {
		return nil, err
	}
	h.change = licence.Change{Service: h.service, Move: j.Kit.Manifest.ID, Round: h.state.Answers[here], Record: j.recorderOf(c, l), Request: r}
	return h, nil
}

func (j *Job) service(l card.Licence) (licence.Service, error) {
	if j.Service != nil {
		return j.Service(l)
	}
	key, err := l.Desk.PublicKey()
	if err != nil {
		return nil, fault.Wrap(fault.BadCard, err, "the licence %s has no key", l.Name)
	}
	return &licence.Desk{URL: l.Desk.URL, Key: key, Pin: l.Desk.Pin}, nil
}

// Deactivate frees the licences of the chosen apps on this, the old, computer.
func (j *Job) Deactivate(ctx context.Context) ([]*Outcome, error) {
	return j.each(ctx, func(ctx context.Context, c *card.Card, o *Outcome) error {
		if free, err := j.mayFree(ctx, c, o); err != nil || !free {
			return err
		}
		version, err := j.version(ctx, c)
		if err != nil {
			return err
		}
		for _, l := range c.Licences {
			lo, err := j.deactivate(ctx, c, l, version.Value)
			if err != nil {
				return fault.Wrap(fault.DeskDown, err, "the licence %s of %s is not deactivated", l.Name, c.Title)
			}
			o.Licences = append(o.Licences, *lo)
		}
		return nil
	})
}

// mayFree runs the gates of Deactivate: everything of the app is sealed and
// reads back whole.
func (j *Job) mayFree(ctx context.Context, c *card.Card, o *Outcome) (bool, error) {
	f := j.facts(c)
	j.notify(Event{App: c.Name, What: "reading back what is sealed"})
	for _, it := range j.State().AppItems(c.Name) {
		f.Unsealed = append(f.Unsealed, j.unwhole(ctx, it.Sealed, c.Name)...)
	}
	for _, l := range c.Licences {
		if lic := j.State().Licences[steps.Key{App: c.Name, Item: l.Name}]; lic != nil && lic.Sealed != nil {
			f.Unsealed = append(f.Unsealed, j.unwhole(ctx, *lic.Sealed, c.Name)...)
		}
	}
	err := j.check(steps.Deactivate, c, f, o)
	return err == nil && len(o.Blocks) == 0, err
}

func (j *Job) deactivate(ctx context.Context, c *card.Card, l card.Licence, version string) (*LicenceOutcome, error) {
	h, err := j.hold(c, l, version)
	if err != nil {
		return nil, err
	}
	j.notify(Event{App: c.Name, Item: l.Name, What: "deactivating"})
	a, err := h.change.Do(ctx, licence.Deactivate)
	if err != nil {
		return nil, err
	}
	out := h.outcome(j, a)
	out.Did, out.Good, out.Aside = did(a, "deactivated"), true, strings.Join(h.aside, ", ")
	aside, err := j.dropToken(l)
	if aside != "" {
		out.Aside = aside
	}
	return out, err
}

// dropToken sets the app's own copy of the activation aside, which no longer
// holds.
func (j *Job) dropToken(l card.Licence) (aside string, err error) {
	path, err := j.token(l)
	if there, _ := machine.Exists(path); err != nil || path == "" || !there {
		return "", err
	}
	aside = tree.AsideName(path, j.now())
	if err := os.Rename(path, aside); err != nil {
		return "", fault.Wrap(fault.CannotPlace, err, "the licence is deactivated, but %s cannot be set aside", path)
	}
	return aside, nil
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

func (h *held) outcome(j *Job, a *licence.Answer) *LicenceOutcome {
	now := j.State().Licences[h.key]
	return &LicenceOutcome{
		Licence: h.card.Name, Serial: masked(h.secrets.Serial),
		Old: now.Old, New: now.New, Transfers: a.Transfers, Spent: now.Spent,
	}
}

// masked shows the last of a serial, and nothing where there is none.
func masked(serial string) string {
	if serial == "" {
		return ""
	}
	return licence.Mask(serial)
}

// token is where the app keeps its activation on this computer, or "".
func (j *Job) token(l card.Licence) (string, error) {
	p := l.Token.On(string(j.Computer.System()))
	if p == "" {
		return "", nil
	}
	return j.Computer.Locate(p, nil)
}

// Activate takes up the licences of the chosen apps on this, the new,
// computer.
func (j *Job) Activate(ctx context.Context) ([]*Outcome, error) {
	return j.each(ctx, func(ctx context.Context, c *card.Card, o *Outcome) error {
		version, err := j.version(ctx, c)
		if err != nil {
			return err
		}
		if len(c.Licences) == 0 {
			return j.check(steps.Activate, c, j.withoutLicence(c), o)
		}
		for _, l := range c.Licences {
			lo, err := j.activate(ctx, c, l, version.Value, o)
			if err != nil {
				return fault.Wrap(fault.DeskDown, err, "the licence %s of %s is not activated", l.Name, c.Title)
			}
			if lo != nil {
				o.Licences = append(o.Licences, *lo)
			}
		}
		return nil
	})
}

// withoutLicence are the facts of an app that has nothing to activate.
func (j *Job) withoutLicence(c *card.Card) steps.Facts {
	f := j.facts(c)
	f.OldState = licence.NotActivated
	return f
}

func (j *Job) activate(ctx context.Context, c *card.Card, l card.Licence, version string, o *Outcome) (*LicenceOutcome, error) {
	f := j.facts(c)
	if !f.Packed || f.Side == steps.OldSide {
		// Nothing need be asked to know that this stops.
		f.OldState = licence.NotActivated
		return nil, j.check(steps.Activate, c, f, o)
	}
	h, err := j.hold(c, l, version)
	if err != nil {
		return nil, err
	}
	j.notify(Event{App: c.Name, Item: l.Name, What: "activating"})
	// The service knows best; what the kit remembers may be old.
	old, err := h.status(ctx, j.Kit.Manifest.Old.ID)
	if err != nil {
		return nil, err
	}
	here := machine.ID(j.Computer)
	f.OldState, f.NewState, f.Transfers, f.Covers, f.NewVersion = old.State, licence.NotActivated, old.Transfers, old.Covers, version
	if slices.Contains(old.Active, here) {
		f.NewState = licence.Active
	}
	if f.Now = j.now(); l.Wait != "" && h.state.Old == licence.Deactivated {
		wait, _ := time.ParseDuration(l.Wait) // the card was checked
		f.Again = h.state.OldAt.Add(wait)
	}
	if err := j.check(steps.Activate, c, f, o); err != nil || len(o.Blocks) > 0 {
		return nil, err
	}
	a, err := h.change.Do(ctx, licence.Activate)
	if err != nil {
		return nil, err
	}
	out := h.outcome(j, a)
	out.Did, out.Good = did(a, "activated"), true
	return out, j.writeToken(l, a, out)
}

// status asks for the state on a computer.
func (h *held) status(ctx context.Context, computer string) (*licence.Answer, error) {
	c := h.change
	c.Request.Computer = computer
	return c.Look(ctx)
}

// writeToken gives the app the service's signed answer.
func (j *Job) writeToken(l card.Licence, a *licence.Answer, out *LicenceOutcome) error {
	path, err := j.token(l)
	if err != nil || path == "" || a.Signed == "" {
		return err
	}
	was, err := os.ReadFile(path)
	if err == nil && stillHolds(l, a, string(was)) {
		out.Token = path
		return nil
	}
	if err == nil {
		out.Aside = tree.AsideName(path, j.now())
		if err := os.Rename(path, out.Aside); err != nil {
			return fault.Wrap(fault.CannotPlace, err, "the licence is active, but %s cannot be set aside", path)
		}
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return fault.Wrap(fault.CannotPlace, err, "the licence is active, but its file cannot be written")
	}
	if err := journal.WriteFile(path, []byte(a.Signed+"\n"), 0o644); err != nil {
		return fault.Wrap(fault.CannotPlace, err, "the licence is active, but its file cannot be written")
	}
	out.Token = path
	return nil
}

// stillHolds reports whether the app's activation on this computer is signed
// by the desk and says what the new answer says.
func stillHolds(l card.Licence, a *licence.Answer, signed string) bool {
	key, err := l.Desk.PublicKey()
	if err != nil {
		return false
	}
	was, err := licence.Verify(strings.TrimSpace(signed), key)
	return err == nil && was.Licence == a.Licence && was.Computer == a.Computer && was.State == licence.Active
}
