package holder

import (
	"context"
	"strings"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/licence"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
)

// typeIn asks for the serial and the code if they are not on the computer.
func (h *Handle) typeIn(ctx context.Context, s *licence.Secrets) error {
	if h.Licence.Typed == "" {
		return nil
	}
	info := h.Licence.Method.Info()
	none := ""
	if info.Unnamed {
		none = " (or none)"
	}
	fields := []struct {
		to    *string
		what  string
		none  string
		wrong func(string) string
		hide  bool
	}{{&s.Serial, info.Serial, "", licence.FormOf(h.Licence).Problem, info.Unnamed}, {&s.Code, info.Code, none, func(string) string { return "" }, !info.Unnamed}}
	of := 0
	for _, f := range fields {
		if *f.to == "" {
			of++
		}
	}
	n := 0
	for _, f := range fields {
		if *f.to != "" {
			continue
		}
		n++
		said, err := h.typed(ctx, run.ManualStep{Key: h.Key, App: h.Card.Title, Action: run.ActionType, Step: n, Of: of, Do: "It is not stored on " + h.Computer.Name() + ". Find it here: " + h.Licence.Typed, Ask: "The " + f.what + f.none, Secret: f.hide}, f.wrong)
		if err != nil {
			return err
		}
		if f.none == "" || !strings.EqualFold(said, "none") {
			*f.to = said
		}
	}
	return nil
}

// typed asks until the answer looks right, up to the limit.
func (h *Handle) typed(ctx context.Context, g run.ManualStep, wrong func(string) string) (string, error) {
	for n := 1; ; n++ {
		reply, err := h.Technician.DoStep(ctx, g)
		if err != nil {
			return "", err
		}
		if g.Optional && reply.Answer == "" {
			return "", nil
		}
		bad := wrong(reply.Answer)
		if reply.Answer == "" {
			bad = "nothing was typed"
		}
		if bad == "" {
			return reply.Answer, nil
		}
		err = fault.New(fault.ManualStep, "%s of the licence %s of %s looks mistyped: %s", g.Ask, g.Key.Item, g.App, bad)
		if n == tries {
			return "", err
		}
		h.Report(run.Event{App: g.Key.App, Item: g.Key.Item, What: err.Error()})
	}
}

// Complete asks for the secrets of a licence that are not on the computer. files are the licence's
// files. It does not ask again for sealed secrets.
func (r *Session) Complete(ctx context.Context, c *card.Card, l *card.Licence, s *licence.Secrets, files []string) error {
	if r.State.Licence(c.Name, l.Name).Sealed != nil {
		return nil
	}
	h := &Handle{Session: r, Card: c, Licence: l, Key: steps.Key{App: c.Name, Item: l.Name}}
	if complete := methods[l.Method](h).complete; complete != nil {
		return complete(ctx, s, files)
	}
	return h.typeIn(ctx, s)
}
