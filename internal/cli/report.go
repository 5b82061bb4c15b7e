package cli

import (
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"movekit/internal/core/fault"
	"movekit/internal/core/journal"
	"movekit/internal/core/kit"
	"movekit/internal/core/machine"
	"movekit/internal/core/steps"
	"movekit/internal/report"
	"movekit/internal/table"
)

func (e *env) reportCommand() *cobra.Command {
	var to string
	c := &cobra.Command{
		Use:   "report",
		Short: "Write the handover as HTML, JSON and text",
		Long: `Write the handover for the owner: what was moved and verified, what was not, and the
manual steps. It writes handover.html (prints on A4), handover.json and handover.txt to
the folder report in the kit, and also to another folder with --to.`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			k, err := e.openKit()
			if err != nil {
				return err
			}
			if err := k.Lock(); err != nil {
				return err
			}
			defer k.Close()
			if err := e.unlock(e.passphraseFile, k.Unlock); err != nil {
				return err
			}
			r, written, err := e.writeReport(k, to)
			if err != nil {
				return err
			}
			if e.json {
				if err := e.object(r); err != nil {
					return err
				}
			} else {
				text := r.Brief(e.width, e.colour)
				if e.verbose {
					text = r.Text(e.width, e.colour)
				}
				e.printf("%s\n", table.Block(text))
				for _, w := range written {
					e.printf("wrote %s\n", w)
				}
			}
			return e.unplug(cmd.Context(), k, true)
		},
	}
	c.Flags().StringVar(&to, "to", "", "also write the files to this `FOLDER`")
	return c
}

// writeReport writes the handover into the kit and, if to is given, into another folder. It returns
// the files.
func (e *env) writeReport(k *kit.Kit, to string) (r *report.Report, written []string, err error) {
	r = report.Build(k.Manifest, k.Cards, steps.Fold(k.Manifest, k.Log.Lines))
	files, err := r.Files()
	if err != nil {
		return nil, nil, err
	}
	for _, f := range files {
		if err := k.WriteReport(f.Name, f.Data); err != nil {
			return nil, nil, err
		}
		written = append(written, filepath.Join(k.Dir, kit.ReportDir, f.Name))
		if to != "" {
			name := filepath.Join(to, f.Name)
			if err := writeOut(name, f.Data, 0o644); err != nil {
				return nil, nil, fault.Wrap(fault.CannotPlace, err, "cannot write the handover")
			}
			written = append(written, name)
		}
	}
	var stored steps.Reported
	if to != "" && !machine.Inside(to, k.Dir) {
		if stored.To, err = filepath.Abs(to); err != nil {
			return nil, nil, fault.Wrap(fault.CannotPlace, err, "cannot find %s", to)
		}
	}
	host, _ := os.Hostname()
	_, err = k.Record(journal.Line{Event: journal.EventReported, Computer: host}, stored)
	return r, written, err
}
