package move_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"movekit/test/lay"
	"movekit/test/office"

	"movekit/internal/core/fault"
	"movekit/internal/core/journal"
	"movekit/internal/core/kit"
	"movekit/internal/core/machine"
	"movekit/internal/core/move"
	"movekit/test/fatal"
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

// told are the checks as app, what and whether it is ready.
func told(r *move.Readiness) string {
	var out []string
	for _, c := range r.Checks {
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
		r, err := j.OnNew(ctx)
		fatal.If(t, err)
		for _, l := range o.Kit.Log.Lines[before:] {
			if l.Event != journal.EventLooked && l.Event != journal.EventChosen {
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
	says(r, "user tobias", "is not here user tobias")
	lay.Out(t, o.Dir, map[string]string{"new/opt/v": "8.3", "new/opt/edition": "HARBOUR", "new/lib/driver": "", "new/srv/diary/a": "2", "new/home/maren/.app/s": "m"})
	lay.Database(t, filepath.Join(o.Dir, "new/srv/b.db"), "CREATE TABLE t (x)", "INSERT INTO t VALUES (1)")
	asTobias := func(j *move.Move) { j.Say.Users = map[string]string{"tobias": "t.ove"} }
	r = see(asTobias)
	if got, want := told(r), "version false, edition true, A driver true, server true, account true, diary true, data true, user maren true, settings of maren true, user tobias true, settings of tobias true, space true"; got != want {
		t.Errorf("things in the way: %s\nwant %s", got, want)
	}
	says(r, "version", "8.3 here, 8.2.1 on OLD (same-minor)")
	says(r, "data", "the same is here already")
	says(r, "diary", "something else is in the way")
	os.WriteFile(filepath.Join(o.Dir, "new/opt/v"), []byte("8.2.9"), 0o600)
	if r = see(asTobias); !r.Ready() || !r.Compared {
		t.Errorf("not ready: %s", told(r))
	}
	// Without the passphrase nothing is compared, and nothing is claimed.
	locked, err := kit.Open(o.Kit.Dir)
	fatal.If(t, err)
	r = see(func(j *move.Move) { asTobias(j); j.Kit = locked })
	says(r, "data", "not compared")
	if r.Compared || !r.Ready() {
		t.Errorf("%+v", r)
	}
	if _, err := o.Job(o.Old).OnNew(ctx); fault.KindOf(err) != fault.Usage {
		t.Errorf("on the old computer: %v", err)
	}
}

// TestWhatStaysIsTold sees that servers and accounts are carried through the
// steps without being moved.
func TestWhatStaysIsTold(t *testing.T) {
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

// TestAgreement sees that commands of a card run only when a person has agreed,
// and that the agreement is kept.
func TestAgreement(t *testing.T) {
	t.Parallel()
	o := office.New(t, "version: {command: [/opt/app/tool, --version]}\nitems: [{name: a, kind: file, path: /srv/a}]\n", "linux", map[string]string{"old/srv/a": "1", "new/srv/x": "1"})
	if out := o.Pack(); out.Err != nil || o.Job(o.Old).State.Agreed["app"] {
		t.Errorf("agreed without having been asked: %+v", out)
	}
	out := o.Only(o.Job(o.New).Unpack(ctx))
	if office.Blocked(out) != "version-rule" || !strings.Contains(out.Blocks[0].Why, "its own command, which was not run: /opt/app/tool --version") {
		t.Errorf("%+v", out.Blocks)
	}
	j := o.Job(o.Old)
	j.Commands = true
	o.Only(j.Pack(ctx))
	lines := len(o.Kit.Log.Lines)
	if !o.Job(o.New).State.Agreed["app"] || !o.Job(o.New).For(o.Kit.Cards[0]).Commands {
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
	if move.New(o.Run(locked, o.New)).For(locked.Cards[0]).Commands {
		t.Error("a kit that nobody has opened is believed")
	}
}
