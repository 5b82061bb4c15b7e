package test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"runtime"
	"slices"
	"strconv"
	"sync"
	"testing"
	"time"

	"movekit/internal/core/fault"
	"movekit/internal/core/journal"
	"movekit/internal/core/kit"
	"movekit/internal/core/licence"
	"movekit/internal/core/steps"
	"movekit/internal/desk"
)

// The model: one app with one item and one licence, moved by a technician who
// does steps in any order, while runs are cut off, requests and answers are
// lost, the stick is damaged and people go on working. The gates, the state
// from the journal, the licence's change and the desk's rules are the real
// ones; only files are numbers here.

const (
	oldPC = "old"
	newPC = "new"
	app   = "tidewright"
)

// errCut stands for a run that is cut off at that moment.
var errCut = errors.New("cut off")

type world struct {
	r     *rand.Rand
	state *steps.State
	desk  desk.Licence
	seats int                       // computers its rule lets it be active on
	hasty bool                      // takes licences over, and does not free them first
	kept  map[string]licence.Answer // outcomes by idempotency key
	spent int

	oldData  int // version of the data on the old computer
	oldGone  bool
	sealed   int // version in the kit; 0 for none
	whole    bool
	newData  int   // version in place on the new computer; 0 for none
	there    []int // what lies about on the new computer, set aside
	mine     int   // a file of the new computer's own that must never be lost
	trace    []string
	lineNo   int
	verified int    // version that verify last found equal on the new computer
	bad      string // what a step did that must never be

	takeovers int
	second    bool // a second seat was wanted
}

func newWorld(r *rand.Rand) *world {
	m := kit.Manifest{ID: "m", Old: kit.Computer{Name: oldPC, ID: oldPC}, New: kit.Computer{Name: newPC}}
	w := &world{r: r, state: steps.Fold(m, nil), kept: map[string]licence.Answer{}, oldData: 1}
	w.seats = 1 + r.IntN(2)
	w.desk = desk.Licence{Serial: "s", Code: "c", Product: app, Covers: "8", Seats: w.seats, Transfers: r.IntN(3), Takeover: r.IntN(2) == 0}
	if r.IntN(2) == 0 {
		w.desk.Seats = 9 // no service counts seats; only the gates keep to the rule
	}
	w.hasty = w.desk.Takeover && r.IntN(2) == 0
	w.desk.Apply(licence.Activate, licence.Request{Computer: oldPC, Version: "8"}, w.now())
	if r.IntN(2) == 0 {
		w.mine, w.newData = -7, -7 // an empty profile made by a first start
	}
	return w
}

// record writes a journal line, unless the run is cut off before it.
func (w *world) record(event string, lic bool, data any) error {
	if w.cut() {
		return errCut
	}
	raw, err := json.Marshal(data)
	if err != nil {
		return err
	}
	w.lineNo++
	l := journal.Line{N: w.lineNo, At: time.Unix(int64(w.lineNo), 0), Event: event, App: app, Data: raw}
	if lic {
		l.Licence = "seat"
	} else if event != steps.EventPacked {
		l.Item = "data"
	}
	w.state.Add(l)
	return nil
}

// now is the time, by which a line is a second.
func (w *world) now() time.Time { return time.Unix(int64(w.lineNo), 0) }

func (w *world) cut() bool { return w.r.IntN(12) == 0 }

// Ask is the desk, with lost requests and answers between.
func (w *world) Ask(_ context.Context, action licence.Action, r licence.Request, key string) (*licence.Answer, error) {
	if w.r.IntN(6) == 0 {
		return nil, fault.New(fault.DeskDown, "the request was lost")
	}
	a, known := w.kept[key]
	if action == licence.Status || !known {
		spent, disabled, p := 0, "", (*licence.Problem)(nil)
		if action != licence.Status {
			if spent, disabled, p = w.desk.Apply(action, r, w.now()); p != nil {
				return nil, fault.Wrap(fault.DeskRefused, p, "no")
			}
		}
		w.spent += spent
		a = licence.Answer{Action: action, Computer: r.Computer, State: w.desk.State(r.Computer, w.now()), Disabled: disabled, Takeover: w.desk.Takeover, Active: slices.Clone(w.desk.Active),
			Covers: w.desk.Covers, Seats: w.seats, Transfers: w.desk.Transfers, Spent: spent}
		if action != licence.Status {
			w.kept[key] = a
		}
	}
	if w.r.IntN(4) == 0 {
		return nil, fault.New(fault.DeskDown, "the answer was lost")
	}
	if w.cut() {
		return nil, errCut
	}
	return &a, nil
}

func (w *world) Asked(action licence.Action, key string) error {
	return w.record(steps.EventAsked, true, steps.Asked{Action: action, Key: key})
}

func (w *world) Answered(a *licence.Answer) error { return w.record(steps.EventAnswered, true, a) }

func (w *world) change(computer string) licence.Change {
	round := 0
	if l := w.state.Licences[steps.Key{App: app, Item: "seat"}]; l != nil {
		round = l.Answers[computer]
	}
	return licence.Change{Service: w, Record: w, Move: "m", Round: round, Tries: 1 + w.r.IntN(3), Pause: 1,
		Request: licence.Request{Serial: "s", Code: "c", Product: app, Computer: computer, Version: "8.1"}}
}

// facts as a step would observe them on a computer.
func (w *world) facts(side steps.Side) steps.Facts {
	f := steps.Facts{Side: side, Here: string(side), OldName: oldPC, Title: app, Packed: w.state.Packed[app] != nil,
		OldVersion: "8.0", NewVersion: "8.1", Rule: "same-major", Free: 1 << 40, Proven: w.state.Proven(app, 1)}
	if it := w.state.Items[steps.Key{App: app, Item: "data"}]; it != nil && it.Sealed.Stamp != strconv.Itoa(w.oldData) {
		f.OldChanged = []string{"data"}
	}
	if w.oldGone {
		f.Missing = []string{"data"}
	}
	return f
}

// damaged adds what reading the kit back shows.
func (w *world) damaged(f steps.Facts) steps.Facts {
	if !w.whole {
		f.KitDamage, f.Unsealed = []string{"sealed/x: was changed"}, []string{"x"}
	}
	return f
}

// stops runs the gates of a step. A technician in a hurry overrides what can
// be overridden.
func (w *world) stops(step steps.Step, f steps.Facts) bool {
	hurry := w.r.IntN(3) == 0
	for _, b := range steps.Check(step, f) {
		if b.Firm || !hurry {
			return true
		}
	}
	return false
}

func (w *world) pack(side steps.Side) error {
	if w.stops(steps.Pack, w.facts(side)) || w.oldGone {
		return nil
	}
	w.sealed, w.whole = w.oldData, true
	if err := w.record(kit.EventSealed, false, kit.Sealed{Stamp: strconv.Itoa(w.oldData)}); err != nil {
		w.whole = w.state.Packed[app] == nil // new files, old journal: they do not agree
		return err
	}
	return w.record(steps.EventPacked, false, steps.Packed{Items: []steps.Key{{App: app, Item: "data"}}})
}

func (w *world) deactivate(side steps.Side) error {
	f := w.damaged(w.facts(side))
	f.KitDamage = nil            // it reads back its own app's files
	f.OldLost = w.r.IntN(8) == 0 // then it is freed from the new computer too
	if w.stops(steps.Deactivate, f) {
		return nil
	}
	if !w.whole {
		w.bad = "the licence was freed before its data was sealed"
	}
	_, err := w.change(oldPC).Do(context.Background(), licence.Deactivate)
	return err
}

func (w *world) unpack(side steps.Side) error {
	if w.stops(steps.Unpack, w.damaged(w.facts(side))) || w.newData == w.sealed {
		return nil
	}
	if err := w.record(steps.EventPlacing, false, steps.Placed{To: "x"}); err != nil {
		return err
	}
	if w.newData != 0 {
		w.there, w.newData = append(w.there, w.newData), 0
	}
	if w.cut() {
		return errCut
	}
	w.newData = w.sealed
	return w.record(steps.EventPlaced, false, steps.Placed{To: "x"})
}

func (w *world) undo(side steps.Side) error {
	f := w.facts(side)
	if slices.Contains(w.desk.Active, newPC) {
		f.ActiveHere = []string{"seat"}
	}
	it := w.state.Items[steps.Key{App: app, Item: "data"}]
	if w.stops(steps.Undo, f) || it == nil || it.Placed == nil || w.oldGone { // once retired, nobody goes back
		return nil
	}
	if err := w.record(steps.EventUndoing, false, steps.Undone{From: "x"}); err != nil {
		return err
	}
	if w.newData != 0 && strconv.Itoa(w.newData) != it.Sealed.Stamp {
		w.there = append(w.there, w.newData) // worked in since: kept
	}
	w.newData, w.verified = 0, 0
	if w.cut() {
		return errCut
	}
	if i := slices.Index(w.there, w.mine); w.mine != 0 && i >= 0 {
		w.newData, w.there = w.mine, slices.Delete(w.there, i, i+1)
	}
	return w.record(steps.EventUndone, false, steps.Undone{From: "x"})
}

func (w *world) activate(side steps.Side) error {
	f := w.facts(side)
	if side == steps.NewSide && f.Packed {
		a, err := w.change(oldPC).Look(context.Background())
		if err != nil {
			return err
		}
		f.OldState, f.NewState, f.Transfers, f.Covers = a.State, licence.NotActivated, a.Transfers, a.Covers
		f.Second = w.r.IntN(6) == 0 || w.second
		f.Seats, f.Taken, f.Takeable, f.Takeover = a.Seats, len(a.Active), a.Takeover, w.hasty || w.r.IntN(4) == 0
		if f.TakesOver() {
			f.Unsealed = w.damaged(f).Unsealed
		}
		if slices.Contains(a.Active, newPC) {
			f.NewState = licence.Active
		}
	}
	if w.stops(steps.Activate, f) {
		return nil
	}
	c := w.change(newPC)
	if f.TakesOver() {
		c.Request.From = oldPC
		if !w.whole {
			w.bad = "the licence was taken over before its data was sealed"
		}
	}
	if f.BesideOld() {
		w.second = true
	}
	a, err := c.Do(context.Background(), licence.Activate)
	if err == nil && a.Disabled != "" {
		w.takeovers++
	}
	return err
}

func (w *world) verify(side steps.Side) error {
	if w.stops(steps.Verify, w.facts(side)) {
		return nil
	}
	it := w.state.Items[steps.Key{App: app, Item: "data"}]
	equal := strconv.Itoa(w.newData) == it.Sealed.Stamp
	if err := w.record(steps.EventChecked, false, steps.Checked{Equal: equal}); err != nil {
		return err
	}
	if equal {
		w.verified = w.newData
	}
	a, err := w.change(oldPC).Look(context.Background())
	if err != nil {
		return err
	}
	seen := steps.Seen{Asked: true, Old: a.State, New: licence.NotActivated, Left: a.Transfers}
	if slices.Contains(a.Active, newPC) {
		seen.New = licence.Active
	}
	seen.Good = seen.New == licence.Active && (seen.Old != licence.Active || w.second && len(a.Active) <= a.Seats)
	return w.record(steps.EventSeen, true, seen)
}

func (w *world) retire(side steps.Side) error {
	if w.stops(steps.Retire, w.facts(side)) {
		return nil
	}
	w.oldGone = true
	it := w.state.Items[steps.Key{App: app, Item: "data"}]
	if it == nil || strconv.Itoa(w.verified) != it.Sealed.Stamp {
		w.bad = "the old data went before the new was proven"
	}
	return nil
}

// due is the step that a patient technician would do now.
func (w *world) due() (int, steps.Side) {
	for n, step := range []steps.Step{steps.Pack, steps.Deactivate, steps.Unpack, steps.Activate, steps.Verify} {
		if step == steps.Deactivate && w.hasty {
			continue
		}
		if d := w.state.Progress(app, step, 1); d != steps.Yes {
			side := steps.OldSide
			if n >= 2 {
				side = steps.NewSide
			}
			return n * 3, side
		}
	}
	return 15, steps.OldSide
}

// step does one thing at random and returns what must never be.
func (w *world) step() string {
	side := steps.OldSide
	if w.r.IntN(2) == 0 {
		side = steps.NewSide
	}
	n := w.r.IntN(21)
	if w.r.IntN(2) == 0 {
		n, side = w.due()
	}
	var err error
	name := ""
	switch {
	case n < 3:
		name, err = "pack", w.pack(side)
	case n < 6:
		name, err = "deactivate", w.deactivate(side)
	case n < 9:
		name, err = "unpack", w.unpack(side)
	case n < 12:
		name, err = "activate", w.activate(side)
	case n < 15:
		name, err = "verify", w.verify(side)
	case n < 17:
		name, err = "retire", w.retire(side)
	case n < 18 && !w.oldGone:
		name, w.oldData = "work on the old computer", w.oldData+1
	case n < 19 && w.newData > 0:
		name, w.newData = "work on the new computer", w.newData+100
	case n < 20:
		name, w.whole = "damage the stick", false
	default:
		name, err = "undo", w.undo(side)
	}
	w.trace = append(w.trace, fmt.Sprintf("%s on the %s (%v)", name, side, err))
	return w.broken()
}

// broken says which of the things that must never be, is.
func (w *world) broken() string {
	switch {
	case len(w.desk.Active) > 1 && !w.second:
		return "the licence is active on both computers, and nobody wants that"
	case len(w.desk.Active) > w.seats:
		return "the licence is active on both computers, and its rule forbids that"
	case w.spent > 1:
		return "a transfer was spent twice for one move"
	case w.bad != "":
		return w.bad
	case w.oldGone && w.newData == 0 && len(w.there) == 0:
		return "the old data is gone, and there is none on the new computer"
	case w.mine != 0 && w.newData != w.mine && !slices.Contains(w.there, w.mine):
		return "a file of the new computer is lost"
	}
	return ""
}

// TestNoSequenceOfStepsLosesAnything runs random sequences of steps, failures
// and retries. MOVEKIT_SEQUENCES sets how many.
func TestNoSequenceOfStepsLosesAnything(t *testing.T) {
	sequences := 100_000
	if os.Getenv("CI") == "true" {
		sequences = 1_000_000
	}
	if n, err := strconv.Atoi(os.Getenv("MOVEKIT_SEQUENCES")); err == nil {
		sequences = n
	}
	var all sync.WaitGroup
	var mu sync.Mutex
	moved, retired, taken := 0, 0, 0
	workers := runtime.GOMAXPROCS(0)
	for worker := range workers {
		all.Go(func() {
			for i := worker; i < sequences; i += workers {
				w := newWorld(rand.New(rand.NewPCG(42, uint64(i))))
				for range 40 {
					if bad := w.step(); bad != "" {
						t.Errorf("sequence %d: %s\n%v", i, bad, w.trace)
						return
					}
				}
				mu.Lock()
				if w.state.Proven(app, 1) {
					moved++
				}
				if w.oldGone {
					retired++
				}
				taken += w.takeovers
				mu.Unlock()
			}
		})
	}
	all.Wait()
	// The walk must reach the far end, or it proves nothing.
	if moved < sequences/100 || retired < sequences/200 || taken < sequences/100 {
		t.Errorf("of %d sequences only %d ended proven and %d retired, with %d takeovers", sequences, moved, retired, taken)
	}
	t.Logf("%d sequences of 40 steps: %d proven, %d retired, %d takeovers", sequences, moved, retired, taken)
}

// TestTheModelSeesBrokenRules takes one rule away and expects the model to
// find what it guards.
func TestTheModelSeesBrokenRules(t *testing.T) {
	for _, name := range []string{"old-deactivated", "proven", "sealed"} {
		g := steps.Find(name)
		was := *g
		g.Steps = nil
		found := false
		for i := 0; i < 20_000 && !found; i++ {
			w := newWorld(rand.New(rand.NewPCG(43, uint64(i))))
			for range 40 {
				if w.step() != "" {
					found = true
					break
				}
			}
		}
		*g = was
		if !found {
			t.Errorf("without the gate %s nothing was found broken", name)
		}
	}
}
