package cli

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"movekit/internal/core/fault"
	"movekit/internal/core/move"
	"movekit/internal/report"
)

func (e *env) todoCommand() *cobra.Command {
	var tick []string
	var load bool
	c := &cobra.Command{
		Use:   "todo [APP...]",
		Short: "List and tick off exports to import by hand (new computer)",
		Long: `List the files that an app exported and that you import one by one on the new computer,
with a number for each. --tick records which of them are done, and the name of one in
the app if it differs. --load imports those whose card names a program for that.`,
		Example:           "  movekit todo\n  movekit todo --tick 1-12,15\n  movekit todo --tick '4=Pier D, 2026'",
		ValidArgsFunction: e.completeApps,
		RunE: func(cmd *cobra.Command, args []string) error {
			numbers, err := parseNumbers(tick)
			if err != nil {
				return err
			}
			j, closeJob, err := e.job(args, true)
			if err != nil {
				return err
			}
			defer closeJob()
			list := (*move.Move).Todos
			if len(numbers) > 0 {
				list = func(j *move.Move) ([]move.Todo, error) { return j.Tick(numbers) }
			}
			if load {
				list = func(j *move.Move) ([]move.Todo, error) { return j.Load(cmd.Context()) }
			}
			todos, err := list(j)
			if err != nil {
				return err
			}
			if todos == nil {
				todos = []move.Todo{}
			}
			if err := e.object(todos); err != nil {
				return err
			}
			open := e.showTodos(todos)
			if err := e.unplug(cmd.Context(), e.kit, e.kit.Wrote()); err != nil {
				return err
			}
			if open > 0 {
				return exit{exitPerson}
			}
			return nil
		},
	}
	c.Flags().StringArrayVar(&tick, "tick", nil, "`NUMBERS` that are done, such as 1-12,15, or one with its name in the app: 4=NAME")
	c.Flags().BoolVar(&load, "load", false, "import them with the program that the card names")
	e.commandsFlag(c)
	return c
}

// showTodos lists the tasks, and returns how many are open.
func (e *env) showTodos(todos []move.Todo) (open int) {
	t := e.table("no.", "app", "file", "state")
	t.Right = []int{1}
	var does []string
	for _, d := range todos {
		if !d.Done {
			open++
		}
		if do := fmt.Sprintf("%s, %s: %s", d.Title, report.Whose(d.Item, d.User), d.Do); !slices.Contains(does, do) {
			does = append(does, do)
		}
		done := "imported"
		if d.As != "" {
			done += " as " + d.As
		}
		t.Add(strconv.Itoa(d.Number), d.Title, d.File, e.result(d.Done, done, "to do"))
	}
	if t.Len() == 0 {
		e.printf("There is nothing to import by hand.\n")
		return 0
	}
	e.printf("%s\n", t)
	e.list("", does)
	e.printf("%d of %d are imported.\n", len(todos)-open, len(todos))
	return open
}

// maxTodo limits the numbers.
const maxTodo = 1_000_000

// parseNumbers parses texts such as 1-12,15 and 4=NAME.
func parseNumbers(texts []string) (map[int]string, error) {
	out := map[int]string{}
	for _, text := range texts {
		if number, name, named := strings.Cut(text, "="); named {
			n, err := strconv.Atoi(strings.TrimSpace(number))
			if name = strings.TrimSpace(name); err != nil || n < 1 || name == "" {
				return nil, fault.New(fault.Usage, "--tick takes one number with a name, such as 4=NAME, not %q", text)
			}
			out[n] = name
			continue
		}
		for part := range strings.SplitSeq(text, ",") {
			from, to, isRange := strings.Cut(strings.TrimSpace(part), "-")
			a, err1 := strconv.Atoi(from)
			b := a
			var err2 error
			if isRange {
				b, err2 = strconv.Atoi(to)
			}
			if err1 != nil || err2 != nil || a < 1 || b < a || b > maxTodo {
				return nil, fault.New(fault.Usage, "--tick takes numbers such as 1-12,15, not %q", text)
			}
			for n := a; n <= b; n++ {
				if _, named := out[n]; !named {
					out[n] = ""
				}
			}
		}
	}
	return out, nil
}
