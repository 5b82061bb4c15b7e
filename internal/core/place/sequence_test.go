package place_test

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"

	"movekit/internal/core/machine"
	"movekit/internal/core/move"
	"movekit/internal/core/run"
	"movekit/internal/core/spare"
	"movekit/internal/core/tree"
	"movekit/test/lay"
	"movekit/test/office"
)

const more = `
  - {name: plain, kind: folder, path: /srv/plain, skip: ['*.db', own]}
  - {name: within, kind: sqlite, path: /srv/plain/in.db}
  - {name: set, kind: folder, path: ~/.app, update-paths: ['*.ini']}
  - {name: part, kind: folder, path: ~/.part, include: ['*.ini'], update-paths: ['*.ini']}
  - {name: one, kind: file, path: ~/one.ini, update-paths: ['*']}
  - {name: rec, kind: sqlite, path: ~/r.db, update-paths: [boat.n]}
  - {name: years, kind: folder, path: /srv/years, each: '20??'}
`

// places are files that a user edits; some of them belong to no item.
var places = strings.Fields(`srv/boats.db srv/diary/a srv/diary/b srv/diary/own.log srv/diary/sub/d srv/mail/in/1.msg srv/mail/2.msg srv/mail/9.msg srv/mail/notes srv/mail/x/5.msg
	srv/plain/a srv/plain/s/c srv/plain/in.db srv/plain/own/x srv/letter.txt ~/.app/a.ini ~/.app/b ~/.app/c.ini ~/.part/a.ini ~/.part/b ~/.part/c.ini ~/one.ini ~/r.db srv/years/2024/a srv/years/2025/b`)

// TestSequenceOfFiles has users edit files on both computers, and steps run and be interrupted, at
// random. No text is ever lost on its computer, and no step ends in an error.
func TestSequenceOfFiles(t *testing.T) {
	n := 30
	if all, err := strconv.Atoi(os.Getenv("MOVEKIT_SEQUENCES")); err == nil {
		n = all / 250
	}
	var did sync.Map // what came of items, in all of them
	t.Cleanup(func() {
		for _, what := range []string{"sealed", "placed", "renewed", "completed", "undone", "retired", "returned"} {
			if _, is := did.Load(what); !is {
				t.Errorf("nothing was ever %s", what)
			}
		}
	})
	for seed := range n {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Parallel()
			s := &sequence{Office: office.New(t, several+more, "linux", map[string]string{"old/home/maren/x": "", "new/home/m2/x": ""}), random: rand.New(rand.NewPCG(uint64(seed), 1)), wrote: map[string][]string{}, did: &did}
			for _, name := range places {
				s.work("old", name, "/home/maren/x ")
			}
			for i := 0; i < 45 && !t.Failed(); i++ {
				s.next(i)
			}
		})
	}
}

type sequence struct {
	*office.Office
	random *rand.Rand
	wrote  map[string][]string // by computer
	done   []string
	did    *sync.Map
}

func (s *sequence) next(n int) {
	way := []tree.Policy{tree.SetAside, tree.SetAside, tree.KeepBoth, tree.Skip}[s.random.IntN(4)]
	switch s.random.IntN(13) {
	case 0, 1, 2, 3, 4:
		s.work([]string{"new", "new", "old"}[s.random.IntN(3)], places[s.random.IntN(len(places))], fmt.Sprintf("T%d;", n))
	case 5, 6:
		s.step("pack", s.Old, way, (*move.Move).Pack)
	case 7, 8:
		s.step("unpack "+string(way), s.New, way, (*move.Move).Unpack)
		s.step("verify", s.New, way, (*move.Move).Verify)
	case 9:
		s.step("undo", s.New, way, (*move.Move).Undo)
	case 10:
		s.step("retire", s.Old, way, (*move.Move).Retire)
	case 11:
		s.step("return", s.Old, way, (*move.Move).Return)
	case 12:
		s.tidy()
	}
	for side := range s.wrote {
		if gone := s.missing(side); len(gone) > 0 {
			s.T.Errorf("%s is gone from the %s computer after\n%s", gone[0], side, strings.Join(s.done, "\n"))
		}
	}
}

// missing returns the texts that were written on a computer and are in none of its files.
func (s *sequence) missing(side string) (gone []string) {
	var is strings.Builder
	filepath.WalkDir(filepath.Join(s.Dir, side), func(path string, e fs.DirEntry, err error) error {
		if err == nil && e.Type().IsRegular() {
			data, _ := os.ReadFile(path)
			is.Write(data)
		}
		return nil
	})
	for _, text := range s.wrote[side] {
		if !strings.Contains(is.String(), text) {
			gone = append(gone, text)
		}
	}
	return gone
}

// tidy deletes set-aside data on the new computer.
func (s *sequence) tidy() {
	var asides []string
	filepath.WalkDir(filepath.Join(s.Dir, "new"), func(path string, e fs.DirEntry, err error) error {
		if err == nil && spare.IsAside(e.Name()) {
			asides = append(asides, path)
			if e.IsDir() {
				return filepath.SkipDir
			}
		}
		return nil
	})
	if len(asides) == 0 {
		return
	}
	name := asides[s.random.IntN(len(asides))]
	s.done = append(s.done, "deleted: "+name)
	os.RemoveAll(name)
	gone := s.missing("new")
	s.wrote["new"] = slices.DeleteFunc(s.wrote["new"], func(text string) bool { return slices.Contains(gone, text) })
}

// work writes a text into a file, or into a database.
func (s *sequence) work(side, name, text string) {
	path := filepath.Join(s.Dir, side, strings.Replace(name, "~", map[string]string{"old": "home/maren", "new": "home/m2"}[side], 1))
	s.done, s.wrote[side] = append(s.done, path+" "+text), append(s.wrote[side], text)
	if filepath.Ext(path) == ".db" {
		lay.Database(s.T, path, "CREATE TABLE IF NOT EXISTS boat (n)", "INSERT INTO boat VALUES ('"+text+"')")
		return
	}
	was, _ := os.ReadFile(path)
	lay.Out(s.T, filepath.Dir(path), map[string]string{filepath.Base(path): string(was) + text})
}

// step runs a step, which may be interrupted.
func (s *sequence) step(name string, c machine.Computer, way tree.Policy, do func(*move.Move, context.Context) ([]*run.Outcome, error)) {
	lines := 1000
	if s.random.IntN(3) == 0 {
		lines = s.random.IntN(8)
	}
	m := move.New(s.Run(&office.Cut{Kit: s.Kit, After: lines}, c))
	m.Overrides, m.Policies = map[string]string{"right-name": "x", "old-unchanged": "x"}, map[string]tree.Policy{"": way}
	m.Technician, m.Choices.Users = &office.Looker{Says: s.random.IntN(3) > 0}, map[string]string{"maren": "m2"}
	out, err := do(m, s.T.Context())
	for _, o := range out {
		err = errors.Join(err, o.Err)
		name += " " + office.Blocked(o)
		for _, i := range o.Items {
			s.did.Store(i.Did, true)
			if _, gone := os.Lstat(i.Aside); i.Aside != "" && gone != nil && c == s.New {
				err = errors.Join(err, fmt.Errorf("%s is told to be at %s", i.Item, i.Aside))
			}
			name += fmt.Sprintf(" [%s %s %s]", i.Item, i.Did, filepath.Base(i.Aside))
		}
	}
	s.done = append(s.done, fmt.Sprintf("%s, %d lines: %v", name, lines, err))
	if err != nil && !errors.Is(err, office.ErrPulled) {
		s.T.Errorf("after\n%s", strings.Join(s.done, "\n"))
	}
}
