package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/item"
	"movekit/internal/core/move"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
	"movekit/internal/core/tree"
	"movekit/internal/table"
)

func (e *env) unpackCommand() *cobra.Command {
	var policy string
	var users []string
	var takeOver bool
	c := &cobra.Command{
		Use:   "unpack [APP...]",
		Short: "Put data in its place (new computer)",
		Long: `Inspect the kit, and put every item where its card says it belongs on this
computer. What is there and the same already is left alone. What is there and
differs is in the way:

  set-aside   rename it, and keep it (the usual)
  keep-both   put what comes from the old computer beside it
  skip        leave it, and add only what is not there
  replace     overwrite it

What an earlier unpack put here, and nobody has worked in since, is renewed where it
was packed again. Where the new computer itself broke, --instead REASON goes on with
this one.`,
		ValidArgsFunction: e.completeApps,
		RunE: func(cmd *cobra.Command, args []string) error {
			mapping, err := userMap(users)
			if err != nil {
				return err
			}
			p := tree.Policy(policy)
			switch p {
			case tree.SetAside, tree.KeepBoth, tree.Skip, tree.Replace:
			default:
				return fault.New(fault.Usage, "--in-the-way is set-aside, keep-both, skip or replace, not %q", policy)
			}
			return e.runStep(cmd.Context(), steps.Unpack, args, func(j *move.Move) error {
				j.Policy, j.Say = p, item.Choices{Users: mapping, Mine: takeOver}
				if p == tree.Replace {
					if err := e.agree("What is in the way on " + j.Computer.Name() + " is overwritten, and undo cannot give it back. Go on?"); err != nil {
						return err
					}
				}
				return reasonOf(cmd, "instead", &j.Instead)
			}, (*move.Move).Unpack, e.showPlaced)
		},
	}
	c.Flags().StringVar(&policy, "in-the-way", string(tree.SetAside), "what happens to what is in the way: set-aside, keep-both, skip, replace")
	c.RegisterFlagCompletionFunc("in-the-way", cobra.FixedCompletions([]string{"set-aside", "keep-both", "skip", "replace"}, cobra.ShellCompDirectiveNoFileComp))
	c.Flags().BoolVar(&takeOver, "take-over", false, "what runs as a user of the database server who is not here runs as you (views, triggers, routines of MariaDB)")
	c.Flags().String("instead", "", "this is the new computer in place of the one before; `REASON` says why")
	e.userFlag(c, &users)
	e.overrideFlags(c)
	e.commandsFlag(c)
	return c
}

func (e *env) userFlag(c *cobra.Command, users *[]string) {
	c.Flags().StringArrayVar(users, "user", nil, "OLD=NEW: the user of the old computer is this one here")
}

func userMap(pairs []string) (map[string]string, error) {
	out := map[string]string{}
	for _, p := range pairs {
		old, now, ok := strings.Cut(p, "=")
		if !ok || old == "" || now == "" {
			return nil, fault.New(fault.Usage, "--user takes OLD=NEW, not %q", p)
		}
		out[old] = now
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
			word := map[string]string{"placed": "in place", "renewed": "renewed", "same": "the same already", "skipped": "left as it was", "completed": "left; what was missing is added"}[i.Did]
			t.Add(o.Title, whose(i.Item, i.User), fmt.Sprint(i.Files), bytesText(i.Bytes), e.result(i.Did != "skipped" && i.Did != "completed", word, word), i.To)
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
			for _, n := range i.Notes {
				e.printf("%s %s, %s: %s\n", e.paint("by hand:", table.Note), o.Title, i.Item, n)
			}
			for _, n := range i.Unkept {
				e.printf("%s %s, %s: %s\n", e.paint("not kept:", table.Note), o.Title, i.Item, n)
			}
		}
	}
	for _, o := range out {
		if c := j.Card(o.App); c != nil && slices.ContainsFunc(c.Items, func(it card.Item) bool { return it.Exports != nil }) {
			e.printf("%s %s has files that you take in one by one: `movekit todo %s` lists them\n", e.paint("by hand:", table.Note), o.Title, o.App)
		}
	}
	if len(aside) > 0 {
		e.printf("set aside what was there:\n")
		e.list("  ", aside)
	}
}
