package cli

import (
	"cmp"
	"context"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"movekit/internal/core/fault"
	"movekit/internal/core/move"
	"movekit/internal/core/ready"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
	"movekit/internal/table"
)

func (e *env) readyCommand() *cobra.Command {
	var where [2][]string
	var limit time.Duration
	c := &cobra.Command{
		Use:   "ready [APP|APP/ITEM|APP/ITEM@USER...]",
		Short: "Check the new computer before an unpack",
		Long: `Check this, the new, computer for what unpack and activate will need: apps and their
versions, users, drives, database servers, licences, free space, and existing data. It
runs the same checks as those steps, and changes nothing here.

With the passphrase, existing data is compared with the kit.`,
		Example: `  movekit ready --kit /media/stick/kit
  movekit ready --user maren=mholm --drive D='C:\Data'`,
		ValidArgsFunction: e.completeApps,
		RunE: func(cmd *cobra.Command, args []string) error {
			if limit <= 0 {
				return fault.New(fault.Usage, "--limit must be a time above 0, such as 5s")
			}
			return e.ready(cmd.Context(), where, limit, args)
		},
	}
	c.Flags().DurationVar(&limit, "limit", run.Limit, "`TIME` that a network location may take to answer")
	whereFlags(c, &where)
	e.commandsFlag(c)
	return c
}

func (e *env) ready(ctx context.Context, where [2][]string, limit time.Duration, apps []string) error {
	j, closeJob, err := e.jobToLook(apps)
	if err != nil {
		return err
	}
	defer closeJob()
	j.Limit = limit
	if err := e.chosen(j, where); err != nil {
		return err
	}
	r, err := j.Ready(ctx)
	e.done()
	if err != nil {
		return err
	}
	for i := range r.Checks {
		if c := &r.Checks[i]; !c.Ready {
			c.First = firstText(*c, nameOf(j, c.App))
		}
	}
	if err := e.object(r); err != nil {
		return err
	}
	e.showReadiness(r)
	if !r.Ready() {
		return exit{exitPerson}
	}
	return nil
}

// nameOf returns the name of the app with a title.
func nameOf(j *move.Move, title string) string {
	_, cards := j.Kit.Facts()
	for _, c := range cards {
		if c.Title == title {
			return c.Name
		}
	}
	return ""
}

func (e *env) showReadiness(r *ready.Readiness) {
	e.printf("%s (%s), users: %s\n\n", r.Computer, r.System, strings.Join(r.Users, ", "))
	t := e.table("app", "what", "state", "found")
	last := "-"
	for _, c := range r.Checks {
		app := cmp.Or(c.App, "this computer")
		if app == last {
			app = ""
		} else {
			last = app
		}
		t.Add(app, c.What, e.readiness(c), c.Says)
	}
	e.printf("%s", t)
	if e.todoBefore(r, "Before the unpack", steps.Unpack) == 0 {
		e.printf("\nEverything is ready for the unpack.\n")
	}
	e.todoBefore(r, "Before activate, after the unpack", steps.Activate)
	e.todoBefore(r, "Note", "")
	if !r.Compared {
		e.say("Existing data was not compared. To compare it, give the passphrase with --passphrase-file.\n")
	}
	e.showNotes(r.Notes)
}

// readiness returns the state of a check.
func (e *env) readiness(c ready.Check) string {
	switch {
	case c.Ready:
		return e.paint("ready", table.Good)
	case c.Stops == steps.Unpack:
		return e.paint("do this first", table.Bad)
	case c.Stops == steps.Activate:
		return e.paint("before activate", table.Bad)
	}
	return "note"
}

// todoBefore prints the tasks to do before a step, and returns the number of lines.
func (e *env) todoBefore(r *ready.Readiness, heading string, step steps.Step) (n int) {
	said := map[string]bool{}
	for _, c := range r.Checks {
		line := strings.Trim(c.App+", "+c.What, ", ") + ": " + c.First
		if c.Ready || c.Stops != step || c.First == "" || said[line] {
			continue
		}
		said[line] = true
		if n++; n == 1 {
			e.printf("\n%s:\n", heading)
		}
		e.printf("  %s\n", line)
	}
	return n
}
