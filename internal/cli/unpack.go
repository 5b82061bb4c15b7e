package cli

import (
	"cmp"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/item"
	"movekit/internal/core/move"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
	"movekit/internal/core/tree"
	"movekit/internal/report"
	"movekit/internal/table"
)

func (e *env) unpackCommand() *cobra.Command {
	var ways []string
	var where [2][]string
	var takeOver, asTheyAre bool
	var state string
	c := &cobra.Command{
		Use:   "unpack [APP|APP/ITEM|APP/ITEM@USER...]",
		Short: "Put the data in place (new computer)",
		Long: `Inspect the kit, and put every item where its card says it belongs on this computer. Data
that is already here and the same is left as it is. For other existing data you are
asked in a terminal; --existing sets the answer for all, or for one app or item:

  set-aside   rename it and keep it (the default); undo moves it back
  keep-both   put both in one folder: equal files once, others side by side with a
              number in the name; a database or file gets another name beside it;
              undo separates them
  skip        keep it, and add only missing files; cannot be undone
  replace     overwrite it; cannot be undone

Unmodified data from an earlier unpack is replaced if it was packed again. If the new
computer broke, --change-computer continues on this one.

A safety copy keeps some earlier states, which status lists: --state 2026-11-30 puts the
last state of that day in place, and --state newest the newest one again.`,
		ValidArgsFunction: e.completeApps,
		RunE: func(cmd *cobra.Command, args []string) error {
			policies, err := policiesOf(ways)
			if err != nil {
				return err
			}
			return e.runStep(cmd.Context(), steps.Unpack, args, func(j *move.Move) error {
				j.Policies, j.Choices.RunAsMe, j.KeepPaths = policies, takeOver, asTheyAre
				if j.FromState, err = stateAt(j.State, state); err != nil {
					return err
				}
				if err := e.chosen(j, where); err != nil {
					return err
				}
				if slices.Contains(slices.Collect(maps.Values(policies)), tree.Replace) {
					if err := e.agree("This overwrites existing data on " + j.Computer.Name() + " and cannot be undone. Continue?"); err != nil {
						return err
					}
				}
				j.ReplaceReason, err = e.exception(cmd, "change-computer")
				return err
			}, (*move.Move).Unpack, e.showPlaced)
		},
	}
	c.Flags().StringArrayVar(&ways, "existing", nil, "`POLICY` for existing data: set-aside, keep-both, skip or replace; for one app or item: APP/ITEM=skip")
	c.RegisterFlagCompletionFunc("existing", cobra.FixedCompletions([]string{"set-aside", "keep-both", "skip", "replace"}, cobra.ShellCompDirectiveNoFileComp))
	c.Flags().BoolVar(&takeOver, "run-as-me", false, "MariaDB views, triggers and routines of a missing user run as you")
	c.Flags().BoolVar(&asTheyAre, "keep-paths", false, "do not update paths in settings")
	c.Flags().StringVar(&state, "state", "", "use the state of a safety copy at `DATE` (2026-11-30, or '2026-11-30 17:05'), or newest")
	e.exceptionFlag(c, "change-computer", "use this computer as the new one, instead of the one used so far")
	whereFlags(c, &where)
	e.overrideFlags(c)
	e.commandsFlag(c)
	return c
}

// policiesOf parses the policies for existing data: for all, or for an app or item.
func policiesOf(given []string) (map[string]tree.Policy, error) {
	out := map[string]tree.Policy{}
	for _, w := range given {
		address, word, of := strings.Cut(w, "=")
		if !of {
			address, word = "", w
		}
		switch p := tree.Policy(word); p {
		case tree.SetAside, tree.KeepBoth, tree.Skip, tree.Replace:
			out[address] = p
		default:
			return nil, fault.New(fault.Usage, "--existing must be set-aside, keep-both, skip or replace, not %q", word)
		}
	}
	return out, nil
}

// newest is the --state that is the newest content of a safety copy.
const newest = "newest"

// stateTime formats the time of a state, as --state reads it.
const stateTime = time.DateTime

// stateAt returns the journal line of the last state of a safety copy at or before a time: a day, a minute or a second. It returns nil if
// text is empty.
func stateAt(s *steps.State, text string) (*int, error) {
	switch {
	case text == "":
		return nil, nil
	case !s.Keep:
		return nil, fault.New(fault.Usage, "only a safety copy has states, and this kit is not one")
	case text == newest:
		return new(int), nil
	}
	var end time.Time
	for _, form := range []struct {
		layout string
		days   int
		lasts  time.Duration
	}{{time.DateOnly, 1, 0}, {"2006-01-02 15:04", 0, time.Minute}, {stateTime, 0, time.Second}} {
		if at, err := time.ParseInLocation(form.layout, text, time.Local); err == nil {
			end = at.AddDate(0, 0, form.days).Add(form.lasts)
		}
	}
	if end.IsZero() {
		return nil, fault.New(fault.Usage, "--state needs a date such as 2026-11-30, or a date and a time such as '2026-11-30 17:05', not %q", text)
	}
	var have []string
	for _, c := range slices.Backward(s.States) {
		if c.At.Before(end) {
			return &c.Line, nil
		}
		have = append(have, "'"+c.At.Local().Format(stateTime)+"'")
	}
	return nil, fault.New(fault.Usage, "the kit has no state from then or before; its states are %s", cmp.Or(strings.Join(have, ", "), "none: pack it first"))
}

// whereFlags adds the flags for destinations.
func whereFlags(c *cobra.Command, where *[2][]string) {
	c.Flags().StringArrayVar(&where[0], "user", nil, "`OLD=NEW` maps a user of the old computer to a user here")
	c.Flags().StringArrayVar(&where[1], "place", nil, "`APP/ITEM=PATH` puts an item at this path")
}

// chosen applies the flags for destinations.
func (e *env) chosen(m *move.Move, where [2][]string) (err error) {
	if m.Choices.Users, err = pairs("user", where[0]); err != nil {
		return err
	}
	if m.Choices.Places, err = pairs("place", where[1]); err != nil {
		return err
	}
	for address, path := range m.Choices.Places {
		if !slices.ContainsFunc(m.State.Order, func(k steps.Key) bool {
			all := k // the folder that contains several
			if c := m.Card(k.App); c != nil && c.Item(k.Item) != nil && c.Item(k.Item).Each != "" {
				all.Item = c.Item(k.Item).Name
			}
			return k.Address() == address || all.Address() == address
		}) {
			return fault.New(fault.Usage, "the kit has no sealed item %s", address)
		}
		if _, err := m.Computer.Locate(path, nil); err != nil && fault.KindOf(err) != fault.NoUser {
			return err
		}
		if !absolute.MatchString(path) {
			return fault.New(fault.Usage, "--place needs a full path, not %q", path)
		}
	}
	return m.Redirect()
}

// absolute matches the start of a full path: a folder, a drive, a share, or a term.
var absolute = regexp.MustCompile(`^([/~$%]|[A-Za-z]:[\\/]|\\\\|HK(LM|CU)\\)`)

// pairs parses a flag with NAME=VALUE.
func pairs(flag string, given []string) (map[string]string, error) {
	out := map[string]string{}
	for _, p := range given {
		name, value, ok := strings.Cut(p, "=")
		if !ok || name == "" || value == "" {
			return nil, fault.New(fault.Usage, "--%s needs %s, not %q", flag, map[string]string{"user": "OLD=NEW", "place": "APP/ITEM=PATH", "drive": "D=FOLDER"}[flag], p)
		}
		out[name] = value
	}
	return out, nil
}

func (e *env) showPlaced(j *move.Move, out []*run.Outcome) {
	t := e.table("app", "item", "files", "size", "result", "where")
	t.Paths = true
	t.Right = []int{3, 4}
	var aside []string
	for _, o := range out {
		for _, i := range o.Items {
			word := map[string]string{"placed": "in place", "left": "needs a manual step", "renewed": "replaced by the newer pack", "same": "already the same", "skipped": "existing data kept", "completed": "existing data kept; missing files added"}[i.Did]
			t.Add(o.Title, report.Whose(i.Item, i.User), countText(i.Files), bytesText(i.Bytes), e.result(i.Did != "skipped" && i.Did != "completed" && i.ManualStep == "", word, word), i.To)
			if i.Aside != "" {
				aside = append(aside, i.Aside)
			}
		}
	}
	if t.Len() > 0 {
		e.printf("%s", t)
	}
	for _, o := range out {
		for _, i := range o.Items {
			if i.PathUpdates > 0 {
				e.printf("%s %s, %s: %s in its settings; undo restores the old ones\n", e.paint("updated:", table.Note), o.Title, report.Whose(i.Item, i.User), item.Plural(i.PathUpdates, "path"))
			}
			for _, n := range slices.DeleteFunc(append([]string{i.ManualStep}, i.Notes...), func(n string) bool { return n == "" }) {
				e.printf("%s %s, %s: %s\n", e.paint("by hand:", table.Note), o.Title, i.Item, n)
			}
			for _, n := range i.NotRestored {
				e.printf("%s %s, %s: %s\n", e.paint("not kept:", table.Note), o.Title, i.Item, n)
			}
		}
	}
	for _, o := range out {
		if c := j.Card(o.App); c != nil && slices.ContainsFunc(c.Items, func(it card.Item) bool { return it.Exports != nil }) {
			e.printf("%s %s has files to import one by one: `movekit todo %s` lists them\n", e.paint("by hand:", table.Note), o.Title, o.App)
		}
	}
	if len(aside) > 0 {
		e.printf("existing data was set aside:\n")
		e.list("  ", aside)
	}
}
