package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"movekit/internal/core/item"
	"movekit/internal/core/licence"
	"movekit/internal/core/move"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
)

func (e *env) deactivateCommand() *cobra.Command {
	var thorough bool
	c := &cobra.Command{
		Use:   "deactivate [APP...]",
		Short: "Deactivate the licences (old computer)",
		Long: `Deactivate each licence on the old computer. All data of its app must be sealed,
undamaged and unchanged since: if somebody used the app, pack again first. The service's
signed answer is kept in the journal. If an answer is lost, run the same command again:
Move Kit first asks the service what it has done.

If the old computer no longer starts, or the app is no longer on it, --lost deactivates
its licences without it, from either computer: through the service if there is one, else
by manual steps with the vendor ("movekit licence letter" writes the letter).

If the move goes back to the old computer, --back deactivates the licences on the new one;
then "movekit activate --back" activates them on the old one again.`,
		ValidArgsFunction: e.completeApps,
		RunE: func(cmd *cobra.Command, args []string) error {
			return e.runStep(cmd.Context(), steps.Deactivate, args, func(j *move.Move) error {
				var err error
				if j.Exceptions.Lost, err = e.exception(cmd, "lost"); err != nil {
					return err
				}
				if j.Exceptions.Back, err = e.exception(cmd, "back"); err != nil {
					return err
				}
				if j.ReplaceReason, err = e.exception(cmd, "change-computer"); err != nil {
					return err
				}
				j.Since = since(thorough)
				on := j.Manifest.Old.Name
				if j.Exceptions.Back != "" {
					on = j.State.New.Name
				}
				return e.ask("Deactivate the apps' licences on " + on + "?")
			}, (*move.Move).Deactivate, e.showLicences)
		},
	}
	e.lostFlag(c)
	e.exceptionFlag(c, "change-computer", "use this computer as the new one, instead of one that broke; with --lost")
	e.exceptionFlag(c, "back", "deactivate on the new computer, because the move goes back")
	thoroughFlag(c, &thorough)
	e.commandsFlag(c)
	e.overrideFlags(c)
	return c
}

func (e *env) activateCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "activate [APP...]",
		Short: "Activate the licences (new computer)",
		Long: `Activate each licence on this computer, once it is not active on the old one. This may
use one transfer of the licence, and never two.

If a licence is still active on the old computer, its rule may allow one of these:
--takeover disables it there and uses a transfer, after showing how many are left;
--second-seat activates a second seat here and leaves the old computer active.

If the move goes back, --back activates the licences on the old computer again, once they
are not active on the new one ("movekit deactivate --back" there).`,
		ValidArgsFunction: e.completeApps,
		RunE: func(cmd *cobra.Command, args []string) error {
			return e.runStep(cmd.Context(), steps.Activate, args, func(j *move.Move) error {
				var err error
				if j.Exceptions.Takeover, err = e.exception(cmd, "takeover"); err != nil {
					return err
				}
				if j.Exceptions.Second, err = e.exception(cmd, "second-seat"); err != nil {
					return err
				}
				if j.Exceptions.Back, err = e.exception(cmd, "back"); err != nil {
					return err
				}
				e.beforeActivation(j)
				return e.ask("Activate the apps' licences on " + j.Computer.Name() + "? Each may use a transfer.")
			}, (*move.Move).Activate, e.showLicences)
		},
	}
	e.takeoverFlag(c)
	e.exceptionFlag(c, "second-seat", "activate a second seat, and leave the old computer active")
	e.exceptionFlag(c, "back", "activate on the old computer again, because the move goes back")
	c.MarkFlagsMutuallyExclusive("takeover", "second-seat")
	c.MarkFlagsMutuallyExclusive("back", "second-seat")
	e.commandsFlag(c)
	e.overrideFlags(c)
	return c
}

func (e *env) lostFlag(c *cobra.Command) {
	e.exceptionFlag(c, "lost", "deactivate without the old computer, because it is lost or broken")
}

func (e *env) takeoverFlag(c *cobra.Command) {
	e.exceptionFlag(c, "takeover", "activate here although the old computer is still active, and disable it there")
}

// beforeActivation shows what the journal knows of the licences that are about to be activated.
func (e *env) beforeActivation(j *move.Move) {
	cards, err := j.SelectedCards()
	if err != nil {
		return // the step itself will report it
	}
	for _, c := range cards {
		for _, l := range c.Licences {
			st := j.State.Licence(c.Name, l.Name)
			text := leftText(st.Left) + " left"
			if st.Left < 0 {
				text = "number of transfers unknown"
			}
			if st.Used > 0 {
				text += fmt.Sprintf(", %s used by this move", item.Plural(int64(st.Used), "transfer"))
			}
			if l.Desk != nil {
				text += "; the desk knows this computer as " + j.Self().ID
			}
			e.say("%s, licence %s: %s\n", c.Title, l.Name, text)
		}
	}
}

// agree asks before something irreversible.
func (e *env) agree(question string) error {
	e.done()
	if e.yes {
		e.say("%s (agreed to with --yes)\n", strings.TrimSuffix(question, " Continue?"))
	}
	return e.ask(question)
}

func (e *env) showLicences(j *move.Move, out []*run.Outcome) {
	t := e.table("app", "licence", "serial", "old", "new", "left", "result")
	var none []string
	for _, o := range out {
		if len(o.Licences) == 0 && len(o.Blocks) == 0 && o.Err == nil {
			none = append(none, o.Title)
		}
		for _, l := range o.Licences {
			result := l.Did
			if l.Used > 0 && strings.HasPrefix(l.Did, "activated") {
				result += fmt.Sprintf(", %s used by this move", item.Plural(int64(l.Used), "transfer"))
			}
			t.Add(o.Title, l.Licence, l.Serial, stateText(l.Old), stateText(l.New), leftText(l.Transfers), e.result(l.Good, result, result))
		}
	}
	if t.Len() > 0 {
		e.printf("%s", t)
	}
	if len(none) > 0 {
		e.printf("No licence to move: %s\n", strings.Join(none, ", "))
	}
	for _, o := range out {
		for _, l := range o.Licences {
			if l.Aside != "" {
				e.printf("%s, licence %s, set aside: %s\n", o.Title, l.Licence, l.Aside)
			}
			if l.Disabled {
				e.printf("%s, licence %s was taken over from %s: it is now disabled there\n", o.Title, l.Licence, l.DisabledOn)
			}
			if l.Token != "" {
				e.printf("%s keeps its activation in %s\n", o.Title, l.Token)
			}
		}
	}
}

func stateText(s licence.State) string { return string(s) }

func leftText(n int) string {
	if n < 0 {
		return "unknown"
	}
	return item.Plural(int64(n), "transfer")
}
