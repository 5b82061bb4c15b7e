package cli

import (
	"github.com/spf13/cobra"

	"movekit/internal/core/move"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
	"movekit/internal/report"
	"movekit/internal/table"
)

func (e *env) undoCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "undo [APP|APP/ITEM|APP/ITEM@USER...]",
		Short: "Undo an unpack (new computer)",
		Long: `Undo an unpack on this computer. Unmodified data is removed, because the kit has it, and
data that was set aside is moved back. Data that was modified since is kept under
another name. Data that was here before, or was overwritten because you chose to, stays
as it is. Licences are not changed.`,
		ValidArgsFunction: e.completeApps,
		RunE: func(cmd *cobra.Command, args []string) error {
			return e.runStep(cmd.Context(), steps.Undo, args, nil, (*move.Move).Undo, e.showUndone)
		},
	}
	e.commandsFlag(c)
	e.overrideFlags(c)
	return c
}

func (e *env) showUndone(_ *move.Move, out []*run.Outcome) {
	words := map[string]string{
		"undone": "undone", "was here": "kept: it was here before", "not undone": "kept: the data here before was overwritten",
		"unfinished": "unpack was interrupted: complete it first", "nothing": "was not put here",
	}
	t := e.table("app", "item", "files", "size", "result", "where")
	t.Paths = true
	t.Right = []int{3, 4}
	for _, o := range out {
		for _, i := range o.Items {
			t.Add(o.Title, report.Whose(i.Item, i.User), countText(i.Files), bytesText(i.Bytes), e.result(i.Did != "unfinished" && i.Did != "not undone", words[i.Did], words[i.Did]), i.To)
		}
	}
	if t.Len() > 0 {
		e.printf("%s", t)
	}
	for _, o := range out {
		for _, i := range o.Items {
			if i.Back != "" {
				e.printf("moved back: %s\n", i.To)
			}
			if i.Aside != "" {
				e.printf("%s was modified since, and is kept: %s\n", e.paint("kept:", table.Note), i.Aside)
			}
			for _, n := range i.Notes {
				e.printf("%s %s\n", e.paint("kept:", table.Note), n)
			}
		}
	}
}
