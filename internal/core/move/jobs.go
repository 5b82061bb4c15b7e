package move

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/item"
	"movekit/internal/core/journal"
	"movekit/internal/core/machine"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
	"movekit/internal/core/survey"
)

// Services and schedules run on one computer only. Pack stops them on the old one. Unpack stops those that an installer has
// made on the new one, and verify starts them there. The journal has how each was before.

// runs reports whether an app has items that the system starts by itself.
func runs(c *card.Card) bool {
	return slices.ContainsFunc(c.Items, func(it card.Item) bool { return it.Kind.Info().Runs })
}

// AnyStopped reports whether the move has stopped a job on this computer that the system would run.
func (m *Move) AnyStopped() bool {
	for key := range m.State.Stopped {
		if m.stoppedHere(key) {
			return true
		}
	}
	return false
}

func (m *Move) stoppedHere(key steps.Key) bool {
	was, is := m.State.Stopped[key][m.Self().ID]
	return is && was.Acts() && m.Control != nil
}

// stopJob stops a job here, and first records how it was. It returns whether it did anything.
func (m *Move) stopJob(ctx context.Context, t item.Target) (did bool, err error) {
	if there, err := t.Exists(ctx, t.Path); err != nil || !there {
		return false, err
	}
	now, err := t.Job.State(ctx)
	if err != nil {
		return false, err
	}
	_, known := m.State.Stopped[t.Key][now.On]
	if !known || m.State.Started[t.Key] && now.On != m.State.Old.ID {
		if err := m.Record(journal.EventStopped, t.Key, now); err != nil {
			return false, err
		}
	}
	if now.Starts == steps.Never && !now.Running || t.Control == nil {
		return false, nil
	}
	m.Report(run.Event{App: t.Key.App, Item: t.Key.Item, User: t.Key.User, What: "stopping"})
	return true, t.Job.Stop(ctx)
}

// stopOld stops the selected jobs of an app on the old computer, where pack needs their data at rest. It returns a function
// that starts them again.
func (m *Move) stopOld(ctx context.Context, c *card.Card) (again func() error, err error) {
	again = func() error { return nil }
	if !runs(c) || m.Side() != steps.OldSide {
		return again, nil
	}
	places, err := m.scanner(c, false).Places(ctx, c)
	if err != nil {
		return again, err
	}
	var stopped []item.Target
	again = func() error {
		defer survey.Close(places)
		return m.startAgain(stopped)
	}
	for _, p := range places {
		if p.Job == nil || !p.Found {
			continue
		}
		t := item.Target{Instance: p.Instance, Parts: p.Parts}
		did, err := m.stopJob(ctx, t)
		if did {
			stopped = append(stopped, t)
		}
		if err != nil {
			return again, err
		}
	}
	return again, nil
}

// startAgain starts jobs as they were before this run. It also runs after the run was stopped.
func (m *Move) startAgain(all []item.Target) (err error) {
	for _, t := range all {
		was, known := m.State.Stopped[t.Key][m.Self().ID]
		if !known {
			continue
		}
		if serr := t.Job.Start(context.Background(), was); serr != nil {
			err = errors.Join(err, serr)
			continue
		}
		err = errors.Join(err, m.Record(journal.EventStarted, t.Key, was))
	}
	return err
}

// stopNew stops the jobs of an app on the new computer, and returns those that it stopped.
func (m *Move) stopNew(ctx context.Context, c *card.Card) (again func() error, err error) {
	again = func() error { return nil }
	if !runs(c) || m.Side() == steps.OldSide && !m.Manifest.Keep || m.Side() == steps.ThirdSide {
		return again, nil
	}
	targets, _, err := m.Kinds.Targets(ctx, m.Run, c, m.choices())
	if err != nil {
		return again, err
	}
	var stopped []item.Target
	again = func() error {
		defer item.Close(targets)
		return m.startAgain(stopped)
	}
	for _, t := range targets {
		if t.Job == nil {
			continue
		}
		did, err := m.stopJob(ctx, t)
		if did {
			stopped = append(stopped, t)
		}
		if err != nil {
			return again, err
		}
	}
	return again, nil
}

// startBefore starts jobs of the new computer that were here before an unpack that is undone.
func (m *Move) startBefore(ctx context.Context, c *card.Card, before map[steps.Key]steps.JobState) error {
	if len(before) == 0 {
		return nil
	}
	targets, _, err := m.Kinds.Targets(ctx, m.Run, c, m.choices())
	defer func() { item.Close(targets) }()
	for _, t := range targets {
		was, is := before[t.Key]
		if err != nil || !is || t.Job == nil {
			continue
		}
		if there, terr := t.Exists(ctx, t.Path); terr != nil || there {
			err = errors.Join(terr, t.Job.Start(ctx, was))
		}
	}
	return err
}

// verifyJob compares how the system runs a job with how the old computer did. proven means that the app's data is proven:
// then a job that is stopped is started.
func (m *Move) verifyJob(ctx context.Context, t item.Target, out *run.ItemOutcome, proven bool) error {
	was, stopped := m.State.Stopped[t.Key][m.State.Old.ID]
	started := m.State.Started[t.Key]
	row := steps.Row{What: "runs", Old: was.String(), Same: true, Text: true}
	switch {
	case t.Control == nil:
		out.Notes = append(out.Notes, fmt.Sprintf("%s starts only on the computer itself: run verify there", t.Label()))
		return nil
	case !stopped && !m.State.Lost(t.Key.App):
		out.Notes = append(out.Notes, fmt.Sprintf("%s is not started here, because it may still run on %s: run pack there again", t.Label(), m.State.Old.Name))
		return nil
	case !started && !proven:
		out.Notes = append(out.Notes, fmt.Sprintf("%s stays stopped until its data is proven", t.Label()))
		return nil
	case !started:
		if err := t.Job.Start(ctx, was); err != nil {
			row.New, row.Same = err.Error(), false
			break
		}
		if err := m.Record(journal.EventStarted, t.Key, steps.JobState{On: m.Self().ID, Starts: was.Starts, Running: was.Running}); err != nil {
			return err
		}
		fallthrough
	default:
		now, err := t.Job.State(ctx)
		if err != nil {
			return err
		}
		row.New, row.Same = now.String(), now.Starts == was.Starts && now.Running == was.Running
	}
	out.Rows = append(out.Rows, row)
	if !row.Same {
		out.Equal, out.Count = false, out.Count+1
		out.Diffs = append(out.Diffs, "runs: "+row.New)
	}
	return m.Record(journal.EventChecked, t.Key, steps.Checked{Equal: out.Equal, Rows: out.Rows, Diffs: out.Diffs, Count: out.Count, Notes: out.Notes})
}

// verifyJobs verifies the jobs of an app, after everything else.
func (m *Move) verifyJobs(ctx context.Context, targets []item.Target, o *run.Outcome) error {
	proven := o.Equal()
	for i, t := range targets {
		if t.Job == nil {
			continue
		}
		n := slices.IndexFunc(o.Items, func(out run.ItemOutcome) bool { return out.Item == t.Key.Item && out.User == t.Key.User })
		if err := m.verifyJob(ctx, targets[i], &o.Items[n], proven); err != nil {
			return err
		}
	}
	return nil
}

// retireJob stops a job on the old computer for good. Its definition stays, and is not started.
func (m *Move) retireJob(ctx context.Context, t item.Target, out *run.ItemOutcome) error {
	if t.Control == nil {
		out.Did = "fixed"
		return nil
	}
	if _, err := m.stopJob(ctx, t); err != nil {
		return err
	}
	out.Did, out.Aside = "stopped", ""
	return m.Record(journal.EventRetired, t.Key, steps.Retired{From: machine.DisplayPath(m.Computer, t.Path)})
}

// returnJob starts a job on the old computer again, unless it runs on the new one.
func (m *Move) returnJob(ctx context.Context, t item.Target, out *run.ItemOutcome) error {
	was, known := m.State.Stopped[t.Key][m.State.Old.ID]
	switch {
	case !known || t.Control == nil:
		out.Did = "was not retired"
		return nil
	case m.State.Started[t.Key]:
		out.Did = "not given back"
		out.Notes = append(out.Notes, fmt.Sprintf("it runs on %s: run undo there first", m.State.New.Name))
		return nil
	}
	if err := t.Job.Start(ctx, was); err != nil {
		return fault.Wrap(fault.CannotPlace, err, "%s was not started", t.Label())
	}
	out.Did = "started"
	if err := m.Record(journal.EventStarted, t.Key, was); err != nil {
		return err
	}
	return m.Record(journal.EventReturned, t.Key, steps.Retired{From: machine.DisplayPath(m.Computer, t.Path)})
}
