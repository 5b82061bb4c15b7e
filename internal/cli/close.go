package cli

import (
	"cmp"
	"context"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"movekit/internal/core/fault"
	"movekit/internal/core/journal"
	"movekit/internal/core/kit"
	"movekit/internal/core/machine"
	"movekit/internal/core/steps"
)

func (e *env) closeCommand() *cobra.Command {
	var keep string
	c := &cobra.Command{
		Use:   "close",
		Short: "End the move: empty the kit, and keep the record",
		Long: `Empty the kit once everything is proven and the hand-over is stored somewhere else:
the key is destroyed first, which makes what is sealed unreadable, and then what is
sealed is removed. A run that was interrupted is ended by the same command.

The journal, the report and the cards stay in the kit's folder as the record of the
move. With --keep-record DIR they go there, hand-over and all, and the kit's folder
is left empty.`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			giveUp, err := e.exception(cmd, "give-up")
			if err != nil {
				return err
			}
			dir, err := e.findInspected()
			if err != nil {
				return err
			}
			was, err := kit.ClosedIn(dir)
			if err != nil {
				return err
			}
			// As long as the key is there, the journal is believed with it alone.
			if _, err := os.Lstat(filepath.Join(dir, kit.KeyFile)); was == nil || err == nil {
				if was, err = e.mayClose(cmd.Context(), giveUp, keep); err != nil {
					return err
				}
			}
			if err := kit.Empty(cmd.Context(), dir); err != nil {
				return err
			}
			if err := e.object(was); err != nil {
				return err
			}
			e.showClosed(dir, was)
			return nil
		},
	}
	c.Flags().StringVar(&keep, "keep-record", "", "folder for the journal, the report and the cards (else they stay in the kit)")
	e.overrideFlags(c)
	e.exceptionFlag(c, "give-up", "empty the kit although the move is not verified")
	return c
}

// mayClose runs the gates, sees that the record can be stored, and has the journal say
// that the kit is being emptied.
func (e *env) mayClose(ctx context.Context, giveUp, keep string) (*kit.Closed, error) {
	m, closeJob, err := e.job(nil, true)
	if err != nil {
		return nil, err
	}
	defer closeJob()
	if m.State.Closed != nil {
		return m.State.Closed, nil
	}
	if keep != "" && machine.Inside(keep, e.kit.Dir) {
		return nil, fault.New(fault.Usage, "the folder %s is in the kit, which is to be emptied", keep)
	}
	out, err := m.MayClose(ctx, giveUp, keep != "")
	if err != nil {
		return nil, err
	}
	e.printBlocks(steps.Close, out)
	if code := worst(steps.Close, out); code != exitDone {
		return nil, exit{code}
	}
	if err := e.ask("What is sealed in the kit will be gone for good. Go on?"); err != nil {
		return nil, err
	}
	was := &kit.Closed{Because: giveUp, HandOver: m.State.HandedTo}
	if keep != "" {
		if was.Record, err = filepath.Abs(keep); err != nil {
			return nil, fault.Wrap(fault.CannotPlace, err, "cannot find %s", keep)
		}
		was.HandOver = filepath.Join(was.Record, kit.ReportDir)
		if _, _, err := e.writeReport(e.kit, ""); err != nil {
			return nil, err
		}
		if err := kit.KeepRecord(e.kit.Dir, was.Record); err != nil {
			return nil, err
		}
	}
	return was, m.Record(journal.EventClosed, steps.Key{}, was)
}

func (e *env) showClosed(dir string, c *kit.Closed) {
	e.printf("The kit in %s is closed: its key is destroyed, and what was sealed is removed.\n", dir)
	e.printf("hand-over: %s\n", cmp.Or(c.HandOver, "none"))
	if c.Record == "" {
		e.printf("record (journal, report, cards): it stays in %s\n", dir)
	} else {
		e.printf("record (journal, report, cards): %s\n", c.Record)
	}
	e.say(`A flash stick may still hold pieces of what was removed, and of the key's file, where
no program can reach them. They are encrypted; to read them takes the key's file and
the passphrase together. Destroy the note with the passphrase too.
`)
}
