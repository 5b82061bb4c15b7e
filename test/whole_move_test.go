//go:build linux

package test

import (
	"database/sql"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"movekit/test/fatal"
	"movekit/test/lay"
)

const wholeCard = `card: 1
name: quay
title: Quay Book
items:
  - {name: diary, kind: folder, path: /srv/diary}
  - {name: some, kind: folder, path: /srv/some, include: ['*.rec']}
  - {name: letter, kind: file, path: /srv/letter.txt}
  - {name: boats, kind: sqlite, path: /srv/boats.db, counts: [{name: boats, query: SELECT count(*) FROM boat}]}
  - {name: ticket, kind: file, path: /srv/ticket.key, secret: true}
licences:
  - {name: seat, method: file, items: [ticket]}
`

// wholeMove is a move of a random office, with faults.
type wholeMove struct {
	*testing.T
	dir    string
	random *rand.Rand
	wrote  map[string][]string // texts in files, by computer
	did    []string            // commands and faults
	met    *sync.Map           // faults, in all moves
}

// TestWholeMoves runs complete moves and disturbs their commands at random: kill -9, a full disk, a kit that is
// pulled out, two processes at once, a changed kit. After each disturbance the same command is run to its end. No
// text is ever lost on its computer, the licence file is never on both computers, and in the end both are the same.
func TestWholeMoves(t *testing.T) {
	t.Parallel()
	n := 40
	if all, err := strconv.Atoi(os.Getenv("MOVEKIT_MOVES")); err == nil {
		n = all
	}
	var met sync.Map
	t.Cleanup(func() {
		for _, fault := range []string{"killed", "pulled", "twice", "changed"} {
			if _, is := met.Load(fault); !is {
				t.Errorf("no command was ever %s", fault)
			}
		}
	})
	for seed := range n {
		t.Run(strconv.Itoa(seed), func(t *testing.T) {
			t.Parallel()
			m := &wholeMove{t, office(t), rand.New(rand.NewPCG(uint64(seed), 7)), map[string][]string{}, nil, &met}
			m.whole()
		})
	}
}

func (m *wholeMove) whole() {
	m.lay()
	stick := filepath.Join(m.dir, "stick")
	fatal.If(m, os.Mkdir(stick, 0o755))
	for _, disk := range []string{stick, filepath.Join(m.dir, "new/srv")} {
		if syscall.Mount("none", disk, "tmpfs", 0, "size=64m") == nil {
			m.Cleanup(func() { syscall.Unmount(disk, syscall.MNT_DETACH) })
		}
	}
	m.theirs()
	must(m.T, 0, m.dir, "new", "stick/kit", "--root", "old", "--cards", "diary.yaml", "--to", "NEW", "--yes")
	m.step("old", "pack")
	for range m.random.IntN(3) {
		m.write("old", fmt.Sprintf("srv/diary/later-%d", m.random.IntN(4)))
		m.step("old", "pack")
	}
	m.step("old", "deactivate", "--yes")
	m.step("new", "ready")
	m.step("new", "unpack", "--existing", []string{"set-aside", "keep-both"}[m.random.IntN(2)], "--yes")
	if m.random.IntN(3) == 0 {
		m.step("new", "undo")
		m.step("new", "unpack", "--existing", "set-aside", "--yes")
	}
	m.step("new", "activate", "--yes")
	m.step("new", "verify")
	m.proven()
	m.step("old", "retire")
	m.step("new", "report", "--to", "handover")
	m.step("old", "close", "--yes")
	if left, _ := filepath.Glob(filepath.Join(m.dir, "stick/kit/sealed/*/*")); len(left) > 0 {
		m.Errorf("the closed kit still has %q", left)
	}
	if m.Failed() {
		m.Logf("commands:\n%s", strings.Join(m.did, "\n"))
	}
}

// lay creates the old computer's data.
func (m *wholeMove) lay() {
	lay.Out(m.T, m.dir, map[string]string{"diary.yaml": wholeCard, "old/srv/ticket.key": "the ticket"})
	for _, name := range []string{"srv/letter.txt", "srv/some/a.rec", "srv/some/b.rec", "srv/some/stays.txt"} {
		m.write("old", name)
	}
	for i := range 3 + m.random.IntN(20) {
		m.write("old", fmt.Sprintf("srv/diary/%d/%d.rec", m.random.IntN(4), i))
	}
	fatal.If(m, os.WriteFile(filepath.Join(m.dir, "old/srv/diary/large"), noise(m.random.IntN(4<<20)), 0o640))
	lay.Database(m.T, filepath.Join(m.dir, "old/srv/boats.db"), "CREATE TABLE boat (n)", "INSERT INTO boat VALUES ('Grey Wagtail'), ('Salt Thrift')")
}

// theirs creates data on the new computer.
func (m *wholeMove) theirs() {
	m.write("new", "srv/.keep")
	for _, name := range []string{"srv/diary/0/0.rec", "srv/diary/own", "srv/some/a.rec", "srv/some/own.rec", "srv/letter.txt"} {
		if m.random.IntN(2) == 0 {
			m.write("new", name)
		}
	}
	if m.random.IntN(2) == 0 {
		lay.Database(m.T, filepath.Join(m.dir, "new/srv/boats.db"), "CREATE TABLE boat (n)", "INSERT INTO boat VALUES ('their own')")
	}
}

// write writes a file with a text of its own.
func (m *wholeMove) write(side, name string) {
	text := fmt.Sprintf("<%s %s %d>", side, name, m.random.Int())
	was, _ := os.ReadFile(filepath.Join(m.dir, side, name))
	lay.Out(m.T, m.dir, map[string]string{side + "/" + name: string(was) + text})
	m.wrote[side] = append(m.wrote[side], text)
}

// step runs a command to its end. Before that, it may run it with a fault.
func (m *wholeMove) step(side string, args ...string) {
	m.Helper()
	args = append(slices.Clone(args), "--kit", "stick/kit")
	if args[0] != "close" && args[0] != "report" {
		args = append(args, "--root", side)
	}
	for range m.random.IntN(3) {
		m.fault(args)
		m.check(args)
	}
	s := run(m.T, m.dir, args...)
	m.did = append(m.did, fmt.Sprintf("%s: exit %d", strings.Join(args, " "), s.code))
	if s.code != 0 {
		m.Fatalf("exit %d\n%s%s\nafter\n%s", s.code, s.out, s.err, strings.Join(m.did, "\n"))
	}
	m.check(args)
}

// fault runs a command with a fault.
func (m *wholeMove) fault(args []string) {
	m.Helper()
	after := time.Duration(m.random.Int64N(int64(160 * time.Millisecond)))
	kit, away := filepath.Join(m.dir, "stick/kit"), filepath.Join(m.dir, "stick/away")
	what := []string{"killed", "killed", "pulled", "full", "twice", "changed"}[m.random.IntN(6)]
	var codes []int
	switch what {
	case "killed":
		if !killed(m.T, after, m.dir, args...) {
			what = "ended"
		}
	case "pulled":
		pulled := make(chan error)
		go func() { time.Sleep(after); pulled <- os.Rename(kit, away) }()
		codes = append(codes, run(m.T, m.dir, args...).code)
		fatal.If(m, <-pulled)
		if _, err := os.Stat(kit); err == nil { // something was written to its name meanwhile
			m.Errorf("%v wrote to the name of a kit that was pulled out", args)
			os.RemoveAll(kit)
		}
		fatal.If(m, os.Rename(away, kit))
	case "full":
		var empty []func()
		for _, disk := range []string{"stick", "new/srv"} {
			if e := filled(filepath.Join(m.dir, disk), m.random.Int64N(1<<20)); e != nil {
				empty = append(empty, e)
			}
		}
		if len(empty) == 0 {
			return
		}
		s := run(m.T, m.dir, args...)
		codes = append(codes, s.code)
		for _, e := range empty {
			e()
		}
		if s.code == 1 {
			s.tells(m.T, "")
		}
	case "twice":
		second := make(chan said)
		go func() { second <- run(m.T, m.dir, args...) }()
		codes = append(codes, run(m.T, m.dir, args...).code, (<-second).code)
	case "changed":
		codes = append(codes, m.changed(args))
	}
	m.met.Store(what, true)
	m.did = append(m.did, fmt.Sprintf("%s, %s after %v: exit %v", strings.Join(args, " "), what, after, codes))
}

// filled fills a disk until at most free bytes are available, and returns a function that empties it again. It
// returns nil if the folder is not a disk of its own.
func filled(disk string, free int64) (empty func()) {
	var s, above syscall.Stat_t
	if syscall.Stat(disk, &s) != nil || syscall.Stat(filepath.Dir(disk), &above) != nil || s.Dev == above.Dev {
		return nil
	}
	var v syscall.Statfs_t
	if syscall.Statfs(disk, &v) != nil {
		return nil
	}
	name := filepath.Join(disk, "filler")
	if f, err := os.Create(name); err == nil {
		syscall.Fallocate(int(f.Fd()), 0, 0, max(int64(v.Bavail)*v.Bsize-free, 1))
		f.Close()
	}
	return func() { os.Remove(name) }
}

// changed changes a byte of the kit's journal or of a sealed file, or removes lines, and runs a command with that.
// The command must not change a computer, unless it found nothing wrong. The kit is restored.
func (m *wholeMove) changed(args []string) int {
	m.Helper()
	before := picture(m.T, filepath.Join(m.dir, "old")) + picture(m.T, filepath.Join(m.dir, "new"))
	files := []string{filepath.Join(m.dir, "stick/kit/journal.jsonl")}
	sealed, _ := filepath.Glob(filepath.Join(m.dir, "stick/kit/sealed/*/*"))
	name := append(files, sealed...)[m.random.IntN(1+min(len(sealed), 2))]
	was, err := os.ReadFile(name)
	fatal.If(m, err)
	now := append(slices.Clone(was), 'x') // a file can be empty
	switch at := m.random.IntN(len(now)); m.random.IntN(3) {
	case 0:
		now[at] ^= 1 << m.random.IntN(7)
	case 1:
		now = now[:at]
	default:
		now = slices.Insert(now, at, now[m.random.IntN(len(now)):]...)
	}
	fatal.If(m, os.WriteFile(name, now, 0o644))
	s := run(m.T, m.dir, args...)
	if s.code == 0 {
		if after, err := os.ReadFile(name); err != nil || string(after) != string(now) {
			return s.code // it was repaired, sealed again, or removed by close
		}
	} else if after := picture(m.T, filepath.Join(m.dir, "old")) + picture(m.T, filepath.Join(m.dir, "new")); after != before {
		m.Errorf("%v changed a computer with a changed kit, and said\n%s%s", args, s.out, s.err)
	}
	fatal.If(m, os.WriteFile(name, was, 0o644))
	return s.code
}

// check checks what must hold at any moment.
func (m *wholeMove) check(args []string) {
	m.Helper()
	for side, texts := range m.wrote {
		var is strings.Builder
		filepath.WalkDir(filepath.Join(m.dir, side), func(path string, e fs.DirEntry, err error) error {
			if err == nil && e.Type().IsRegular() && !strings.HasSuffix(path, "large") {
				data, _ := os.ReadFile(path)
				is.Write(data)
			}
			return nil
		})
		for _, text := range texts {
			if !strings.Contains(is.String(), text) {
				m.Fatalf("%s is gone after %v and\n%s", text, args, strings.Join(m.did, "\n"))
			}
		}
	}
	has := func(side string) bool {
		_, err := os.Stat(filepath.Join(m.dir, side, "srv/ticket.key"))
		return err == nil
	}
	if has("old") && has("new") {
		m.Fatalf("the licence is on both computers after %v and\n%s", args, strings.Join(m.did, "\n"))
	}
}

// proven compares both computers without Move Kit.
func (m *wholeMove) proven() {
	m.Helper()
	for _, name := range []string{"letter.txt", "some", "diary"} {
		filepath.WalkDir(filepath.Join(m.dir, "old/srv", name), func(path string, e fs.DirEntry, err error) error {
			if err != nil || !e.Type().IsRegular() || name == "some" && !strings.HasSuffix(path, ".rec") {
				return nil
			}
			rel, _ := filepath.Rel(filepath.Join(m.dir, "old"), path)
			old, err := os.ReadFile(path)
			fatal.If(m, err)
			found := []string{filepath.Join(m.dir, "new", rel)}
			if name == "letter.txt" { // it may be beside existing data
				found, _ = filepath.Glob(found[0] + "*")
			}
			if !slices.ContainsFunc(found, func(name string) bool { now, err := os.ReadFile(name); return err == nil && string(now) == string(old) }) {
				m.Errorf("%s differs, and verify says the same", rel)
			}
			return nil
		})
	}
	found, _ := filepath.Glob(filepath.Join(m.dir, "new/srv/boats*"))
	if !slices.ContainsFunc(found, func(name string) bool { return boats(m.T, name) == "Grey Wagtail, Salt Thrift" }) {
		m.Errorf("no database of %q is the old one", found)
	}
	if ticket, _ := os.ReadFile(filepath.Join(m.dir, "new/srv/ticket.key")); string(ticket) != "the ticket" {
		m.Errorf("the licence is %q", ticket)
	}
}

// boats returns the boats in a database.
func boats(t *testing.T, name string) (all string) {
	t.Helper()
	db, err := sql.Open("sqlite", "file:"+name+"?mode=ro")
	fatal.If(t, err)
	defer db.Close()
	fatal.If(t, db.QueryRow("SELECT group_concat(n, ', ') FROM boat").Scan(&all))
	return all
}
