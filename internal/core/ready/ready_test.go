package ready_test

import (
	"context"
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
	"movekit/internal/core/machine"
	"movekit/internal/core/move"
	"movekit/internal/core/ready"
	"movekit/internal/core/steps"
	"movekit/test/fatal"
	"movekit/test/lay"
	"movekit/test/office"
)

var ctx = context.Background()

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
func told(r *ready.Readiness) string {
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
	see := func(change func(*move.Move)) *ready.Readiness {
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
	says := func(r *ready.Readiness, what, words string) {
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
		"right-name": {"", func(o office_) *move.Move { return o.Job(o.Another("third", lay.Ident("linux", "THIRD", "3"))) }},
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
				o.Change(o.Old, office.Agreeing{}, time.Now(), (*move.Move).Deactivate)
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
					j.Technician, do = office.Agreeing{}, j.Activate
				}
				out, err := do(ctx)
				fatal.If(t, err)
				stopped := map[string]bool{}
				for _, b := range out[0].Blocks {
					stopped[b.Gate] = true
				}
				delete(stopped, "in-place") // it follows from what stops unpack
				for g := range stopped {
					if !said[g] && !(step == steps.Activate && slices.ContainsFunc(r.Checks, func(check ready.Check) bool { return check.Gate == g && check.Stops == steps.Unpack })) {
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
			if gate != "" && !slices.ContainsFunc(r.Checks, func(check ready.Check) bool { return check.Gate == gate && check.Stops != "" }) {
				t.Errorf("%s did not stop anything: %+v", gate, r.Checks)
			}
		})
	}
}

// TestHolesTakeNoSpace unpacks a file with holes where there is no room for its length.
func TestHolesTakeNoSpace(t *testing.T) {
	t.Parallel()
	for _, system := range []machine.System{machine.Linux, machine.Windows} {
		o := office.New(t, "items: [{name: image, kind: folder, path: {linux: /srv/image, windows: 'C:\\image'}}]\n", system, map[string]string{"old/srv/image/disk": "begin", "old/srv/image/plain": "x"})
		fatal.If(t, os.Truncate(filepath.Join(o.Dir, "old/srv/image/disk"), 8<<20))
		o.Pack()
		j := o.Job(o.New)
		sealed := &j.State.Items[steps.Key{App: "app", Item: "image"}].Sealed
		if sealed.Bytes != 8<<20+1 || sealed.Holes < 7<<20 || sealed.Holes >= 8<<20 {
			t.Fatalf("%d bytes, of them %d in holes", sealed.Bytes, sealed.Holes)
		}
		sealed.Bytes, sealed.Holes = sealed.Bytes+1<<60, sealed.Holes+1<<60 // no disk has so much room
		r, err := j.Ready(ctx)
		fatal.If(t, err)
		short := slices.ContainsFunc(r.Checks, func(c ready.Check) bool { return c.Gate == "fits" && c.Stops == steps.Unpack })
		if short != (system == machine.Windows) { // there, the holes are filled
			t.Errorf("%s: too little space %v, %+v", system, short, r.Checks)
		}
	}
}
