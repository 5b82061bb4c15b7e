package cli

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"movekit/internal/core/board"
	"movekit/internal/core/fault"
	"movekit/internal/core/item"
	"movekit/internal/core/steps"
	"movekit/internal/report"
	"movekit/internal/table"
)

func (e *env) boardCommand() *cobra.Command {
	var page, store, from, one string
	c := &cobra.Command{
		Use:   "board DIR...",
		Short: "Show many moves at a glance",
		Long: `Find the kits below folders, and the records of closed ones. Show each move on one line:
which steps are done, the next step and its computer, and how long the move has been
open. Licences with a deadline come first. --move shows the apps of one move. The board
shows what the kits say; it does not check them with their passphrases.

--store saves the moves in a PostgreSQL database that several technicians can share,
and --from shows the moves in it. The address must not contain a password: use
~/.pgpass or PGPASSWORD.`,
		Example: "  movekit board /srv/moves\n  movekit board /srv/moves --html board.html --store postgres://board@server/moves\n  movekit board --from postgres://board@server/moves",
		RunE: func(cmd *cobra.Command, args []string) error {
			if (len(args) == 0) == (from == "") {
				return fault.New(fault.Usage, "give folders to search, or a database with --from")
			}
			now := time.Now()
			var all []board.Move
			var bad []board.Unread
			var err error
			if from == "" {
				all, bad, err = board.Find(cmd.Context(), args, now)
			} else {
				all, err = kept(cmd, from, func(d *board.Database) ([]board.Move, error) { return d.Load(cmd.Context()) })
			}
			if err != nil {
				return err
			}
			if one != "" {
				if all = slices.DeleteFunc(all, func(m board.Move) bool {
					return m.Kit != one && !strings.EqualFold(m.Old.Name, one) && !strings.EqualFold(m.New.Name, one)
				}); len(all) == 0 {
					return fault.New(fault.Usage, "there is no move of %s", one)
				}
			}
			if store != "" {
				if _, err := kept(cmd, store, func(d *board.Database) ([]board.Move, error) { return nil, d.Store(cmd.Context(), all) }); err != nil {
					return err
				}
			}
			if page != "" {
				html, err := report.Board(all, now)
				if err == nil {
					err = writeOut(page, html, 0o644)
				}
				if err != nil {
					return fault.Wrap(fault.CannotPlace, err, "cannot write the page")
				}
			}
			if e.json {
				return e.object(map[string]any{"moves": all, "unreadable": bad})
			}
			if e.showBoard(all, bad, now); one != "" {
				for i := range all {
					e.showMove(&all[i])
				}
			}
			if store != "" {
				e.printf("stored: %s\n", item.Plural(int64(len(all)), "move"))
			}
			if page != "" {
				e.printf("wrote %s\n", page)
			}
			return nil
		},
	}
	c.Flags().StringVar(&page, "html", "", "also write an HTML page to this `FILE`")
	c.Flags().StringVar(&one, "move", "", "show the apps of one move: the `NAME` of its old or new computer, or its kit's id")
	c.Flags().StringVar(&store, "store", "", "store the moves in the PostgreSQL database at `URL` (postgres://USER@HOST/NAME)")
	c.Flags().StringVar(&from, "from", "", "show the moves in the PostgreSQL database at `URL`")
	return c
}

// kept calls do with an open database of moves.
func kept(cmd *cobra.Command, address string, do func(*board.Database) ([]board.Move, error)) ([]board.Move, error) {
	d, err := board.OpenDatabase(cmd.Context(), address)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	return do(d)
}

func (e *env) showBoard(all []board.Move, bad []board.Unread, now time.Time) {
	t := e.table("steps", "due", "on", "days", "waits until", "move", "folder")
	t.Right, t.Paths = []int{4}, true
	for i := range all {
		m := &all[i]
		due, mark := string(m.Due), table.Note
		switch sort := m.Group(now); sort {
		case board.IsClosed, board.IsDone:
			due, mark = sort, table.Good
		case board.IsCopy:
			due, mark = sort, table.Faint
		}
		if m.Back != "" {
			due = "moved back"
		}
		until := ""
		if at := m.Until(now); !at.IsZero() {
			until = at.Local().Format("2 Jan 15:04")
		}
		t.Add(stepBar(m), e.paint(due, mark), m.On, fmt.Sprint(m.Days(now)), until, moveName(*m), m.Folder)
	}
	if t.Len() > 0 {
		var names []string
		for _, w := range steps.Work {
			names = append(names, string(w.Step))
		}
		e.printf("%s", t)
		e.printf("steps: %s. # done, + in part, ! differs, - nothing to do\n", strings.Join(names, ", "))
	} else {
		e.printf("No kits were found.\n")
	}
	for _, m := range all {
		for _, d := range m.Dates {
			word, mark := "can be activated again from", table.Note
			if d.Back {
				if word, mark = "must be active again by", table.Note; d.At.Before(now) {
					word, mark = "had to be active again by", table.Bad
				}
			}
			e.printf("%s %s, %s: the licence %s %s %s\n", e.paint("date:", mark), moveName(m), d.App, d.Licence, word, steps.Moment(d.At))
		}
	}
	for _, b := range bad {
		e.printf("%s %s: %s\n", e.paint("unreadable:", table.Bad), b.Folder, b.Why)
	}
}

// stepBar shows the steps of a move in order, one character each.
func stepBar(m *board.Move) string {
	var b strings.Builder
	for _, w := range steps.Work {
		b.WriteString(map[steps.Done]string{steps.Yes: "#", steps.Partly: "+", steps.Bad: "!", steps.Nothing: "-", steps.No: "."}[m.Overall(w.Step)])
	}
	return b.String()
}

// showMove prints the progress of each app of a move.
func (e *env) showMove(m *board.Move) {
	var apps []appStatus
	for _, a := range m.Apps {
		apps = append(apps, appStatus{App: a.App, Title: a.Title, Steps: a.Steps})
	}
	e.printf("\n%s, kit %s\n%s", moveName(*m), m.Kit, e.stepTable(apps))
}

// moveName returns a short name for a move.
func moveName(m board.Move) string {
	name := m.Old.Name
	if !m.Keep {
		name += " to " + m.New.Name
	}
	if m.Office != "" {
		name = m.Office + ": " + name
	}
	if m.Technician != "" {
		name += " (" + m.Technician + ")"
	}
	return name
}
