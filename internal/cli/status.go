package cli

import (
	"context"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"movekit/internal/core/holder"
	"movekit/internal/core/item"
	"movekit/internal/core/kit"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
	"movekit/internal/core/survey"
	"movekit/internal/report"
	"movekit/internal/table"
)

// appStatus is a row of status.
type appStatus struct {
	App   string                    `json:"app"`
	Title string                    `json:"title"`
	Steps map[steps.Step]steps.Done `json:"steps"`
}

// due is the next step.
type due struct {
	Step     steps.Step `json:"step,omitempty"`
	Apps     []string   `json:"apps,omitempty"`
	Computer string     `json:"computer,omitempty"`
	Command  string     `json:"command,omitempty"`
	Why      string     `json:"why"`
}

func statusOf(k *kit.Kit) ([]appStatus, *steps.State) {
	s := steps.Fold(k.Manifest, k.Log.Lines)
	var out []appStatus
	for _, c := range s.Cards(k.Cards) {
		a := appStatus{App: c.Name, Title: c.Title, Steps: map[steps.Step]steps.Done{}}
		for _, w := range steps.Work {
			a.Steps[w.Step] = s.Progress(c, w.Step)
		}
		out = append(out, a)
	}
	return out, s
}

// progress opens the kit and returns its progress.
func (e *env) progress() (*kit.Kit, []appStatus, *steps.State, due, error) {
	k, err := e.openKit()
	if err != nil {
		return nil, nil, nil, due{}, err
	}
	apps, s := statusOf(k)
	return k, apps, s, nextOf(k, s), nil
}

// nextOf returns the next step, with its command.
func nextOf(k *kit.Kit, s *steps.State) due {
	if len(k.Log.Damage) > 0 {
		return due{Command: "movekit inspect", Why: "the kit's journal is damaged"}
	}
	d := s.Next(s.Cards(k.Cards))
	switch {
	case s.Closed != nil:
		return due{Why: "the kit is closed"}
	case d.Step == "" && s.Keep:
		return due{Why: "it was packed at " + steps.Moment(s.SealedLast()) + "; pack it again from time to time"}
	case d.Step == "":
		if s.Back != nil {
			return due{Why: "the kit " + s.Back.Kit + " takes this move back, from " + s.New.Name + " to " + s.Old.Name}
		}
		return due{Why: "everything is done"}
	}
	where := map[steps.Side]string{steps.OldSide: k.Manifest.Old.Name, steps.NewSide: s.New.Name}[d.Side]
	if d.Lost != "" {
		return due{Step: d.Step, Apps: d.Apps, Computer: where, Command: "movekit " + string(d.Step) + " --lost --because REASON", Why: "the licence is not deactivated on " + d.Lost + ", which was replaced"}
	}
	return due{Step: d.Step, Apps: d.Apps, Computer: where, Command: "movekit " + string(d.Step), Why: stepWhy[d.Step]}
}

const packAgain = "data changed since the last pack"

var stepWhy = map[steps.Step]string{
	steps.Pack:       "data is not sealed yet",
	steps.Deactivate: "the licence is still active on the old computer",
	steps.Unpack:     "data is not in place yet",
	steps.Activate:   "the licence is not active on the new computer yet",
	steps.Verify:     "old and new are not compared yet",
	steps.Todo:       "exports still have to be imported by hand",
	steps.Report:     "everything is verified; the owner should get the handover",
	steps.Retire:     "the old data is still in place, so that people could continue to use it",
	steps.Close:      "everything is done, but the kit still contains the office's data",
}

func (e *env) statusCommand() *cobra.Command {
	var check bool
	c := &cobra.Command{
		Use:   "status [APP...]",
		Short: "Show each app step by step, and the next command",
		Long: `Show the progress of each app and the next command to run. On the old computer, Move Kit
also checks whether data changed since the pack: without the passphrase by size, times and
permissions. With --check, it also asks for the state of each licence, here and at the
licence services. Nothing is changed. A licence state that is new is recorded.`,
		ValidArgsFunction: e.completeApps,
		RunE: func(cmd *cobra.Command, args []string) error {
			k, apps, s, next, err := e.progress()
			if err != nil {
				return err
			}
			since, licences, err := e.checkNow(cmd.Context(), args, check)
			if err != nil && check {
				return err
			}
			if err != nil {
				e.say("%s whether data changed since the pack is unknown: %v\n", e.paint("note:", table.Note), err)
			}
			if check { // it may have recorded what it saw of a licence
				if k, apps, s, next, err = e.progress(); err != nil {
					return err
				}
			}
			next = orPack(next, k, since)
			if len(args) > 0 {
				apps = slices.DeleteFunc(apps, func(a appStatus) bool { return !slices.Contains(args, a.App) })
			}
			if e.json {
				return e.object(map[string]any{"kit": k.Manifest, "apps": apps, "next": next, "overrides": len(s.Overrides), "since_sealed": since, "licences": licences, "states": statesOf(s)})
			}
			if k.Manifest.Keep {
				e.printf("Kit %s: safety copy of %s\n", k.Manifest.ID, k.Manifest.Old.Name)
				e.showStates(s)
			} else {
				e.printf("Kit %s: %s to %s\n", k.Manifest.ID, k.Manifest.Old.Name, s.New.Name)
			}
			e.printf("%s", e.stepTable(apps))
			e.showLooked(since)
			if n := len(s.Overrides); n > 0 {
				e.printf("%s overridden; the report says which and why\n", item.Plural(int64(n), "gate"))
			}
			e.showLicenceStatuses(&k.Manifest, licences)
			e.showNext(next)
			return nil
		},
	}
	c.Flags().BoolVar(&check, "check", false, "also check this computer and ask the licence services")
	e.commandsFlag(c)
	return c
}

// copyState is a state of a safety copy.
type copyState struct {
	At    time.Time `json:"at"`
	Items int       `json:"items"`
	InUse bool      `json:"in_use,omitempty"` // the last unpack used it
}

func statesOf(s *steps.State) []copyState {
	out := []copyState{}
	for _, c := range s.States {
		out = append(out, copyState{c.At, len(c.Items), c.Line == s.Past})
	}
	return out
}

// showStates lists the states of a safety copy, the newest first.
func (e *env) showStates(s *steps.State) {
	for i, c := range slices.Backward(statesOf(s)) {
		note := ""
		if c.InUse {
			note = "; in use"
		}
		e.printf("%s %s (%s%s)\n", map[bool]string{true: "states:", false: "       "}[i == len(s.States)-1], c.At.Local().Format(stateTime), item.Plural(int64(c.Items), "item"), note)
	}
}

// showLooked lists the apps that changed since the pack.
func (e *env) showLooked(apps []survey.App) {
	var same []string
	for _, a := range apps {
		if !slices.ContainsFunc(a.Items, func(i item.Inspection) bool { return i.Since != nil }) {
			continue // not packed, or set aside
		}
		if changedIn(a) == 0 {
			same = append(same, a.Title)
			continue
		}
		e.printf("\n%s\n", e.paint(a.Title, table.Note))
		e.showFacts(report.Changes(&a))
	}
	if len(same) > 0 {
		e.printf("\nunchanged since the pack: %s\n", strings.Join(same, ", "))
	}
}

// changedIn returns how many items of an app changed since the pack, or may have changed.
func changedIn(a survey.App) (n int) {
	for _, i := range a.Items {
		if i.Since != nil && !i.Since.Same {
			n++
		}
	}
	return n
}

// orPack returns the next step, which is a pack if data changed since the last one.
func orPack(next due, k *kit.Kit, since []survey.App) due {
	for _, a := range since {
		if changedIn(a) == 0 {
			continue
		}
		if next.Step != steps.Pack || next.Why != packAgain {
			next = due{Step: steps.Pack, Computer: k.Manifest.Old.Name, Command: "movekit pack", Why: packAgain}
		}
		next.Apps = append(next.Apps, a.App)
	}
	return next
}

// checkNow returns the changes of apps since the pack, if this is the old computer. With ask it also returns the
// current state of their licences.
func (e *env) checkNow(ctx context.Context, apps []string, ask bool) (since []survey.App, licences []holder.Status, err error) {
	j, closeJob, err := e.jobToLook(apps)
	if err != nil {
		return nil, nil, err
	}
	defer closeJob()
	defer e.done()
	if !ask {
		j.Technician = run.NonInteractive{} // a look asks for no password
	}
	if j.Side() == steps.OldSide && (ask || len(j.State.Items) > 0) {
		if since, err = j.Drift(ctx); err != nil {
			return nil, nil, err
		}
	}
	if ask {
		licences, err = j.Licences().Statuses(ctx)
	}
	return since, licences, err
}

// stepTable returns a table with the progress of each app.
func (e *env) stepTable(apps []appStatus) *table.Table {
	head := []string{"app"}
	for _, w := range steps.Work {
		head = append(head, string(w.Step))
	}
	t := e.table(head...)
	for _, a := range apps {
		row := []string{a.Title}
		for _, w := range steps.Work {
			row = append(row, e.doneText(a.Steps[w.Step]))
		}
		t.Add(row...)
	}
	return t
}

func (e *env) doneText(d steps.Done) string {
	switch d {
	case steps.Yes:
		return e.paint("done", table.Good)
	case steps.Bad:
		return e.paint("DIFFERS", table.Bad)
	case steps.Partly:
		return e.paint("in part", table.Note)
	case steps.Nothing:
		return e.paint("nothing to do", table.Faint)
	}
	return "-"
}

func (e *env) showNext(d due) {
	if d.Command == "" {
		e.printf("next: nothing; %s\n", d.Why)
		return
	}
	where := ""
	if d.Computer != "" {
		where = " on " + d.Computer
	}
	e.printf("next: %s%s (%s)\n", d.Command, where, d.Why)
	if len(d.Apps) > 0 {
		e.printf("apps: %s\n", strings.Join(d.Apps, ", "))
	}
}
