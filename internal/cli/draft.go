package cli

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"

	"github.com/spf13/cobra"

	"movekit/internal/core/draft"
	"movekit/internal/core/fault"
	"movekit/internal/core/item"
	"movekit/internal/core/journal"
)

var draftName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,39}$`)

func (e *env) draftCommand() *cobra.Command {
	var from []string
	var to, title string
	c := &cobra.Command{
		Use:   "draft NAME --from PATH...",
		Short: "Draft a card from an app's folders and files",
		Long: `Search folders and files of an application, and write the draft of a card: databases and
secrets become separate items, caches and logs are skipped, and counts and the location
of the version are proposed. Comments ask for what only you can know.`,
		Example: `  movekit survey --wide
  movekit card draft tidewright --from '%APPDATA%\Tidewright' --to tide.yaml`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			from = append(from, args[1:]...) // more paths may follow --from PATH
			switch {
			case !draftName.MatchString(args[0]):
				return fault.New(fault.Usage, "the name %q is not valid: use a-z, 0-9 and -, at most 40 characters", args[0])
			case len(from) == 0:
				return fault.New(fault.Usage, "give at least one folder or file with --from")
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
			e.printf("Wrote the draft of a card with %s to %s. Read and complete it.\n", item.Plural(int64(len(d.Items)), "item"), to)
			return nil
		},
	}
	c.Flags().StringArrayVar(&from, "from", nil, "folder or file of the app: a real `PATH`, or one in the terms of cards")
	c.Flags().StringVar(&to, "to", "", "write to this new `FILE` (default: stdout)")
	c.Flags().StringVar(&title, "title", "", "the app's full `NAME`")
	return c
}

// writeOut writes a file that the user named, and creates its folder.
func writeOut(name string, data []byte, perm os.FileMode) error {
	if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		return err
	}
	return journal.WriteFile(name, data, perm)
}

// writeNew writes a file that must not exist yet.
func writeNew(name string, data []byte) error {
	f, err := os.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
	if errors.Is(err, fs.ErrExist) {
		return fault.New(fault.Usage, "the file %s already exists; choose another with --to", name)
	}
	if err != nil {
		return fault.Wrap(fault.CannotPlace, err, "cannot write %s", name)
	}
	_, err = f.Write(data)
	if cerr := f.Close(); err == nil {
		err = cerr
	}
	if err != nil {
		os.Remove(name) // do not leave an incomplete file
		return fault.Wrap(fault.CannotPlace, err, "cannot write %s", name)
	}
	return nil
}
