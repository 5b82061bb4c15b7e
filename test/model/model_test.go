package model

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"math/rand/v2"
	"os"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"movekit/internal/core/card"
	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
	"movekit/internal/core/holder"
	"movekit/internal/core/item"
	"movekit/internal/core/journal"
	"movekit/internal/core/kit"
	"movekit/internal/core/licence"
	"movekit/internal/core/machine"
	"movekit/internal/core/move"
	"movekit/internal/core/registry"
	"movekit/internal/core/run"
	"movekit/internal/core/seal"
	"movekit/internal/core/steps"
	"movekit/internal/core/tree"
	"movekit/internal/desk"
)

// The model: one app with one item and one licence, moved by a technician who runs steps in any
// order, while runs are interrupted, requests and answers are lost, the stick is damaged and users
// continue to work. The steps, the gates, the state and the rules are the product's own. Only the
// two computers, the kit, the licence service and the technician are simulated: a file is a number,
// and a kit is in memory.

const (
	app   = "tidewright"
	place = "/data" // where the item belongs
)

// errCut is the error of a run that is interrupted.
var errCut = errors.New("cut off")

// sim is a computer.
type sim struct {
	name string
	disk map[string]int // version of the data, by path
	used bool           // as the new computer
}

func (s *sim) Name() string                        { return s.name }
func (*sim) System() machine.System                { return machine.Linux }
func (*sim) SetDrive(string, string) (bool, error) { return false, nil }
func (*sim) Own(spoken string) (string, error)     { return spoken, nil }
func (*sim) Change(string, *machine.User, bool) (registry.Writable, error) {
	return nil, registry.ErrOffline
}
func (*sim) OnDrive(string) (string, bool)                                   { return "", false }
func (s *sim) HardwareID() string                                            { return s.name }
func (s *sim) FirmwareID() string                                            { return "" }
func (*sim) Accounts() *machine.Accounts                                     { return nil }
func (*sim) Users() []machine.User                                           { return nil }
func (*sim) Locate(path string, _ *machine.User) (string, error)             { return path, nil }
func (*sim) Running(context.Context, []string) ([]machine.Program, error)    { return nil, nil }
func (*sim) OpenFiles(context.Context, []string) ([]machine.OpenFile, error) { return nil, nil }
func (*sim) Registry(string, *machine.User) (registry.Key, error)            { return nil, fs.ErrNotExist }
func (*sim) Adapters() []machine.Adapter                                     { return nil }
func (*sim) Notes() []string                                                 { return nil }
func (*sim) Root() string                                                    { return "/sim" }

// world is the complete state.
type world struct {
	r        *rand.Rand
	fault    string // what is broken on purpose; "" for nothing
	manifest kit.Manifest
	card     *card.Card
	old, now *sim
	trace    []string
	bad      string // what happened that must never
	dead     bool   // the run was cut off

	current *move.Move // the run that goes on
	begun   bool       // a change of the licence was begun before it

	// the stick
	lines  []journal.Line
	sealed map[string]string // by name of the file
	whole  bool

	// the licence service, and the vendor's records
	desk   desk.Licence
	seats  int                       // computers the rule lets it be active on
	kept   map[string]licence.Answer // outcomes by idempotency key
	spent  int
	hasty  bool // takes licences over, and does not deactivate them first
	second bool // a second seat was wanted
	calm   bool // nothing goes wrong any more, and the technician does what the product says
	more   int  // transfers besides the first: for moves back, for computers that replaced others, and for a restored service
	later  int  // seconds that somebody waited
	saved  *service

	next     int   // version of the next change
	precious []int // versions that are the new computer's own
	taken    bool  // the licence was taken over
	verified int   // version that verify last found equal on the new computer
	retired  bool
}

// service is a backup of the licence service.
type service struct {
	desk desk.Licence
	kept map[string]licence.Answer
}

const cardText = "card: 1\nname: tidewright\ntitle: Tidewright\nitems: [{name: data, kind: file, path: /data}]\nlicences: [{name: seat, %s}]\n"

var (
	deskCard   = parsed("method: desk, product: tidewright, typed: the label, desk: {url: 'http://127.0.0.1:1', key: ozSfO2Sa_kxMIBWYMRr5LNe1V6adT6O9NzGuLV1yuGQ}")
	waits      = parsed("method: guided, wait: 40s, trial: 1h, activate: {steps: [{do: x}]}, deactivate: {steps: [{do: x}]}")
	personCard = parsed("method: guided, transfers: 2, activate: {steps: [{do: take it}, {do: look}]}, deactivate: {steps: [{do: deactivate it}]}")
)

func parsed(licences string) *card.Card {
	c, err := card.Parse("tidewright.yaml", fmt.Appendf(nil, cardText, licences))
	if err != nil {
		panic(err)
	}
	return c
}

func newWorld(r *rand.Rand, broken string) *world {
	w := &world{r: r, fault: broken, old: &sim{name: "OLD", disk: map[string]int{place: 1}}, now: &sim{name: "NEW", disk: map[string]int{}},
		sealed: map[string]string{}, kept: map[string]licence.Answer{}, next: 2}
	w.manifest = kit.Manifest{ID: "0123456789abcdef", Apps: []string{app}, Old: kit.Computer{Name: "OLD", System: machine.Linux, ID: machine.ID(w.old)}, New: kit.Computer{Name: "NEW", System: machine.Linux}}
	w.seats = 1 + r.IntN(2)
	w.desk = desk.Licence{Serial: "s", Code: "c", Product: app, Seats: w.seats, Transfers: r.IntN(3), Takeover: r.IntN(2) == 0}
	if r.IntN(2) == 0 {
		w.desk.Seats = 9 // no service counts seats; only the gates keep to the rule
	}
	w.card = deskCard
	if r.IntN(3) == 0 {
		c := *personCard
		c.Licences = slices.Clone(c.Licences)
		c.Licences[0].Seats, c.Licences[0].Takeover = w.seats, w.desk.Takeover
		w.card, w.desk.Seats, w.desk.Transfers = &c, 9, 9
	}
	if rule := r.IntN(4); rule > 1 {
		c := *w.card
		c.Licences = slices.Clone(c.Licences)
		w.card = &c
		if rule == 2 {
			c.Licences[0].Wait = waits.Licences[0].Wait
		} else {
			c.Licences[0].Trial = waits.Licences[0].Trial
		}
	}
	w.hasty = w.desk.Takeover && r.IntN(2) == 0
	w.desk.Active = []string{w.manifest.Old.ID}
	if r.IntN(2) == 0 {
		w.now.disk[place], w.precious = -7, []int{-7} // an empty profile made by a first start
	}
	return w
}

func (w *world) time() time.Time { return time.Unix(int64(1000+len(w.lines)+w.later), 0) } // a line is a second

// cut reports whether the run ends here. An interrupted run does nothing more.
func (w *world) cut() bool {
	w.dead = w.dead || !w.calm && w.r.IntN(16) == 0
	return w.dead
}

// The kit in memory.

func (w *world) Facts() (*kit.Manifest, []*card.Card)      { return &w.manifest, []*card.Card{w.card} }
func (*world) Place() string                               { return "" }
func (w *world) Lines() []journal.Line                     { return w.lines }
func (*world) Unlocked() bool                              { return true }
func (*world) Installer(string, string) (string, error)    { return "", nil }
func (*world) TotalBytes([]string, map[string]int64) int64 { return 0 }
func (*world) MendChecksums() error                        { return nil }
func (*world) Discard(string, []seal.Part)                 {}

func (w *world) Record(l journal.Line, data any) (journal.Line, error) {
	if w.cut() {
		return l, errCut
	}
	raw, err := json.Marshal(data)
	if err != nil {
		return l, err
	}
	l.N, l.At, l.Data = len(w.lines)+1, w.time(), raw
	if c, ok := data.(steps.Checked); ok && c.Equal {
		w.proves()
	}
	if w.fault == "skips "+l.Event {
		return l, nil
	}
	w.lines = append(w.lines, l)
	if w.fault == "doubles "+l.Event {
		w.lines = append(w.lines, l)
	}
	if w.cut() {
		return l, errCut
	}
	return l, nil
}

func (w *world) Inspect(context.Context, []string, map[string]int64, func(int64)) ([]kit.Damage, error) {
	if !w.whole && len(w.sealed) > 0 {
		return []kit.Damage{{File: "sealed/x", What: "was changed"}}, nil
	}
	return nil, nil
}

func (w *world) DamagedFiles(_ context.Context, _ string, s kit.Sealed) (out []string) {
	for _, p := range s.All() {
		if !w.whole || digest.Of([]byte(w.sealed[p.Name])).String() != p.Hash {
			out = append(out, p.Name)
		}
	}
	return out
}

type stream struct {
	bytes.Buffer
	w    *world
	name string
}

func (s *stream) Close() ([]seal.Part, error) {
	if s.w.cut() {
		return nil, errCut
	}
	s.w.sealed[s.name], s.w.whole = s.String(), true
	return []seal.Part{{Name: s.name, Size: int64(s.Len()), Hash: digest.Of(s.Bytes()).String()}}, nil
}

func (*stream) Abort() {}

func (w *world) Seal(_, name string, _ seal.Options) (kit.Stream, error) {
	return &stream{w: w, name: name}, nil
}

func (w *world) Tidy() error { return nil }

func (w *world) Open(_ string, parts []seal.Part) (io.ReadCloser, error) {
	text := w.sealed[parts[0].Name]
	if digest.Of([]byte(text)).String() != parts[0].Hash {
		return nil, fault.New(fault.Damaged, "%s was changed", parts[0].Name)
	}
	return io.NopCloser(strings.NewReader(text)), nil
}

// The item, whose content is a number.

type number struct {
	*item.Instance
	w *world
}

func (w *world) kinds() item.Table {
	return item.Table{card.File: func(o *item.Instance) item.Parts {
		n := number{o, w}
		return item.Parts{Inspector: n, Mover: n, Names: n}
	}}
}

func (n number) disk() map[string]int { return n.Computer.(*sim).disk }

func (number) Close()                                          {}
func (n number) Locate(context.Context) error                  { n.Path = place; return nil }
func (n number) Where() (string, string)                       { return n.Path, "" }
func (number) Volume(context.Context) string                   { return "" }
func (number) Check() error                                    { return nil }
func (number) Ours(string, string) bool                        { return true }
func (number) Lacks(context.Context) (l item.Lacks, err error) { return l, nil }

func (n number) Free(_ context.Context, home string, use item.Use) (string, error) {
	if use == item.ForStage {
		return home + ".stage", nil
	}
	for try := home + "." + string(use); ; try += "+" {
		if n.disk()[try] == 0 {
			return try, nil
		}
	}
}

func (n number) State(_ context.Context, home, spare string, _ bool) (item.Presence, error) {
	return item.PresenceOf(n.disk()[home] != 0 && n.w.fault != "overwrites", n.disk()[spare] != 0), nil
}

func (n number) Inspect(context.Context, item.Options) (*item.Inspection, error) {
	is := n.Blank()
	if v := n.disk()[n.Path]; v != 0 {
		is.State, is.Files, is.Stamp = item.IsHere, 1, strconv.Itoa(v)
	}
	return is, nil
}

func (n number) Seal(_ context.Context, is *item.Inspection) (*kit.Sealed, error) {
	v := n.disk()[n.Path]
	if n.w.fault == "seals something else" {
		v++
	}
	parts, err := n.Run.SealJSON(app, "data", v)
	return &kit.Sealed{Stream: "data", Parts: parts, Files: 1, Stamp: is.Stamp}, err
}

func (n number) sealed() (v int, err error) {
	return v, n.Run.OpenJSON(app, n.InKit.Sealed.Parts, &v)
}

func (n number) Same(_ context.Context, at string) (bool, error) {
	v, err := n.sealed()
	return err == nil && (v == n.disk()[at] || n.w.fault == "takes all for the same"), nil
}

func (n number) Stage(_ context.Context, stage string) (out item.Staged, err error) {
	v, err := n.sealed()
	if err == nil && n.w.cut() {
		err = errCut
	}
	if err == nil {
		n.disk()[stage] = v
	}
	return out, err
}

func (n number) RecordPlaced(ctx context.Context, at string, done *steps.Placed) error {
	if same, err := n.Same(ctx, at); err != nil || !same {
		return err
	}
	done.Stamp = strconv.Itoa(n.disk()[at])
	return nil
}

func (n number) Unedited(_ context.Context, at, stamp string) (bool, error) {
	return strconv.Itoa(n.disk()[at]) == stamp, nil
}

func (n number) MoveOut(_ context.Context, home, spare string, _ bool) error {
	return n.rename(home, spare)
}

func (n number) MoveIn(_ context.Context, spare, home string, _ bool) error {
	return n.rename(spare, home)
}

func (n number) rename(from, to string) error {
	if n.w.cut() {
		return errCut
	}
	if v := n.disk()[from]; v != 0 {
		n.disk()[to] = v
		delete(n.disk(), from)
	}
	return nil
}

func (n number) Delete(ctx context.Context, spare string, op steps.Op) (left bool, err error) {
	if n.disk()[spare] == 0 {
		return false, nil
	}
	if ours, err := item.MayDelete(ctx, n, spare, op); err != nil || !ours {
		return true, err
	}
	if n.w.cut() {
		return true, errCut
	}
	delete(n.disk(), spare)
	return false, nil
}

func (n number) Compare(context.Context) (*steps.Checked, error) {
	v, err := n.sealed()
	return &steps.Checked{Equal: v == n.disk()[n.Path] || n.w.fault == "finds all equal"}, err
}

// The licence service, with lost requests and answers.

func (w *world) Ask(_ context.Context, action licence.Action, r licence.Request, key string) (*licence.Answer, error) {
	if w.cut() {
		return nil, errCut
	}
	if !w.calm && w.r.IntN(6) == 0 {
		return nil, fault.New(fault.DeskDown, "the request was lost")
	}
	a, known := w.kept[key]
	a.State, a.Active = w.desk.State(r.Computer, w.time()), slices.Clone(w.desk.Active) // it may have changed since
	if action == licence.Status || !known || w.fault == "carries out every try" {
		spent, disabled := 0, ""
		if action != licence.Status {
			var p *licence.Problem
			if spent, disabled, p = w.change(action, r); p != nil {
				return nil, fault.Wrap(fault.DeskRefused, p, "no")
			}
		}
		a = licence.Answer{Action: action, Computer: r.Computer, State: w.desk.State(r.Computer, w.time()), Disabled: disabled, Takeover: w.desk.Takeover, Active: slices.Clone(w.desk.Active),
			Seats: w.seats, Transfers: w.desk.Transfers, Used: spent}
		if action != licence.Status {
			w.kept[key] = a
		}
		if w.fault == "guesses states" && action == licence.Status {
			a.State = licence.NotActivated
		}
	}
	if !w.calm && w.r.IntN(4) == 0 {
		return nil, fault.New(fault.DeskDown, "the answer was lost")
	}
	if w.cut() {
		return nil, errCut
	}
	return &a, nil
}

// change is a change of the licence that really happened.
func (w *world) change(action licence.Action, r licence.Request) (spent int, disabled string, p *licence.Problem) {
	before := len(w.desk.Active)
	if w.fault == "spends for every request" && action == licence.Activate {
		w.spent++
	}
	if spent, disabled, p = w.desk.Apply(action, r, w.time()); p != nil {
		return spent, disabled, p
	}
	w.spent += spent
	w.taken = w.taken || disabled != ""
	m := w.current
	if m.Exceptions.Back != "" {
		return spent, disabled, nil
	}
	if frees := action == licence.Deactivate && len(w.desk.Active) < before || disabled != ""; frees && (!w.whole || !w.packed()) {
		w.bad = "the licence was deactivated before its data was sealed"
	}
	if it := m.State.Items[steps.Key{App: app, Item: "data"}]; action == licence.Deactivate && m.Computer == w.old && m.Exceptions.Lost == "" && m.Overrides["old-unchanged"] == "" &&
		!w.begun && it != nil && strconv.Itoa(w.old.disk[place]) != it.Sealed.Stamp {
		w.bad = "the licence was deactivated while the old computer had work that was not sealed"
	}
	return spent, disabled, nil
}

func (w *world) packed() bool {
	return slices.ContainsFunc(w.lines, func(l journal.Line) bool { return l.Event == journal.EventPacked })
}

// The technician, who does the manual steps and may be interrupted after each.

type technician struct {
	run.NonInteractive
	w *world
	m *move.Move
}

func (*technician) Agree(string) error { return nil }

func (p *technician) DoStep(_ context.Context, g run.ManualStep) (run.Reply, error) {
	w := p.w
	switch {
	case w.cut():
		return run.Reply{}, errCut
	case g.Action == run.ActionType:
		return run.Reply{Answer: "s"}, nil
	case !w.calm && w.r.IntN(5) == 0:
		return run.Reply{}, fault.New(fault.ManualStep, "later")
	case g.Action == licence.Deactivate && g.Step == g.Of:
		on := p.m.Self().Name
		if p.m.Exceptions.Lost != "" {
			on = p.m.State.Licence(app, "seat").From.Name
		}
		if p.m.Exceptions.Lost != "" && p.m.Exceptions.Back != "" {
			on = p.m.State.New.Name
		}
		for name := range strings.SplitSeq(on, " or ") {
			w.change(licence.Deactivate, licence.Request{Computer: machine.ID(&sim{name: name})})
		}
	case g.Action == licence.Activate && g.Step == 1:
		r := licence.Request{Computer: p.m.Self().ID}
		for name := range strings.SplitSeq(p.m.State.Licence(app, "seat").From.Name, " or ") {
			if from := machine.ID(&sim{name: name}); p.m.Exceptions.Takeover != "" && slices.Contains(w.desk.Active, from) {
				r.From = from
			}
		}
		if _, _, no := w.change(licence.Activate, r); no != nil {
			return run.Reply{}, fault.New(fault.ManualStep, "%s", no.Title)
		}
	}
	return run.Reply{Answer: "done"}, nil
}

// move is a run of a step on a computer, by a technician who may be in a hurry and then overrides
// every gate that can be overridden.
func (w *world) move(c *sim) *move.Move {
	w.dead = false
	h := run.NewHost(c)
	m := move.New(run.New(w, h))
	m.Kinds, m.Marks, m.Now = w.kinds(), os.DevNull, w.time
	h.Technician = &technician{w: w, m: m}
	m.Pause = 1
	m.Asks = func(*card.Licence) licence.Service { return w }
	m.Overrides = map[string]string{}
	if !w.calm && w.r.IntN(3) == 0 {
		for i := range steps.Gates {
			if steps.Gates[i].Overridable() {
				m.Overrides[steps.Gates[i].Name] = "in a hurry"
			}
		}
	}
	return m
}

func (w *world) state() *steps.State { return steps.Fold(w.manifest, w.lines) }

// proves is called when verify finds the data equal.
func (w *world) proves() {
	it := w.state().Items[steps.Key{App: app, Item: "data"}]
	at := place
	if it.Placed != nil {
		at = it.Placed.To
	}
	if w.verified = w.now.disk[at]; strconv.Itoa(w.verified) != it.Sealed.Stamp {
		w.bad = "verify says it is equal, and it is not"
	}
}

// do runs a step.
func (w *world) do(name string, c *sim, step func(*move.Move, context.Context) ([]*run.Outcome, error), wish func(*move.Move)) *run.Outcome {
	m := w.move(c)
	if wish != nil {
		wish(m)
	}
	w.current, w.begun = m, slices.ContainsFunc(m.State.LicencesOf(app), func(l *steps.Licence) bool {
		return len(l.Answers) > 0 || l.Pending != nil || len(l.Stepped) > 0
	})
	out, err := step(m, context.Background())
	var one *run.Outcome
	if len(out) > 0 {
		one = out[0]
	}
	if w.trace != nil {
		w.trace = append(w.trace, fmt.Sprintf("%s on %s: %v %+v", name, c.name, err, one))
	}
	return one
}

func (w *world) pack(c *sim) { w.do("pack", c, (*move.Move).Pack, nil) }
func (w *world) verify(c *sim) {
	o := w.do("verify", c, (*move.Move).Verify, nil)
	if o == nil {
		return
	}
	for _, l := range o.Licences {
		here := slices.Contains(w.desk.Active, machine.ID(w.now))
		if l.Good && (!here || len(w.desk.Active) > 1 && !w.second) {
			w.bad = "verify says the licence is where it belongs, and it is not"
		}
	}
}

func (w *world) deactivate(c *sim) {
	w.do("deactivate", c, (*move.Move).Deactivate, func(m *move.Move) {
		if !w.calm && w.r.IntN(8) == 0 {
			m.Exceptions.Lost = "it burnt" // then it is deactivated from the new computer too
		}
	})
}

// back deactivates the licence on the new computer, and then activates it on the old one again.
func (w *world) back() {
	back := func(m *move.Move) { m.Exceptions.Back = "the app does not run there" }
	w.more++
	w.do("deactivate --back", w.now, (*move.Move).Deactivate, back)
	if w.r.IntN(2) == 0 {
		w.more++
		w.do("activate --back", w.old, (*move.Move).Activate, back)
	}
}

// replace replaces the new computer, which broke. What was on it is gone.
func (w *world) replace() {
	if !w.now.used {
		return
	}
	broken := w.now
	w.now = &sim{name: w.now.name + "+", disk: map[string]int{}}
	w.unpack(w.now)
	if w.state().New.ID != machine.ID(w.now) { // the run was interrupted before
		w.now = broken
		return
	}
	w.precious, w.verified = nil, 0
	w.more++
}

func (w *world) unpack(c *sim) {
	w.do("unpack", c, (*move.Move).Unpack, func(m *move.Move) {
		if bound := m.State.New.ID; c == w.now && bound != "" && bound != machine.ID(c) {
			m.ReplaceReason = "it broke"
		}
		c.used = c.used || c == w.now
		m.Policies = map[string]tree.Policy{"": []tree.Policy{tree.SetAside, tree.SetAside, tree.SetAside, tree.KeepBoth, tree.Skip}[w.r.IntN(5)]}
	})
}

func (w *world) activate(c *sim) {
	w.do("activate", c, (*move.Move).Activate, func(m *move.Move) {
		m.Exceptions = holder.Exceptions{}
		if w.calm {
			return
		}
		if w.hasty || w.r.IntN(4) == 0 {
			m.Exceptions.Takeover = "it burnt"
		}
		if w.r.IntN(6) == 0 {
			m.Exceptions.Second, w.second = "both work until Friday", w.second || c == w.now
		}
	})
}

func (w *world) undo(c *sim) {
	if w.retired {
		return // once retired, nobody goes back
	}
	placed, own := w.state().Items[steps.Key{App: app, Item: "data"}], 0
	if placed != nil && placed.Placed != nil && placed.Placed.Policy == string(tree.SetAside) {
		own = w.now.disk[placed.Placed.Aside]
	}
	o := w.do("undo", c, (*move.Move).Undo, nil)
	if o == nil {
		return
	}
	for _, i := range o.Items {
		if i.Did != "undone" {
			continue
		}
		if w.verified = 0; own != 0 && w.now.disk[place] != own {
			w.bad = "what was set aside has not got its name back"
		}
	}
}

// retire sets the old data aside.
func (w *world) retire(c *sim) {
	if w.old.disk[place] == 0 {
		return
	}
	it := w.state().Items[steps.Key{App: app, Item: "data"}]
	changed := it == nil || strconv.Itoa(w.old.disk[place]) != it.Sealed.Stamp
	w.do("retire", c, (*move.Move).Retire, nil)
	if w.old.disk[place] != 0 {
		return
	}
	switch {
	case it == nil || strconv.Itoa(w.verified) != it.Sealed.Stamp:
		w.bad = "the old data went before the new was proven"
	case changed && w.current.Overrides["old-unchanged"] == "":
		w.bad = "what was worked on since went with the old data"
	}
	w.retired = true
}

// work is a change by a user of a computer.
func (w *world) work(c *sim) {
	if c.disk[place] == 0 {
		return
	}
	if c == w.now {
		w.precious = slices.DeleteFunc(w.precious, func(v int) bool { return v == c.disk[place] })
		w.precious = append(w.precious, w.next)
	}
	c.disk[place] = w.next
	w.next++
	w.trace = append(w.trace, "work on "+c.name)
}

// due is the step that a patient technician would run now.
func (w *world) due() (int, *sim) {
	st := w.state()
	for n, step := range []steps.Step{steps.Pack, steps.Deactivate, steps.Unpack, steps.Activate, steps.Verify} {
		if step == steps.Deactivate && w.hasty {
			continue
		}
		if d := st.Progress(w.card, step); d != steps.Yes {
			if n >= 2 {
				return n * 3, w.now
			}
			return n * 3, w.old
		}
	}
	return 15, w.old
}

// step does one thing at random, and returns a broken rule, or "".
func (w *world) step() string {
	c := w.old
	if w.r.IntN(2) == 0 {
		c = w.now
	}
	n := w.r.IntN(24)
	if w.r.IntN(2) == 0 {
		n, c = w.due()
	}
	switch {
	case n < 3:
		w.pack(c)
	case n < 6:
		w.deactivate(c)
	case n < 9:
		w.unpack(c)
	case n < 12:
		w.activate(c)
	case n < 15:
		w.verify(c)
	case n < 17:
		w.retire(c)
	case n < 18:
		w.work(w.old)
	case n < 19:
		w.work(w.now)
	case n < 20:
		w.whole = false
		w.trace = append(w.trace, "the stick is damaged")
	case n < 21:
		w.undo(c)
	case n < 22 && w.r.IntN(2) == 0:
		w.later += 60
	case n < 22 && w.saved == nil:
		w.saved = &service{w.desk, maps.Clone(w.kept)}
		w.saved.desk.Active = slices.Clone(w.desk.Active)
	case n < 22 && w.card.Licences[0].Desk != nil && w.r.IntN(4) == 0:
		w.trace = append(w.trace, "the licence service is restored from a backup")
		w.desk, w.kept, w.more = w.saved.desk, w.saved.kept, w.more+2
		w.saved = nil
	case w.r.IntN(4) > 0:
	case n < 23:
		w.back()
	default:
		w.replace()
	}
	return w.broken()
}

// broken returns the rule that is broken, or "".
func (w *world) broken() string {
	there := slices.Collect(maps.Values(w.now.disk))
	lost := slices.ContainsFunc(w.precious, func(v int) bool { return !slices.Contains(there, v) })
	st := w.state()
	lic := st.Licences[steps.Key{App: app, Item: "seat"}]
	switch {
	case w.bad != "":
		return w.bad
	case len(w.desk.Active) > 1 && !w.second:
		return "the licence is active on both computers, and nobody wants that"
	case len(w.desk.Active) > w.seats:
		return "the licence is active on both computers, and its rule forbids that"
	case len(w.desk.Active) > 1 && !slices.ContainsFunc(st.Overrides, func(o steps.Override) bool { return o.Second != "" }):
		return "a second seat was taken, and the journal does not say so"
	case w.taken && !slices.ContainsFunc(st.Overrides, func(o steps.Override) bool { return o.Gate == "old-deactivated" }):
		return "the licence was taken over, and the journal does not say so"
	case w.spent > 1+w.more:
		return "a transfer was spent twice for one move"
	case lic != nil && lic.Used > max(w.spent, 1+w.more):
		return "the journal tells of more transfers than were spent"
	case w.retired && len(there) == 0 && !strings.HasSuffix(w.now.name, "+"): // a new computer that broke had the data
		return "the old data is gone, and there is none on the new computer"
	case !w.retired && w.old.disk[place] == 0 || len(w.old.disk) > 1:
		return "the old computer's data was touched"
	case lost:
		return "a file of the new computer is lost"
	}
	return ""
}

// finish does what the product names as the next step, without failures, until a move is complete. It returns why it is
// not, or "".
func (w *world) finish() string {
	w.calm = true
	last := ""
	for range 20 {
		d := w.state().Next([]*card.Card{w.card})
		last = fmt.Sprintf("%+v", d)
		var o *run.Outcome
		switch d.Step {
		case "", steps.Report, steps.Close:
			return ""
		case steps.Pack:
			o = w.do("pack", w.old, (*move.Move).Pack, nil)
		case steps.Deactivate:
			c := map[bool]*sim{true: w.old, false: w.now}[d.Side == steps.OldSide]
			o = w.do("deactivate", c, (*move.Move).Deactivate, func(m *move.Move) { m.Exceptions.Lost = map[bool]string{true: "it broke"}[d.Lost != ""] })
		case steps.Unpack:
			o = w.do("unpack", w.now, (*move.Move).Unpack, func(m *move.Move) { m.Policies = map[string]tree.Policy{"": tree.SetAside} })
		case steps.Activate:
			o = w.do("activate", w.now, (*move.Move).Activate, nil)
		case steps.Verify:
			o = w.do("verify", w.now, (*move.Move).Verify, nil)
		case steps.Retire:
			o = w.do("retire", w.old, (*move.Move).Retire, nil)
			w.retired = w.retired || w.old.disk[place] == 0
		}
		if bad := w.broken(); bad != "" {
			return bad
		}
		if o == nil {
			return "nothing came of " + last
		}
		if d.Step == steps.Verify && slices.ContainsFunc(o.Items, func(i run.ItemOutcome) bool { return !i.Equal }) { // somebody worked on the new computer
			o.Blocks = append(o.Blocks, w.do("unpack", w.now, (*move.Move).Unpack, func(m *move.Move) { m.Policies = map[string]tree.Policy{"": tree.SetAside} }).Blocks...)
		}
		if fault.KindOf(o.Err) == fault.Damaged {
			o.Blocks = append(o.Blocks, steps.Block{Gate: "kit-undamaged"})
		} else if fault.KindOf(o.Err) == fault.DeskRefused {
			return "" // the vendor decides
		} else if o.Err != nil {
			return o.Err.Error()
		}
		for _, b := range o.Blocks { // what the product advises
			switch b.Gate {
			case "kit-undamaged", "sealed", "packed", "old-unchanged":
				if w.do("retire --back", w.old, (*move.Move).Return, nil); w.old.disk[place] != 0 {
					w.retired = false
				}
				w.do("pack", w.old, (*move.Move).Pack, nil)
			case "verified":
				w.do("verify", w.now, (*move.Move).Verify, nil)
			case "in-place":
				w.do("unpack", w.now, (*move.Move).Unpack, func(m *move.Move) { m.Policies = map[string]tree.Policy{"": tree.SetAside} })
			case "old-deactivated":
				w.do("deactivate", w.old, (*move.Move).Deactivate, nil)
			case "waiting-over":
				w.later += 60
			case "trial-verified":
				w.do("unpack", w.now, (*move.Move).Unpack, func(m *move.Move) { m.Policies = map[string]tree.Policy{"": tree.SetAside} })
				w.do("verify", w.now, (*move.Move).Verify, nil)
			case "allowance", "seat-free", "seat-stays": // the vendor decides, or the seat stays by choice
				return ""
			default:
				return "stopped by " + b.Gate
			}
		}
	}
	return "no end: " + last
}

// sequences is the number of random sequences. MOVEKIT_SEQUENCES sets it.
func sequences(usual int) int {
	if n, err := strconv.Atoi(os.Getenv("MOVEKIT_SEQUENCES")); err == nil {
		return n
	}
	return usual
}

const sequenceSteps = 40

// TestNoSequenceOfStepsLosesAnything runs random sequences of steps, failures and retries.
func TestNoSequenceOfStepsLosesAnything(t *testing.T) {
	t.Parallel()
	all := sequences(1_000)
	var workers sync.WaitGroup
	var mu sync.Mutex
	moved, retired, taken := 0, 0, 0
	n := runtime.GOMAXPROCS(0)
	for worker := range n {
		workers.Go(func() {
			for i := worker; i < all; i += n {
				w := newWorld(rand.New(rand.NewPCG(42, uint64(i))), "")
				for range sequenceSteps {
					if bad := w.step(); bad != "" {
						t.Errorf("sequence %d: %s\n%s", i, bad, again(42, i, ""))
						return
					}
				}
				done := w.state().Proven(w.card)
				if bad := w.finish(); bad != "" {
					t.Errorf("sequence %d, finished as the product says: %s\n%s", i, bad, again(42, i, ""))
				}
				mu.Lock()
				if done {
					moved++
				}
				if w.retired {
					retired++
				}
				if w.taken {
					taken++
				}
				mu.Unlock()
			}
		})
	}
	workers.Wait()
	// The sequences must reach the end of a move; otherwise they test nothing.
	if moved < all/100 || retired < all/200 || taken < all/100 {
		t.Errorf("of %d sequences only %d ended proven and %d retired, with %d takeovers", all, moved, retired, taken)
	}
	t.Logf("%d sequences of %d steps: %d proven, %d retired, %d takeovers", all, sequenceSteps, moved, retired, taken)
}

// again repeats a sequence, and prints it step by step.
func again(seed uint64, i int, broken string) string {
	w := newWorld(rand.New(rand.NewPCG(seed, uint64(i))), broken)
	w.trace = []string{}
	for range sequenceSteps {
		if w.step() != "" {
			return strings.Join(w.trace, "\n")
		}
	}
	w.trace = append(w.trace, "finished as the product says:")
	w.finish()
	return strings.Join(w.trace, "\n")
}

// TestTheModelSeesFaults breaks one thing at a time, and expects the model to detect it.
func TestTheModelSeesFaults(t *testing.T) {
	gates := map[string]func(*steps.Gate){}
	for _, name := range []string{"old-deactivated", "verified", "sealed", "old-computer", "other-computer", "old-unchanged"} {
		gates["without the gate "+name] = func(g *steps.Gate) { g.Steps = nil }
	}
	for _, name := range []string{"sealed", "old-deactivated"} {
		gates["past the gate "+name] = func(g *steps.Gate) { g.Firm = false }
	}
	for name, change := range gates {
		t.Run(name, func(t *testing.T) {
			g := steps.Find(name[strings.LastIndex(name, " ")+1:])
			was := *g
			change(g)
			defer func() { *g = was }()
			finds(t, "")
		})
	}
	for _, name := range []string{
		"skips overridden", "doubles answered", "guesses states", "spends for every request",
		"finds all equal", "takes all for the same", "overwrites", "seals something else",
	} {
		t.Run(name, func(t *testing.T) { finds(t, name) })
	}
}

// finds expects a broken rule within a number of sequences.
func finds(t *testing.T, broken string) {
	t.Helper()
	const most = 4_000
	for i := range most {
		w := newWorld(rand.New(rand.NewPCG(43, uint64(i))), broken)
		for range sequenceSteps {
			if bad := w.step(); bad != "" {
				t.Logf("found after %d sequences: %s", i+1, bad)
				return
			}
		}
	}
	t.Errorf("nothing was found broken in %d sequences", most)
}
