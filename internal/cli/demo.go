package cli

import (
	"os"

	"github.com/spf13/cobra"

	"movekit/internal/core/fault"
	"movekit/internal/demo"
)

func (e *env) demoCommand() *cobra.Command {
	var dir string
	var fresh, serve, windows bool
	c := &cobra.Command{
		Use:   "demo",
		Short: "Run the complete example: a harbour office replaces its computer",
		Long: `Create two simulated computers of an invented harbour office and a licence desk, and run
the real commands on them, from new to close. DIR keeps the computers (old, new), the
kit, its passphrase and all commands (commands.txt). To run the commands by hand, start
a new example with --fresh --serve.

  --windows-check  on a computer with Windows: try what Move Kit does with Windows itself
                   (names, streams, rights, registry, services, tasks, shadow copies), on
                   data of its own in a temporary folder, and remove it again`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			exe, err := os.Executable()
			if err != nil {
				return fault.Wrap(fault.Unreadable, err, "cannot find this program")
			}
			if windows {
				failed, err := (&demo.Check{Program: exe, Out: e.out}).Run(cmd.Context())
				if err == nil && failed > 0 {
					return exit{exitDifferent}
				}
				return err
			}
			d := demo.Demo{Dir: dir, Program: exe, Fresh: fresh, Serve: serve, Out: e.out, Err: e.err, Colour: e.colour}
			code, err := d.Run(cmd.Context())
			if err != nil {
				return err
			}
			if code != exitDone {
				return exit{code}
			}
			return nil
		},
	}
	c.Flags().StringVar(&dir, "dir", "demo-office", "`FOLDER` for the example")
	c.Flags().BoolVar(&fresh, "fresh", false, "remove an earlier example in that folder first")
	c.Flags().BoolVar(&windows, "windows-check", false, "try what depends on Windows itself, on this computer")
	c.Flags().BoolVar(&serve, "serve", false, "do not run the commands; keep the example's desk and servers up until you press Ctrl-C")
	return c
}
