package cli

import (
	"context"
	"strings"

	"github.com/spf13/cobra"

	"movekit/internal/core/fault"
	"movekit/internal/core/item"
	"movekit/internal/core/kit"
	"movekit/internal/core/steps"
	"movekit/internal/core/survey"
	"movekit/internal/table"
)

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
	for _, c := range s.Cards(k.Cards) {
		a := appStatus{App: c.Name, Title: c.Title, Steps: map[steps.Step]steps.Done{}}
		for _, w := range steps.Work {
			a.Steps[w.Step] = s.Progress(c, w.Step)
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
	return k, apps, s, nextOf(k, s), nil
}

// nextOf says which step comes next, and by which command.
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
		return due{Why: "everything is done"}
	}
	where := map[steps.Side]string{steps.OldSide: k.Manifest.Old.Name, steps.NewSide: s.New.Name}[d.Side]
	return due{Step: d.Step, Apps: d.Apps, Computer: where, Command: "movekit " + string(d.Step), Why: stepWhy[d.Step]}
}

const packAgain = "people went on working there; it seals what changed"

var stepWhy = map[steps.Step]string{
	steps.Pack:       "data is not sealed yet",
	steps.Deactivate: "the licence is still active on the old computer",
	steps.Unpack:     "data is not in place yet",
	steps.Activate:   "the licence is not active on the new computer yet",
	steps.Verify:     "it is not proven yet that old and new are the same",
	steps.Todo:       "a person takes in what the app exported, file by file",
	steps.Report:     "everything is proven; the owner should have the hand-over",
	steps.Retire:     "the old data is still where people could go on working in it",
	steps.Close:      "everything is done; the kit still holds the office's data",
}

func (e *env) statusCommand() *cobra.Command {
	var look bool
	c := &cobra.Command{
		Use:   "status",
		Short: "See each app step by step",
		Long: `See how far each app is with each step, and what comes next. It looks at the kit
alone; --look, on the old computer, also sees what became there of what is sealed.`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			var since []survey.App
			if look {
				var err error
				if since, err = e.sinceSealed(cmd.Context()); err != nil {
					return err
				}
			}
			k, apps, s, next, err := e.progress()
			if err != nil {
				return err
			}
			for _, a := range since {
				if changedIn(a) > 0 && (next.Step != steps.Pack || next.Why != packAgain) {
					next = due{Step: steps.Pack, Computer: k.Manifest.Old.Name, Command: "movekit pack", Why: packAgain}
				}
				if changedIn(a) > 0 {
					next.Apps = append(next.Apps, a.App)
				}
			}
			if e.json {
				return e.object(map[string]any{"kit": k.Manifest, "apps": apps, "next": next, "overrides": len(s.Overrides), "since_sealed": since})
			}
			if k.Manifest.Keep {
				e.printf("Kit %s: safety copy of %s\n", k.Manifest.ID, k.Manifest.Old.Name)
			} else {
				e.printf("Kit %s: %s to %s\n", k.Manifest.ID, k.Manifest.Old.Name, s.New.Name)
			}
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
			e.printf("%s", t)
			e.showLooked(since)
			if n := len(s.Overrides); n > 0 {
				e.printf("%s overridden; the report says which and why\n", item.Plural(int64(n), "gate"))
			}
			e.showNext(next)
			return nil
		},
	}
	c.Flags().BoolVar(&look, "look", false, "on the old computer: see what changed since it was sealed")
	return c
}

// showLooked says which apps are not what was sealed any more, and how.
func (e *env) showLooked(apps []survey.App) {
	var same []string
	for _, a := range apps {
		if changedIn(a) == 0 {
			same = append(same, a.Title)
			continue
		}
		e.printf("\n%s\n", e.paint(a.Title, table.Note))
		e.showSince(&a)
	}
	if len(same) > 0 {
		e.printf("\nas it was sealed: %s\n", strings.Join(same, ", "))
	}
}

// changedIn is how many items of an app are not what was sealed, or not known to be.
func changedIn(a survey.App) (n int) {
	for _, i := range a.Items {
		if i.Since != nil && !i.Since.Same {
			n++
		}
	}
	return n
}

// sinceSealed looks what became of the apps on the old computer.
func (e *env) sinceSealed(ctx context.Context) ([]survey.App, error) {
	j, closeJob, err := e.jobToLook(nil)
	if err != nil {
		return nil, err
	}
	defer closeJob()
	if j.Side() != steps.OldSide {
		return nil, fault.New(fault.Usage, "this is not the old computer %s, where it can be seen what became of what is sealed", j.Manifest.Old.Name)
	}
	defer e.done()
	return j.Drift(ctx)
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
