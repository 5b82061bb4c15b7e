package cli

import (
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"movekit/internal/core/run"
	"movekit/internal/core/steps"
	"movekit/internal/table"
)

// runnable are the steps that run does. Retire, report and close are decisions of a person.
var runnable = []steps.Step{steps.Pack, steps.Deactivate, steps.Unpack, steps.Activate, steps.Verify}

func (e *env) runCommand() *cobra.Command {
	var existing string
	c := &cobra.Command{
		Use:   "run",
		Short: "Do what is due on this computer, until a person is needed",
		Long: `Run the steps that are due on this computer, one after the other: pack and deactivate on
the old one; unpack, activate and verify on the new one. It stops when the next step is
for the other computer or for a person to decide (retire, report, close), and when a step
stops or fails. Each command is shown before it runs, and can be run alone.

For a run without questions, add --yes and a file of --answers.`,
		Example: "  movekit run --kit /media/stick/kit\n  movekit run --yes --answers answers.yaml --existing set-aside",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			g := &guide{env: e}
			if e.root != "" {
				g.where = append(g.where, "--root", e.root)
			}
			for _, d := range e.drives {
				g.where = append(g.where, "--drive", d)
			}
			if e.passphraseFile != "" { // each command reads the flags again
				var err error
				if e.passphrase, err = readPassphraseFile(e.passphraseFile); err != nil {
					return err
				}
			}
			var flags []string
			for name, set := range map[string]bool{"--yes": e.yes, "--quiet": e.quiet, "--verbose": e.verbose} {
				if set {
					flags = append(flags, name)
				}
			}
			g.where = append(g.where, flags...)
			last := ""
			for {
				k, _, s, next, err := e.progress()
				if err != nil {
					return err
				}
				g.kit = k.Dir
				h, err := e.here()
				if err != nil {
					return err
				}
				side, on := run.New(k, h).Side(), s.Next(s.Cards(k.Cards)).Side
				switch {
				case next.Command == "":
					e.printf("Nothing is due: %s.\n", next.Why)
					return nil
				case on != "" && on != side && !k.Manifest.Keep:
					e.printf("%s\n", table.Visible("Next is "+string(next.Step)+" on "+next.Computer+" ("+next.Why+")."))
					return nil
				case !slices.Contains(runnable, next.Step) || next.Command == last:
					e.printf("Next is `%s` (%s).\n", next.Command, next.Why)
					if next.Command == last { // it did not get further
						return exit{exitPerson}
					}
					return nil
				}
				last = next.Command
				args := strings.Fields(strings.TrimPrefix(next.Command, "movekit "))
				if next.Step == steps.Unpack && existing != "" {
					args = append(args, "--existing", existing)
				}
				code, err := g.do(cmd.Context(), args...)
				if err != nil {
					return err
				}
				if code != exitDone {
					return exit{code}
				}
			}
		},
	}
	c.Flags().StringVar(&existing, "existing", "", "for unpack: what to do with existing data, as `POLICY`")
	return c
}
