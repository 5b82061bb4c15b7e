package cli

import (
	"strings"

	"github.com/spf13/cobra"

	"movekit/internal/core/move"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
	"movekit/internal/report"
	"movekit/internal/table"
)

func (e *env) verifyCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "verify [APP|APP/ITEM|APP/ITEM@USER...]",
		Short: "Compare the new computer with the old one",
		Long: `Compare every file and every table on this computer with the fingerprints of the old one,
and check each licence on both. Exit code 3 means that something differs.`,
		ValidArgsFunction: e.completeApps,
		RunE: func(cmd *cobra.Command, args []string) error {
			return e.runStep(cmd.Context(), steps.Verify, args, nil, (*move.Move).Verify, e.showVerified)
		},
	}
	e.overrideFlags(c)
	e.commandsFlag(c)
	return c
}

func (e *env) showVerified(j *move.Move, out []*run.Outcome) {
	r := report.Build(*j.Manifest, j.Cards, j.State)
	if r.Only(out); len(r.Apps) == 0 {
		return
	}
	e.printf("%s", table.Block(r.Tables(e.width, e.colour, e.verbose)))
	for _, o := range out {
		for _, i := range o.Items {
			if i.Did == "stays" {
				same := "same address; not contacted"
				if len(i.Rows) > 1 {
					same = "same address; it answers"
				}
				e.printf("%s, %s stays at %s: %s\n", o.Title, i.Item, i.To, e.result(i.Equal, same, strings.Join(i.Diffs, ", ")))
			}
		}
	}
	for _, o := range out {
		for _, i := range o.Items {
			if it := j.State.Items[steps.Key{App: o.App, Item: i.Item, User: i.User}]; it != nil {
				for _, l := range it.Sealed.Left {
					e.printf("%s %s, %s: %s\n", e.paint("left behind:", table.Note), o.Title, report.Whose(i.Item, i.User), l)
				}
			}
			for _, n := range i.Notes {
				e.printf("%s %s, %s\n  next: Add them to update-paths of the card and unpack again, or correct them in the app.\n", e.paint("note:", table.Note), o.Title, n)
			}
		}
	}
	for _, o := range out {
		if o.Opened != nil {
			e.printf("%s %s on %s: %s\n", e.result(o.Opened.Good || o.Opened.NotChecked != "", "opened:", "opened:"), o.Title, j.Computer.Name(), o.Opened)
		}
	}
	for _, o := range out {
		for _, l := range o.Licences {
			if l.AlsoOn != "" {
				e.printf("%s %s, licence %s: active on %s too\n", e.paint("differs:", table.Bad), o.Title, l.Licence, l.AlsoOn)
			}
			if l.Copy != "" {
				e.printf("%s %s, licence %s: %s; `movekit activate %s` writes it again\n", e.paint("differs:", table.Bad), o.Title, l.Licence, l.Copy, o.App)
			}
		}
		e.syncReminder(j, o)
		if c := j.Card(o.App); c != nil && j.State.Waiting(c) {
			e.printf("%s `movekit todo %s` lists the files to import by hand\n", e.paint("by hand:", table.Note), o.App)
		}
	}
	e.printf("\n%s\n", table.Block(table.Wrap(table.Visible(r.Sentence), e.width)))
}
