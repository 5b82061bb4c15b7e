package cli

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"movekit/internal/core/fault"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
	"movekit/internal/table"
)

// runnable are the steps that run does. Retire, report and close are decisions of a person.
var runnable = []steps.Step{steps.Pack, steps.Deactivate, steps.Unpack, steps.Activate, steps.Verify}

func (e *env) runCommand() *cobra.Command {
	var existing, plan string
	var users []string
	c := &cobra.Command{
		Use:   "run",
		Short: "Do what is due on this computer, until a person is needed",
		Long: `Run the steps that are due on this computer, one after the other: pack and deactivate on
the old one; unpack, activate and verify on the new one. It stops when the next step is
for the other computer or for a person to decide (retire, report, close), and when a step
stops or fails. Each command is shown before it runs, and can be run alone.

With --plan, the kits are those in a folder of planned moves (movekit plan) that concern
this computer: on an old one, its kit is created first.

For a run without questions, add --yes and a file of --answers.`,
		Example: "  movekit run --kit /media/stick/kit\n  movekit run --yes --answers answers.yaml --existing set-aside",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			g := &guide{env: e, onMedia: e.media}
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
			var unpack []string
			if existing != "" {
				unpack = append(unpack, "--existing", existing)
			}
			for _, u := range users {
				unpack = append(unpack, "--user", u)
			}
			if plan == "" {
				return g.runDue(cmd.Context(), unpack)
			}
			h, err := e.here()
			if err != nil {
				return err
			}
			dirs, toMake, err := plannedHere(plan, h.Computer.Name())
			if err != nil {
				return err
			}
			if len(dirs) == 0 {
				return fault.New(fault.Usage, "no move in %s is from or to %s", plan, h.Computer.Name())
			}
			given := e.passphrase
			for _, dir := range dirs {
				g.kit = dir
				e.passphrase = given // if it is typed, each kit has its own
				if toMake[dir] {
					if code, err := g.do(cmd.Context(), "new", dir); err != nil || code != exitDone {
						return cmp.Or(err, error(exit{code}))
					}
				}
				if err := g.runDue(cmd.Context(), unpack); err != nil {
					return err
				}
			}
			return nil
		},
	}
	c.Flags().StringVar(&existing, "existing", "", "for unpack: what to do with existing data, as `POLICY`")
	c.Flags().StringArrayVar(&users, "user", nil, "for unpack: the user here who gets the data of a user there, as `OLD=NEW`")
	c.Flags().StringVar(&plan, "plan", "", "`FOLDER` of planned moves")
	return c
}

// runDue runs what is due with the guide's kit on this computer. unpack are flags for unpack.
func (g *guide) runDue(ctx context.Context, unpack []string) error {
	last := ""
	for {
		if g.kit != "" {
			g.kitDir = g.kit // a command of its own has read the flags
		}
		k, _, s, next, err := g.progress()
		if err != nil {
			return err
		}
		g.kit = k.Dir
		h, err := g.here()
		if err != nil {
			return err
		}
		side, on := run.New(k, h).Side(), s.Next(s.Cards(k.Cards)).Side
		switch {
		case next.Command == "":
			g.printf("Nothing is due: %s.\n", next.Why)
			return nil
		case on != "" && on != side && !k.Manifest.Keep:
			g.printf("%s\n", table.Visible("Next is "+string(next.Step)+" on "+next.Computer+" ("+next.Why+")."))
			return nil
		case !slices.Contains(runnable, next.Step) || next.Command == last:
			g.printf("Next is `%s` (%s).\n", next.Command, next.Why)
			if next.Command == last { // it did not get further
				return exit{exitPerson}
			}
			return nil
		}
		last = next.Command
		args := strings.Fields(strings.TrimPrefix(next.Command, "movekit "))
		if next.Step == steps.Unpack {
			args = append(args, unpack...)
		}
		code, err := g.do(ctx, args...)
		if err != nil {
			return err
		}
		if code != exitDone {
			return exit{code}
		}
	}
}
