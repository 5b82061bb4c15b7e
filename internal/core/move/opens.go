package move

import (
	"context"
	"slices"
	"strings"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/journal"
	"movekit/internal/core/licence"
	"movekit/internal/core/probe"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
)

// opens sees that the app itself shows its data here: by its own command, or with the eyes of
// a person. Where that cannot be tried now, the outcome says why, and nothing is recorded.
func (m *Move) opens(ctx context.Context, c *card.Card, o *run.Outcome) error {
	if c.Opens == nil || m.Side() != steps.NewSide && !m.Manifest.Keep {
		return nil
	}
	o.Opened = &steps.Opened{}
	for _, l := range o.Licences {
		if l.New != licence.Active && l.Trial == nil {
			o.Opened.Untried = "its licence " + l.Licence + " is not active here yet"
			return nil
		}
	}
	if slices.ContainsFunc(o.Items, func(i run.ItemOutcome) bool { return i.Did == "checked" && !i.Equal && !i.Skipped }) {
		o.Opened.Untried = "its data differs"
		return nil
	}
	seen, err := m.seen(ctx, c, o)
	if o.Opened = seen; err != nil || seen.Untried != "" || seen == m.State.Opened[c.Name] {
		return err
	}
	return m.Record(journal.EventOpened, steps.Key{App: c.Name}, seen)
}

func (m *Move) seen(ctx context.Context, c *card.Card, o *run.Outcome) (*steps.Opened, error) {
	if len(c.Opens.Run) > 0 {
		h := m.For(c)
		said, err := probe.Prober{Computer: h.Computer, Commands: h.Commands, Time: c.Opens.Limit.Duration}.Run(ctx, c.Opens.Run, nil)
		by := "its own command " + strings.Join(c.Opens.Run, " ")
		switch {
		case probe.IsWithheld(err):
			return &steps.Opened{Untried: "nobody has agreed to run " + by + ", or its system does not run"}, nil
		case err != nil:
			return &steps.Opened{By: by, Said: err.Error()}, nil
		}
		found, ok := c.Opens.Pattern.First(said)
		if !ok {
			found = "nothing of what the card expects"
		}
		return &steps.Opened{By: by, Said: strings.TrimSpace(found), Good: ok}, nil
	}
	if before := m.State.Opened[c.Name]; before != nil && before.Good {
		return before, nil
	}
	r, err := m.Technician.DoStep(ctx, run.ManualStep{Key: steps.Key{App: c.Name, Item: "app"}, App: c.Title, Action: run.ActionOpen, Step: 1, Of: 1, Do: c.Opens.Look, Ask: "What do you see"})
	if fault.KindOf(err) == fault.Waits {
		return &steps.Opened{Untried: "nobody has looked yet: " + c.Opens.Look}, nil
	}
	if err != nil {
		return nil, err
	}
	seen := &steps.Opened{By: "a person", Said: r.Answer, Good: true}
	for _, i := range o.Items {
		for _, row := range i.Rows {
			if c.Opens.Count != "" && row.What == c.Opens.Count {
				seen.Expected = row.Old
				seen.Good = strings.ReplaceAll(strings.ReplaceAll(r.Answer, ",", ""), ".", "") == row.Old
			}
		}
	}
	return seen, nil
}

// silence has a person see that the old computer's copy of an app syncs no more, where only one
// may. It is asked once, on whichever computer the person is.
func (m *Move) silence(ctx context.Context, c *card.Card, o *run.Outcome) error {
	if !c.Sole() || m.Manifest.Keep || m.State.Silenced[c.Name] {
		return nil
	}
	_, err := m.Technician.DoStep(ctx, run.ManualStep{Key: steps.Key{App: c.Name, Item: "app"}, App: c.Title, Action: run.ActionSync, Step: 1, Of: 1,
		Do: "Only one copy of " + c.Title + " may sync. See that nobody is signed in to it on " + m.Manifest.Old.Name + " any more, and that it does not start there by itself."})
	if fault.KindOf(err) == fault.Waits {
		o.Unquiet = true
		return nil
	}
	if err != nil {
		return err
	}
	return m.Record(journal.EventSilenced, steps.Key{App: c.Name}, nil)
}
