//go:build unix

package holder_test

import (
	"archive/tar"
	"bytes"
	"context"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"filippo.io/age"

	"movekit/internal/core/fault"
	"movekit/internal/core/holder"
	"movekit/internal/core/licence"
	"movekit/internal/core/machine"
	"movekit/internal/core/move"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
	"movekit/test/fatal"
	"movekit/test/lay"
	"movekit/test/office"
)

const ruledCard = `vendor: Mole Head Software
items: [{name: data, kind: file, path: /srv/data}]
licences:
  - name: seat
    method: guided
    transfers: 2
    RULE
    deactivate: {steps: [{do: release it}]}
    activate: {steps: [{do: take it}]}
`

// ruled is an office with a packed app whose licence has a rule.
func ruled(t *testing.T, rule string) *office.Office {
	t.Helper()
	o := office.New(t, strings.Replace(ruledCard, "RULE", rule, 1), "linux", map[string]string{"old/srv/data": "x", "new/srv/.keep": ""})
	o.Pack()
	return o
}

func yes() *office.Person {
	p := &office.Person{}
	for range 5 {
		p.Answers = append(p.Answers, run.Reply{Answer: "done"})
	}
	return p
}

// TestTakeover activates a licence that is active on the old computer, after showing the cost.
func TestTakeover(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		rule, reason, answer, gate string
	}{
		{"takeover: true", "", "", "old-deactivated"},
		{"covers: '1'", "it burnt", "", "old-deactivated licence-covers"},
		{"wait: 1h", "it burnt", "", "old-deactivated"},
		{"takeover: true", "it burnt", "no", ""},
		{"takeover: true", "it burnt", "yes", ""},
	} {
		o := ruled(t, c.rule)
		j := o.Job(o.New)
		p := yes()
		j.Technician, j.Exceptions.Takeover, j.Overrides = p, c.reason, office.Alone()
		question := ""
		p.Asked = func(q string) error {
			if question = q; c.answer != "yes" {
				return fault.New(fault.Stopped, "no")
			}
			return nil
		}
		all, err := j.Activate(ctx)
		fatal.If(t, err)
		out := all[0]
		st := j.State.Licences[steps.Key{App: "app", Item: "seat"}]
		switch {
		case c.gate != "":
			if office.Blocked(out) != c.gate || question != "" {
				t.Errorf("%+v: stopped by %q, asked %q, %v", c, office.Blocked(out), question, out.Err)
			}
		case c.answer == "no":
			if fault.KindOf(out.Err) != fault.Stopped || st != nil && st.New == licence.Active {
				t.Errorf("%+v: %v %+v", c, out.Err, st)
			}
		default:
			if out.Err != nil || st.Old != licence.Deactivated || st.New != licence.Active || st.Left != 1 || st.Used != 1 || !out.Licences[0].Disabled {
				t.Errorf("%+v: %v %+v", c, out.Err, st)
			}
			over := office.Overrides(j)
			if !strings.Contains(question, "1 of the 2 remaining transfers") || len(over) != 1 || over[0].Because != "it burnt" || over[0].Gate != "old-deactivated" {
				t.Errorf("asked %q, journalled %+v", question, over)
			}
			// A second run changes nothing.
			if all, err := j.Activate(ctx); err != nil || !strings.HasPrefix(all[0].Licences[0].Did, "already") || j.State.Licences[steps.Key{App: "app", Item: "seat"}].Used != 1 {
				t.Errorf("again: %+v %v", all, err)
			}
		}
	}
	// Deactivation on the old computer needs sealed and undamaged data.
	o := ruled(t, "takeover: true")
	files, _ := filepath.Glob(filepath.Join(o.Dir, "kit/sealed/app/*.tar.zst.age"))
	os.WriteFile(files[0], []byte("damaged"), 0o600)
	j := o.Job(o.New)
	j.Technician, j.Exceptions.Takeover, j.Overrides = yes(), "it burnt", office.Alone()
	if out, err := j.Activate(ctx); err != nil || office.Blocked(out[0]) != "sealed" {
		t.Errorf("a damaged kit: %+v %v", out[0].Blocks, err)
	}
}

// ending is a technician who ends the program after the given answers.
type ending struct{ *office.Person }

// DoStep returns the given answers.
func (p ending) DoStep(ctx context.Context, g run.ManualStep) (run.Reply, error) {
	r, err := p.Person.DoStep(ctx, g)
	if err != nil {
		err = fault.New(fault.Stopped, "it was stopped")
	}
	return r, err
}

// TestLostComputer deactivates licences on behalf of a computer that no longer starts.
func TestLostComputer(t *testing.T) {
	t.Parallel()
	o := office.New(t, `items: [{name: data, kind: file, path: /srv/data}, {name: cert, kind: file, path: /srv/office.pem}]
licences:
  - {name: seat, method: guided, deactivate: {steps: [{do: in the app}, {do: still in the app}]}, activate: {steps: [{do: take it}]}}
  - {name: sign-in, method: account, deactivate: {steps: [{do: ask for a reset}]}, activate: {steps: [{do: sign in}]}}
  - {name: signing, method: file, items: [cert]}
  - {name: module, method: guided, lost: {steps: [{do: call the number on the box, ask: what did they say}]}, deactivate: {steps: [{do: in the app}]}, activate: {steps: [{do: take it}]}}
`, "linux", map[string]string{"old/srv/data": "x", "old/srv/office.pem": "c", "new/srv/.keep": ""})
	o.Pack()
	lost := func(why string, p run.Technician) *run.Outcome {
		j := o.Job(o.New)
		j.Exceptions.Lost, j.Technician = why, p
		all, err := j.Deactivate(ctx)
		fatal.If(t, err)
		return all[0]
	}
	if out := lost("", yes()); office.Blocked(out) != "old-computer" {
		t.Errorf("not lost: %+v %v", out.Blocks, out.Err)
	}
	if out := lost("stolen", run.NonInteractive{}); fault.KindOf(out.Err) != fault.ManualStep {
		t.Errorf("nobody there: %v", out.Err)
	}
	// Steps that were started in the app do not count when the computer is gone.
	o.Change(o.Old, ending{&office.Person{Answers: []run.Reply{{}}}}, time.Now(), (*move.Move).Deactivate)
	p := &office.Person{Answers: []run.Reply{{Answer: "x"}, {Answer: "deactivated on their side"}, {Answer: "x"}, {Answer: "N. Berth"}, {Answer: "deactivated"}}}
	out := lost("stolen", p)
	shown := strings.Join(p.Shown, "\n")
	if out.Err != nil || len(out.Licences) != 4 || strings.Contains(shown, "in the app") || !strings.Contains(shown, "why it cannot be deactivated on OLD (stolen), and ask them to deactivate it") || !strings.Contains(shown, "ask for a reset") || !strings.Contains(shown, "If its disk is ever used again") || !strings.Contains(shown, "call the number") {
		t.Fatalf("%v %+v\n%s", out.Err, out.Licences, shown)
	}
	j := o.Job(o.New)
	for _, s := range j.State.Licences {
		if s.Old != licence.Deactivated {
			t.Errorf("%s is %s", s.Name, s.Old)
		}
	}
	if over := office.Overrides(j); len(over) == 0 || over[0].Because != "stolen" || over[0].Gate != "old-computer" {
		t.Errorf("%+v", over)
	}
	if out := o.Unpack(); len(out.Blocks) > 0 {
		t.Errorf("the file licence is still held: %+v", out.Blocks)
	}
	if out := o.Change(o.New, yes(), time.Now(), (*move.Move).Activate); out.Err != nil || len(out.Blocks) > 0 || len(out.Licences) != 4 {
		t.Errorf("%v %+v %+v", out.Err, out.Blocks, out.Licences)
	}
	letters, err := o.Job(o.New).Licences().Letters(ctx, false)
	if err != nil || len(letters) != 4 || letters[0].Lost != "stolen" || letters[0].Please != holder.PleaseCorrect || letters[0].NewID != machine.ID(o.New) {
		t.Errorf("%+v %v", letters, err)
	}
}

// TestUninstalled deactivates licences on the old computer when the app is no longer installed.
func TestUninstalled(t *testing.T) {
	t.Parallel()
	o := office.New(t, `items: [{name: data, kind: file, path: /srv/data}, {name: cert, kind: file, path: /srv/office.pem}]
licences:
  - {name: module, method: command, show: {run: [/opt/gone, show], active: x}, deactivate: {run: [/opt/gone, free]}, activate: {run: [/opt/gone, take]}}
  - {name: signing, method: file, items: [cert]}
`, "linux", map[string]string{"old/srv/data": "x", "old/srv/office.pem": "c"})
	o.Pack()
	p := &office.Person{Answers: []run.Reply{{Answer: "done"}, {Answer: "deactivated, ticket 7"}}}
	j := o.Job(o.Old)
	j.Exceptions.Lost, j.Technician = "it was uninstalled", p
	out, err := j.Deactivate(ctx)
	if err != nil || out[0].Err != nil || len(p.Shown) != 2 || out[0].Licences[0].Old != licence.Deactivated || !strings.Contains(out[0].Licences[1].Aside, "office.pem.set-aside") {
		t.Errorf("%v %+v %q", err, out[0], p.Shown)
	}
}

// TestRulesOfTheCard tests rules that no service reports.
func TestRulesOfTheCard(t *testing.T) {
	t.Parallel()
	now := time.Now()
	day := func(d int) string { return now.AddDate(0, 0, d).Format(time.DateOnly) }
	for _, c := range []struct {
		name, rule string
		after      time.Duration // between deactivating and taking up
		gate       string
		state      licence.State
	}{
		{"a day that is over", "expires: " + day(-1), 0, "not-expired", ""},
		{"a day to come", "expires: " + day(1), 0, "", licence.Active},
		{"the last day is over in between", "expires: " + day(1), 72 * time.Hour, "not-expired", ""},
		{"back in time", "reactivate-by: 48h", 24 * time.Hour, "", licence.Active},
		{"back too late", "reactivate-by: 48h", 49 * time.Hour, "activation-deadline", ""},
		{"back by a day", "reactivate-by: " + day(1), 72 * time.Hour, "activation-deadline", ""},
		{"waited", "wait: 24h", 25 * time.Hour, "", licence.Active},
		{"not waited", "wait: 24h", 23 * time.Hour, "waiting-over", ""},
		{"another version", "covers: '9'", 0, "licence-covers", ""},
	} {
		o := ruled(t, c.rule)
		if out := o.Change(o.Old, yes(), now, func(j *move.Move, ctx context.Context) ([]*run.Outcome, error) {
			j.Overrides["usable-again"] = "it is renewed later"
			return j.Deactivate(ctx)
		}); out.Err != nil || len(out.Blocks) > 0 {
			t.Errorf("%s: %v %+v", c.name, out.Err, out.Blocks)
			continue
		}
		out := o.Change(o.New, yes(), now.Add(c.after), (*move.Move).Activate)
		if office.Blocked(out) != c.gate || out.Err != nil || c.gate == "" && out.Licences[0].New != c.state {
			t.Errorf("%s: stopped by %q, %v %+v", c.name, office.Blocked(out), out.Err, out.Licences)
		}
	}
	// The last day is over: the licence stays on the old computer.
	o := ruled(t, "reactivate-by: "+day(-2))
	if out := o.Change(o.Old, yes(), now, (*move.Move).Deactivate); office.Blocked(out) != "activation-deadline" {
		t.Errorf("over already: %+v", out.Blocks)
	}
	// An expired licence can still be deactivated.
	o = ruled(t, "expires: "+day(-1))
	if s, err := o.Job(o.Old).Licences().Statuses(ctx); err != nil || s[0].Old != licence.Expired || s[0].Next != steps.Deactivate || s[0].Expires == nil {
		t.Errorf("%+v %v", s, err)
	}
}

// TestSeatsOnBoth leaves a licence active on both computers if its rule allows two seats.
func TestSeatsOnBoth(t *testing.T) {
	t.Parallel()
	o := ruled(t, "seats: 2")
	if out := o.Change(o.New, yes(), time.Now(), (*move.Move).Activate); office.Blocked(out) != "old-deactivated" {
		t.Errorf("nobody wants it on both: %+v %v", out.Blocks, out.Err)
	}
	second := func(j *move.Move, ctx context.Context) ([]*run.Outcome, error) {
		j.Exceptions.Second = "both work until Friday"
		return j.Activate(ctx)
	}
	one := ruled(t, "seats: 1")
	if out := one.Change(one.New, yes(), time.Now(), second); office.Blocked(out) != "old-deactivated" || !strings.Contains(out.Blocks[0].Why, "1 of 1 are taken") {
		t.Errorf("one seat: %+v %v", out.Blocks, out.Err)
	}
	out := o.Change(o.New, yes(), time.Now(), second)
	if over := office.Overrides(o.Job(o.New)); len(over) != 1 || over[0].Because != "both work until Friday" || over[0].Second != "seat" {
		t.Errorf("%+v", over)
	}
	if out.Err == nil && (out.Licences[0].Used != 0 || out.Licences[0].Transfers != 2) {
		t.Errorf("a second seat is no transfer: %+v", out.Licences)
	}
	if out.Err != nil || len(out.Blocks) > 0 || out.Licences[0].New != licence.Active || out.Licences[0].Old == licence.Deactivated {
		t.Fatalf("%v %+v %+v", out.Err, out.Blocks, out.Licences)
	}
	o.Unpack()
	if v := o.Verify(); !v.Equal() || v.Licences[0].Old != licence.Active {
		t.Errorf("%+v", v.Licences)
	}
	if s, err := o.Job(o.New).Licences().Statuses(ctx); err != nil || s[0].Next != "" {
		t.Errorf("%+v %v", s, err)
	}
}

// TestTrial verifies the data on the new computer before the licence moves.
func TestTrial(t *testing.T) {
	t.Parallel()
	o := ruled(t, "trial: 336h")
	status := func(want steps.Step) holder.Status {
		t.Helper()
		s, err := o.Job(o.New).Licences().Statuses(ctx)
		if err != nil || s[0].Next != want {
			t.Errorf("next is %q, not %q (%v)", s[0].Next, want, err)
		}
		return s[0]
	}
	status(steps.Unpack)
	if out := o.Change(o.Old, yes(), time.Now(), (*move.Move).Deactivate); office.Blocked(out) != "trial-verified" {
		t.Errorf("deactivated before it is tried: %+v", out.Blocks)
	}
	o.Unpack()
	if s := status(steps.Verify); s.Trial == nil || s.Trial.Before(time.Now().Add(330*time.Hour)) {
		t.Errorf("%+v", s)
	}
	v := o.Verify()
	j := o.Job(o.New)
	if !v.Equal() || v.Licences[0].Good || v.Licences[0].Trial == nil || j.State.Proven(o.Kit.Cards[0]) || j.State.Progress(o.Kit.Cards[0], steps.Verify) != steps.Partly {
		t.Errorf("%+v", v.Licences)
	}
	status(steps.Deactivate)
	o.Change(o.Old, yes(), time.Now(), (*move.Move).Deactivate)
	status(steps.Activate)
	o.Change(o.New, yes(), time.Now(), (*move.Move).Activate)
	if v := o.Verify(); !v.Equal() || !v.Licences[0].Good || !o.Job(o.New).State.Proven(o.Kit.Cards[0]) {
		t.Errorf("%+v", v.Licences)
	}
	// After the trial period, the licence is missing.
	o = ruled(t, "trial: 1ns")
	o.Unpack()
	if v := o.Verify(); v.Equal() {
		t.Errorf("a trial that is over: %+v", v.Licences)
	}
}

// TestClockBehind detects a clock that is earlier than the kit.
func TestClockBehind(t *testing.T) {
	t.Parallel()
	o := ruled(t, "wait: 24h")
	for by, gate := range map[time.Duration]string{-30 * time.Minute: "", -49 * time.Hour: "clock-right", -3 * 365 * 24 * time.Hour: "clock-right"} {
		if out := o.Change(o.Old, nil, time.Now().Add(by), (*move.Move).Deactivate); office.Blocked(out) != gate {
			t.Errorf("behind by %s: %+v", by, out.Blocks)
		}
	}
}

// TestTwoCopies works with two copies of one kit.
func TestTwoCopies(t *testing.T) {
	t.Parallel()
	o := ruled(t, "wait: 1h")
	fatal.If(t, os.CopyFS(filepath.Join(o.Dir, "copy"), os.DirFS(filepath.Join(o.Dir, "kit"))))
	if out := o.Change(o.Old, yes(), time.Now(), (*move.Move).Deactivate); out.Err != nil {
		t.Fatal(out.Err)
	}
	copied := o.Reopen("copy")
	defer copied.Close()
	j := move.New(o.Run(copied, o.Old))
	j.Technician = yes()
	for range 2 { // being stopped does not make it the newest
		out, err := j.Deactivate(ctx)
		if err != nil || office.Blocked(out[0]) != "newest-copy" || !strings.Contains(out[0].Blocks[0].Why, "another copy of this kit was used here") {
			t.Errorf("the copy that is behind: %+v %v", out[0], err)
		}
	}
	// The outdated copy can be used with a reason. Then the other copy is outdated.
	j.Overrides = map[string]string{"newest-copy": "the stick is lost"}
	if out, err := j.Deactivate(ctx); err != nil || out[0].Err != nil || len(out[0].Blocks) > 0 {
		t.Errorf("with a reason: %+v %v", out[0], err)
	}
	if l, err := j.Licences().Letters(ctx, false); err != nil || l[0].Lost != "" {
		t.Errorf("nothing is lost: %+v %v", l, err)
	}
	if out := o.Change(o.Old, yes(), time.Now(), (*move.Move).Deactivate); office.Blocked(out) != "newest-copy" || !strings.Contains(out.Blocks[0].Why, "line") {
		t.Errorf("the other one: %+v", out.Blocks)
	}
}

// TestTypedSerial asks for a serial until it is plausible.
func TestTypedSerial(t *testing.T) {
	t.Parallel()
	o := office.New(t, `items: [{name: data, kind: file, path: /srv/data}]
licences:
  - {name: registration, method: key, typed: the label of the box, form: '[0-9-]+', check: luhn, code: {file: /srv/reg.ini, key: reg/name}}
`, "linux", map[string]string{"old/srv/data": "x", "old/srv/reg.ini": "[reg]\nname=Harbour office\n"})
	pack := func(p run.Technician) *run.Outcome {
		j := o.Job(o.Old)
		if p != nil {
			j.Technician = p
		}
		all, err := j.Pack(ctx)
		fatal.If(t, err)
		return all[0]
	}
	if out := pack(nil); fault.KindOf(out.Err) != fault.ManualStep {
		t.Errorf("nobody there: %v", out.Err)
	}
	early := o.Job(o.New).Licences()
	early.State.Licences[steps.Key{App: "app", Item: "registration"}] = &steps.Licence{}
	if _, err := early.Open(o.Kit.Cards[0], &o.Kit.Cards[0].Licences[0], ""); fault.KindOf(err) != fault.Missing {
		t.Errorf("its secrets are not sealed: %v", err)
	}
	wrong := &office.Person{Answers: []run.Reply{{Answer: "4992-7398-715"}, {}, {Answer: "what?"}}}
	if out := pack(wrong); fault.KindOf(out.Err) != fault.ManualStep || len(wrong.Shown) != 3 || strings.Contains(out.Err.Error(), "4992") {
		t.Errorf("mistyped: %v %q", out.Err, wrong.Shown)
	}
	right := &office.Person{Answers: []run.Reply{{Answer: "4992-7398-715"}, {Answer: "4992-7398-716"}}}
	if out := pack(right); out.Err != nil || len(right.Shown) != 2 || !strings.Contains(right.Shown[0], "the label of the box") {
		t.Errorf("then right: %v %q", out.Err, right.Shown)
	}
	if out := pack(nil); out.Err != nil {
		t.Errorf("packed again: %v", out.Err)
	}
	h, err := o.Job(o.New).Licences().Open(o.Kit.Cards[0], &o.Kit.Cards[0].Licences[0], "")
	if err != nil || h.Secrets.Serial != "4992-7398-716" || h.Secrets.Code != "Harbour office" {
		t.Errorf("%v %v", h, err)
	}
	// A serial in the app's settings with wrong check digits.
	lay.Out(t, o.Dir, map[string]string{"old/srv/reg.ini": "[reg]\nname=x\nkey=4992-7398-715\n"})
	o = office.New(t, `items: [{name: data, kind: file, path: /srv/data}]
licences: [{name: registration, method: key, check: luhn, serial: {file: /srv/reg.ini, key: reg/key}, code: {file: /srv/reg.ini, key: reg/name}}]
`, "linux", map[string]string{"old/srv/data": "x", "old/srv/reg.ini": "[reg]\nname=x\nkey=4992-7398-715\n"})
	if out := pack(nil); office.Blocked(out) != "serial-right" {
		t.Errorf("read, and mistyped: %+v", out.Blocks)
	}
}

// TestBoundFile uses a licence file that was issued again for the new computer.
func TestBoundFile(t *testing.T) {
	t.Parallel()
	now := time.Now()
	cert, key := lay.Signed(t, now.AddDate(1, 0, 0))
	again, againKey := lay.Signed(t, now.AddDate(2, 0, 0))
	_, locked := office.Encrypted(t, cert, key, "tide-table")
	o := office.New(t, strings.Replace(fileCard, "method: file,", "method: file, bound: true,", 1), "linux", map[string]string{"old/srv/office.pem": cert, "old/srv/office.key": locked, "new/srv/x": ""})
	j := o.Job(o.Old)
	j.Technician = &office.Person{Answers: []run.Reply{{Answer: "wrong"}, {Answer: "tide-table"}}}
	o.Only(j.Pack(ctx))
	o.Change(o.Old, nil, now, (*move.Move).Deactivate)
	o.Unpack()
	out := o.Change(o.New, nil, now, (*move.Move).Activate)
	if fault.KindOf(out.Err) != fault.Issue || !strings.Contains(out.Err.Error(), "is valid for OLD only") {
		t.Fatalf("the old one's file: %v", out.Err)
	}
	whole := o.Text("new/srv/office.pem")
	stat, err := os.Stat(filepath.Join(o.Dir, "new/srv/office.pem"))
	fatal.If(t, err)
	os.Remove(filepath.Join(o.Dir, "new/srv/office.pem"))
	if out := o.Change(o.New, nil, now, (*move.Move).Activate); fault.KindOf(out.Err) != fault.NotPlaced {
		t.Errorf("half of it: %v", out.Err)
	}
	lay.Out(t, o.Dir, map[string]string{"new/srv/office.pem": whole})
	fatal.If(t, os.Chtimes(filepath.Join(o.Dir, "new/srv/office.pem"), stat.ModTime(), stat.ModTime()))
	if v := o.Verify(); v.Items[0].Rows[0].New == "issued again" || !v.Items[0].Equal {
		t.Errorf("not activated yet: %+v", v.Items)
	}
	if l, err := o.Job(o.New).Licences().Letters(ctx, true); err != nil || l[0].Please != holder.PleaseIssue {
		t.Errorf("%+v %v", l, err)
	}
	lay.Out(t, o.Dir, map[string]string{"new/srv/office.pem": " \n"})
	if out := o.Change(o.New, nil, now, (*move.Move).Activate); fault.KindOf(out.Err) != fault.Issue {
		t.Errorf("an empty file counts as issued again: %v", out.Err)
	}
	lay.Out(t, o.Dir, map[string]string{"new/srv/office.pem": again})
	if out := o.Change(o.New, nil, now, (*move.Move).Activate); fault.KindOf(out.Err) != fault.DeskRefused {
		t.Errorf("a new certificate with the old key: %v", out.Err)
	}
	lay.Out(t, o.Dir, map[string]string{"new/srv/office.key": againKey})
	if out := o.Change(o.New, nil, now, (*move.Move).Activate); out.Err != nil || out.Licences[0].New != licence.Active {
		t.Errorf("issued again: %v %+v", out.Err, out.Licences)
	}
	if v := o.Verify(); !v.Equal() || v.Items[0].Rows[0].New != "issued again" {
		t.Errorf("%+v %+v", v.Items, v.Licences)
	}
}

// TestUnopened has a certificate in an encrypted file, with and without its passphrase. The licence moves
// as a file: it is active where the file is, and set aside when it is deactivated.
func TestUnopened(t *testing.T) {
	t.Parallel()
	cert, key := lay.Signed(t, time.Now().AddDate(1, 0, 0))
	p12, _ := office.Encrypted(t, cert, key, "tide-table")
	for _, said := range [][]string{nil, {"tide-table"}, {""}, {"wrong", "wrong", "wrong"}, {"wrong", "tide-table"}} {
		o := office.New(t, "items: [{name: pair, kind: file, path: /srv/office.p12}]\nlicences: [{name: signing, method: file, items: [pair]}]\n", "linux", map[string]string{"old/srv/office.p12": p12, "new/srv/x": ""})
		j := o.Job(o.Old)
		if said != nil {
			p := &office.Person{}
			for _, s := range said {
				p.Answers = append(p.Answers, run.Reply{Answer: s})
			}
			j.Technician = p
		}
		if out := o.Only(j.Pack(ctx)); out.Err != nil || len(out.Items) != 1 {
			t.Errorf("with %q: %+v", said, out)
		}
		if s, err := o.Job(o.Old).Licences().Statuses(ctx); err != nil || s[0].Old != licence.Active {
			t.Errorf("with %q: %+v %v", said, s, err)
		}
		if out := o.Change(o.Old, nil, time.Now(), (*move.Move).Deactivate); out.Err != nil || len(out.Blocks) > 0 || out.Licences[0].Did != "deactivated" {
			t.Errorf("with %q: %+v %v", said, out.Licences, out.Err)
		}
		if _, err := os.Stat(filepath.Join(o.Dir, "old/srv/office.p12")); err == nil {
			t.Errorf("with %q: the file is still there", said)
		}
		o.Unpack()
		if out := o.Change(o.New, nil, time.Now(), (*move.Move).Activate); out.Err != nil || len(out.Blocks) > 0 || out.Licences[0].New != licence.Active {
			t.Errorf("with %q: %+v %+v %v", said, out.Licences, out.Blocks, out.Err)
		}
		if v := o.Verify(); !v.Equal() {
			t.Errorf("with %q: %+v", said, v)
		}
	}
}

// TestKeep creates a safety copy that standard tools can open.
func TestKeep(t *testing.T) {
	t.Parallel()
	cert, key := lay.Signed(t, time.Now().AddDate(1, 0, 0))
	o := office.New(t, strings.Replace(fileCard, "[{name: signing, method: file, items: [certificate, key]}]", "\n  - {name: signing, method: file, items: [certificate, key]}", 1)+"  - {name: registration, method: key, serial: {file: /srv/reg.ini, key: reg/key}, code: {file: /srv/reg.ini, key: reg/name}}\n", "linux",
		map[string]string{"old/srv/office.pem": cert, "old/srv/office.key": key, "old/srv/reg.ini": "[reg]\nkey=HB3-SECRET-4471\nname=Harbour office\n"})
	const pass = "buoy-lamp-crane-winch"
	if _, _, err := o.Job(o.Old).Licences().Keep(ctx, pass); fault.KindOf(err) != fault.Missing {
		t.Errorf("nothing packed: %v", err)
	}
	o.Pack()
	data, kept, err := o.Job(o.Old).Licences().Keep(ctx, pass)
	if err != nil || len(kept) != 2 {
		t.Fatalf("%+v %v", kept, err)
	}
	id, err := age.NewScryptIdentity(pass)
	fatal.If(t, err)
	r, err := age.Decrypt(bytes.NewReader(data), id)
	fatal.If(t, err)
	found := map[string]string{}
	for tr := tar.NewReader(r); ; {
		h, err := tr.Next()
		if err == io.EOF {
			break
		}
		fatal.If(t, err)
		text, _ := io.ReadAll(tr)
		found[h.Name] = string(text)
	}
	if found["app/signing/certificate/office.pem"] != cert || found["app/signing/key/office.key"] != key || !strings.Contains(found["app/registration/licence.json"], "HB3-SECRET-4471") || found["README.txt"] == "" {
		t.Errorf("%q", found)
	}
	if bytes.Contains(data, []byte("SECRET")) {
		t.Error("it was not sealed")
	}
}

// TestTypedBoth asks for the serial and the code of a label, one after the other.
func TestTypedBoth(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		card    string
		answers []run.Reply
		shown   string
		fails   bool
	}{
		"both":         {"form: '[0-9]+', check: luhn", []run.Reply{{Answer: "79927398713"}, {Answer: "Harbour office"}}, "type 1/2, type 2/2", false},
		"both, again":  {"form: '[0-9]+', check: luhn", []run.Reply{{Answer: "79927398710"}, {Answer: "79927398713"}, {Answer: ""}, {Answer: "Harbour office"}}, "type 1/2, type 1/2, type 2/2, type 2/2", false},
		"no name":      {"form: '[0-9]+', check: luhn", []run.Reply{{Answer: "79927398713"}, {Answer: "none"}}, "type 1/2, type 2/2", false},
		"the name":     {"serial: {file: /srv/reg.ini, key: reg/key}", []run.Reply{{Answer: "Harbour office"}}, "type 1/1", false},
		"never a name": {"serial: {file: /srv/reg.ini, key: reg/key}", []run.Reply{{}, {}, {}, {Answer: "Harbour office"}}, "type 1/1, type 1/1, type 1/1", true},
	} {
		o := office.New(t, "items: [{name: data, kind: file, path: /srv/data}]\nlicences: [{name: registration, method: key, typed: the label, "+c.card+"}]\n", "linux",
			map[string]string{"old/srv/data": "x", "old/srv/reg.ini": "[reg]\nkey=79927398713\n"})
		j := o.Job(o.Old)
		p := &office.Person{Answers: c.answers}
		j.Technician = p
		out, err := j.Pack(ctx)
		fatal.If(t, err)
		var shown []string
		for _, s := range p.Shown {
			shown = append(shown, strings.Join(strings.Fields(s)[:2], " "))
		}
		if got := strings.Join(shown, ", "); got != c.shown || (out[0].Err != nil) != c.fails {
			t.Errorf("%s: asked %q, %v", name, got, out[0].Err)
		}
		if c.fails {
			continue
		}
		h, err := o.Job(o.New).Licences().Open(o.Kit.Cards[0], &o.Kit.Cards[0].Licences[0], "")
		if err != nil || h.Secrets.Serial != "79927398713" || h.Secrets.Code != map[bool]string{false: "Harbour office"}[name == "no name"] {
			t.Errorf("%s: %+v %v", name, h, err)
		}
	}
}

// TestRestoredImage restores the old computer from an image after the move: its licence file is back. Once
// anything on it sees that, both computers say what is no longer true, until it is deactivated again.
func TestRestoredImage(t *testing.T) {
	t.Parallel()
	cert, key := lay.Signed(t, time.Now().AddDate(1, 0, 0))
	for what, see := range map[string]func(o *office.Office) error{
		"status": func(o *office.Office) error { _, err := o.Job(o.Old).Licences().Statuses(ctx); return err },
		"retire": func(o *office.Office) error { _, err := o.Job(o.Old).Retire(ctx); return err },
		"return": func(o *office.Office) error { _, err := o.Job(o.Old).Return(ctx); return err },
	} {
		o := office.New(t, fileCard, "linux", map[string]string{"old/srv/office.pem": cert, "old/srv/office.key": key, "new/srv/x": ""})
		now := time.Now()
		o.Pack()
		o.Change(o.Old, nil, now, (*move.Move).Deactivate)
		o.Unpack()
		o.Change(o.New, nil, now, (*move.Move).Activate)
		if v := o.Verify(); !v.Licences[0].Good {
			t.Fatalf("%+v", v.Licences)
		}
		lay.Out(t, o.Dir, map[string]string{"old/srv/office.pem": cert, "old/srv/office.key": key})
		if err := see(o); err != nil {
			t.Errorf("%s: %v", what, err)
		}
		j := o.Job(o.New)
		if next := j.State.Next(j.Cards); next.Step != steps.Deactivate || next.Side != steps.OldSide {
			t.Errorf("%s: the next step is %+v", what, next)
		}
		if v := o.Verify(); v.Licences[0].Good || v.Licences[0].Old != licence.Active {
			t.Errorf("%s: verify says %+v", what, v.Licences)
		}
		if j := o.Job(o.New); j.State.Proven(j.Cards[0]) {
			t.Errorf("%s: it is still proven", what)
		}
		// Retired data that comes back does not bring the licence with it.
		if what == "return" {
			continue
		}
		if out := o.Change(o.Old, nil, now, (*move.Move).Deactivate); out.Err != nil || len(out.Blocks) > 0 || out.Licences[0].Did != "deactivated" {
			t.Errorf("%s: %+v %v", what, out.Licences, out.Err)
		}
		if v := o.Verify(); !v.Licences[0].Good {
			t.Errorf("%s, deactivated again: %+v", what, v.Licences)
		}
	}
}

// TestRenewedCertificate renews the certificate on the new computer, with the same key or another one: it counts as
// the licence of this move. A certificate for somebody else, or one that expires earlier, does not.
func TestRenewedCertificate(t *testing.T) {
	t.Parallel()
	cert, key := lay.Signed(t, time.Now().AddDate(0, 1, 0))
	later, laterKey := lay.Signed(t, time.Now().AddDate(2, 0, 0))
	earlier, earlierKey := lay.Signed(t, time.Now().AddDate(0, 0, 1))
	for name, c := range map[string]struct {
		cert, key string
		good      bool
	}{"renewed": {later, laterKey, true}, "expires earlier": {earlier, earlierKey, false}, "without its key": {later, key, false}} {
		for _, before := range []bool{true, false} { // the activation
			o := office.New(t, "items: [{name: certificate, kind: file, path: /srv/office.pem}, {name: key, kind: file, path: /srv/office.key}]\nlicences: [{name: signing, method: file, items: [certificate, key]}]\n", "linux", map[string]string{"old/srv/office.pem": cert, "old/srv/office.key": key, "new/srv/x": ""})
			o.Pack()
			o.Change(o.Old, nil, time.Now(), (*move.Move).Deactivate)
			o.Unpack()
			renew := func() {
				lay.Out(t, o.Dir, map[string]string{"new/srv/office.pem": c.cert, "new/srv/office.key": c.key})
			}
			if before {
				renew()
			}
			out := o.Change(o.New, nil, time.Now(), (*move.Move).Activate)
			if before && (out.Err == nil) != c.good {
				t.Errorf("%s: activated: %+v %v", name, out.Licences, out.Err)
			}
			if !before {
				renew()
			}
			if v := o.Verify(); v.Equal() != c.good || c.good && !strings.HasPrefix(v.Items[0].Rows[0].New, "renewed, valid until ") {
				t.Errorf("%s, before the activation %v: %+v %+v", name, before, v.Items, v.Licences)
			}
		}
	}
}

// TestExpiredCertificate warns before an expired certificate is deactivated.
func TestExpiredCertificate(t *testing.T) {
	t.Parallel()
	cert, key := lay.Signed(t, time.Now().AddDate(0, 0, -1))
	o := office.New(t, "items: [{name: certificate, kind: file, path: /srv/office.pem}, {name: key, kind: file, path: /srv/office.key}]\nlicences: [{name: signing, method: file, items: [certificate, key]}]\n", "linux", map[string]string{"old/srv/office.pem": cert, "old/srv/office.key": key, "new/srv/x": ""})
	o.Pack()
	out := o.Change(o.Old, nil, time.Now(), (*move.Move).Deactivate)
	if office.Blocked(out) != "usable-again" || !strings.Contains(out.Blocks[0].Why, "the licence signing expired on ") || o.Text("old/srv/office.key") != key {
		t.Errorf("%+v %v", out.Blocks, out.Err)
	}
}
