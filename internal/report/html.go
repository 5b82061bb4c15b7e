package report

import (
	"bytes"
	"embed"
	"html/template"
	"strings"
	"sync"
	"time"

	"github.com/dustin/go-humanize"

	"movekit/internal/core/board"
	"movekit/internal/core/steps"
	"movekit/internal/table"
)

//go:embed *.html
var files embed.FS

// pages are the templates of the handover, the survey sheet and the board, in one style.
var pages = sync.OnceValue(func() *template.Template {
	return template.Must(template.New("pages").Funcs(template.FuncMap{
		"bytes": func(n int64) string { return humanize.Bytes(uint64(max(n, 0))) },
		// The version without build details.
		"version": func(tool string) string { v, _, _ := strings.Cut(tool, " ("); return v },
		"count":   humanize.Comma,
		"date":    date,
		"join":    strings.Join,
		"whose":   Whose,
		"done":    doneText,
	}).ParseFS(files, "*.html"))
})

// page fills a template. The page needs no script and no other file, and prints on A4.
func page(name string, data any) ([]byte, error) {
	var b bytes.Buffer
	err := pages().ExecuteTemplate(&b, name, data)
	return []byte(table.Lines(b.String())), err
}

// HTML returns the handover as a page.
func (r *Report) HTML() ([]byte, error) { return page("handover.html", r) }

// Board returns a page with many moves.
func Board(all []board.Move, now time.Time) ([]byte, error) {
	var names []steps.Step
	for _, w := range steps.Work {
		names = append(names, w.Step)
	}
	// The page filters with style sheets alone.
	type count struct {
		Name, Sort string
		N          int
	}
	counts := []count{{Name: "all", N: len(all)}}
	moves := make([]*board.Move, len(all))
	for i := range all {
		moves[i] = &all[i]
	}
	for _, sort := range []string{board.IsDue, board.IsWaits, board.IsDone, board.IsClosed, board.IsCopy} {
		n := 0
		for _, m := range moves {
			if m.Group(now) == sort {
				n++
			}
		}
		if n > 0 {
			counts = append(counts, count{sort, sort, n})
		}
	}
	return page("board.html", struct {
		Moves  []*board.Move
		Now    time.Time
		Steps  []steps.Step
		Counts []count
	}{moves, now, names, counts})
}

// doneText describes the progress of a step.
func doneText(d steps.Done) string {
	switch d {
	case steps.Yes:
		return "done"
	case steps.Bad:
		return "DIFFERS"
	case steps.Partly:
		return "in part"
	case steps.Nothing:
		return "nothing to do"
	}
	return "–"
}

// date formats a time; a zero time becomes "".
func date(v any) string {
	switch t := v.(type) {
	case time.Time:
		if t.IsZero() {
			return ""
		}
		return t.Local().Format("2 January 2006, 15:04")
	case *time.Time:
		if t != nil {
			return date(*t)
		}
	}
	return ""
}
