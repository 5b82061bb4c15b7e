package cli

import (
	"io"

	"github.com/spf13/cobra"

	"movekit/internal/about"
)

func (e *env) versionCommand() *cobra.Command {
	var notices bool
	c := &cobra.Command{
		Use:   "version",
		Short: "Show the version and build of this program",
		Args:  cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			b := about.This()
			if e.json {
				return e.object(b)
			}
			e.printf("movekit %s\n", b)
			if notices {
				io.WriteString(e.out, "\n"+about.Notices)
			}
			return nil
		},
	}
	c.Flags().BoolVar(&notices, "notices", false, "also show the names and licences of every module in it")
	return c
}
