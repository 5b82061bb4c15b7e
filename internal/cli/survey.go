package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"movekit/internal/core/machine"
	"movekit/internal/core/move"
	"movekit/internal/core/steps"
	"movekit/internal/table"
)

func (e *env) surveyCommand() *cobra.Command {
	return &cobra.Command{
		Use:               "survey [APP...]",
		Short:             "See what is on this computer of the kit's apps",
		Long:              "Look for every app of the kit on this computer: its version, where its data lies, how\nmuch it is, how its licence is held, and what would stop a pack. Nothing is changed.",
		ValidArgsFunction: e.completeApps,
		RunE: func(cmd *cobra.Command, args []string) error {
			j, closeJob, err := e.job(args, false)
			if err != nil {
				return err
			}
			defer closeJob()
			s, err := j.Survey(cmd.Context())
			if err != nil {
				return err
			}
			if e.json {
				return e.object(s)
			}
			e.showSurvey(s)
			return nil
		},
	}
}

func (e *env) showSurvey(s *move.Survey) {
	role := "the old computer of this kit"
	if s.Side != steps.OldSide {
		role = "not the old computer of this kit"
	}
	e.printf("%s (%s), %s\n", s.Computer, s.System, role)
	for _, a := range s.Apps {
		version := a.Version
		if version == "" {
			version = "not known"
		}
		e.printf("\n%s, version %s\n", e.paint(a.Title, table.Good), version)
		t := e.table("item", "kind", "state", "files", "size", "newest change", "where")
		t.Right = []int{4, 5}
		for _, i := range a.Items {
			if !i.Found {
				t.Add(i.Item, string(i.Kind), e.paint("missing", table.Bad), "", "", "", i.Path)
				continue
			}
			newest := ""
			if i.Newest != nil {
				newest = i.Newest.Local().Format("2006-01-02 15:04")
			}
			t.Add(whose(i.Item, i.User), string(i.Kind), "here", fmt.Sprint(i.Files), bytesText(i.Bytes), newest, i.Path)
		}
		e.printf("%s", t)
		for _, l := range a.Licences {
			serial := l.Serial
			if serial == "" {
				serial = e.paint("not found", table.Bad)
			}
			e.printf("licence %s: %s, serial %s\n", l.Licence, methodText(string(l.Method)), serial)
		}
		for _, i := range a.Items {
			for _, left := range i.Left {
				e.printf("left behind: %s: %s\n", whose(i.Item, i.User), left)
			}
		}
		for _, left := range a.LeftBehind {
			e.printf("left behind: %s\n", left)
		}
		for _, hand := range a.ByHand {
			e.printf("by hand: %s\n", hand)
		}
		for _, b := range a.Blocks {
			e.printf("%s %s\n  next: %s\n", e.paint("would stop the pack ("+b.Gate+"):", table.Bad), b.Why, gateAdvice[b.Gate])
		}
	}
	e.printf("\nThe kit needs at most %s; %s are free there.\n", bytesText(s.Need), bytesText(int64(s.Free)))
	if s.System == machine.Windows && len(s.Users) > 0 {
		e.printf("Users: %s\n", strings.Join(s.Users, ", "))
	}
}

func methodText(m string) string {
	if m == "desk" {
		return "a seat at a licence desk"
	}
	return m
}
