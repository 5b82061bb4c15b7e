package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"movekit/internal/core/licence"
	"movekit/internal/core/move"
	"movekit/internal/core/steps"
	"movekit/internal/table"
)

func (e *env) licenceCommand() *cobra.Command {
	c := &cobra.Command{
		Use:     "licence",
		Aliases: []string{"license"},
		Short:   "See where every licence stands",
		Args:    cobra.NoArgs,
	}
	c.AddCommand(e.licenceStatusCommand())
	return c
}

func (e *env) licenceStatusCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "status [APP...]",
		Short: "Old, new, what is left and what is due, for every licence",
		Long: `Tell for every licence whether it is active on the old and on the new computer, how
many transfers are left, and which step is due. Services are asked, and so are the
files and the maker's program on this computer; what nobody can be asked about is as
the journal remembers it. Nothing is changed or recorded.`,
		ValidArgsFunction: e.completeApps,
		RunE: func(cmd *cobra.Command, args []string) error {
			j, closeJob, err := e.job(args, true)
			if err != nil {
				return err
			}
			defer closeJob()
			all, err := j.LicenceStatuses(cmd.Context())
			e.done()
			if err != nil {
				return err
			}
			if e.json {
				return e.object(all)
			}
			e.showLicenceStatuses(j, all)
			return nil
		},
	}
	e.commandsFlag(c)
	return c
}

func (e *env) showLicenceStatuses(j *move.Job, all []move.LicenceStatus) {
	if len(all) == 0 {
		e.printf("No app of the kit has a licence to move.\n")
		return
	}
	t := e.table("app", "licence", "method", "old", "new", "left", "next")
	for _, s := range all {
		good := s.Next == ""
		t.Add(s.Title, s.Licence, string(s.Method), stateMark(e, s.Old, s.Old != licence.Active), stateMark(e, s.New, s.New == licence.Active), leftText(s.Left), e.result(good, "nothing", nextText(j, s)))
	}
	e.printf("%s", t)
	for _, s := range all {
		if s.Why != "" {
			e.printf("%s %s, %s: as the journal remembers it, because %s\n", e.paint("note:", table.Note), s.Title, s.Licence, s.Why)
			continue
		}
		e.printf("%s, %s: seen by %s\n", s.Title, s.Licence, s.By)
	}
}

// stateMark paints a state that is as it should be in the end.
func stateMark(e *env, s licence.State, good bool) string {
	if good && s != licence.Unknown {
		return e.paint(string(s), table.Good)
	}
	return string(s)
}

func nextText(j *move.Job, s move.LicenceStatus) string {
	where := j.Kit.Manifest.Old.Name
	if s.Next == steps.Activate {
		if where = j.Kit.Manifest.New.Name; where == "" {
			where = "the new computer"
		}
	}
	text := fmt.Sprintf("%s on %s", s.Next, where)
	if s.Again != nil {
		text += ", from " + s.Again.Local().Format("2 Jan 15:04")
	}
	return text
}
