package cli

import (
	"context"
	"fmt"
	"strings"

	"movekit/internal/core/fault"
	"movekit/internal/core/item"
	"movekit/internal/core/run"
	"movekit/internal/core/wide"
	"movekit/internal/table"
)

// surveyWide searches for data that no card covers.
func (e *env) surveyWide(ctx context.Context, call *surveyCall, apps []string) error {
	if call.days < 1 {
		return fault.New(fault.Usage, "--days must be at least 1")
	}
	if call.sheet != "" {
		return fault.New(fault.Usage, "--html cannot be used with --wide; use --json to save the results")
	}
	h, err := e.here()
	if err != nil {
		return err
	}
	h.Limit = call.limit
	s := wide.Search{Host: h, Days: call.days}
	s.Seen = func(n int64) { e.notify(run.Event{What: fmt.Sprintf("%d files seen", n)}) }
	if k, err := e.openKit(); err == nil && len(call.cards) == 0 {
		s.Cards, s.KitDir = k.Cards, k.Dir
	} else if err != nil && fault.KindOf(err) != fault.NotAKit {
		return err
	} else if len(call.cards) > 0 {
		if s.Cards, err = readCards(call.cards, apps); err != nil {
			return err
		}
	} else {
		all, err := everyCard()
		if err == nil {
			s.Cards, _, err = presentOf(ctx, h, only(all, apps))
		}
		if err != nil {
			return err
		}
	}
	r, err := s.Run(ctx)
	e.done()
	if err != nil {
		return err
	}
	if err := e.object(r); err != nil {
		return err
	}
	e.showWide(r, len(s.Cards))
	if r.Unread > 0 {
		return exit{exitPerson}
	}
	return nil
}

func (e *env) showWide(r *wide.Result, cards int) {
	e.printf("%s: %s files seen, %s opened. %s. Recent means changed within %d days.\n\n", r.Computer, countText(r.Files), countText(r.Opened),
		map[bool]string{true: "No card was given", false: item.Plural(int64(cards), "card") + " applied"}[cards == 0], r.Days)
	t := e.table("what was found", "size", "newest change", "where")
	t.Paths = true
	t.Right = []int{2}
	for i := range r.Findings {
		f := &r.Findings[i]
		what := f.What
		if f.Count > 1 && f.Class != wide.Registry && f.Class != wide.Server {
			what = fmt.Sprintf("%d x %s", f.Count, what)
		}
		if f.Class == wide.Program {
			what = "installed program " + what
		}
		if f.App != "" {
			what = f.App + ": " + what
		}
		size, newest := "", ""
		if f.Bytes > 0 {
			size = bytesText(f.Bytes)
		}
		if !f.Newest.IsZero() {
			newest = f.Newest.Local().Format("2006-01-02 15:04")
			if f.Recent {
				newest = e.paint(newest, table.Note)
			}
		}
		t.AddLines(table.Block(table.Visible(f.Where)+e.details(f)), what, size, newest)
	}
	if t.Len() > 0 {
		e.printf("%s", t)
	} else {
		e.printf("Cards cover all data that was found.\n")
	}
	if r.More > 0 {
		e.printf("%d more are not shown.\n", r.More)
	}
	e.printf("\nUsers' documents are searched only for databases, mail and keys.\nNot searched: %s\n", strings.Join(r.Passed, "; "))
	for _, u := range r.Unreadable {
		e.printf("%s %s\n", e.paint("unreadable:", table.Bad), u)
	}
	if more := r.Unread - int64(len(r.Unreadable)); more > 0 {
		e.printf("and %d more unreadable ones\n", more)
	}
	e.showNotes(r.Notes)
	e.say("To move some of it, create a card with `movekit card make`, or with `movekit card draft NAME --from PATH`\n")
}

// details returns the lines below a finding.
func (e *env) details(f *wide.Finding) string {
	var shown []string
	for _, d := range f.Details {
		shown = append(shown, table.Visible(d))
	}
	switch {
	case f.Class == wide.Registry:
		return e.paint("  "+strings.Join(shown, ", "), table.Faint)
	case f.Count == 1 && len(shown) == 1: // a single file: only what is beside it
		_, note, ok := strings.Cut(shown[0], "; ")
		if !ok {
			return ""
		}
		shown = []string{note}
	}
	var b strings.Builder
	for i, d := range shown {
		if i == 3 && f.Class != wide.Server && len(shown) > 4 {
			fmt.Fprintf(&b, "\n  and %d more", len(shown)-3)
			break
		}
		b.WriteString("\n  " + d)
	}
	return e.paint(b.String(), table.Faint)
}
