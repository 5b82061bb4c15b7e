//go:build unix

package holder_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"movekit/internal/core/card"
	"movekit/internal/core/card/value"
	"movekit/internal/core/fault"
	"movekit/internal/core/holder"
	"movekit/internal/core/item"
	"movekit/internal/core/licence"
	"movekit/internal/core/machine"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
	"movekit/test/fatal"
	"movekit/test/lay"
	"movekit/test/office"
)

var ctx = context.Background()

const fileCard = `items:
  - {name: certificate, kind: file, path: /srv/office.pem}
  - {name: key, kind: file, path: /srv/office.key, secret: true}
licences: [{name: signing, method: file, items: [certificate, key]}]
`

// held opens a licence of a card that the test writes.
func held(t *testing.T, r *run.Run, c *card.Card, l card.Licence) *holder.Handle {
	t.Helper()
	h, err := (&holder.Session{Run: r}).Open(c, &l, "")
	fatal.If(t, err)
	return h
}

// service is the service that is asked about a licence.
func service(h *holder.Handle) licence.Service {
	s, _ := h.Service()
	return s
}

// agreeing answers whether programs may run.
type agreeing struct {
	run.NonInteractive
	ask func(string) error
}

func (a agreeing) AgreeToRun(question string) error { return a.ask(question) }

// TestCertificates parses files in every form, and checks expiry and whether keys match.
func TestCertificates(t *testing.T) {
	t.Parallel()
	now := time.Now()
	cert, key := lay.Signed(t, now.AddDate(1, 0, 0))
	late, lateKey := lay.Signed(t, now.AddDate(0, 0, -1))
	o := office.New(t, fileCard, "linux", nil)
	b := &holder.Handle{Session: &holder.Session{Run: o.Run(o.Kit, o.New)}, Card: o.Kit.Cards[0], Licence: &o.Kit.Cards[0].Licences[0], Secrets: licence.Secrets{Passphrase: "tide-table"}}
	at := func(name, text string) item.Target {
		lay.Out(t, o.Dir, map[string]string{name: text})
		return item.Target{Instance: &item.Instance{Path: filepath.Join(o.Dir, name)}}
	}
	p12, lockedKey := office.Encrypted(t, cert, key, "tide-table")
	for name, c := range map[string]struct {
		files          []item.Target
		apart, expired bool
	}{
		"a certificate and its key":           {[]item.Target{at("a", cert), at("b", key)}, false, false},
		"another's key":                       {[]item.Target{at("a", cert), at("c", lateKey)}, true, false},
		"one that ran out":                    {[]item.Target{at("d", late)}, false, true},
		"text":                                {[]item.Target{at("e", "text")}, false, false},
		"its encrypted key":                   {[]item.Target{at("a", cert), at("f", lockedKey)}, false, false},
		"another's certificate and encrypted": {[]item.Target{at("d", late), at("f", lockedKey)}, true, true},
		"one file of PKCS 12":                 {[]item.Target{at("g", p12)}, false, false},
		"PKCS 12 and another's key":           {[]item.Target{at("g", p12), at("c", lateKey)}, true, false},
	} {
		if err := b.Paired(c.files); (err != nil) != c.apart || c.apart && fault.KindOf(err) != fault.DeskRefused {
			t.Errorf("%s: %v", name, err)
		}
		if (b.Expired(c.files) != "") != c.expired {
			t.Errorf("%s: runs out %q", name, b.Expired(c.files))
		}
	}
	c := readHeld([]byte(key+cert), "")
	if c.Certificate == nil || c.Certificate.Key != c.Key || c.Certificate.Issuer != c.Certificate.Subject {
		t.Errorf("%+v", c)
	}
	if got := readHeld([]byte(p12), "tide-table"); got.Certificate == nil || got.Certificate.Key != c.Key || got.Key != c.Key || got.Certificate.Subject != "CN=Tern Quay harbour office" {
		t.Errorf("PKCS 12: %+v", got)
	}
	for name, text := range map[string]string{"PKCS 12": p12, "PKCS 8": lockedKey} {
		if got := readHeld([]byte(text), "wrong"); !got.Locked || got.Key != "" {
			t.Errorf("%s with another passphrase: %+v", name, got)
		}
	}
	for _, text := range []string{"", "text", "-----BEGIN CERTIFICATE-----\nAAAA\n-----END CERTIFICATE-----\n", cert[:40], p12[:len(p12)/2]} {
		if got := readHeld([]byte(text), ""); got.Certificate != nil || got.Key != "" {
			t.Errorf("%q is read: %+v", text, got)
		}
	}
}

// readHeld returns the certificate and the first key of a file.
func readHeld(data []byte, passphrase string) (out struct {
	Certificate *licence.Certificate
	Key         string
	Locked      bool
}) {
	c := licence.ReadContents(data, passphrase)
	out.Certificate, _ = licence.Leaf([]licence.Contents{c})
	out.Key, out.Locked = strings.Join(c.Keys[:min(len(c.Keys), 1)], ""), c.Locked
	return out
}

// TestVendorCommand moves a licence with a vendor's program, which is a script here.
func TestVendorCommand(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	program := filepath.Join(dir, "vendor")
	script := "#!/bin/sh\ncd " + dir + "\ncase $1 in\nshow) cat $2.state; echo 'token sk-SECRET-1'; echo left: $(cat left);;\nfree) echo idle > $2.state; echo ok;;\ntake) echo active > $2.state; echo $(($(cat left)-1)) > left;;\nfail) echo no; exit 3;;\nlie) echo ok;;\nesac\n"
	fatal.If(t, os.WriteFile(program, []byte(script), 0o755))
	lay.Out(t, dir, map[string]string{"old.state": "active", "new.state": "idle", "left": "3"})
	b := func(side string, free, take string) *holder.Handle {
		o := office.New(t, "items: [{name: data, kind: file, path: /srv/data}]\n", "linux", nil)
		c := o.Old
		if side == "new" {
			c = o.New
		}
		r := o.Run(o.Kit, office.Live{Computer: c})
		r.Commands = true
		return held(t, r, o.Kit.Cards[0], card.Licence{Name: "lic", Method: card.MethodCommand, Show: &card.Show{Run: []string{program, "show", side}, Active: value.PatternOf("(?m)^active"), Left: value.PatternOf(`left: (\d+)`)},
			Deactivate: &card.Change{Run: []string{program, free, side}, Done: value.PatternOf("^ok")}, Activate: &card.Change{Run: []string{program, take, side}}})
	}
	ask := func(b *holder.Handle, action licence.Action) (*licence.Answer, error) {
		return service(b).Ask(t.Context(), action, licence.Request{Serial: "app/lic", Computer: machine.ID(b.Computer)}, "")
	}
	old := b("old", "free", "take")
	if a, err := ask(old, licence.Status); err != nil || a.State != licence.Active || a.Transfers != 3 {
		t.Errorf("%+v %v", a, err)
	}
	for _, bad := range []string{"fail", "lie"} {
		if a, err := ask(b("old", bad, "take"), licence.Deactivate); fault.KindOf(err) != fault.DeskRefused || strings.Contains(err.Error(), "SECRET") {
			t.Errorf("%s: %+v %v", bad, a, err)
		}
	}
	if a, err := ask(old, licence.Deactivate); err != nil || a.State != licence.Deactivated {
		t.Errorf("%+v %v", a, err)
	}
	if a, err := ask(b("new", "free", "take"), licence.Activate); err != nil || a.State != licence.Active || a.Transfers != 2 || a.Used != 1 {
		t.Errorf("%+v %v", a, err)
	}
	// A state that nobody changed here, and transfers that are used up or no longer reported.
	remembered := func(b *holder.Handle, old, now licence.State) *holder.Handle {
		st := &steps.Licence{Old: old, New: now, Left: -1, From: b.Manifest.Old, On: map[string]steps.Held{b.Manifest.Old.ID: {State: old}}}
		b.State.Licences[b.Key] = st
		return b
	}
	lay.Out(t, dir, map[string]string{"old.state": "idle", "new.state": "idle", "left": "1"})
	if a, err := ask(remembered(b("old", "free", "take"), licence.Active, licence.Unknown), licence.Status); err != nil || a.State != licence.Deactivated || len(a.Active) != 0 {
		t.Errorf("deactivated elsewhere: %+v %v", a, err)
	}
	if a, err := ask(b("new", "free", "take"), licence.Status); err != nil || a.State != licence.NotActivated {
		t.Errorf("never activated: %+v %v", a, err)
	}
	if a, err := ask(remembered(b("new", "free", "take"), licence.Deactivated, licence.Unknown), licence.Activate); err != nil || a.Transfers != 0 || a.Used != 1 || len(a.Active) != 1 {
		t.Errorf("the last transfer: %+v %v", a, err)
	}
	lay.Out(t, dir, map[string]string{"new.state": "idle", "left": "2"})
	os.WriteFile(program, []byte(strings.Replace(script, "take) ", "take) echo -1 > left; echo active > $2.state; exit 0;", 1)), 0o755)
	if a, err := ask(remembered(b("new", "free", "take"), licence.Deactivated, licence.Unknown), licence.Activate); err != nil || a.Used != 0 {
		t.Errorf("it does not tell what is left: %+v %v", a, err)
	}
	not := b("old", "free", "take")
	not.Commands = false
	if _, err := ask(not, licence.Status); fault.KindOf(err) != fault.NotAgreed {
		t.Errorf("nobody agreed: %v", err)
	}
	not.Commands, not.Licence.Show = true, &card.Show{Run: []string{filepath.Join(dir, "nothing")}, Active: value.PatternOf("x")}
	if _, err := ask(not, licence.Status); fault.KindOf(err) != fault.Missing {
		t.Errorf("no such program: %v", err)
	}
}

// TestCommandLimits uses a vendor's command that hangs, one that reads input, and one that reports
// an expired licence.
func TestCommandLimits(t *testing.T) {
	t.Parallel()
	o := office.New(t, "items: [{name: data, kind: file, path: /srv/data}]\n", "linux", nil)
	r := o.Run(o.Kit, office.Live{Computer: o.Old})
	r.Commands = true
	asked := 0
	var answer error
	r.Technician = agreeing{ask: func(question string) error {
		asked++
		if !strings.Contains(question, "runs these commands on OLD") {
			t.Errorf("asked %q", question)
		}
		return answer
	}}
	show := func(script string) (*licence.Answer, error) {
		b := held(t, r, o.Kit.Cards[0], card.Licence{Name: "lic", Method: card.MethodCommand,
			Show: &card.Show{Run: []string{"/bin/sh", "-c", script}, Active: value.PatternOf("active"), Over: value.PatternOf("expired"), Limit: value.Duration{Duration: 200 * time.Millisecond}}})
		return service(b).Ask(t.Context(), licence.Status, licence.Request{Serial: "app/lic", Computer: machine.ID(o.Old)}, "")
	}
	change := func(c *card.Change) error {
		b := held(t, r, o.Kit.Cards[0], card.Licence{Name: "lic", Method: card.MethodCommand, Deactivate: c,
			Show: &card.Show{Run: []string{"/bin/sh", "-c", "echo idle"}, Active: value.PatternOf("active")}})
		_, err := service(b).Ask(t.Context(), licence.Deactivate, licence.Request{Serial: "app/lic", Computer: machine.ID(o.Old)}, "")
		return err
	}
	if a, err := show("head -c 300000 /dev/zero | tr '\\0' x; echo active"); err != nil || a.State != licence.Active {
		t.Errorf("the word comes late: %+v %v", a, err)
	}
	for what, script := range map[string]string{"more than is read": "head -c 5000000 /dev/zero | tr '\\0' x; echo active", "a failure": "echo idle; exit 3", "a failure with the word": "echo active; exit 1", "killed": "echo idle; kill -9 $$"} {
		if a, err := show(script); fault.KindOf(err) != fault.DeskDown {
			t.Errorf("%s: %+v %v", what, a, err)
		}
	}
	for said, want := range map[string]licence.State{"licence is on": licence.Active, "licence is off": licence.Deactivated, "licence is off, not on": "", "Lizenz ist aus": "", "": ""} {
		b := held(t, r, o.Kit.Cards[0], card.Licence{Name: "lic", Method: card.MethodCommand,
			Show: &card.Show{Run: []string{"/bin/sh", "-c", "echo '" + said + "'; exit 7"}, Active: value.PatternOf(`\bon\b`), Inactive: value.PatternOf("is off"), Codes: []int{7}}})
		a, err := service(b).Ask(t.Context(), licence.Status, licence.Request{Serial: "app/lic", Computer: machine.ID(o.Old)}, "")
		if want == "" && (fault.KindOf(err) != fault.DeskDown || !strings.Contains(err.Error(), "is unknown")) || want != "" && (err != nil || a.State != want) {
			t.Errorf("%q: %+v %v", said, a, err)
		}
	}
	three := []string{"/bin/sh", "-c", "echo E17 sk-SECRET; exit 3"}
	if err := change(&card.Change{Run: three}); fault.KindOf(err) != fault.DeskRefused || !strings.Contains(err.Error(), "exit code 3") {
		t.Errorf("exit code 3: %v", err)
	}
	if err := change(&card.Change{Run: three, Codes: []int{0, 3}}); err != nil {
		t.Errorf("exit code 3, which means done: %v", err)
	}
	if err := change(&card.Change{Run: three, Codes: []int{3}, Fails: []card.Fail{{Match: value.PatternOf("E1[0-9]"), Means: "close the app first"}}}); fault.KindOf(err) != fault.DeskRefused || !strings.HasSuffix(err.Error(), "close the app first") || strings.Contains(err.Error(), "SECRET") {
		t.Errorf("an error that the card knows: %v", err)
	}
	// In a terminal its commands are shown once, and the user agrees.
	r.Commands = false
	for _, answer = range []error{fault.New(fault.Stopped, "no"), nil, nil} {
		if _, err := show("echo active"); (err != nil) != (answer != nil) {
			t.Errorf("the answer %v: %v", answer, err)
		}
	}
	if asked != 2 {
		t.Errorf("asked %d times", asked)
	}
	begin := time.Now()
	if _, err := show("sleep 20"); fault.KindOf(err) != fault.DeskDown || !strings.Contains(err.Error(), "200ms") || time.Since(begin) > 10*time.Second {
		t.Errorf("it hangs: %v after %s", err, time.Since(begin))
	}
	if a, err := show(`read answer || echo active; echo "$answer"`); err != nil || a.State != licence.Active {
		t.Errorf("it asks: %+v %v", a, err)
	}
	if a, err := show("echo active, but expired"); err != nil || a.State != licence.Expired {
		t.Errorf("it has run out: %+v %v", a, err)
	}
}
