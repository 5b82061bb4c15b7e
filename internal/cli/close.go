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
		Short: "End the move: empty the kit and keep its record",
		Long: `Empty the kit once everything is verified and the handover is stored elsewhere. The key
is destroyed first, which makes the sealed data unreadable; then that data is removed.
If the run is interrupted, run the same command again.

The journal, the report and the cards stay in the kit's folder as the record of the
move. With --keep-record DIR they are moved there together with the handover, and the
kit's folder becomes empty.`,
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
			// While the key exists, it is needed before the journal can be trusted.
			if _, err := os.Lstat(filepath.Join(dir, kit.KeyFile)); was == nil || err == nil {
				if was, err = e.mayClose(cmd.Context(), giveUp, keep); err != nil {
					return err
				}
			}
			var k *kit.Kit
			if k, err = kit.Open(dir); err == nil {
				if err := e.connectMedia(k, false); err != nil {
					return err
				}
			}
			if err := kit.Empty(cmd.Context(), dir); err != nil {
				return err
			}
			if k != nil {
				if err := e.emptyMedia(k); err != nil {
					return err
				}
			}
			if err := e.object(was); err != nil {
				return err
			}
			e.showClosed(dir, was)
			return nil
		},
	}
	c.Flags().StringVar(&keep, "keep-record", "", "move the journal, the report and the cards to this `FOLDER`")
	e.overrideFlags(c)
	e.exceptionFlag(c, "give-up", "empty the kit although the move is not verified")
	return c
}

// mayClose runs the gates, checks that the record can be stored, and records in the journal that
// the kit is being emptied.
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
		return nil, fault.New(fault.Usage, "the folder %s is inside the kit, which will be emptied", keep)
	}
	out, err := m.MayClose(ctx, giveUp, keep != "")
	if err != nil {
		return nil, err
	}
	e.printBlocks(steps.Close, out)
	if code := worst(steps.Close, out); code != exitDone {
		return nil, exit{code}
	}
	if err := e.ask("This permanently removes the sealed data in the kit. Continue?"); err != nil {
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
	e.printf("The kit in %s is closed: its key is destroyed, and the sealed data is removed.\n", dir)
	e.printf("handover: %s\n", cmp.Or(c.HandOver, "none"))
	if c.Record == "" {
		e.printf("record (journal, report, cards): in %s\n", dir)
	} else {
		e.printf("record (journal, report, cards): %s\n", c.Record)
	}
	e.say("A flash stick may still have pieces of the removed data and of the key file where no program can reach them. They are encrypted: reading them takes the key file and the passphrase. Destroy the note with the passphrase too.\n")
}
