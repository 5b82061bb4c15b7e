package move_test

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"movekit/internal/core/fault"
	"movekit/internal/core/journal"
	"movekit/internal/core/kit"
	"movekit/internal/core/licence"
	"movekit/internal/core/machine"
	"movekit/internal/core/move"
	"movekit/internal/core/steps"
	"movekit/test/fatal"
	"movekit/test/lay"
	"movekit/test/office"
)

const onNewCard = `version: {file: /opt/v, rule: same-minor, edition: {file: /opt/edition}}
programs: [pontoon]
requires: [{name: A driver, path: /lib/driver}]
items:
  - {name: diary, kind: folder, path: /srv/diary}
  - {name: data, kind: sqlite, path: /srv/b.db}
  - {name: settings, kind: folder, path: ~/.app}
  - {name: server, kind: network, address: 'QUAY-SRV:5432'}
  - {name: account, kind: hosted, address: 'https://x.example'}
`

func onNewOffice(t *testing.T) *office.Office {
	o := office.New(t, onNewCard, "linux", map[string]string{
		"old/etc/passwd": "maren:x:1000:1::/home/maren:/bin/sh\ntobias:x:1001:1::/home/tobias:/bin/sh\n", "old/opt/v": "8.2.1", "old/opt/edition": "Harbour", "old/srv/diary/a": "1",
		"old/home/maren/.app/s": "m", "old/home/tobias/.app/s": "t",
		"new/etc/passwd": "maren:x:1000:1::/home/maren:/bin/sh\nt.ove:x:1001:1::/home/tobias:/bin/sh\n", "new/home/maren/x": "", "new/home/tobias/x": "", "new/srv/x": "",
	})
	lay.Database(t, filepath.Join(o.Dir, "old/srv/b.db"), "CREATE TABLE t (x)", "INSERT INTO t VALUES (1)")
	return o
}

// told lists the checks: app, subject, and whether it is ready.
func told(r *move.Readiness) string {
	var out []string
	for _, c := range r.Checks {
		if c.What == "kit" && c.Gate == "" {
			continue // its data is not read
		}
		out = append(out, fmt.Sprintf("%s %v", c.What, c.Ready))
		if (c.Need == "") != c.Ready || c.Says == "" {
			out = append(out, fmt.Sprintf("%+v", c))
		}
	}
	return strings.Join(out, ", ")
}

func TestOnNew(t *testing.T) {
	t.Parallel()
	o := onNewOffice(t)
	see := func(change func(*move.Move)) *move.Readiness {
		t.Helper()
		j := o.Job(o.New)
		if change != nil {
			change(j)
		}
		before := len(o.Kit.Log.Lines)
		r, err := j.Ready(ctx)
		fatal.If(t, err)
		for _, l := range o.Kit.Log.Lines[before:] {
			if l.Event != journal.EventFound && l.Event != journal.EventChosen {
				t.Errorf("looking has written %s into the journal", l.Event)
			}
		}
		return r
	}
	says := func(r *move.Readiness, what, words string) {
		t.Helper()
		for _, c := range r.Checks {
			if c.What == what {
				if !strings.Contains(c.Says+" "+string(c.Need)+" "+c.Of, words) {
					t.Errorf("%s says %q needs %q, want %q", what, c.Says, c.Need, words)
				}
				return
			}
		}
		t.Errorf("nothing is said of %s", what)
	}
	if got, want := told(see(nil)), "kit false, version false, edition true, A driver false, server true, account true"; got != want {
		t.Errorf("before the pack: %s\nwant %s", got, want)
	}
	o.Pack()
	r := see(nil)
	if got, want := told(r), "version false, edition false, A driver false, server true, account true, diary true, data true, user maren true, settings of maren true, user tobias false, space true"; got != want {
		t.Errorf("nothing installed: %s\nwant %s", got, want)
	}
	says(r, "user tobias", "has no user here user tobias")
	lay.Out(t, o.Dir, map[string]string{"new/opt/v": "8.3", "new/opt/edition": "HARBOUR", "new/lib/driver": "", "new/srv/diary/a": "2", "new/home/maren/.app/s": "m"})
	lay.Database(t, filepath.Join(o.Dir, "new/srv/b.db"), "CREATE TABLE t (x)", "INSERT INTO t VALUES (1)")
	asTobias := func(j *move.Move) { j.Choices.Users = map[string]string{"tobias": "t.ove"} }
	r = see(asTobias)
	if got, want := told(r), "version false, edition true, A driver true, server true, account true, diary true, data true, user maren true, settings of maren true, user tobias true, settings of tobias true, space true"; got != want {
		t.Errorf("things in the way: %s\nwant %s", got, want)
	}
	says(r, "version", "8.3 here, 8.2.1 on OLD (same-minor)")
	says(r, "data", "the same is here already")
	says(r, "diary", "there is other existing data")
	os.WriteFile(filepath.Join(o.Dir, "new/opt/v"), []byte("8.2.9"), 0o600)
	if r = see(asTobias); !r.Ready() || !r.Compared {
		t.Errorf("not ready: %s", told(r))
	}
	// Without the passphrase, nothing is compared or claimed.
	locked, err := kit.Open(o.Kit.Dir)
	fatal.If(t, err)
	r = see(func(j *move.Move) { asTobias(j); j.Kit = locked })
	says(r, "data", "not compared")
	if r.Compared || !r.Ready() {
		t.Errorf("%+v", r)
	}
	if _, err := o.Job(o.Old).Ready(ctx); fault.KindOf(err) != fault.Usage {
		t.Errorf("on the old computer: %v", err)
	}
}

// TestStayingItemsAreReported reports servers and accounts in every step, without moving them.
func TestStayingItemsAreReported(t *testing.T) {
	t.Parallel()
	o := onNewOffice(t)
	lay.Out(t, o.Dir, map[string]string{"new/opt/v": "8.2", "new/opt/edition": "Harbour", "new/lib/driver": "", "new/etc/passwd": "maren:x:1000:1::/home/maren:/bin/sh\ntobias:x:1001:1::/home/tobias:/bin/sh\n"})
	var stays []string
	for _, i := range o.Pack().Items {
		if i.Did == "stays" {
			stays = append(stays, i.Item+" "+i.To)
		}
	}
	if strings.Join(stays, ", ") != "server QUAY-SRV:5432, account https://x.example" {
		t.Errorf("stays: %v", stays)
	}
	var err error
	if o.New, err = machine.Open(filepath.Join(o.Dir, "new")); err != nil {
		t.Fatal(err)
	}
	o.Unpack()
	v := o.Verify()
	if !v.Equal() || len(v.Items) != 6 || v.Items[4].Did != "stays" || v.Items[4].Rows[0].New != "QUAY-SRV:5432" {
		t.Errorf("%+v", v)
	}
	if !o.Job(o.New).State.Proven(o.Kit.Cards[0]) {
		t.Error("what stays keeps the app from being proven")
	}
}

// TestAgreement runs a card's commands only after the technician has agreed, and remembers that.
func TestAgreement(t *testing.T) {
	t.Parallel()
	o := office.New(t, "version: {command: [/opt/app/tool, --version]}\nitems: [{name: a, kind: file, path: /srv/a}]\n", "linux", map[string]string{"old/srv/a": "1", "new/srv/x": "1"})
	if out := o.Pack(); out.Err != nil || o.Job(o.Old).State.Agreed["app"] {
		t.Errorf("agreed without having been asked: %+v", out)
	}
	out := o.Only(o.Job(o.New).Unpack(ctx))
	if office.Blocked(out) != "version-rule" || !strings.Contains(out.Blocks[0].Why, "and it was not run: /opt/app/tool --version") {
		t.Errorf("%+v", out.Blocks)
	}
	j := o.Job(o.Old)
	j.Commands = true
	o.Only(j.Pack(ctx))
	lines := len(o.Kit.Log.Lines)
	if !o.Job(o.New).State.Agreed["app"] || !o.Job(o.New).ForApp(o.Kit.Cards[0]).Commands {
		t.Error("the agreement was not kept")
	}
	o.Only(j.Pack(ctx))
	for _, l := range o.Kit.Log.Lines[lines:] {
		if l.Event == "agreed" {
			t.Error("the same agreement is recorded again")
		}
	}
	locked, err := kit.Open(o.Kit.Dir)
	fatal.If(t, err)
	if move.New(o.Run(locked, o.New)).ForApp(locked.Cards[0]).Commands {
		t.Error("a kit that nobody has opened is believed")
	}
}

const seated = `items: [{name: diary, kind: folder, path: /srv/diary}]
licences: [{name: seat, method: guided, deactivate: {steps: [{do: deactivate it}]}, activate: {steps: [{do: take it}]}, lost: {steps: [{do: call the vendor}]}}]
`

// another creates one more computer.
func another(t *testing.T, o *office.Office, dir, ident string) machine.Computer {
	lay.Out(t, o.Dir, map[string]string{dir + "/computer.yaml": ident, dir + "/srv/.keep": ""})
	return office.Open(t, o.Dir+"/"+dir)
}

// TestThirdComputer binds the first new computer, refuses another one, and continues there if the
// first one broke. Its licence counts as a lost computer's.
func TestThirdComputer(t *testing.T) {
	t.Parallel()
	o := office.New(t, seated, "linux", map[string]string{"old/srv/diary/a": "x", "new/srv/.keep": ""})
	third := another(t, o, "third", lay.Ident("linux", "THIRD", "3"))
	o.Pack()
	now := time.Now()
	o.Change(o.Old, agreeing{}, now, (*move.Move).Deactivate)
	if out := o.Only(o.Job(third).Unpack(ctx)); office.Blocked(out) != "right-name" || !strings.Contains(out.Blocks[0].Why, "this is THIRD, but the kit was made for NEW") {
		t.Errorf("before it is bound: %+v", out.Blocks)
	}
	o.Unpack()
	o.Change(o.New, agreeing{}, now, (*move.Move).Activate)
	if out := o.Verify(); !out.Equal() {
		t.Fatalf("%+v", out)
	}
	for name, step := range map[string]func(*move.Move) string{
		"unpack":   func(m *move.Move) string { return office.Blocked(o.Only(m.Unpack(ctx))) },
		"undo":     func(m *move.Move) string { return office.Blocked(o.Only(m.Undo(ctx))) },
		"activate": func(m *move.Move) string { return office.Blocked(o.Only(m.Activate(ctx))) },
		"verify":   func(m *move.Move) string { return office.Blocked(o.Only(m.Verify(ctx))) },
	} {
		if got := step(o.Job(third)); got != "new-computer" {
			t.Errorf("%s on a third computer is stopped by %q", name, got)
		}
	}
	if _, err := o.Job(third).Tick(map[int]string{1: ""}); err == nil || !strings.Contains(err.Error(), "on the new computer, NEW") {
		t.Errorf("a third computer ticks something off: %v", err)
	}
	if r, err := o.Job(third).Ready(ctx); err != nil || r.Ready() || r.Checks[0].Need != move.NeedOther {
		t.Errorf("a third computer is ready: %+v, %v", r, err)
	}
	if s, err := o.Job(third).Licences().Statuses(ctx); err != nil || s[0].New == licence.Active || s[0].By != "the technician on NEW" {
		t.Errorf("where nobody activated it, and by whom that was seen: %+v, %v", s, err)
	}
	lost := o.Job(third)
	lost.Exceptions.Lost = "stolen"
	if got := office.Blocked(o.Only(lost.Deactivate(ctx))); got != "new-computer" {
		t.Errorf("a third computer frees in the old one's name: %q", got)
	}

	m := o.Job(third)
	m.ReplaceReason = "the new one fell into the harbour"
	if out := o.Only(m.Unpack(ctx)); office.Blocked(out) != "" || len(out.Overrode) != 1 || out.Overrode[0].Because != m.ReplaceReason || o.Text("third/srv/diary/a") != "x" {
		t.Fatalf("instead: %+v", out)
	}
	s := o.Job(third).State
	st := s.Standing(o.Kit.Cards[0], &o.Kit.Cards[0].Licences[0], nil, now)
	if s.New.Name != "THIRD" || st.From != "NEW" || st.Old != licence.Active || st.New != licence.Unknown || st.Next != steps.Deactivate || s.Proven(o.Kit.Cards[0]) {
		t.Errorf("after that: %s, %+v", s.New.Name, st)
	}
	if got := office.Blocked(o.Only(o.Job(o.New).Verify(ctx))); got != "new-computer" {
		t.Errorf("the broken one: %q", got)
	}
	out := o.Change(third, agreeing{}, now, (*move.Move).Activate)
	if office.Blocked(out) != "old-deactivated" || !strings.Contains(out.Blocks[0].Why, "active on NEW") {
		t.Errorf("it is still activated on the broken one: %+v", out)
	}
	lost = o.Job(third)
	lost.Technician, lost.Exceptions.Lost = agreeing{}, "it is in the harbour"
	if out := o.Only(lost.Deactivate(ctx)); out.Licences[0].Did != "deactivated" {
		t.Errorf("deactivated in its name: %+v", out)
	}
	o.Change(third, agreeing{}, now, (*move.Move).Activate)
	if out := o.Only(o.Job(third).Verify(ctx)); !out.Equal() {
		t.Errorf("proven on the third: %+v", out)
	}
}

// TestSameImage distinguishes computers that were restored from one image.
func TestSameImage(t *testing.T) {
	t.Parallel()
	o := office.New(t, seated, "linux", map[string]string{"old/srv/diary/a": "x", "new/srv/.keep": ""})
	o.Pack()
	clone := another(t, o, "clone", lay.Ident("linux", "NEW", "1"))
	if side := o.Job(clone).Side(); side != steps.NewSide {
		t.Errorf("a computer with the system's id of the old one, and another name: %s", side)
	}
	out := o.Only(o.Job(clone).Unpack(ctx))
	if office.Blocked(out) != "" || o.Text("clone/srv/diary/a") != "x" || o.Job(o.Old).Side() != steps.OldSide || o.Job(o.New).Side() != steps.ThirdSide || o.Job(clone).Self().ID == machine.ID(o.Old) {
		t.Errorf("%+v; %s, %s", out, o.Job(o.Old).Side(), o.Job(o.New).Side())
	}
	a, b := kit.Computer{Name: "A", ID: "1", Firmware: "f"}, kit.Computer{Name: "B", ID: "1", Firmware: "f"}
	if !a.Is(b) {
		t.Error("a computer that was given another name is another")
	}
	if b.Firmware = "g"; a.Is(b) || a.Is(kit.Computer{Name: "B", ID: "1"}) || !a.Is(kit.Computer{Name: "a", ID: "1"}) || (kit.Computer{Name: "A"}).Is(kit.Computer{Name: "A"}) {
		t.Error("computers are told apart wrongly")
	}
}

// TestSafetyCopy packs a safety copy, and unpacks it on the computer after a new installation, and
// on another computer. The licence is not changed.
func TestSafetyCopy(t *testing.T) {
	t.Parallel()
	o := office.New(t, seated, "linux", map[string]string{"old/srv/diary/a": "x", "new/srv/.keep": ""})
	o.Kit.Manifest.Keep, o.Kit.Manifest.New = true, kit.Computer{System: "linux"}
	o.Pack()
	for _, c := range []machine.Computer{o.Old, o.New} {
		m := o.Job(c)
		m.Technician = agreeing{}
		if got := office.Blocked(o.Only(m.Deactivate(ctx))) + office.Blocked(o.Only(m.Activate(ctx))); !strings.Contains(got, "not-a-copy") {
			t.Errorf("the licence: stopped by %q", got)
		}
	}
	if d := o.Job(o.Old).State.Next(o.Kit.Cards); d.Step != "" {
		t.Errorf("%s is due", d.Step)
	}
	lay.Out(t, o.Dir, map[string]string{"old/srv/diary/a": "y"})
	if out := o.Pack(); out.Items[0].Did != "sealed" {
		t.Errorf("%+v", out.Items)
	}
	anew := another(t, o, "anew", lay.Ident("linux", "OLD", "7"))
	for _, c := range []machine.Computer{anew, o.New, o.Old} {
		if out := o.Only(o.Job(c).Unpack(ctx)); office.Blocked(out) != "" {
			t.Errorf("unpacking on %s: %+v", c.Name(), out.Blocks)
		}
		if out := o.Only(o.Job(c).Verify(ctx)); office.Blocked(out) != "" || !out.Equal() || len(out.Licences) > 0 || !o.Job(c).State.Proven(o.Kit.Cards[0]) {
			t.Errorf("verifying on %s: %+v", c.Name(), out)
		}
	}
	if o.Text("anew/srv/diary/a") != "y" || o.Text("new/srv/diary/a") != "y" {
		t.Error("it is not there")
	}
}

// TestChangeComputerDiscardsRecords discards records about the computer that broke.
func TestChangeComputerDiscardsRecords(t *testing.T) {
	t.Parallel()
	o := office.New(t, "items: [{name: diary, kind: folder, path: /srv/diary}]\n", "linux", map[string]string{"old/srv/diary/a": "x", "new/srv/.keep": "", "third/srv/.keep": "", "third/computer.yaml": lay.Ident("linux", "THIRD", "3")})
	o.Pack()
	j := o.Job(o.New)
	j.Choices.Places = map[string]string{"app/diary": "/elsewhere"}
	if o.Only(j.Unpack(ctx)); o.Text("new/elsewhere/a") != "x" {
		t.Fatal("it is not where it was asked for")
	}
	j = o.Job(office.Open(t, filepath.Join(o.Dir, "third")))
	j.ReplaceReason = "it broke"
	o.Only(j.Unpack(ctx))
	if o.Text("third/srv/diary/a") != "x" || o.Text("third/elsewhere/a") != "" {
		t.Error("it went where it was asked for on the other one")
	}
}

// TestReadyAgrees makes each gate of unpack and activate stop, one at a time: Ready reports it in
// advance, and the step reports the same. It also checks a computer on which no gate stops.
func TestReadyAgrees(t *testing.T) {
	t.Parallel()
	const text = `version: {file: /opt/v, rule: same-minor, edition: {file: /opt/edition}}
programs: [pontoon]
requires: [{name: A driver, path: /lib/driver}]
items:
  - {name: diary, kind: folder, path: /srv/diary}
  - {name: settings, kind: folder, path: ~/.app}
  - {name: token, kind: file, path: /srv/licence.txt}
licences: [{name: file, method: file, items: [token], covers: "8"}, {name: seat, method: guided, deactivate: {steps: [{do: deactivate it}]}, activate: {steps: [{do: take it}]}%s}]
`
	type office_ = *office.Office
	for gate, c := range map[string]struct {
		card string // of the licence
		set  func(office_) *move.Move
	}{
		"":           {"", nil},
		"right-name": {"", func(o office_) *move.Move { return o.Job(another(t, o, "third", lay.Ident("linux", "THIRD", "3"))) }},
		"kit-undamaged": {"", func(o office_) *move.Move {
			lay.Out(t, o.Dir, map[string]string{"kit/cards/app.yaml": "card: 1\n"})
			return o.Job(o.New)
		}},
		"users-known":         {"", func(o office_) *move.Move { return o.Job(o.New) }},
		"licence-deactivated": {"", func(o office_) *move.Move { return o.Job(o.New) }},
		"destination-ready": {"", func(o office_) *move.Move {
			os.RemoveAll(o.Dir + "/new/srv")
			lay.Out(t, o.Dir, map[string]string{"new/srv": "a file"})
			return o.Job(o.New)
		}},
		"requirements-met": {"", func(o office_) *move.Move { os.Remove(o.Dir + "/new/lib/driver"); return o.Job(o.New) }},
		"version-rule": {"", func(o office_) *move.Move {
			lay.Out(t, o.Dir, map[string]string{"new/opt/v": "8.1"})
			return o.Job(o.New)
		}},
		"same-edition": {"", func(o office_) *move.Move {
			lay.Out(t, o.Dir, map[string]string{"new/opt/edition": "Small"})
			return o.Job(o.New)
		}},
		"licence-covers": {"", func(o office_) *move.Move {
			lay.Out(t, o.Dir, map[string]string{"new/opt/v": "9.0"})
			return o.Job(o.New)
		}},
		"old-deactivated": {"", func(o office_) *move.Move { return o.Job(o.New) }},
		"waiting-over":    {", wait: 1h", func(o office_) *move.Move { return o.Job(o.New) }},
		"activation-deadline": {", reactivate-by: 1m", func(o office_) *move.Move {
			j := o.Job(o.New)
			j.Now = func() time.Time { return time.Now().Add(30 * time.Minute) }
			return j
		}},
		"clock-right": {"", func(o office_) *move.Move {
			j := o.Job(o.New)
			j.Now = func() time.Time { return time.Now().Add(-5 * time.Hour) }
			return j
		}},
	} {
		t.Run(gate, func(t *testing.T) {
			t.Parallel()
			o := office.New(t, fmt.Sprintf(text, c.card), "linux", map[string]string{
				"old/etc/passwd": "maren:x:1000:1::/home/maren:/bin/sh\n", "old/opt/v": "8.2.1", "old/opt/edition": "Harbour", "old/srv/diary/a": "1", "old/home/maren/.app/s": "m", "old/srv/licence.txt": "key",
				"new/opt/v": "8.2.3", "new/opt/edition": "Harbour", "new/lib/driver": "", "new/srv/x": "",
			})
			o.Pack()
			if gate != "users-known" {
				lay.Out(t, o.Dir, map[string]string{"new/etc/passwd": "maren:x:1000:1::/home/maren:/bin/sh\n", "new/home/maren/x": ""})
			}
			o.New = office.Open(t, o.Dir+"/new")
			if gate != "licence-deactivated" && gate != "old-deactivated" {
				o.Change(o.Old, agreeing{}, time.Now(), (*move.Move).Deactivate)
			}
			job := func() *move.Move {
				if c.set == nil {
					return o.Job(o.New)
				}
				return c.set(o)
			}
			r, err := job().Ready(ctx)
			fatal.If(t, err)
			for _, step := range []steps.Step{steps.Unpack, steps.Activate} {
				said := map[string]bool{}
				for _, check := range r.Checks {
					if check.Stops == step {
						said[check.Gate] = true
					}
				}
				j := job()
				do := j.Unpack
				if step == steps.Activate {
					u := job() // the unpack comes before, whatever stops it
					u.Overrides = map[string]string{}
					for g := range said {
						u.Overrides[g] = "tried"
					}
					for _, check := range r.Checks {
						u.Overrides[check.Gate] = "tried"
					}
					u.Unpack(ctx) //nolint:errcheck // what stops activate is looked at
					j.Technician, do = agreeing{}, j.Activate
				}
				out, err := do(ctx)
				fatal.If(t, err)
				stopped := map[string]bool{}
				for _, b := range out[0].Blocks {
					stopped[b.Gate] = true
				}
				delete(stopped, "in-place") // it follows from what stops unpack
				for g := range stopped {
					if !said[g] && !(step == steps.Activate && slices.ContainsFunc(r.Checks, func(check move.Check) bool { return check.Gate == g && check.Stops == steps.Unpack })) {
						t.Errorf("%s is stopped by %s, which was not said: %+v", step, g, r.Checks)
					}
				}
				for g := range said {
					if !stopped[g] {
						t.Errorf("%s was said to stop %s, and does not: %+v", g, step, out[0].Blocks)
					}
				}
				if gate == "" && (len(said) > 0 || out[0].Err != nil) {
					t.Errorf("%s: %v %v", step, said, out[0].Err)
				}
			}
			if gate != "" && !slices.ContainsFunc(r.Checks, func(check move.Check) bool { return check.Gate == gate && check.Stops != "" }) {
				t.Errorf("%s did not stop anything: %+v", gate, r.Checks)
			}
		})
	}
}
