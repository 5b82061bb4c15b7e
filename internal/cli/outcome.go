package cli

import (
	"context"
	"fmt"
	"slices"

	"github.com/dustin/go-humanize/english"

	"movekit/internal/core/fault"
	"movekit/internal/core/kit"
	"movekit/internal/core/move"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
	"movekit/internal/table"
)

// stepResult is the JSON output of a step.
type stepResult struct {
	Step     steps.Step     `json:"step"`
	Computer string         `json:"computer"`
	Apps     []*run.Outcome `json:"apps"`
	Exit     int            `json:"exit"`
}

// runStep opens what a step needs, runs it, and prints the results. An empty step means Deactivate
// or Activate, depending on the computer.
func (e *env) runStep(ctx context.Context, step steps.Step, apps []string, change func(*move.Move) error,
	do func(*move.Move, context.Context) ([]*run.Outcome, error), show func(*move.Move, []*run.Outcome)) error {
	j, closeJob, err := e.job(apps, true)
	if err != nil {
		return err
	}
	defer closeJob()
	if e.kit.By, err = e.askTechnician(j.Manifest.Technician); err != nil {
		return err
	}
	if change != nil {
		if err := change(j); err != nil {
			return err
		}
	}
	if step == "" {
		if step = steps.Activate; j.Licences().Deactivates() {
			step = steps.Deactivate
		}
	}
	out, err := do(j, ctx)
	e.done()
	if err != nil {
		return err
	}
	code := worst(step, out)
	if e.json {
		if err := e.object(stepResult{step, j.Computer.Name(), out, code}); err != nil {
			return err
		}
	} else {
		show(j, out)
	}
	e.printBlocks(step, out)
	if err := e.unplug(ctx, e.kit, e.kit.Wrote()); err != nil {
		return err
	}
	if code != exitDone {
		return exit{code}
	}
	return nil
}

// unplug flushes the kit's medium, and says that it can be unplugged and whether something was written.
func (e *env) unplug(ctx context.Context, k *kit.Kit, wrote bool) error {
	if err := k.Flush(ctx); err != nil {
		return err
	}
	k.Close()
	if e.mirror != nil && k.Dir == e.mirror.Dir {
		if err := e.mirror.Send(ctx); err != nil {
			return err
		}
		e.say("Everything is sent to %s\n", e.mirror.Address)
		return nil
	}
	what, stick := "Nothing was", "stick"
	if wrote {
		what = "Everything is"
	}
	dirs := k.Dirs()
	if len(dirs) > 1 {
		stick = "sticks"
	}
	e.say("%s written to %s; you can unplug the %s.\n", what, english.WordSeries(dirs, "and"), stick)
	return nil
}

// worse lists the exit codes of a step, the worst first.
var worse = []int{exitFailed, exitDifferent, exitStopped, exitPerson}

// worst returns the worst exit code of several outcomes.
func worst(step steps.Step, out []*run.Outcome) int {
	codes := map[int]bool{}
	for _, o := range out {
		codes[codeOf(step, o)] = true
	}
	for _, c := range worse {
		if codes[c] {
			return c
		}
	}
	return exitDone
}

// codeOf returns the exit code of one outcome.
func codeOf(step steps.Step, o *run.Outcome) int {
	left := slices.ContainsFunc(o.Items, func(i run.ItemOutcome) bool { return i.Did == "unfinished" })
	switch {
	case slices.ContainsFunc(o.Errs(), func(err error) bool { return adviceByKind[fault.KindOf(err)].code != exitPerson }):
		return exitFailed
	case len(o.Blocks) > 0:
		return exitStopped
	case o.Err != nil || left:
		return exitPerson
	case step == steps.Verify && !o.Equal():
		return exitDifferent
	}
	return exitDone
}

// printBlocks prints gates, errors and overrides. A gate that stops several apps for the same
// reason is printed once.
func (e *env) printBlocks(step steps.Step, out []*run.Outcome) {
	e.clear()
	to := fold(e.err)
	stopped := map[steps.Block][]*run.Outcome{}
	for _, o := range out {
		for _, b := range o.Blocks {
			stopped[b] = append(stopped[b], o)
		}
	}
	for _, o := range out {
		for _, v := range o.Overrode {
			table.Fprintf(to, "%s gate %s overridden for %s: %s\n  because: %s\n", e.paint("note:", table.Note), v.Gate, o.Title, v.Why, v.Because)
		}
		for _, b := range o.Blocks {
			all := stopped[b]
			if all[0] != o {
				continue
			}
			app, title := o.App, o.Title
			if len(all) > 1 {
				app, title = "", fmt.Sprintf("%s and %d more", o.Title, len(all)-1)
			}
			table.Fprintf(to, "%s %s for %s is stopped by the gate %s: %s\n  next: %s\n", e.paint("stopped:", table.Bad), step, title, b.Gate, b.Why, adviceOn(b.Gate, app))
			if !b.Firm {
				table.Fprintf(to, "  or:   --override %s --because \"REASON\"\n", b.Gate)
			}
			if !slices.ContainsFunc(all, (*run.Outcome).Changed) {
				table.Fprintf(to, "  safe: Nothing of %s was changed.\n", title)
			}
		}
		for _, err := range o.Errs() {
			printStepError(to, err, step, e.colour && isTerminal(e.err))
		}
	}
}

// result returns the last cell of a row.
func (e *env) result(good bool, yes, no string) string {
	if good {
		return e.paint(yes, table.Good)
	}
	return e.paint(no, table.Bad)
}
