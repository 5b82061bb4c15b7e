package run

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/iotest"
	"time"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/journal"
	"movekit/internal/core/kit"
	"movekit/internal/core/licence"
	"movekit/internal/core/machine"
	"movekit/internal/core/steps"
	"movekit/test/fatal"
	"movekit/test/lay"
)

const pass = "agency-balcony-cabana-dagger-eagle-fable"

// computer is a simulated computer with a name.
func computer(t *testing.T, name, hardware, more string) *Host {
	t.Helper()
	c, err := machine.Open(lay.Disk(t, "linux", map[string]string{machine.IdentityFile: lay.Ident("linux", name, hardware) + more, "opt/v": "8.2\n", "opt/app.ini": "edition=Harbour\n"}))
	fatal.If(t, err)
	h := NewHost(c)
	h.Private.Above = filepath.Join(t.TempDir(), "x")
	return h
}

// begun creates a kit on a computer with two apps, and starts a run with it.
func begun(t *testing.T, h *Host, keep bool) *Run {
	t.Helper()
	dir := t.TempDir()
	lay.Out(t, dir, map[string]string{"tide.yaml": `card: 1
name: tide
title: Tidewright
version: {file: /opt/v, edition: {file: /opt/app.ini, key: edition}}
items: [{name: data, kind: file, path: /srv/data}, {name: more, kind: file, path: /srv/more}]
sync: [{about: mail, command: [/opt/tide, --sync], pattern: done}]
`, "hoist.yaml": "card: 1\nname: hoist\ntitle: Hoistbook\nitems: [{name: diary, kind: folder, path: /srv/diary}]\n"})
	cards, err := card.ReadDir(dir)
	fatal.If(t, err)
	k, err := kit.Create(filepath.Join(dir, "kit"), kit.New{Tool: "test", Cards: cards, Passphrase: pass, Work: 1, Keep: keep, Old: kit.ComputerOf(h.Computer), New: kit.Computer{Name: kit.Unnamed, System: "linux"}})
	fatal.If(t, err)
	t.Cleanup(func() { k.Close() })
	r := New(k, h)
	r.Marks = t.TempDir()
	return r
}

// TestChosen selects apps and items by name.
func TestChosen(t *testing.T) {
	r := begun(t, computer(t, "OLD", "o", ""), false)
	for _, c := range []struct {
		apps []string
		want string
		kind fault.Kind
	}{
		{nil, "hoist tide", ""}, {[]string{"tide", "hoist", "tide"}, "tide hoist", ""}, {[]string{"none"}, "", fault.Usage}, {[]string{"diary"}, "", fault.Usage},
	} {
		r.Apps = c.apps
		cards, err := r.SelectedCards()
		var names []string
		for _, card := range cards {
			names = append(names, card.Name)
		}
		if strings.Join(names, " ") != c.want || err != nil && fault.KindOf(err) != c.kind || (err == nil) != (c.kind == "") {
			t.Errorf("%q: %q %v", c.apps, names, err)
		}
		if slices.Contains(c.apps, "diary") && !strings.Contains(err.Error(), "use hoist/diary") {
			t.Error(err)
		}
	}
	key := func(app, item string) steps.Key { return steps.Key{App: app, Item: item} }
	for items, want := range map[string][]bool{"": {true, true, true}, "tide/data": {true, false, true}, "tide/data tide/more": {true, true, true}, "hoist/none": {true, true, false}} {
		r.Items = strings.Fields(items)
		if got := []bool{r.Selected(key("tide", "data")), r.Selected(key("tide", "more")), r.Selected(key("hoist", "diary"))}; !slices.Equal(got, want) {
			t.Errorf("of %q are picked %v", items, got)
		}
	}
	if r.Card("tide").Title != "Tidewright" || r.Card("none") != nil {
		t.Error("cards by name")
	}
}

// TestSides identifies the computers of a move, and binds the new one once.
func TestSides(t *testing.T) {
	old, next, third, image := computer(t, "OLD", "o", ""), computer(t, "NEW", "n", ""), computer(t, "THIRD", "t", ""), computer(t, "IMAGE", "o", "")
	r := begun(t, old, false)
	tide := r.Card("tide")
	on := func(h *Host) *Run { r.Host = h; return r }
	if on(old).Side() != steps.OldSide || on(next).Side() != steps.NewSide || on(third).Side() != steps.NewSide || on(image).Side() != steps.NewSide {
		t.Error("before one is bound")
	}
	if on(image).Self().ID == r.Manifest.Old.ID || on(next).Self().ID != machine.ID(next.Computer) || on(old).Self() != r.Manifest.Old {
		t.Error("who this computer is")
	}
	for _, c := range []struct {
		h     *Host
		step  steps.Step
		bound string
	}{{old, steps.Unpack, kit.Unnamed}, {next, steps.Pack, kit.Unnamed}, {next, steps.Verify, kit.Unnamed}, {next, steps.Unpack, "NEW"}, {next, steps.Activate, "NEW"}, {third, steps.Unpack, "NEW"}} {
		if err := on(c.h).bind(c.step, tide, &Outcome{}); err != nil || r.State.New.Name != c.bound {
			t.Errorf("%s on %s: bound to %s, %v", c.step, c.h.Computer.Name(), r.State.New.Name, err)
		}
	}
	if on(third).Side() != steps.ThirdSide || on(next).Side() != steps.NewSide || on(old).Side() != steps.OldSide {
		t.Error("after one is bound")
	}
	lines := len(r.Kit.Lines())
	r.ReplaceReason = "it broke"
	o := &Outcome{}
	if err := on(third).bind(steps.Activate, tide, o); err != nil || r.State.New.Name != "THIRD" || len(o.Overrode) != 1 || o.Overrode[0].Because != "it broke" || o.Overrode[0].Gate != "new-computer" || len(r.Kit.Lines()) != lines+1 {
		t.Errorf("instead of another: %+v %+v %v", r.State.New, o, err)
	}
	r.ReplaceReason = ""
	if f := on(third).Facts(tide); !f.Bound || f.Side != steps.NewSide || f.Here != "THIRD" || f.OldName != "OLD" || f.NewName != "THIRD" || f.Keep || f.Packed || f.Placed || f.HandedOver || f.Title != "Tidewright" || f.Written.IsZero() {
		t.Errorf("facts: %+v", f)
	}
	copied := begun(t, old, true)
	copied.Host = next
	if err := copied.bind(steps.Unpack, tide, &Outcome{}); err != nil || copied.bound() {
		t.Errorf("a safety copy is bound to %+v, %v", copied.State.New, err)
	}
}

// TestGates stops at gates, and passes those that are overridden.
func TestGates(t *testing.T) {
	r := begun(t, computer(t, "OLD", "o", ""), false)
	tide := r.Card("tide")
	f := r.Facts(tide)
	f.Use, f.Pack, f.Fit, f.Drift = &steps.UseFacts{Running: []string{"tide (process 7)"}}, &steps.PackFacts{}, &steps.FitFacts{}, &steps.DriftFacts{}
	stopped := &Outcome{}
	if on, err := r.Check(steps.Pack, tide, f, stopped); on || err != nil || len(stopped.Blocks) != 1 || stopped.Blocks[0].Gate != "app-closed" || len(r.State.Overrides) != 0 {
		t.Fatalf("%v %v %+v", on, err, stopped.Blocks)
	}
	r.Overrides = map[string]string{"app-closed": "it never ends", "free-space": "there is"}
	past := &Outcome{}
	if on, err := r.Check(steps.Pack, tide, f, past); !on || err != nil || len(past.Blocks) != 0 || len(past.Overrode) != 1 || len(r.State.Overrides) != 1 || r.State.Overrides[0].Because != "it never ends" || r.State.Overrides[0].App != "tide" {
		t.Errorf("%v %v %+v %+v", on, err, past, r.State.Overrides)
	}
	r.Host = computer(t, "NEW", "n", "")
	if on, err := r.Check(steps.Pack, tide, r.Facts(tide), &Outcome{}); on || err != nil {
		t.Errorf("packed on the new computer: %v %v", on, err)
	}
	over := steps.Overridden{Gate: "g", Step: steps.Pack, Why: "w", Because: "b"}
	o, lines := &Outcome{}, len(r.Kit.Lines())
	for range 2 {
		fatal.If(t, r.Overrode(tide, o, over))
	}
	if len(o.Overrode) != 1 || len(r.Kit.Lines()) != lines+1 {
		t.Errorf("told %d times, in %d lines", len(o.Overrode), len(r.Kit.Lines())-lines)
	}
	if err := r.Overrode(r.Card("hoist"), o, over); err != nil || len(o.Overrode) != 2 {
		t.Errorf("for another app: %+v %v", o, err)
	}
}

// TestEach runs a step for every app even if others fail, and records how far the journal is.
func TestEach(t *testing.T) {
	h := computer(t, "OLD", "o", "")
	r := begun(t, h, false)
	var details []string
	h.Notify = func(e Event) { details = append(details, e.App+": "+e.Detail+e.What) }
	h.Commands = true
	odd := fault.New(fault.Missing, "odd")
	out, err := r.Each(t.Context(), func(_ context.Context, c *card.Card, o *Outcome) error {
		if c.Name == "hoist" {
			return odd
		}
		o.Items = append(o.Items, ItemOutcome{Item: "data", Equal: true})
		return nil
	})
	if err != nil || len(out) != 2 || out[0].Err != odd || out[0].Error != "odd" || out[1].Err != nil || !out[1].Changed() || out[0].Changed() || !out[1].Equal() || out[0].Equal() {
		t.Errorf("%+v %v", out, err)
	}
	if !r.State.Agreed["tide"] || r.State.Agreed["hoist"] || !slices.Contains(details, "hoist: failed: odd") || !slices.Contains(details, "tide: journal: "+journal.EventAgreed) {
		t.Errorf("agreed to %v, told %q", r.State.Agreed, details)
	}
	lines := len(r.Kit.Lines())
	if _, err := r.Each(t.Context(), func(context.Context, *card.Card, *Outcome) error { return nil }); err != nil || len(r.Kit.Lines()) != lines {
		t.Errorf("agreed to again: %d lines, %v", len(r.Kit.Lines())-lines, err)
	}
	stopped, stop := context.WithCancel(t.Context())
	if out, err := r.Each(stopped, func(context.Context, *card.Card, *Outcome) error { stop(); return stopped.Err() }); err != nil || len(out) != 1 {
		t.Errorf("stopped after %d, %v", len(out), err)
	}
	r.Apps = []string{"none"}
	if _, err := r.Each(t.Context(), nil); fault.KindOf(err) != fault.Usage {
		t.Errorf("no such app: %v", err)
	}
	// An outdated copy is reported.
	nothing := func(context.Context, *card.Card, *Outcome) error { return nil }
	r.Apps = nil
	name, _ := r.localFile()
	var m local
	data, _ := os.ReadFile(name)
	if err := json.Unmarshal(data, &m); err != nil || m.Lines != len(r.Kit.Lines()) {
		t.Fatalf("remembered: %s %v", data, err)
	}
	for text, want := range map[string]string{
		fmt.Sprintf(`{"lines":%d,"mac":%q}`, m.Lines+1, m.Mac): fmt.Sprintf("its journal has %d lines, this one has %d", m.Lines+1, m.Lines), fmt.Sprintf(`{"lines":%d,"mac":"x"}`, m.Lines): fmt.Sprintf("line %d of its journal differs", m.Lines),
		`{"lines":0}`: "", "nonsense": "", string(data): "",
	} {
		os.WriteFile(name, []byte(text), 0o600)
		r.Overrides = nil
		if _, err := r.Each(t.Context(), nothing); err != nil || (r.stale == "") != (want == "") || !strings.Contains(r.stale, want) || r.Facts(r.Card("tide")).Behind != r.stale {
			t.Errorf("%s: %q %v", text, r.stale, err)
		}
		now, _ := os.ReadFile(name)
		if want != "" && string(now) != text || want == "" && string(now) != string(data) {
			t.Errorf("%s: remembered %s", text, now)
		}
	}
	os.WriteFile(name, []byte(fmt.Sprintf(`{"lines":%d,"mac":"x"}`, m.Lines)), 0o600)
	r.Overrides = map[string]string{"newest-copy": "the other is lost"}
	_, err = r.Each(t.Context(), nothing)
	fatal.If(t, err)
	if now, _ := os.ReadFile(name); string(now) != string(data) {
		t.Errorf("past the gate: remembered %s", now)
	}
}

// consenting agrees, and gives one password.
type consenting struct {
	NonInteractive
	password string
	err      error
	asked    []string
}

func (p *consenting) AgreeToRun(q string) error { p.asked = append(p.asked, q); return p.err }
func (p *consenting) Password(q string) (string, error) {
	p.asked = append(p.asked, q)
	return p.password, p.err
}

// TestAgreedToCommands asks once for consent to a card's commands.
func TestAgreedToCommands(t *testing.T) {
	r := begun(t, computer(t, "OLD", "o", ""), false)
	tide := r.Card("tide")
	if r.ForApp(tide).Commands {
		t.Error("nobody has agreed")
	}
	if err := r.AgreeToCommands(tide); !IsNonInteractive(err) || r.State.Agreed["tide"] {
		t.Errorf("this run is non-interactive: %v", err)
	}
	p := &consenting{}
	r.Technician = p
	if err := r.AgreeToCommands(tide); err != nil || !r.ForApp(tide).Commands || r.ForApp(r.Card("hoist")).Commands || r.Host.Commands || len(p.asked) != 1 || !strings.Contains(p.asked[0], "  /opt/tide --sync\n") {
		t.Errorf("%v, asked %q", err, p.asked)
	}
	opened, err := kit.Open(r.Kit.Place())
	fatal.If(t, err)
	if New(opened, r.Host).ForApp(tide).Commands {
		t.Error("a journal that nobody has proven is believed")
	}
}

// TestPasswordPrompt asks for a password once per run if the known one fails.
func TestPasswordPrompt(t *testing.T) {
	no := fault.New(fault.ServerLogin, "no")
	use := func(right string) func(string) error {
		return func(password string) error {
			if password != right {
				return no
			}
			return nil
		}
	}
	h := computer(t, "OLD", "o", "")
	if err := h.WithPassword("maren@quay", "", use("tide")); err != no {
		t.Errorf("this run is non-interactive: %v", err)
	}
	p := &consenting{password: "tide"}
	h.Technician = p
	for range 2 {
		if err := h.WithPassword("maren@quay", "", use("tide")); err != nil || len(p.asked) != 1 || p.asked[0] != "Password for maren@quay: " {
			t.Errorf("%v, asked %q", err, p.asked)
		}
	}
	if err := h.WithPassword("maren@quay", "ebb", use("tide")); err != no || len(p.asked) != 1 {
		t.Errorf("a known one that is wrong: %v", err)
	}
	if err := h.WithPassword("zoe@quay", "", func(string) error { return fault.New(fault.ServerDown, "down") }); fault.KindOf(err) != fault.ServerDown || len(p.asked) != 1 {
		t.Errorf("a server that is down: %v", err)
	}
	p.err = fault.New(fault.Stopped, "stopped")
	if err := h.WithPassword("zoe@quay", "", use("tide")); fault.KindOf(err) != fault.Stopped {
		t.Errorf("stopped: %v", err)
	}
	p.err, p.password = nil, "wrong"
	if err := h.WithPassword("zoe@quay", "", use("tide")); err != no {
		t.Errorf("a wrong one: %v", err)
	}
}

// TestSealedAndOpened seals data and reads it back. A failure leaves nothing behind.
func TestSealedAndOpened(t *testing.T) {
	r := begun(t, computer(t, "OLD", "o", ""), false)
	var told int64
	count := func(n int64) { told += n }
	text := strings.Repeat("berth ", 500_000)
	parts, n, err := r.SealFrom(t.Context(), "tide", "data.zst.age", iotest.DataErrReader(strings.NewReader(text)), count)
	if err != nil || n != int64(len(text)) || told != n || len(parts) != 1 {
		t.Fatalf("%d bytes, told %d, %v", n, told, err)
	}
	stopped, stop := context.WithCancel(t.Context())
	stop()
	if _, _, err := r.SealFrom(t.Context(), "tide", "b.zst.age", iotest.ErrReader(errors.New("odd")), count); fault.KindOf(err) != fault.Unreadable {
		t.Errorf("what cannot be read: %v", err)
	}
	if _, _, err := r.SealFrom(stopped, "tide", "c.zst.age", strings.NewReader(text), count); !errors.Is(err, context.Canceled) {
		t.Errorf("stopped: %v", err)
	}
	want := map[string]int{"boats": 3}
	json, err := r.SealJSON("tide", "facts.zst.age", want)
	fatal.If(t, err)
	var got map[string]int
	if err := r.OpenJSON("tide", json, &got); err != nil || got["boats"] != 3 {
		t.Errorf("%v %v", got, err)
	}
	if err := r.OpenJSON("tide", parts, &got); fault.KindOf(err) != fault.Damaged {
		t.Errorf("no JSON: %v", err)
	}
	if _, err := r.SealJSON("tide", "x.zst.age", func() {}); fault.KindOf(err) != fault.Internal {
		t.Errorf("what could not be written: %v", err)
	}
	files, _ := os.ReadDir(filepath.Join(r.Kit.Place(), kit.SealedDir, "tide"))
	if len(files) != 2 {
		t.Errorf("sealed files: %v", files)
	}
	if err := r.RecordSealed(steps.Key{App: "tide", Item: "data"}, kit.Sealed{Stream: "data", Parts: parts}); err != nil || r.State.Items[steps.Key{App: "tide", Item: "data"}] == nil {
		t.Errorf("recorded: %v", err)
	}
	if in, err := kit.Inspect(t.Context(), r.Kit.Place(), nil, nil, nil, nil); err != nil || !in.Whole() {
		t.Errorf("%+v %v", in, err)
	}
}

// TestHere reads an app's version, and reports progress.
func TestHere(t *testing.T) {
	h := computer(t, "OLD", "o", "")
	r := begun(t, h, false)
	if v, err := h.Version(t.Context(), r.Card("tide")); err != nil || v.Value != "8.2" || v.Edition != "Harbour" {
		t.Errorf("%+v %v", v, err)
	}
	if v, err := h.Version(t.Context(), r.Card("hoist")); err != nil || v.Value != "" {
		t.Errorf("a card without version: %+v %v", v, err)
	}
	h.AddBytes(1) // nobody listens
	var told []Event
	h.Notify = func(e Event) { told = append(told, e) }
	h.Begin(steps.Key{App: "a", Item: "b", User: "c"}, "sealing", 9)(4)
	h.Detail(steps.Key{App: "a"}, "x")
	if want := []Event{{App: "a", Item: "b", User: "c", What: "sealing", Total: 9}, {Bytes: 4}, {App: "a", Detail: "x"}}; !slices.Equal(told, want) {
		t.Errorf("told %+v", told)
	}
}

// TestEqual checks when an app counts as the same.
func TestEqual(t *testing.T) {
	until := time.Now()
	for name, c := range map[string]struct {
		o     Outcome
		equal bool
	}{
		"nothing": {Outcome{}, true}, "an error": {Outcome{Err: errors.New("x")}, false}, "stopped": {Outcome{Blocks: []steps.Block{{}}}, false}, "an item": {Outcome{Items: []ItemOutcome{{Equal: true}, {Skipped: true}}}, true}, "another item": {Outcome{Items: []ItemOutcome{{Equal: true}, {}}}, false},
		"opened": {Outcome{Opened: &steps.Opened{Good: true}}, true}, "not opened": {Outcome{Opened: &steps.Opened{}}, false}, "not tried": {Outcome{Opened: &steps.Opened{NotChecked: "x"}}, true}, "a licence": {Outcome{Licences: []LicenceOutcome{{Good: true}}}, true}, "no licence": {Outcome{Licences: []LicenceOutcome{{Good: true}, {}}}, false}, "a trial": {Outcome{Licences: []LicenceOutcome{{Trial: &until}}}, true},
	} {
		if c.o.Equal() != c.equal {
			t.Errorf("%s is equal: %v", name, !c.equal)
		}
	}
	first, also := errors.New("first"), errors.New("also")
	o := &Outcome{Also: []error{also}}
	if errs := o.Errs(); len(errs) != 1 || errs[0] != also {
		t.Errorf("%v", errs)
	}
	o.Fail(nil)
	o.Fail(first)
	o.Fail(also)
	if errs := o.Errs(); len(errs) != 2 || errs[0] != first || o.Error != "first" {
		t.Errorf("%v", errs)
	}
}

// TestNonInteractive checks that each error names the question.
func TestNonInteractive(t *testing.T) {
	n := NonInteractive{}
	_, password := n.Password("Password for x: ")
	for _, err := range []error{password, n.Agree("Free it?"), n.AgreeToRun("Run it?")} {
		if fault.KindOf(err) != fault.ManualStep || !IsNonInteractive(err) {
			t.Error(err)
		}
	}
	if _, err := n.Change("Tidewright", steps.Key{App: "tide", Item: "data"}, nil); fault.KindOf(err) != fault.PathsOutdated || !IsNonInteractive(err) || !strings.Contains(err.Error(), "the settings data of Tidewright") {
		t.Error(err)
	}
	if p, err := n.Resolve(Conflict{}); p != "" || err != nil {
		t.Error(p, err)
	}
	for action, want := range map[licence.Action]string{ActionOpen: "checking the data in Tidewright", ActionSync: "making sure that Tidewright syncs on one", ActionType: "the key of the licence seat of Tidewright must be typed", licence.Activate: "step 1 of 2 to activate the licence seat of Tidewright"} {
		if _, err := n.DoStep(t.Context(), ManualStep{Key: steps.Key{Item: "seat"}, App: "Tidewright", Action: action, Step: 1, Of: 2, Ask: "the key"}); fault.KindOf(err) != fault.ManualStep || !strings.HasPrefix(err.Error(), want) {
			t.Errorf("%s: %v", action, err)
		}
	}
	if IsNonInteractive(errors.New("x")) {
		t.Error("anything says that nobody is there")
	}
}
