package move

import (
	"context"
	"fmt"
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
	"movekit/internal/core/survey"
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
	if j.OldLost != "" && j.Side() == steps.NewSide {
		r.Computer = j.Kit.Manifest.Old.ID // in its name
	}
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
	h.change = licence.Change{Service: h.service, Move: j.Kit.Manifest.ID, Round: h.state.Answers[r.Computer], Record: j.recorderOf(c, l), Request: r}
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
	f.Unsealed = j.unsealed(ctx, c)
	f.OldLost = j.OldLost != ""
	for _, l := range c.Licences {
		if by := backBy(l, j.now()); f.BackBy.IsZero() || !by.IsZero() && by.Before(f.BackBy) {
			f.BackBy = by
		}
	}
	err := j.check(steps.Deactivate, c, f, o)
	if err != nil || len(o.Blocks) > 0 {
		return false, err
	}
	if f.OldLost && len(c.Licences) > 0 {
		return true, j.overrode(c, o, steps.Overridden{Gate: "old-computer", Step: steps.Deactivate, Why: "freed from " + f.Here + " in the name of " + f.OldName, Because: j.OldLost})
	}
	return true, nil
}

// unsealed are the app's sealed files that do not read back whole.
func (j *Job) unsealed(ctx context.Context, c *card.Card) (out []string) {
	j.notify(Event{App: c.Name, What: "reading back what is sealed"})
	for _, it := range j.State().AppItems(c.Name) {
		out = append(out, j.unwhole(ctx, it.Sealed, c.Name)...)
	}
	for _, l := range c.Licences {
		if lic := j.State().Licences[steps.Key{App: c.Name, Item: l.Name}]; lic != nil && lic.Sealed != nil {
			out = append(out, j.unwhole(ctx, *lic.Sealed, c.Name)...)
		}
	}
	return out
}

// backBy is by when a licence that was freed at a time must be taken up again,
// or the zero time.
func backBy(l card.Licence, freed time.Time) time.Time {
	if after, err := time.ParseDuration(l.BackBy); err == nil {
		return freed.Add(after)
	}
	return lastOf(l.BackBy)
}

// lastOf is the end of a day, here; or the zero time where none is given.
func lastOf(day string) time.Time {
	t, err := time.ParseInLocation(time.DateOnly, day, time.Local)
	if err != nil {
		return time.Time{}
	}
	return t.AddDate(0, 0, 1)
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
	if out.New == licence.Unknown && len(a.Active) == 0 {
		out.New = licence.NotActivated // nowhere, as the answer says
	}
	if j.Side() == steps.NewSide {
		return out, nil // the app's own copy is lost with the old computer
	}
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
			lo, err := j.activate(ctx, c, l, version, o)
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

func (j *Job) activate(ctx context.Context, c *card.Card, l card.Licence, version survey.Version, o *Outcome) (*LicenceOutcome, error) {
	f := j.facts(c)
	if !f.Packed || f.Side == steps.OldSide {
		// Nothing need be asked to know that this stops.
		f.OldState = licence.NotActivated
		return nil, j.check(steps.Activate, c, f, o)
	}
	h, err := j.hold(c, l, version.Value)
	if err != nil {
		return nil, err
	}
	h.change.Request.Edition = version.Edition
	j.notify(Event{App: c.Name, Item: l.Name, What: "activating"})
	// The service knows best; what the kit remembers may be old.
	old, err := h.status(ctx, j.Kit.Manifest.Old.ID)
	if err != nil {
		return nil, err
	}
	j.rules(&f, h, old)
	f.NewVersion, f.NewEdition = version.Value, version.Edition
	f.Second = j.Second != "" || j.State().SecondSeat(c.Name, l.Name)
	if f.Takeover = j.Takeover != ""; f.TakesOver() {
		f.Unsealed = j.unsealed(ctx, c) // it is what frees the old computer
	}
	if err := j.check(steps.Activate, c, f, o); err != nil || len(o.Blocks) > 0 {
		return nil, err
	}
	if f.TakesOver() {
		if err := j.takeOver(c, l, h, f, o); err != nil {
			return nil, err
		}
	}
	if f.BesideOld() {
		why := fmt.Sprintf("the licence %s stays %s on %s; a second seat is taken here (%d of %d were taken)", l.Name, f.OldState, f.OldName, f.Taken, f.Seats)
		if err := j.overrode(c, o, steps.Overridden{Gate: "old-deactivated", Step: steps.Activate, Why: why, Because: j.Second, Second: l.Name}); err != nil {
			return nil, err
		}
	}
	a, err := h.change.Do(ctx, licence.Activate)
	if err != nil {
		return nil, err
	}
	out := h.outcome(j, a)
	out.Did, out.Good, out.Disabled = did(a, "activated"), true, a.Disabled != ""
	return out, j.writeToken(l, a, out)
}

// rules fills in what a licence allows: what its service says of the old
// computer, and what the card says where no service does.
func (j *Job) rules(f *steps.Facts, h *held, old *licence.Answer) {
	f.OldState, f.NewState, f.Transfers = old.State, licence.NotActivated, old.Transfers
	if slices.Contains(old.Active, machine.ID(j.Computer)) {
		f.NewState = licence.Active
	}
	f.Covers, f.CoversEd, f.Seats, f.Taken, f.Takeable = old.Covers, old.Edition, old.Seats, len(old.Active), old.Takeover
	f.Until, f.Again = licence.When(old.Until), licence.When(old.Again)
	if f.NewState == licence.Active {
		f.Until = time.Time{} // it is taken up; whether it has run out is verify's to say
	}
	if h.card.Method == card.MethodDesk && old.Issued > 0 {
		f.MakersNow = licence.When(old.Issued) // its own clock decides
	}
	if h.state.Old == licence.Deactivated {
		f.BackBy = backBy(h.card, h.state.OldAt)
		if again := again(h.card, h.state); again.After(f.Again) {
			f.Again = again
		}
	}
}

// again is from when the card lets a licence that was freed be taken up again,
// or the zero time.
func again(l card.Licence, st *steps.Licence) time.Time {
	if l.Wait == "" || st.Old != licence.Deactivated {
		return time.Time{}
	}
	wait, _ := time.ParseDuration(l.Wait) // the card was checked
	return st.OldAt.Add(wait)
}

// takeOver has a person agree, in knowledge of what is spent, to the change
// that disables the licence on the old computer.
func (j *Job) takeOver(c *card.Card, l card.Licence, h *held, f steps.Facts, o *Outcome) error {
	left := "the maker decides what is spent"
	if f.Transfers >= 0 {
		left = fmt.Sprintf("1 of the %d transfers left is spent", f.Transfers)
	}
	why := fmt.Sprintf("the licence %s of %s is %s on %s; taking it over disables it there, and %s", l.Name, c.Title, f.OldState, f.OldName, left)
	if j.Agree != nil {
		if err := j.Agree(strings.ToUpper(why[:1]) + why[1:] + ". Go on?"); err != nil {
			return err
		}
	}
	h.change.Request.From = j.Kit.Manifest.Old.ID
	return j.overrode(c, o, steps.Overridden{Gate: "old-deactivated", Step: steps.Activate, Why: why, Because: j.Takeover})
}

// overrode journals a gate that a person went past with a reason, once.
func (j *Job) overrode(c *card.Card, o *Outcome, over steps.Overridden) error {
	for _, was := range j.State().Overrides {
		if was.App == c.Name && was.Overridden == over {
			return nil
		}
	}
	o.Overrode = append(o.Overrode, over)
	return j.Kit.Record(j.line(steps.EventOverridden, steps.Key{App: c.Name}), over)
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
