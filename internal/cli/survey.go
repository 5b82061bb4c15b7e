package cli

import (
	"context"
	"errors"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"movekit/internal/about"
	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/item"
	"movekit/internal/core/item/kinds"
	"movekit/internal/core/move"
	"movekit/internal/core/run"
	"movekit/internal/core/seal"
	"movekit/internal/core/steps"
	"movekit/internal/core/survey"
	"movekit/internal/report"
	"movekit/internal/table"
)

// surveyCall has the options of survey.
type surveyCall struct {
	cards    []string
	wide     bool
	thorough bool
	sheet    string
	limit    time.Duration
	days     int
}

func (e *env) surveyCommand() *cobra.Command {
	var call surveyCall
	c := &cobra.Command{
		Use:   "survey [APP|APP/ITEM|APP/ITEM@USER...]",
		Short: "Show the apps on this computer, and what would stop a pack",
		Long: `Survey every app of the kit on this computer: its version, the location and size of its
data, how it is licensed, and what would stop a pack. Nothing is changed. Without a kit,
give cards with --cards.

  --wide  search for data that no card covers: databases, folders of
          applications, database servers, installed programs`,
		Example: `  movekit survey --cards cards/ --html survey.html
  movekit survey --wide`,
		ValidArgsFunction: e.completeApps,
		RunE: func(cmd *cobra.Command, args []string) error {
			if call.limit <= 0 {
				return fault.New(fault.Usage, "--limit must be a time above 0, such as 5s")
			}
			if call.wide {
				return e.surveyWide(cmd.Context(), &call, args)
			}
			return e.surveyOld(cmd.Context(), &call, args)
		},
	}
	f := c.Flags()
	f.BoolVar(&call.wide, "wide", false, "search for data that no card covers")
	thoroughFlag(c, &call.thorough)
	f.StringArrayVar(&call.cards, "cards", nil, "without a kit: app card or folder of cards at `PATH`")
	f.StringVar(&call.sheet, "html", "", "also write the survey as an HTML page to this `FILE`")
	f.DurationVar(&call.limit, "limit", run.Limit, "`TIME` that a network location may take to answer")
	f.IntVar(&call.days, "days", 90, "with --wide: number of `DAYS` in which a change counts as recent")
	e.commandsFlag(c)
	return c
}

// surveyOld surveys the apps of the kit, or of cards.
func (e *env) surveyOld(ctx context.Context, call *surveyCall, apps []string) error {
	s, err := e.lookAtApps(ctx, call, apps)
	e.done()
	if err != nil {
		return err
	}
	s.Space.PartSize = seal.MaxPart
	if call.sheet != "" {
		if err := writeSheet(call.sheet, s); err != nil {
			return err
		}
	}
	if err := e.object(s); err != nil {
		return err
	}
	e.showSurvey(s)
	if call.sheet != "" {
		e.say("The survey is also in %s.\n", call.sheet)
	}
	if s.Unreadable > 0 {
		return exit{exitPerson}
	}
	return nil
}

// lookAtApps surveys with the kit's cards, or with given cards and no kit.
func (e *env) lookAtApps(ctx context.Context, call *surveyCall, apps []string) (*survey.Survey, error) {
	var noKit error
	if len(call.cards) == 0 {
		j, closeJob, err := e.jobToLook(apps)
		if err == nil {
			defer closeJob()
			j.Limit, j.Since = call.limit, since(call.thorough)
			return j.Survey(ctx)
		}
		if fault.KindOf(err) != fault.NotAKit || e.kitDir != "" {
			return nil, err
		}
		noKit = err
	}
	h, err := e.here()
	if err != nil {
		return nil, err
	}
	h.Limit = call.limit
	cards, err := e.chosenCards(ctx, h, call.cards, apps)
	if errors.Is(err, errNoApps) {
		return nil, noKit
	}
	if err != nil {
		return nil, err
	}
	l := &survey.Scanner{Host: h, Kinds: kinds.All, Options: item.Options{Estimate: true}}
	return l.Scan(ctx, cards, func(c *card.Card) steps.Facts {
		return steps.Facts{Side: steps.OldSide, Title: c.Title}
	})
}

// writeSheet writes the survey as a page.
func writeSheet(name string, s *survey.Survey) error {
	page, err := report.Sheet(s, about.This().Version, adviceOn)
	if err != nil {
		return fault.Wrap(fault.Internal, err, "cannot create the sheet")
	}
	if err := writeOut(name, page, 0o600); err != nil {
		return fault.Wrap(fault.CannotPlace, err, "cannot write the sheet")
	}
	return nil
}

func (e *env) showSurvey(s *survey.Survey) {
	role := map[steps.Side]string{steps.OldSide: ", the old computer of this kit", steps.NewSide: ", not the old computer of this kit"}[s.Side]
	e.printf("%s (%s)%s\n", s.Computer, s.System, role)
	if len(s.Users) > 0 {
		e.printf("users: %s\n", strings.Join(s.Users, ", "))
	}
	for i := range s.Apps {
		e.showApp(&s.Apps[i])
	}
	e.showSpace(s)
	for _, a := range s.Adapters {
		if a.Risk() != "" {
			e.printf("%s the network adapter %s %s: a licence that is bound to it may be lost with it (hardware id %s)\n", e.paint("note:", table.Note), a.Name, a.Risk(), s.HardwareID)
		}
	}
	e.showNotes(s.Notes)
}

func (e *env) showNotes(notes []string) {
	for _, n := range notes {
		e.printf("%s %s\n", e.paint("note:", table.Note), n)
	}
}

// showSpace prints the space that the kit needs.
func (e *env) showSpace(s *survey.Survey) {
	e.printf("\nThe kit needs about %s, and at most %s.", bytesText(s.Space.Sealed), bytesText(s.Space.AtMost))
	if s.Space.Known {
		e.printf(" %s are free.", bytesText(int64(s.Space.Free)))
	}
	if s.Space.MaxFile > 0 {
		e.printf(" Its file system (%s) allows files up to %s; sealed files are smaller.", s.Space.System, bytesText(int64(s.Space.MaxFile)))
	}
	e.printf("\n")
}

func (e *env) showApp(a *survey.App) {
	head := e.paint(a.Title, table.Good)
	if !a.Found {
		head = e.paint(a.Title+": not found on this computer", table.Bad)
	}
	if a.Version != "" {
		head += ", version " + a.Version
		if a.Edition != "" {
			head += " (" + a.Edition + ")"
		}
		head += e.paint("  read from "+a.VersionFrom, table.Faint)
	} else {
		head += ", version unknown"
	}
	e.printf("\n%s\n", head)
	if b := basis(a); b != "" {
		e.printf("  %s\n", e.paint("card: "+b, table.Faint))
	}
	t := e.table("item", "kind", "state", "files", "size", "newest change", "where")
	t.Paths = true
	t.Right = []int{4, 5}
	for _, i := range a.Items {
		e.addItem(t, i)
	}
	e.printf("%s", t)
	e.showFacts(report.Facts(a, adviceOn))
}

func (e *env) showFacts(facts []report.Fact) {
	for _, f := range facts {
		e.printf("%s", f.Line(e.colour))
	}
}

// thoroughFlag adds the flag that reads data even if it looks unchanged.
func thoroughFlag(c *cobra.Command, thorough *bool) {
	c.Flags().BoolVar(thorough, "thorough", false, "read all sealed data again, even if size and times are unchanged")
}

func since(thorough bool) survey.Since {
	if thorough {
		return survey.Thorough
	}
	return survey.Quick
}

func (e *env) addItem(t *table.Table, i item.Inspection) {
	state := string(i.State)
	if i.State == item.Missing || i.State == item.NotReached {
		state = e.paint(state, table.Bad)
	}
	name := report.Whose(i.Item, i.User)
	if i.Secret {
		name += " (secret)"
	}
	if i.State != item.IsHere {
		t.Add(name, string(i.Kind), state, "", "", "", i.Where)
		return
	}
	newest := ""
	if i.Newest != nil && !i.Newest.IsZero() {
		newest = i.Newest.Local().Format("2006-01-02 15:04")
	}
	t.Add(name, string(i.Kind), state, countText(i.Files), bytesText(i.Bytes), newest, i.Where)
}

// jobToLook opens the kit for a check. If the passphrase is given, data is compared with the sealed
// data.
func (e *env) jobToLook(apps []string) (*move.Move, func(), error) {
	given, err := e.givenPassphrase(e.passphraseFile)
	if err != nil {
		return nil, nil, err
	}
	return e.job(apps, given != "")
}
