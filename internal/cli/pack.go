package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"movekit/internal/core/fault"
	"movekit/internal/core/move"
	"movekit/internal/core/run"
	"movekit/internal/core/seal"
	"movekit/internal/core/steps"
	"movekit/internal/report"
	"movekit/internal/table"
)

func (e *env) packCommand() *cobra.Command {
	var partSize int64
	var states int
	var startAgain bool
	c := &cobra.Command{
		Use:   "pack [APP|APP/ITEM|APP/ITEM@USER...]",
		Short: "Seal data into the kit (old computer)",
		Long: `Copy every item of the apps into the kit, compressed and encrypted, with a fingerprint of
each, and verify all of it by reading it back from the stick. Databases are copied from
a consistent snapshot, even while they are in use.

Services and schedules of an app are stopped first. They stay stopped if the app was packed,
so that nothing changes its data any more. For a rehearsal, use --start-again.

A safety copy keeps its last three states, or as many as --states says: each complete pack
that changed something is one, and unpack --state puts one of them in place. What did
not change is stored once.

If a pack is interrupted, run it again: data that is complete and unchanged is kept.`,
		ValidArgsFunction: e.completeApps,
		RunE: func(cmd *cobra.Command, args []string) error {
			if partSize < 1<<16 || partSize > seal.MaxPart {
				return fault.New(fault.Usage, "--part-size must be from %d to %d bytes", 1<<16, int64(seal.MaxPart))
			}
			e.packs = true
			return e.runStep(cmd.Context(), steps.Pack, args, func(j *move.Move) error {
				switch {
				case !cmd.Flags().Changed("states"):
				case states < 1:
					return fault.New(fault.Usage, "--states must be at least 1")
				case !j.Manifest.Keep:
					return fault.New(fault.Usage, "--states is for safety copies, and this kit is not one")
				}
				j.PartSize, j.StartAgain, j.KeepStates = partSize, startAgain, states
				return nil
			}, (*move.Move).Pack, e.showPacked)
		},
	}
	c.Flags().Int64Var(&partSize, "part-size", seal.MaxPart, "maximum size of a sealed file, in `BYTES`")
	c.Flags().IntVar(&states, "states", 0, "keep this `NUMBER` of states of a safety copy (default: as before, or 3)")
	c.Flags().BoolVar(&startAgain, "start-again", false, "start services and schedules again after packing (for a rehearsal)")
	e.overrideFlags(c)
	e.commandsFlag(c)
	return c
}

func (e *env) showPacked(j *move.Move, did []*run.Outcome) {
	t := e.table("app", "item", "files", "size", "sealed", "result")
	t.Right = []int{3, 4, 5}
	var left, out, stays []string
	for _, o := range did {
		for _, i := range o.Items {
			result := "sealed and verified"
			switch i.Did {
			case "kept":
				result = "kept, unchanged"
			case "gone":
				result = "kept; no longer on this computer"
			case "stays":
				stays = append(stays, fmt.Sprintf("%s, %s: %s", o.Title, i.Item, i.To))
				continue
			}
			t.Add(o.Title, report.Whose(i.Item, i.User), countText(i.Files), bytesText(i.Bytes), bytesText(i.Size), e.result(true, result, ""))
			for _, l := range i.LeftOut {
				out = append(out, fmt.Sprintf("%s, %s: %s", o.Title, report.Whose(i.Item, i.User), l))
			}
			for _, l := range i.Left {
				left = append(left, fmt.Sprintf("%s, %s: %s", o.Title, report.Whose(i.Item, i.User), l))
			}
		}
	}
	if t.Len() > 0 {
		e.printf("%s", t)
	}
	for _, o := range did {
		for _, i := range o.Items {
			for _, n := range i.Notes {
				e.printf("%s %s\n", e.paint("note:", table.Note), n)
			}
		}
	}
	if j.AnyStopped() {
		e.printf("If the move is put off, start them again on %s: movekit retire --back\n", j.Manifest.Old.Name)
	}
	for _, o := range did {
		if p := j.State.Packed[o.App]; p != nil && len(o.Items) > 0 && len(p.NotChosen) > 0 {
			e.printf("%s %s: %s\n", e.paint("not selected, not sealed:", table.Note), o.Title, strings.Join(p.NotChosen, ", "))
		}
	}
	e.list("stays where it is: ", stays)
	e.list("left out: ", out)
	e.list("left behind: ", left)
}
