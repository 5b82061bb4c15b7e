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
	page, err := report.Sheet(s, about.This().Version, gateAdvice)
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
	e.showSince(a)
	for _, i := range a.Items {
		for _, n := range i.Needs {
			e.printf("  %s depends on %s\n", whose(i.Item, i.User), n)
		}
		if i.PathSetting != "" {
			e.printf("  %s: path from %s\n", whose(i.Item, i.User), i.PathSetting)
		}
		for _, d := range i.Details {
			e.printf("  %s: %s\n", i.Item, d)
		}
		if len(i.OpenBy) > 0 {
			e.printf("  %s is open in %s%s\n", whose(i.Item, i.User), strings.Join(i.OpenBy, ", "), map[bool]string{true: "; it is copied from a snapshot"}[i.InUse])
		}
		for _, u := range i.Unreadable {
			e.printf("  %s %s\n", e.paint("unreadable:", table.Bad), u)
		}
	}
	for _, l := range a.Licences {
		serial := ""
		switch {
		case !l.Method.Info().Sealed():
		case l.Typed:
			serial = ", typed in during the pack"
		case l.Serial == "":
			serial = ", " + e.paint("not found", table.Bad)
		default:
			serial = ", " + l.Method.Info().Serial + " " + l.Serial
		}
		about := l.Method.Info().About
		if strings.Contains(about, l.Method.Info().Serial) && serial != "" {
			about, serial = "", strings.TrimPrefix(serial, ", ")
		}
		e.printf("licence %s: %s%s\n", l.Licence, about, serial)
		for _, d := range l.Warnings {
			e.printf("  %s %s\n", e.paint("note:", table.Note), d)
		}
	}
	for _, s := range a.Sync {
		e.printf("sync: %s: %s\n", s.About, e.result(s.Finished, "finished", s.Why))
	}
	for _, r := range a.Requires {
		e.printf("needed on the new computer too: %s\n", r.Name)
	}
	for _, args := range a.Withheld {
		e.printf("%s only a command of the app reports its version, and it was not run: %s\n", e.paint("note:", table.Note), strings.Join(args, " "))
	}
	for _, i := range a.Items {
		for _, d := range i.Warnings {
			e.printf("%s %s\n", e.paint("note:", table.Note), d)
		}
	}
	e.showLeft(a)
	for _, b := range a.Blocks {
		e.printf("%s %s\n  next: %s\n", e.paint("would stop the pack ("+b.Gate+"):", table.Bad), b.Why, filled(gateAdvice[b.Gate], a.App))
	}
}

// showLeft lists data that is not moved, and manual steps.
func (e *env) showLeft(a *survey.App) {
	for _, i := range a.Items {
		for _, left := range i.LeftOut {
			e.printf("left out of %s: %s\n", whose(i.Item, i.User), left)
		}
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

// showSince shows how the items changed since they were sealed.
func (e *env) showSince(a *survey.App) {
	same := map[string][]string{} // by the time of their pack
	var times []string
	for _, i := range a.Items {
		d, name := i.Since, whose(i.Item, i.User)
		if d == nil {
			continue
		}
		at := steps.Moment(d.Sealed)
		switch {
		case d.Same:
			if same[at] == nil {
				times = append(times, at)
			}
			same[at] = append(same[at], name)
		case d.Why != "":
			e.printf("%s\n", table.Block(table.Wrap(table.Sprintf("%s unknown whether %s changed since the pack (%s): %s", e.paint("note:", table.Note), name, at, d.Why), e.width)))
		default:
			e.printf("%s %s, since the pack (%s)\n", e.paint("changed:", table.Bad), name, at)
			for _, r := range d.Rows {
				switch {
				case r.Same:
				case r.What == steps.ContentRow:
					e.printf("  content: %s\n", r.New)
				default:
					e.printf("  %s: then %s, now %s\n", r.What, r.Old, r.New)
				}
			}
			for _, diff := range d.Diffs {
				e.printf("  %s\n", diff)
			}
			if more := d.Count - int64(len(d.Diffs)); more > 0 && len(d.Diffs) > 0 {
				e.printf("  and %d more\n", more)
			}
		}
	}
	for _, at := range times {
		e.printf("unchanged since the pack (%s): %s\n", at, strings.Join(same[at], ", "))
	}
}

func (e *env) addItem(t *table.Table, i item.Inspection) {
	state := string(i.State)
	if i.State == item.Missing || i.State == item.NotReached {
		state = e.paint(state, table.Bad)
	}
	name := whose(i.Item, i.User)
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
