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

// opens checks in the app itself that it has its data here: with its own command, or by asking the
// technician. If that is not possible now, the outcome says why, and nothing is recorded.
func (m *Move) opens(ctx context.Context, c *card.Card, o *run.Outcome) error {
	if c.Opens == nil || m.Side() != steps.NewSide && !m.Manifest.Keep {
		return nil
	}
	o.Opened = &steps.Opened{}
	for _, l := range o.Licences {
		if l.New != licence.Active && l.Trial == nil {
			o.Opened.NotChecked = "its licence " + l.Licence + " is not active here yet"
			return nil
		}
	}
	if slices.ContainsFunc(o.Items, func(i run.ItemOutcome) bool { return i.Did == "checked" && !i.Equal && !i.Skipped }) {
		o.Opened.NotChecked = "its data differs"
		return nil
	}
	seen, err := m.seen(ctx, c, o)
	if o.Opened = seen; err != nil || seen.NotChecked != "" || seen == m.State.Opened[c.Name] {
		return err
	}
	return m.Record(journal.EventOpened, steps.Key{App: c.Name}, seen)
}

func (m *Move) seen(ctx context.Context, c *card.Card, o *run.Outcome) (*steps.Opened, error) {
	if len(c.Opens.Run) > 0 {
		h := m.ForApp(c)
		said, err := probe.Prober{Computer: h.Computer, Commands: h.Commands, Time: c.Opens.Limit.Duration}.Run(ctx, c.Opens.Run, nil)
		by := "the command " + strings.Join(c.Opens.Run, " ")
		switch {
		case probe.IsWithheld(err):
			return &steps.Opened{NotChecked: "" + by + " may not run yet, or its system is not running"}, nil
		case err != nil:
			return &steps.Opened{By: by, Said: err.Error()}, nil
		}
		found, ok := c.Opens.Pattern.First(said)
		if !ok {
			found = "not what the card expects"
		}
		return &steps.Opened{By: by, Said: strings.TrimSpace(found), Good: ok}, nil
	}
	if before := m.State.Opened[c.Name]; before != nil && before.Good {
		return before, nil
	}
	asked := []run.ManualStep{{Do: c.Opens.Look, Ask: "What do you see"}}
	if c.Opens.Count == "" {
		asked = append(asked, run.ManualStep{Do: "Did it show what you expected?", Ask: "y or n"})
	}
	var answers []string
	for i, g := range asked {
		g.Key, g.App, g.Action, g.Step, g.Of = steps.Key{App: c.Name, Item: "app"}, c.Title, run.ActionOpen, i+1, len(asked)
		r, err := m.Technician.DoStep(ctx, g)
		if fault.KindOf(err) == fault.ManualStep {
			return &steps.Opened{NotChecked: "not checked yet: " + c.Opens.Look}, nil
		}
		if err != nil {
			return nil, err
		}
		answers = append(answers, r.Answer)
	}
	seen := &steps.Opened{By: "the technician", Said: answers[0], Good: c.Opens.Count != "" || slices.Contains([]string{"y", "yes"}, strings.ToLower(strings.TrimSpace(answers[1])))}
	for _, i := range o.Items {
		for _, row := range i.Rows {
			if c.Opens.Count != "" && row.What == c.Opens.Count {
				seen.Expected = row.Old
				seen.Good = strings.ReplaceAll(strings.ReplaceAll(answers[0], ",", ""), ".", "") == row.Old
			}
		}
	}
	return seen, nil
}

// confirmSyncOff asks the technician to confirm that the old computer's copy of an app no longer syncs, if
// only one copy may. It asks once, on either computer.
func (m *Move) confirmSyncOff(ctx context.Context, c *card.Card, o *run.Outcome) error {
	if !c.Sole() || m.Manifest.Keep || m.State.SyncOff[c.Name] {
		return nil
	}
	_, err := m.Technician.DoStep(ctx, run.ManualStep{Key: steps.Key{App: c.Name, Item: "app"}, App: c.Title, Action: run.ActionSync, Step: 1, Of: 1,
		Do: "Only one copy of " + c.Title + " may sync. Make sure that nobody is signed in to it on " + m.Manifest.Old.Name + ", and that it does not start there automatically."})
	if fault.KindOf(err) == fault.ManualStep {
		o.MaySync = true
		return nil
	}
	if err != nil {
		return err
	}
	return m.Record(journal.EventSyncOff, steps.Key{App: c.Name}, nil)
}
