package holder

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"movekit/internal/core/card"
	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
	"movekit/internal/core/journal"
	"movekit/internal/core/licence"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
)

// stepsFor returns the manual steps of a change.
func (h *Handle) stepsFor(action licence.Action) *card.Change {
	if h.method.steps != nil {
		return h.method.steps(action)
	}
	return h.Licence.Change(action == licence.Deactivate)
}

// bySteps changes the licence by manual steps.
func (h *Handle) bySteps(ctx context.Context, action licence.Action, r licence.Request, a *licence.Answer) error {
	return h.guide(ctx, action, h.stepsFor(action), r, a)
}

// lostSteps returns the manual steps if the old computer cannot deactivate the licence.
func (h *Handle) lostSteps() *card.Change {
	switch {
	case h.Licence.Lost != nil:
		return h.Licence.Lost
	case h.method.lostSteps != nil:
		return h.method.lostSteps()
	}
	return &card.Change{Steps: []card.Guide{
		{Do: "Tell " + cmp.Or(h.Card.Vendor, "the vendor") + " why it cannot be deactivated on " + h.lostName() + " (" + h.Lost + "), and ask them to deactivate it."},
		{Do: "Wait for their answer.", Ask: "What did they answer?"},
	}}
}

// by returns who reported the state.
func (h *Handle) by(ctx context.Context) string {
	if h.method.by != nil {
		return h.method.by(ctx)
	}
	return h.lastPerson()
}

// lastPerson returns who answered last, and the answer.
func (h *Handle) lastPerson() string {
	all := h.state().History
	if len(all) == 0 {
		return "the card (nobody has looked yet)"
	}
	last := all[len(all)-1]
	by := "the technician on " + last.On
	if last.Answer != "" {
		by += fmt.Sprintf(", who answered %q to %q", last.Answer, last.Ask)
	}
	if last.Evidence != "" {
		by += " (" + last.Evidence + ", BLAKE3 " + last.Hash[:16] + "…)"
	}
	return by
}

// localService answers like a licence service for a licence without one. It reads the state of this
// computer from the computer, and the state of the other one from the journal.
type localService struct{ *Handle }

var _ licence.Service = localService{}

// Ask answers like a licence service.
func (h localService) Ask(ctx context.Context, action licence.Action, r licence.Request, _ string) (*licence.Answer, error) {
	here := r.Computer == h.Self().ID
	lost := h.Lost != "" && r.Computer == h.Request.Computer
	a := h.remembered(r.Computer)
	if !here && !lost {
		return a, nil
	}
	var err error
	switch {
	case lost && !(here && h.method.remains):
		if action == licence.Deactivate {
			err = h.guide(ctx, action, h.lostSteps(), r, a)
		}
	case action == licence.Status && h.method.see != nil:
		err = h.method.see(ctx, a)
	case action == licence.Status:
	case h.method.change != nil:
		err = h.method.change(ctx, action, r, a)
	default:
		err = h.bySteps(ctx, action, r, a)
	}
	a.Action, a.Nonce, a.Licence, a.Product, a.Issued = action, r.Nonce, licence.LicenceID(r.Serial), r.Product, h.Now().Unix()
	return a, err
}

// remembered returns the recorded state on a computer. Without a record, the app was active on the
// old computer and not on the new one.
func (h *Handle) remembered(computer string) *licence.Answer {
	st := h.state()
	a := &licence.Answer{Computer: computer, Transfers: st.Left, State: licence.NotActivated, Covers: h.Licence.Covers, Edition: h.Licence.Edition, Seats: max(h.Licence.Seats, 1), Takeover: h.Licence.Takeover}
	if end := h.Licence.Expires.End(); !end.IsZero() {
		a.Until = end.Unix()
	}
	if h.Licence.Transfers != nil && st.Left < 0 {
		a.Transfers = *h.Licence.Transfers
	}
	on := func(computer string) licence.State {
		isNew := computer == h.State.New.ID || h.State.New.ID == "" && computer != h.Manifest.Old.ID
		held, is := st.On[computer]
		switch {
		case is && held.State == licence.Unknown && h.doing == licence.Deactivate:
			return licence.Active // a change there was interrupted: it may be active
		case is && held.State == licence.Unknown && h.doing == licence.Activate && computer == h.Self().ID:
			return licence.NotActivated // as above: it may not be active
		case is:
			return held.State
		case isNew && st.New != licence.Unknown:
			return st.New
		case computer == h.Manifest.Old.ID:
			return licence.Active
		}
		return licence.NotActivated // nothing shows that it was ever active there
	}
	all := []string{h.Manifest.Old.ID, st.From.ID, cmp.Or(h.State.New.ID, h.Self().ID)}
	slices.Sort(all)
	for _, id := range slices.Compact(all) {
		if on(id) == licence.Active {
			a.Active = append(a.Active, id)
		}
	}
	if a.State = on(computer); a.State == licence.Active && a.Until != 0 && !h.Now().Before(licence.When(a.Until)) {
		a.State = licence.Expired
	}
	return a
}

// lostName returns the name of the computer that cannot deactivate its licences.
func (h *Handle) lostName() string {
	if h.Back != "" {
		return h.State.New.Name
	}
	return h.state().From.Name
}

// shows sets whether this computer shows the licence as active.
func shows(a *licence.Answer, active bool) {
	a.Active = slices.DeleteFunc(a.Active, func(c string) bool { return c == a.Computer })
	switch {
	case active:
		a.State, a.Active = licence.Active, append(a.Active, a.Computer)
	case a.State == licence.Active:
		a.State = licence.Deactivated
	case a.State == licence.Unknown:
		a.State = licence.NotActivated
	}
}

// became applies a completed change. from is the computer whose licence was taken over.
func (h *Handle) became(action licence.Action, from string, a *licence.Answer) {
	if action == licence.Deactivate {
		a.State = licence.Deactivated
		a.Active = slices.DeleteFunc(a.Active, func(c string) bool { return c == a.Computer })
		return
	}
	if a.State, a.Disabled = licence.Active, from; from != "" {
		a.Active = slices.DeleteFunc(a.Active, func(c string) bool { return c == from })
	}
	second := len(a.Active) > 0 // a seat in addition to another computer's uses no transfer
	if !slices.Contains(a.Active, a.Computer) {
		a.Active = append(a.Active, a.Computer)
	}
	if h.Licence.Transfers != nil && !second {
		a.Used = 1
		a.Transfers = max(a.Transfers-1, 0)
	}
}

// guide goes through the remaining manual steps, and records each in the journal before the next.
func (h *Handle) guide(ctx context.Context, action licence.Action, change *card.Change, r licence.Request, a *licence.Answer) error {
	for i := h.taken(action, change.Steps); i < len(change.Steps); i++ {
		g := change.Steps[i]
		done := steps.StepDone{Action: action, Step: i + 1, Do: g.Do, Ask: g.Ask}
		if err := h.step(ctx, g, len(change.Steps), &done); err != nil {
			return err
		}
		if err := h.RecordLicence(journal.EventStepDone, h.Key, done); err != nil {
			return err
		}
	}
	h.became(action, r.From, a)
	return nil
}

// taken returns how many of the steps, in sequence, are done already. Steps of an alternative
// procedure, or on another computer, do not count.
func (h *Handle) taken(action licence.Action, all []card.Guide) (n int) {
	for n < len(all) && slices.ContainsFunc(h.state().Stepped, func(s steps.StepDone) bool {
		return s.Action == action && s.Step == n+1 && s.Do == all[n].Do && (s.On == h.Computer.Name() || h.Lost != "")
	}) {
		n++
	}
	return n
}

// tries is how often a question is asked before it fails.
const tries = 3

// step asks for one manual step until the answer matches.
func (h *Handle) step(ctx context.Context, g card.Guide, of int, done *steps.StepDone) error {
	for n := 1; ; n++ {
		reply, err := h.Technician.DoStep(ctx, run.ManualStep{
			Key: h.Key, App: h.Card.Title, Action: done.Action, Step: done.Step, Of: of, Ask: g.Ask, Evidence: g.Evidence, Letter: h.Lost != "",
			Do: strings.NewReplacer("{serial}", h.Secrets.Serial, "{code}", h.Secrets.Code).Replace(g.Do),
		})
		if err != nil {
			return err
		}
		if g.Ask != "" {
			done.Answer = h.hidden(reply.Answer)
		}
		if err = fits(g, reply); err == nil && reply.Evidence != "" {
			done.Evidence = filepath.Base(reply.Evidence)
			if done.Hash, err = hashOf(reply.Evidence); err != nil {
				err = fault.Wrap(fault.Unreadable, err, "the evidence file %s cannot be read", reply.Evidence)
			}
		}
		if err == nil || n == tries {
			return err
		}
		h.Report(run.Event{App: h.Key.App, Item: h.Licence.Name, What: err.Error()})
	}
}

// fits checks an answer against the card.
func fits(g card.Guide, r run.Reply) error {
	if g.Ask != "" && strings.TrimSpace(r.Answer) == "" {
		return fault.New(fault.ManualStep, "the question %q was not answered", g.Ask)
	}
	if !g.Answer.IsZero() && !g.Answer.In(r.Answer) {
		return fault.New(fault.ManualStep, "the answer to %q does not match the card's pattern (%s)", g.Ask, g.Answer)
	}
	if g.Evidence && r.Evidence == "" {
		return fault.New(fault.ManualStep, "no evidence file was given for %q", g.Do)
	}
	return nil
}

// hidden removes secrets from an answer before it is recorded.
func (h *Handle) hidden(answer string) string {
	for i, s := range []string{h.Secrets.Serial, h.Secrets.Code} {
		if s != "" && !(i == 1 && h.Licence.Method.Info().CodeShown) {
			answer = regexp.MustCompile("(?i)"+regexp.QuoteMeta(s)).ReplaceAllLiteralString(answer, licence.Mask(s))
		}
	}
	return answer
}

func hashOf(name string) (string, error) {
	data, err := os.ReadFile(name)
	if err != nil {
		return "", err
	}
	return digest.Of(data).String(), nil
}
