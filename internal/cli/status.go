package cli

import (
	"strings"

	"github.com/spf13/cobra"

	"movekit/internal/core/kit"
	"movekit/internal/core/steps"
	"movekit/internal/table"
)

// workSteps are the steps that are shown app by app, with the computer they
// run on.
var workSteps = []struct {
	step steps.Step
	side steps.Side
}{
	{steps.Pack, steps.OldSide}, {steps.Deactivate, steps.OldSide},
	{steps.Unpack, steps.NewSide}, {steps.Activate, steps.NewSide}, {steps.Verify, steps.NewSide},
}

// appStatus is a row of status.
type appStatus struct {
	App   string                    `json:"app"`
	Title string                    `json:"title"`
	Steps map[steps.Step]steps.Done `json:"steps"`
}

// due is the step that comes next.
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
	for _, c := range k.Cards {
		a := appStatus{App: c.Name, Title: c.Title, Steps: map[steps.Step]steps.Done{}}
		for _, w := range workSteps {
			a.Steps[w.step] = s.Progress(c.Name, w.step, len(c.Licences))
		}
		out = append(out, a)
	}
	return out, s
}

// progress opens the kit and tells how far it is.
func (e *env) progress() (*kit.Kit, []appStatus, *steps.State, due, error) {
	k, err := e.openKit()
	if err != nil {
		return nil, nil, nil, due{}, err
	}
	apps, s := statusOf(k)
	return k, apps, s, nextOf(k, apps, s), nil
}

// nextOf finds the first step that an app has not done.
func nextOf(k *kit.Kit, apps []appStatus, s *steps.State) due {
	if len(k.Log.Damage) > 0 {
		return due{Command: "movekit inspect", Why: "the kit's journal is damaged"}
	}
	trying := map[string]bool{}
	for _, c := range k.Cards {
		trying[c.Name] = s.Trying(c)
	}
	for _, w := range workSteps {
		if w.step == steps.Verify {
			for _, c := range k.Cards {
				if s.Waiting(c) {
					return due{Apps: []string{c.Name}, Computer: k.Manifest.New.Name, Command: "movekit todo", Why: "a person takes in what the app exported, file by file"}
				}
			}
		}
		d := due{Step: w.step, Computer: k.Manifest.Old.Name}
		if w.side == steps.NewSide {
			d.Computer = k.Manifest.New.Name
		}
		for _, a := range apps {
			if trying[a.App] && (w.step == steps.Deactivate || w.step == steps.Activate) {
				continue // its data is proven first
			}
			switch a.Steps[w.step] {
			case steps.No, steps.Partly, steps.Bad:
				d.Apps = append(d.Apps, a.App)
			}
		}
		if len(d.Apps) > 0 {
			d.Command, d.Why = "movekit "+string(w.step), stepWhy[w.step]
			return d
		}
	}
	if s.Reported.IsZero() {
		return due{Command: "movekit report", Why: "everything is proven; the owner should have the hand-over"}
	}
	return due{Why: "everything is done"}
}

var stepWhy = map[steps.Step]string{
	steps.Pack:       "data is not sealed yet",
	steps.Deactivate: "the licence is still active on the old computer",
	steps.Unpack:     "data is not in place yet",
	steps.Activate:   "the licence is not active on the new computer yet",
	steps.Verify:     "it is not proven yet that old and new are the same",
}

func (e *env) statusCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "status",
		Short: "See each app step by step",
		Args:  cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			k, apps, s, next, err := e.progress()
			if err != nil {
				return err
			}
			if e.json {
				return e.object(map[string]any{"kit": k.Manifest, "apps": apps, "next": next, "overrides": len(s.Overrides)})
			}
			e.printf("Kit %s: %s to %s\n", k.Manifest.ID, k.Manifest.Old.Name, k.Manifest.New.Name)
			t := e.table("app", "pack", "deactivate", "unpack", "activate", "verify")
			for _, a := range apps {
				row := []string{a.Title}
				for _, w := range workSteps {
					row = append(row, e.doneText(a.Steps[w.step]))
				}
				t.Add(row...)
			}
			e.printf("%s", t)
			if n := len(s.Overrides); n > 0 {
				e.printf("%s overridden; the report says which and why\n", plural(int64(n), "gate"))
			}
			e.showNext(next)
			return nil
		},
	}
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
}

func (e *env) nextCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "next",
		Short: "See which step is due",
		Args:  cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			_, _, _, d, err := e.progress()
			if err != nil {
				return err
			}
			if e.json {
				return e.object(d)
			}
			e.showNext(d)
			if len(d.Apps) > 0 {
				e.printf("apps: %s\n", strings.Join(d.Apps, ", "))
			}
			return nil
		},
	}
}
