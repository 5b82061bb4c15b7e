// Package board shows many moves at a glance. It finds kits, and the records of closed kits, below
// folders, and returns the next step of each.
package board

import (
	"cmp"
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/kit"
	"movekit/internal/core/steps"
)

// Move is one move, as recorded in its kit. The journal is not authenticated, because that needs
// the passphrase.
type Move struct {
	Kit        string       `json:"kit"`
	Office     string       `json:"office,omitempty"`
	Folder     string       `json:"folder"` // of the kit, or of its record
	Old        kit.Computer `json:"old"`
	New        kit.Computer `json:"new"`
	Keep       bool         `json:"safety_copy,omitempty"`
	Backs      string       `json:"takes_back,omitempty"` // id of the kit whose move it takes back
	Back       string       `json:"taken_back,omitempty"` // id of the kit that takes it back
	Technician string       `json:"technician,omitempty"`
	Made       time.Time    `json:"made"`
	Last       time.Time    `json:"last"` // time of the last journal line
	Closed     bool         `json:"closed,omitempty"`
	Apps       []App        `json:"apps"`
	Due        steps.Step   `json:"due,omitempty"` // "" if nothing is due
	On         string       `json:"due_on,omitempty"`
	For        []string     `json:"due_for,omitempty"` // titles of the apps
	Dates      []Date       `json:"dates,omitempty"`   // earliest first
}

// App is one app of a move.
type App struct {
	App   string                    `json:"app"`
	Title string                    `json:"title"`
	Steps map[steps.Step]steps.Done `json:"steps"`
}

// Date is an important day for a licence.
type Date struct {
	App     string    `json:"app"` // its title
	Licence string    `json:"licence"`
	At      time.Time `json:"at"`
	// Back is true if the licence must be active again by then; otherwise it can be activated from
	// then on.
	Back bool `json:"back_by,omitempty"`
}

// Overall is the progress of all apps with a step.
func (m *Move) Overall(step steps.Step) steps.Done {
	done, nothing, begun := 0, 0, false
	for _, a := range m.Apps {
		switch a.Steps[step] {
		case steps.Bad:
			return steps.Bad
		case steps.Yes, steps.Nothing:
			done++
			if a.Steps[step] == steps.Nothing {
				nothing++
			} else {
				begun = true
			}
		case steps.Partly:
			begun = true
		}
	}
	switch {
	case len(m.Apps) > 0 && nothing == len(m.Apps):
		return steps.Nothing
	case len(m.Apps) > 0 && done == len(m.Apps):
		return steps.Yes
	case begun:
		return steps.Partly
	}
	return steps.No
}

// The groups of moves.
const (
	IsDue    = "due"
	IsWaits  = "waiting"
	IsDone   = "finished"
	IsClosed = "closed"
	IsCopy   = "safety copy"
)

// Group returns the group of a move, for an overview.
func (m *Move) Group(now time.Time) string {
	switch {
	case m.Closed:
		return IsClosed
	case m.Keep:
		return IsCopy
	case m.Due == "":
		return IsDone
	case m.Until(now).After(now):
		return IsWaits
	}
	return IsDue
}

// Until returns the time before which nothing can be done, because a licence waits: only if the next step is to activate it.
func (m *Move) Until(now time.Time) (until time.Time) {
	for _, d := range m.Dates {
		if !d.Back && d.At.After(now) && m.Due == steps.Activate && (until.IsZero() || d.At.Before(until)) {
			until = d.At
		}
	}
	return until
}

// Days returns how many days a move has been open, or was.
func (m *Move) Days(now time.Time) int {
	if m.Closed {
		now = m.Last
	}
	if m.Made.IsZero() { // planned
		return 0
	}
	return int(now.Sub(m.Made).Hours() / 24)
}

// Of summarises one move from its manifest, cards and state.
func Of(m kit.Manifest, cards []*card.Card, s *steps.State, now time.Time) Move {
	out := Move{Kit: m.ID, Office: m.Office, Old: m.Old, New: s.New, Keep: m.Keep, Backs: m.Back, Technician: cmp.Or(strings.Join(s.Technicians(), ", "), m.Technician), Made: m.Made, Last: s.Last, Closed: s.Closed != nil, Apps: []App{}}
	if s.Back != nil {
		out.Back = s.Back.Kit
	}
	titles := map[string]string{}
	for _, c := range s.Cards(cards) {
		titles[c.Name] = c.Title
		a := App{App: c.Name, Title: c.Title, Steps: map[steps.Step]steps.Done{}}
		for _, w := range steps.Work {
			a.Steps[w.Step] = s.Progress(c, w.Step)
		}
		out.Apps = append(out.Apps, a)
		for i := range c.Licences {
			st := s.Standing(c, &c.Licences[i], nil, now)
			for _, d := range []Date{{c.Title, c.Licences[i].Name, st.Again, false}, {c.Title, c.Licences[i].Name, st.BackBy, true}} {
				if !out.Closed && !d.At.IsZero() && (d.Back || d.At.After(now)) {
					out.Dates = append(out.Dates, d)
				}
			}
		}
	}
	slices.SortFunc(out.Dates, func(a, b Date) int { return a.At.Compare(b.At) })
	d := s.Next(s.Cards(cards))
	out.Due, out.On = d.Step, map[steps.Side]string{steps.OldSide: out.Old.Name, steps.NewSide: out.New.Name}[d.Side]
	for _, a := range d.Apps {
		out.For = append(out.For, titles[a])
	}
	return out
}

// New is the step of a planned move, whose kit does not exist yet.
const New steps.Step = "new"

// planned summarises a planned move.
func planned(p kit.Planned, dir string) Move {
	return Move{Kit: "planned " + dir, Office: p.Office, Technician: p.Technician, Folder: dir, Old: kit.Computer{Name: p.Old}, New: kit.Computer{Name: p.New}, Apps: []App{}, Due: New, On: p.Old}
}

// Sort sorts moves by urgency: first licences with a deadline, then moves open for longest.
// Finished moves come last.
func Sort(all []Move) {
	slices.SortStableFunc(all, func(a, b Move) int {
		return cmp.Or(rank(a)-rank(b), reactivateBy(a).Compare(reactivateBy(b)), a.Made.Compare(b.Made), strings.Compare(a.Kit, b.Kit))
	})
}

func rank(m Move) int {
	switch {
	case m.Closed:
		return 3
	case m.Due == "":
		return 2
	case !reactivateBy(m).IsZero():
		return 0
	}
	return 1
}

// reactivateBy returns the earliest activation deadline of a move's licences.
func reactivateBy(m Move) time.Time {
	for _, d := range m.Dates {
		if d.Back {
			return d.At
		}
	}
	return time.Time{}
}

// depth is how many levels below a folder are searched for kits.
const depth = 4

// Unread is a kit that could not be read.
type Unread struct {
	Folder string `json:"folder"`
	Why    string `json:"why"`
}

// Find reads the kits below folders, in parallel.
func Find(ctx context.Context, dirs []string, now time.Time) (all []Move, bad []Unread, err error) {
	found := make(chan string)
	var mu sync.Mutex
	var busy sync.WaitGroup
	var cards card.Cache // offices share them
	for range 2 * runtime.GOMAXPROCS(0) {
		busy.Go(func() {
			for dir := range found {
				plan, perr := kit.PlanIn(dir)
				if plan != nil {
					mu.Lock()
					all = append(all, planned(*plan, dir))
					mu.Unlock()
					continue
				}
				k, err := kit.OpenBy(dir, cards.Read)
				mu.Lock()
				if err = cmp.Or(perr, err); err != nil {
					bad = append(bad, Unread{dir, err.Error()})
				} else {
					m := Of(k.Manifest, k.Cards, steps.Fold(k.Manifest, k.Log.Lines), now)
					m.Folder = dir
					all = append(all, m)
				}
				mu.Unlock()
			}
		})
	}
	for _, dir := range dirs {
		if err == nil {
			err = walk(ctx, dir, found)
		}
	}
	close(found)
	busy.Wait()
	all = newest(all)
	for _, m := range all { // a closed kit does not know it
		if i := slices.IndexFunc(all, func(first Move) bool { return first.Kit == m.Backs }); i >= 0 {
			all[i].Back = m.Kit
		}
	}
	Sort(all)
	slices.SortFunc(bad, func(a, b Unread) int { return strings.Compare(a.Folder, b.Folder) })
	return all, bad, err
}

// walk sends the folders of kits to found.
func walk(ctx context.Context, root string, found chan<- string) error {
	root = filepath.Clean(root)
	return filepath.WalkDir(root, func(path string, e fs.DirEntry, err error) error {
		switch {
		case ctx.Err() != nil:
			return fault.Wrap(fault.Stopped, ctx.Err(), "the search for kits was stopped")
		case err != nil && path == root:
			return fault.Wrap(fault.Unreadable, err, "cannot search %s for kits", root)
		case err != nil && e != nil && e.IsDir():
			return fs.SkipDir
		case err != nil || !e.IsDir():
			return nil
		}
		for _, name := range []string{kit.PlanFile, kit.ManifestFile} {
			if _, err := os.Lstat(filepath.Join(path, name)); err == nil {
				found <- path
				return fs.SkipDir
			} else if !errors.Is(err, fs.ErrNotExist) {
				return nil
			}
		}
		if rel, _ := filepath.Rel(root, path); rel != "." && strings.Count(rel, string(filepath.Separator)) >= depth-1 {
			return fs.SkipDir
		}
		return nil
	})
}

// newest keeps the newest of several copies of a kit.
func newest(all []Move) []Move {
	slices.SortStableFunc(all, func(a, b Move) int {
		return cmp.Or(strings.Compare(a.Kit, b.Kit), b.Last.Compare(a.Last), strings.Compare(a.Folder, b.Folder))
	})
	return slices.CompactFunc(all, func(a, b Move) bool { return a.Kit == b.Kit })
}
