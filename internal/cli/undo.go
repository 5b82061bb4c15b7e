package cli

import (
	"github.com/spf13/cobra"

	"movekit/internal/core/move"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
	"movekit/internal/table"
)

func (e *env) undoCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "undo [APP|APP/ITEM|APP/ITEM@WHOSE...]",
		Short: "Take back what unpack did (new computer)",
		Long: `Take back what unpack put on this computer. What is unchanged is removed: it is
sealed in the kit. What was set aside gets its name back. What was worked in since
is kept under another name. What was there before, or was overwritten because you
said so, stays as it is. Licences are not touched.`,
		ValidArgsFunction: e.completeApps,
		RunE: func(cmd *cobra.Command, args []string) error {
			return e.runStep(cmd.Context(), steps.Undo, args, nil, (*move.Move).Undo, e.showUndone)
		},
	}
	e.overrideFlags(c)
	return c
}

func (e *env) showUndone(_ *move.Move, out []*run.Outcome) {
	words := map[string]string{
		"taken back": "taken back", "was here": "left: it was here before", "not taken back": "left: it was put over what was here",
		"unfinished": "unpack was cut off: run it to its end first", "nothing": "was not put here",
	}
	t := e.table("app", "item", "files", "size", "result", "where")
	t.Paths = true
	t.Right = []int{3, 4}
	for _, o := range out {
		for _, i := range o.Items {
			t.Add(o.Title, whose(i.Item, i.User), countText(i.Files), bytesText(i.Bytes), e.result(i.Did != "unfinished" && i.Did != "not taken back", words[i.Did], words[i.Did]), i.To)
		}
	}
	if t.Len() > 0 {
		e.printf("%s", t)
	}
	for _, o := range out {
		for _, i := range o.Items {
			if i.Back != "" {
				e.printf("has its name back: %s\n", i.To)
			}
			if i.Aside != "" {
				e.printf("%s was worked in since, and is kept: %s\n", e.paint("kept:", table.Note), i.Aside)
			}
			for _, n := range i.Notes {
				e.printf("%s %s\n", e.paint("kept:", table.Note), n)
			}
		}
	}
}
