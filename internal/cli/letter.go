package cli

import (
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"filippo.io/age"
	"github.com/spf13/cobra"

	"movekit/internal/core/fault"
	"movekit/internal/core/holder"
	"movekit/internal/core/licence"
	"movekit/internal/core/passphrase"
	"movekit/internal/table"
)

func (e *env) licenceLetterCommand() *cobra.Command {
	var to string
	var open bool
	c := &cobra.Command{
		Use:   "letter [APP...]",
		Short: "Write letters to the vendors, with every fact they will ask for",
		Long: `Write a letter to the vendor of each app: to deactivate a licence on a computer that no
longer starts, to issue a licence file again for the new computer, or to correct their
records. Serials are masked unless you use --with-serial with --to.`,
		ValidArgsFunction: e.completeApps,
		RunE: func(cmd *cobra.Command, args []string) error {
			if open && to == "" {
				return fault.New(fault.Usage, "--with-serial needs --to: serials are only written to a file")
			}
			j, closeJob, err := e.job(args, true)
			if err != nil {
				return err
			}
			defer closeJob()
			all, err := j.Licences().Letters(cmd.Context(), open)
			e.done()
			if err != nil {
				return err
			}
			var text strings.Builder
			for i, w := range all {
				if i > 0 {
					text.WriteString("\n" + strings.Repeat("-", 60) + "\n\n")
				}
				text.WriteString(letterText(w))
			}
			if to != "" {
				if err := writeOut(to, []byte(text.String()), 0o600); err != nil {
					return fault.Wrap(fault.CannotPlace, err, "cannot write %s", to)
				}
				e.printf("wrote %s\n", to)
				return nil
			}
			if e.json {
				return e.object(all)
			}
			e.printf("%s", table.Block(text.String()))
			return nil
		},
	}
	c.Flags().StringVar(&to, "to", "", "write the letters to this `FILE`")
	c.Flags().BoolVar(&open, "with-serial", false, "include complete serials and codes")
	e.commandsFlag(c)
	return c
}

// letterText returns a letter to a vendor.
func letterText(w holder.Letter) string {
	var b strings.Builder
	fmt.Fprintf(&b, "To: %s\nAbout: %s, licence %s\n\n", orDash(w.Vendor), w.Title, w.Licence)
	switch w.Please {
	case holder.PleaseFree:
		why := ""
		if w.Lost != "" {
			why = " (" + w.Lost + ")"
		}
		b.WriteString(table.Wrap(fmt.Sprintf("Our computer %s still holds the licence, and it cannot be deactivated there%s. Please deactivate it, so that we can activate it on %s.", w.OldName, why, w.NewName), 76))
	case holder.PleaseIssue:
		b.WriteString(table.Wrap(fmt.Sprintf("We have replaced our computer %s by %s. The licence is valid for the old one only. Please issue it again for the new one.", w.OldName, w.NewName), 76))
	default:
		b.WriteString(table.Wrap(fmt.Sprintf("We have replaced our computer %s by %s, and the licence has moved with it. Please correct the computer in your records.", w.OldName, w.NewName), 76))
	}
	b.WriteString("\n\n")
	state := func(s licence.State, at time.Time) string {
		if at.IsZero() {
			return string(s)
		}
		return fmt.Sprintf("%s (since %s)", s, at.Local().Format("2 January 2006 15:04"))
	}
	left := "not known"
	if w.Left >= 0 {
		left = fmt.Sprint(w.Left)
	}
	for _, f := range [][2]string{
		{"Version", strings.TrimSpace(w.Version + " " + w.Edition)}, {"Serial", w.Serial}, {"Code or name", w.Code}, {"Held by", string(w.Method)},
		{"Old computer", w.OldName}, {"  hardware", w.OldID}, {"  licence", state(w.Old, w.OldAt)},
		{"New computer", w.NewName}, {"  hardware", w.NewID}, {"  licence", state(w.New, w.NewAt)},
		{"Transfers left", left}, {"Used by this move", fmt.Sprint(w.Used)}, {"Seen by", w.By},
	} {
		if f[1] != "" {
			fmt.Fprintf(&b, "%-16s%s\n", f[0]+":", f[1])
		}
	}
	return b.String()
}

func orDash(s string) string {
	if s == "" {
		return "-"
	}
	return s
}

func (e *env) licenceKeepCommand() *cobra.Command {
	var to, file string
	var typed bool
	c := &cobra.Command{
		Use:   "keep [APP...]",
		Short: "Create an encrypted safety copy of licences",
		Long: `Create an encrypted copy of what the vendors would not issue again: serials, codes,
registered names, and licence files with their keys. It is one file with its own
passphrase, for the office's safe. Decrypt it with: age -d FILE | tar x`,
		ValidArgsFunction: e.completeApps,
		RunE: func(cmd *cobra.Command, args []string) error {
			if _, err := os.Lstat(to); err == nil {
				return fault.New(fault.Usage, "the file %s already exists and is not overwritten", to)
			}
			j, closeJob, err := e.job(args, true)
			if err != nil {
				return err
			}
			defer closeJob()
			pass, err := e.keepPassphrase(file, typed)
			if err != nil {
				return err
			}
			data, kept, err := j.Licences().Keep(cmd.Context(), pass)
			if err != nil {
				return err
			}
			if err := writeOut(to, data, 0o600); err != nil {
				return fault.Wrap(fault.CannotPlace, err, "cannot write %s", to)
			}
			if err := readsBack(to, pass); err != nil {
				return err
			}
			e.done()
			if e.json {
				return e.object(map[string]any{"file": to, "licences": kept})
			}
			t := e.table("app", "licence", "kept")
			for _, k := range kept {
				t.Add(k.Title, k.Licence, strings.Join(k.Files, ", "))
			}
			e.printf("%swrote and verified %s\n", t, to)
			return nil
		},
	}
	c.Flags().StringVar(&to, "to", "licences.tar.age", "write the copy to this new `FILE`")
	c.Flags().StringVar(&file, "keep-passphrase-file", "", "`FILE` with the copy's own passphrase (default: one is made and shown)")
	c.Flags().BoolVar(&typed, "type-passphrase", false, "choose the copy's passphrase yourself")
	return c
}

// keepPassphrase returns the passphrase of a safety copy, which is never automatically the kit's.
func (e *env) keepPassphrase(file string, typed bool) (string, error) {
	if file != "" {
		p, err := readPassphraseFile(file)
		if err != nil {
			return "", err
		}
		return p, passphrase.Check(p)
	}
	return e.chosenPassphrase("safety copy", typed, passphrase.Check, passphrase.Make)
}

// readsBack checks that a safety copy can be decrypted.
func readsBack(name, pass string) error {
	bad := func(err error) error {
		return fault.Wrap(fault.Damaged, err, "the safety copy %s could not be verified", name)
	}
	id, err := passphrase.Identity(pass)
	if err != nil {
		return bad(err)
	}
	f, err := os.Open(name)
	if err != nil {
		return bad(err)
	}
	defer f.Close()
	r, err := age.Decrypt(f, id)
	if err != nil {
		return bad(err)
	}
	if _, err := io.Copy(io.Discard, r); err != nil {
		return bad(err)
	}
	return nil
}
