package cli

import (
	"cmp"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"movekit/internal/core/item"
	"movekit/internal/core/kit"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
	"movekit/internal/table"
)

func (e *env) inspectCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "inspect",
		Short: "See whether the kit is whole",
		Long: `Read every file of the kit from the stick and hold it against the checksums and the
journal. It takes no passphrase; where one is given (--passphrase-file, or
$MOVEKIT_PASSPHRASE), it also sees that all of it was written with that. Run it from
another copy of the program than the one on the stick: a program that somebody replaced
there says what it likes. Exit code 1 tells that something is damaged.`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			dir, err := e.findInspected()
			if err != nil {
				return err
			}
			var total int64
			if k, err := kit.Open(dir); err == nil {
				total = k.TotalBytes(nil)
			}
			e.notify(run.Event{What: "inspecting the kit", Total: total})
			in, err := kit.Inspect(cmd.Context(), dir, nil, func(n int64) { e.notify(run.Event{Bytes: n}) })
			e.done()
			if err != nil {
				return err
			}
			if err := e.object(in); err != nil {
				return err
			}
			e.printf("%s, %s, %s\n", item.Plural(int64(in.Files), "file"), bytesText(in.Bytes), item.Plural(int64(in.Lines), "journal line"))
			if err := e.showAsOf(dir, in); err != nil {
				return err
			}
			for _, s := range in.Strange {
				e.printf("not of the kit: %s\n", s)
			}
			if in.Torn {
				e.printf("The journal's last line was cut off by an interrupted run; the next step mends it.\n")
			}
			if in.Closed != nil && len(in.Left) > 0 {
				e.printf("%s the kit is closed, and not empty yet: %s\n", e.result(false, "", "unfinished:"), strings.Join(in.Left, ", "))
				e.say("  next: run `movekit close` again\n")
				return exit{exitPerson}
			}
			if in.Closed != nil {
				e.printf("The kit is closed: its key is destroyed, and what was sealed is removed. Hand-over: %s\n", cmp.Or(in.Closed.HandOver, "none"))
			}
			if len(in.Damage) == 0 && in.Closed != nil {
				return nil
			}
			if len(in.Damage) == 0 {
				e.printf("%s\n", e.result(true, "The kit is whole.", ""))
				return nil
			}
			for _, d := range in.Damage {
				switch {
				case d.Program:
					e.printf("%s the program %s %s since the kit was made: do not start it; take another copy. Nothing of the move is in it\n", e.result(false, "", "replaced:"), d.File, d.What)
				case d.Minor:
					e.printf("%s %s %s; nothing of the move is in it\n", e.paint("note:", table.Note), d.File, d.What)
				default:
					e.printf("%s %s: %s\n", e.result(false, "", "damaged:"), d.File, d.What)
				}
			}
			if in.Whole() {
				e.printf("%s\n", e.result(true, "All that the move takes is whole.", ""))
				return nil
			}
			e.say("  next: run `movekit pack` on the old computer again, or use another copy of the kit\n  safe: Nothing was changed.\n")
			return exit{exitFailed}
		},
	}
}

// showAsOf says of which moment the kit's state is, and with its passphrase, where that was
// given, whether all of it was written by those who know that.
func (e *env) showAsOf(dir string, in *kit.Inspection) error {
	k, err := kit.Open(dir)
	if err != nil || in.Lines == 0 {
		return nil //nolint:nilerr // it is among the damage
	}
	last := k.Lines()[in.Lines-1]
	e.printf("It is the state of %s: line %d of its journal, written on %s.\n", steps.Moment(last.At), last.N, last.Computer)
	pass, err := e.givenPassphrase(e.passphraseFile)
	if err != nil || pass == "" || !in.Whole() || in.Closed != nil {
		return err
	}
	if err := k.Unlock(pass); err != nil {
		return err
	}
	e.printf("%s\n", e.result(true, "Every line of it was written with this passphrase.", ""))
	return nil
}

// findInspected is findKit, but also takes a kit whose manifest is missing.
func (e *env) findInspected() (string, error) {
	if e.kitDir != "" {
		return filepath.Clean(e.kitDir), nil
	}
	return e.findKit()
}
