package cli

import (
	"cmp"
	"context"
	"strings"

	"github.com/spf13/cobra"

	"movekit/internal/core/fault"
	"movekit/internal/core/move"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
	"movekit/internal/report"
	"movekit/internal/table"
)

func (e *env) retireCommand() *cobra.Command {
	var back, thorough bool
	var computer string
	c := &cobra.Command{
		Use:   "retire [APP|APP/ITEM|APP/ITEM@USER...]",
		Short: "Set the old data aside so that nobody uses it (old computer)",
		Long: `Rename the moved data on the old computer, files and databases alike, and leave a note in
its place that says where it went. This needs a verified new computer, and first checks
that nothing changed here since the pack.

  --back    move everything back
  --remove  permanently remove the data that was set aside; only data that still
            matches what was verified is removed, and only if the handover is stored
            outside the kit; files that a card leaves out are kept`,
		Example:           "  movekit retire\n  movekit retire tidewright/bookings\n  movekit retire --remove --because \"the computer is sold\" --computer QUAY-DESK-1",
		ValidArgsFunction: e.completeApps,
		RunE: func(cmd *cobra.Command, args []string) error {
			because, err := e.exception(cmd, "remove")
			if err != nil {
				return err
			}
			step, do := steps.Retire, (*move.Move).Retire
			switch {
			case back && because != "":
				return fault.New(fault.Usage, "use either --back or --remove")
			case back:
				step, do = steps.Return, (*move.Move).Return
			case because != "":
				step, do = steps.Remove, func(m *move.Move, ctx context.Context) ([]*run.Outcome, error) {
					if err := e.confirmName(m, computer); err != nil {
						return nil, err
					}
					return m.RemoveRetired(ctx, because)
				}
			}
			return e.runStep(cmd.Context(), step, args, func(m *move.Move) error {
				m.Since = since(thorough)
				return nil
			}, do, func(m *move.Move, out []*run.Outcome) { e.showRetired(m, step, out) })
		},
	}
	c.Flags().BoolVar(&back, "back", false, "move the data that was set aside back")
	e.exceptionFlag(c, "remove", "permanently remove the old data that was set aside")
	c.Flags().StringVar(&computer, "computer", "", "with --remove: the `NAME` of this computer, typed out")
	thoroughFlag(c, &thorough)
	e.commandsFlag(c)
	e.overrideFlags(c)
	return c
}

// confirmName asks the user to type the computer's name, before data is permanently removed.
func (e *env) confirmName(m *move.Move, typed string) error {
	name := m.Computer.Name()
	if typed == "" && e.canAsk() {
		var err error
		if typed, err = e.read("This permanently removes the data set aside on "+name+". Type the name of this computer: ", false); err != nil {
			return err
		}
	}
	if !strings.EqualFold(typed, name) {
		return fault.New(fault.Usage, "the name of this computer is needed: --computer NAME")
	}
	return nil
}

// retiredWords describe the result of an item. bad means that something is left to do.
var retiredWords = map[string]struct {
	text string
	bad  bool
}{
	"retired":         {"set aside", false},
	"retired already": {"set aside before", false},
	"stopped":         {"stopped, and does not start", false},
	"started":         {"starts again as before", false},
	"not given back":  {"NOT moved back", true},
	"fixed":           {"kept: its system is not running", false},
	"gone":            {"no longer here", false},
	"returned":        {"moved back", false},
	"was not retired": {"was not set aside", false},
	"removed":         {"permanently removed", false},
	"removed in part": {"removed, except files that were not moved", false},
	"removed before":  {"was removed before", false},
	"changed":         {"KEPT: changed since", true},
	"not verified":    {"KEPT: differs from the new computer", true},
}

func (e *env) showRetired(j *move.Move, step steps.Step, out []*run.Outcome) {
	t := e.table("app", "item", "result", "where it is now")
	t.Paths = true
	for _, o := range out {
		for _, i := range o.Items {
			w, where := retiredWords[i.Did], i.Aside
			switch i.Did {
			case "returned":
				where = i.To
			case "removed":
				where = ""
			}
			t.Add(o.Title, report.Whose(i.Item, i.User), e.result(!w.bad, w.text, w.text), where)
		}
	}
	if t.Len() > 0 {
		e.printf("%s", t)
	}
	note := ""
	for _, o := range out {
		for _, i := range o.Items {
			for _, n := range i.Notes {
				e.printf("%s %s, %s: %s\n", e.paint("note:", table.Note), o.Title, report.Whose(i.Item, i.User), n)
			}
			note = cmp.Or(i.Note, note)
			if i.Did == "returned" && i.Aside != "" {
				e.printf("%s data created there since then: %s\n", e.paint("set aside:", table.Note), i.Aside)
			}
		}
	}
	for _, o := range out {
		e.syncReminder(j, o)
	}
	if note != "" {
		e.printf("A note beside each says where it went, such as\n  %s\n", note)
	}
}

// syncReminder prints a manual step for an app that may sync on only one computer.
func (e *env) syncReminder(j *move.Move, o *run.Outcome) {
	if o.MaySync {
		e.printf("%s only one copy of %s may sync: make sure that nobody is signed in to it on %s\n", e.paint("by hand:", table.Note), o.Title, j.Manifest.Old.Name)
	}
}
