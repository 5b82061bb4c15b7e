package cli

import (
	"errors"
	"io/fs"
	"os"
	"regexp"

	"github.com/spf13/cobra"

	"movekit/internal/core/draft"
	"movekit/internal/core/fault"
	"movekit/internal/core/item"
)

var draftName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,39}$`)

func (e *env) draftCommand() *cobra.Command {
	var from []string
	var to, title string
	c := &cobra.Command{
		Use:   "draft NAME --from PATH...",
		Short: "Draft a card from folders and files that were found",
		Long: `Look into folders and files of an application, and write the draft of a card:
databases and secrets become items of their own, caches and logs are skipped, and
figures to count and the version's place are proposed. What only a person can know
stands in comments.`,
		Example: `  movekit survey --wide
  movekit card draft tidewright --from '%APPDATA%\Tidewright' --to tide.yaml`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			from = append(from, args[1:]...) // after --from PATH, more paths may follow
			switch {
			case !draftName.MatchString(args[0]):
				return fault.New(fault.Usage, "the name %q cannot be used: a-z, 0-9 and -, at most 40 characters", args[0])
			case len(from) == 0:
				return fault.New(fault.Usage, "no folder or file was named with --from")
			}
			if title != "" && !regexp.MustCompile(`\S`).MatchString(title) {
				return fault.New(fault.Usage, "the title is empty")
			}
			computer, err := e.computer()
			if err != nil {
				return err
			}
			temp, err := e.private.Dir()
			if err != nil {
				return err
			}
			drafter := draft.Drafter{Computer: computer, Temp: temp}
			d, err := drafter.Make(cmd.Context(), args[0], title, from)
			if err != nil {
				return err
			}
			data, err := d.YAML("movekit card check FILE")
			if err != nil {
				return err
			}
			if to == "" {
				_, err := e.out.Write(data)
				return err
			}
			if err := writeNew(to, data); err != nil {
				return err
			}
			e.printf("Wrote the draft of a card with %s to %s. Read it and finish it.\n", item.Plural(int64(len(d.Items)), "item"), to)
			return nil
		},
	}
	c.Flags().StringArrayVar(&from, "from", nil, "folder or file of the app: a real path, or one in the terms of cards")
	c.Flags().StringVar(&to, "to", "", "write to this file, which must not be there yet (else to stdout)")
	c.Flags().StringVar(&title, "title", "", "what people call the app")
	return c
}

// writeNew writes a file that must not be there yet.
func writeNew(name string, data []byte) error {
	f, err := os.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
	if errors.Is(err, fs.ErrExist) {
		return fault.New(fault.Usage, "the file %s is there already; name another with --to", name)
	}
	if err != nil {
		return fault.Wrap(fault.CannotPlace, err, "cannot write %s", name)
	}
	_, err = f.Write(data)
	if cerr := f.Close(); err == nil {
		err = cerr
	}
	if err != nil {
		os.Remove(name) // half a file is none
		return fault.Wrap(fault.CannotPlace, err, "cannot write %s", name)
	}
	return nil
}
