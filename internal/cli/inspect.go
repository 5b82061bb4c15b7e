package cli

import (
	"cmp"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"movekit/internal/core/item"
	"movekit/internal/core/kit"
	"movekit/internal/core/remote"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
	"movekit/internal/table"
)

func (e *env) inspectCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "inspect",
		Short: "Check the kit for damage",
		Long: `Read every file of the kit from the stick, and compare it with the checksums and the
journal. The passphrase is not needed. If you give it (--passphrase-file or
$MOVEKIT_PASSPHRASE), inspect also checks that everything was written with it. Use a
copy of the program that is not on the stick, because somebody could have replaced the
one there. Exit code 1 means that something is damaged.`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			dir, err := e.findInspected()
			if err != nil {
				return err
			}
			var total int64
			media := &kit.Media{}
			if k, err := kit.Open(dir); err == nil {
				if err := e.connectMedia(k, false); err != nil {
					return err
				}
				total, media = k.TotalBytes(nil, nil), &k.Media
			}
			e.notify(run.Event{What: "inspecting the kit", Total: total})
			in, err := kit.Inspect(cmd.Context(), dir, media, nil, nil, func(n int64) { e.notify(run.Event{Bytes: n}) })
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
				e.printf("not part of the kit: %s\n", s)
			}
			if in.Torn {
				e.printf("The journal's last line is incomplete, because a run was interrupted; the next step repairs it.\n")
			}
			if in.Closed != nil && len(in.Left) > 0 {
				e.printf("%s the kit is closed, but not empty yet: %s\n", e.result(false, "", "unfinished:"), strings.Join(in.Left, ", "))
				e.say("  next: run `movekit close` again\n")
				return exit{exitPerson}
			}
			if in.Closed != nil {
				e.printf("The kit is closed: its key is destroyed, and the sealed data is removed. Handover: %s\n", cmp.Or(in.Closed.HandOver, "none"))
			}
			if len(in.Damage) == 0 && in.Closed != nil {
				return nil
			}
			for _, a := range in.Away {
				e.printf("%s medium %d, which has %s of this kit\n", e.result(false, "", "not connected:"), a.Medium, item.Plural(int64(a.Files), "sealed file"))
			}
			if len(in.Damage) == 0 && len(in.Away) == 0 {
				e.printf("%s\n", e.result(true, "The kit is undamaged.", ""))
				return nil
			}
			for _, d := range in.Damage {
				switch {
				case d.Program:
					e.printf("%s the program %s %s since the kit was made: do not start it; use another copy. It contains nothing of the move\n", e.result(false, "", "replaced:"), d.File, d.What)
				case strings.HasPrefix(strings.TrimPrefix(d.File, "../"), kit.InstallersDir+"/"):
					e.printf("%s %s %s; do not run this installer\n", e.result(false, "", "replaced:"), d.File, d.What)
				case d.Minor:
					e.printf("%s %s %s; it contains nothing of the move\n", e.paint("note:", table.Note), d.File, d.What)
				default:
					e.printf("%s %s: %s\n", e.result(false, "", "damaged:"), d.File, d.What)
				}
			}
			if in.Whole() {
				e.printf("%s\n", e.result(true, "Everything that the move needs is undamaged.", ""))
				return nil
			}
			if len(in.Away) > 0 {
				e.say("  next: connect it, and run this again (--medium FOLDER says where it is)\n  safe: Nothing was changed.\n")
				return exit{exitFailed}
			}
			e.say("  next: run `movekit pack` on the old computer again, or use another copy of the kit\n  safe: Nothing was changed.\n")
			return exit{exitFailed}
		},
	}
}

// showAsOf prints the date of the kit's state and, if the passphrase was given, whether everything
// was written with it.
func (e *env) showAsOf(dir string, in *kit.Inspection) error {
	k, err := kit.Open(dir)
	if err != nil || in.Lines == 0 {
		return nil //nolint:nilerr // it is listed as damage
	}
	last := k.Lines()[in.Lines-1]
	e.printf("Last journal line: %[2]d, written at %[1]s on %[3]s.\n", steps.Moment(last.At), last.N, last.Computer)
	pass, err := e.givenPassphrase(e.passphraseFile)
	if err != nil || pass == "" || !in.Whole() || in.Closed != nil {
		return err
	}
	if err := k.Unlock(pass); err != nil {
		return err
	}
	e.printf("%s\n", e.result(true, "Every journal line was written with this passphrase.", ""))
	return nil
}

// findInspected is like findKit, but accepts a kit whose manifest is missing.
func (e *env) findInspected() (string, error) {
	if e.kitDir != "" && !strings.HasPrefix(e.kitDir, remote.Scheme) {
		return filepath.Clean(e.kitDir), nil
	}
	return e.findKit()
}
