package holder

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"time"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/licence"
	"movekit/internal/core/run"
)

// newCommand returns the method for a licence that the vendor's own program changes.
func newCommand(h *Handle) method {
	c := command{h}
	return method{by: func(context.Context) string { return "the vendor's own program" }, local: local{see: c.see, change: c.change}}
}

type command struct{ *Handle }

// commandTime is the default time limit for a vendor's command.
const commandTime = 2 * time.Minute

// see asks the vendor's program for the state.
func (c command) see(ctx context.Context, a *licence.Answer) error {
	show := c.Licence.Show
	said, code, err := c.run(ctx, show.Run)
	if err != nil {
		return err
	}
	unknown := func(why string) error {
		return fault.New(fault.DeskDown, "the state of the licence %s is unknown: the command %s %s", c.Licence.Name, show.Run[0], why)
	}
	active, over := show.Active.In(said), show.Over.In(said)
	inactive := !active && !over
	if !show.Inactive.IsZero() {
		inactive = show.Inactive.In(said)
	}
	switch {
	case !succeeded(code, show.Codes):
		return unknown(fmt.Sprintf("failed with the exit code %d", code))
	case active && inactive:
		return unknown("shows it as active and as not active")
	case !active && !inactive && !over:
		return unknown("shows it neither as active nor as not active")
	}
	shows(a, active)
	if over {
		a.State = licence.Expired
	}
	if text, ok := show.Left.First(said); ok {
		if n, err := strconv.Atoi(text); err == nil {
			a.Transfers = n
		}
	}
	return nil
}

// change runs the vendor's program to deactivate or activate the licence, and then asks it for the
// state.
func (c command) change(ctx context.Context, action licence.Action, r licence.Request, a *licence.Answer) error {
	change := c.Licence.Change(action == licence.Deactivate)
	if err := c.see(ctx, a); err != nil {
		return err
	}
	before := a.Transfers
	said, code, err := c.run(ctx, change.Run)
	if err != nil {
		return err
	}
	for _, f := range change.Fails {
		if f.Match.In(said) {
			return fault.New(fault.DeskRefused, "the vendor's program refused: %s", f.Means)
		}
	}
	if !succeeded(code, change.Codes) || !change.Done.IsZero() && !change.Done.In(said) {
		return fault.New(fault.DeskRefused, "the vendor's command %s did not report success (exit code %d)", change.Run[0], code)
	}
	c.became(action, r.From, a)
	if err := c.see(ctx, a); err != nil {
		return err
	}
	if (a.State == licence.Active) != (action == licence.Activate) {
		return fault.New(fault.DeskRefused, "the vendor's program reports that the licence is %s after the request to %s it", a.State, action)
	}
	a.Used = max(before-a.Transfers, 0) // before is negative if it is unknown
	return nil
}

// succeeded reports whether an exit code is one of codes, or 0 if there are none.
func succeeded(code int, codes []int) bool {
	return len(codes) == 0 && code == 0 || slices.Contains(codes, code)
}

// run runs one of the vendor's commands on the live computer, and returns its output and exit code.
// An output of more than maxOutput is an error.
func (c command) run(ctx context.Context, args card.Command) (said string, code int, err error) {
	if c.Computer.Root() != "" {
		return "", 0, fault.New(fault.ManualStep, "the command %s of %s can only run on the computer itself", args[0], c.Card.Title)
	}
	if !c.Commands && !c.State.Agreed[c.Card.Name] {
		if err := c.AgreeToCommands(c.Card); run.IsNonInteractive(err) {
			return "", 0, &fault.Error{Kind: fault.NotAgreed, App: c.Card.Name, What: "the card of " + c.Card.Title + " runs the command " + strconv.Quote(strings.Join(args, " ")) + ", which you have not agreed to"}
		} else if err != nil {
			return "", 0, err
		}
	}
	name, err := c.Computer.Locate(args[0], nil)
	if err != nil {
		return "", 0, err
	}
	limit := commandTime
	if own := c.Licence.Show.Limit.Duration; own > 0 {
		limit = own
	}
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	out := &bounded{}
	cmd := exec.CommandContext(ctx, name, args[1:]...)
	cmd.Stdout, cmd.Stderr, cmd.WaitDelay = out, out, time.Second
	c.Detail(c.Key, "runs the vendor's command "+args[0])
	err = cmd.Run()
	var exit *exec.ExitError
	switch {
	case ctx.Err() != nil:
		return "", 0, fault.New(fault.DeskDown, "the command %s did not finish within %s", args[0], limit)
	case out.Len() > maxOutput:
		return "", 0, fault.New(fault.DeskDown, "the command %s wrote more than %d kB, so its report is not complete", args[0], maxOutput>>10)
	case errors.As(err, &exit):
		return out.String(), exit.ExitCode(), nil
	case err != nil:
		return "", 0, fault.Wrap(fault.Missing, err, "the command %s could not be run", args[0])
	}
	return out.String(), 0, nil
}

// maxOutput limits the output of a command, in bytes.
const maxOutput = 4 << 20

// bounded keeps a little more than maxOutput of a command's output.
type bounded struct{ bytes.Buffer }

// Write keeps what fits, and accepts the rest.
func (w *bounded) Write(p []byte) (int, error) {
	w.Buffer.Write(p[:min(len(p), max(0, maxOutput+1-w.Len()))])
	return len(p), nil
}
