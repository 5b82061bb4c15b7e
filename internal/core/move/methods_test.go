//go:build unix

package move

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"math/big"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/youmark/pkcs8"
	"software.sslmate.com/src/go-pkcs12"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/licence"
	"movekit/internal/core/machine"
	"movekit/internal/core/steps"
)

// person answers steps from a list, and keeps what it was shown.
type person struct {
	answers []Reply
	shown   []string
}

func (p *person) Guide(_ context.Context, g Guided) (Reply, error) {
	p.shown = append(p.shown, fmt.Sprintf("%s %d/%d %s", g.Action, g.Step, g.Of, g.Do))
	if len(p.answers) == 0 {
		return Reply{}, fault.New(fault.Waits, "gone")
	}
	r := p.answers[0]
	p.answers = p.answers[1:]
	return r, nil
}

const seatCard = `items: [{name: data, kind: file, path: /srv/data}]
licences:
  - name: seat
    method: guided
    transfers: 2
    wait: 24h
    deactivate: {steps: [{do: release it}, {do: look, ask: how many, answer: "^[0-9]$"}]}
    activate: {steps: [{do: take it, evidence: true}]}
`

func (o *office) change(c machine.Computer, p Person, at time.Time, run func(*Job, context.Context) ([]*Outcome, error)) *Outcome {
	o.t.Helper()
	j := o.job(c)
	j.Now = func() time.Time { return at }
	if p != nil {
		j.Person = p
	}
	out, err := run(j, ctx)
	if err != nil {
		o.t.Fatal(err)
	}
	return out[0]
}

// TestGuided has a person stop, go on, answer wrongly, and come back too early.
func TestGuided(t *testing.T) {
	o := newOffice(t, seatCard, "linux", map[string]string{"old/srv/data": "x", "proof.png": "picture"})
	o.pack()
	now := time.Now()
	if out := o.change(o.old, nil, now, (*Job).Deactivate); fault.KindOf(out.Err) != fault.Waits {
		t.Errorf("nobody there: %v", out.Err)
	}
	first := &person{answers: []Reply{{Answer: "done"}}}
	if out := o.change(o.old, first, now, (*Job).Deactivate); fault.KindOf(out.Err) != fault.Waits || len(first.shown) != 2 {
		t.Errorf("left in the middle: %v %q", out.Err, first.shown)
	}
	if out := o.change(o.now, &person{}, now, (*Job).Activate); len(out.Blocks) == 0 || out.Blocks[0].Gate != "old-deactivated" {
		t.Errorf("active on the old one: %+v %v", out.Blocks, out.Err)
	}
	second := &person{answers: []Reply{{Answer: "many"}, {Answer: ""}, {Answer: "2"}}}
	out := o.change(o.old, second, now, (*Job).Deactivate)
	if out.Err != nil || len(second.shown) != 3 || !strings.HasPrefix(second.shown[0], "deactivate 2/2 look") || out.Licences[0].Old != licence.Deactivated {
		t.Errorf("gone on: %v %q %+v", out.Err, second.shown, out.Licences)
	}
	if out := o.change(o.old, &person{}, now, (*Job).Deactivate); out.Err != nil || !strings.HasPrefix(out.Licences[0].Did, "already") {
		t.Errorf("again: %v %+v", out.Err, out.Licences)
	}
	proof := Reply{Answer: "done", Evidence: filepath.Join(o.dir, "proof.png")}
	if out := o.change(o.now, &person{answers: []Reply{proof}}, now.Add(23*time.Hour), (*Job).Activate); len(out.Blocks) != 1 || out.Blocks[0].Gate != "waiting-over" {
		t.Errorf("too early: %+v %v", out.Blocks, out.Err)
	}
	later := now.Add(25 * time.Hour)
	for name, r := range map[string]Reply{"no proof": {Answer: "done"}, "a proof that is not there": {Answer: "done", Evidence: "/nowhere.png"}} {
		if out := o.change(o.now, &person{answers: []Reply{r, r, r}}, later, (*Job).Activate); out.Err == nil {
			t.Errorf("%s: %+v", name, out.Licences)
		}
	}
	out = o.change(o.now, &person{answers: []Reply{proof}}, later, (*Job).Activate)
	if out.Err != nil || out.Licences[0].New != licence.Active || out.Licences[0].Transfers != 1 || out.Licences[0].Spent != 1 {
		t.Fatalf("%v %+v", out.Err, out.Licences)
	}
	j := o.job(o.now)
	all, err := j.LicenceStatuses(ctx)
	if err != nil || len(all) != 1 || all[0].Next != "" || all[0].New != licence.Active || !strings.Contains(all[0].By, "proof.png") {
		t.Errorf("%+v %v", all, err)
	}
	if got := len(j.State().Licences[steps.Key{App: "app", Item: "seat"}].History); got != 3 {
		t.Errorf("%d steps are kept", got)
	}
}

// TestToken takes a licence up only where its token is plugged in, and an
// account's seat not before its waiting time is over.
func TestToken(t *testing.T) {
	o := newOffice(t, `items: [{name: data, kind: file, path: /srv/data}]
licences:
  - {name: dongle, method: token, usb: '1D6B:0a02', deactivate: {steps: [{do: pull it out}]}, activate: {steps: [{do: plug it in}]}}
  - {name: seat, method: account, wait: 24h, deactivate: {steps: [{do: ask the maker for a reset}]}, activate: {steps: [{do: sign in here first}]}}
`, "linux", map[string]string{"old/srv/data": "x", "new/sys/bus/usb/devices/1-1/idVendor": "1d6b\n", "new/sys/bus/usb/devices/1-1/idProduct": "0002\n"})
	o.pack()
	now := time.Now()
	yes := func() *person { return &person{answers: []Reply{{Answer: "done"}, {Answer: "done"}}} }
	if out := o.change(o.old, yes(), now, (*Job).Deactivate); out.Err != nil {
		t.Fatal(out.Err)
	}
	if out := o.change(o.now, yes(), now, (*Job).Activate); fault.KindOf(out.Err) != fault.Waits || !strings.Contains(out.Err.Error(), "1D6B:0a02) is not plugged into NEW") {
		t.Errorf("another device is plugged in: %v", out.Err)
	}
	lay(t, o.dir, map[string]string{"new/sys/bus/usb/devices/1-2/idVendor": "1d6b\n", "new/sys/bus/usb/devices/1-2/idProduct": "0a02\n"})
	out := o.change(o.now, yes(), now, (*Job).Activate)
	if out.Err != nil || len(out.Licences) != 1 || out.Licences[0].New != licence.Active || len(out.Blocks) != 1 || out.Blocks[0].Gate != "waiting-over" {
		t.Errorf("%v %+v %+v", out.Err, out.Licences, out.Blocks)
	}
	all, err := o.job(o.now).LicenceStatuses(ctx)
	if err != nil || !strings.Contains(all[0].By, "the token 1D6B:0a02 is plugged in") || all[1].Again == nil || all[1].Next != steps.Activate {
		t.Errorf("%+v %v", all, err)
	}
	if out := o.change(o.now, yes(), now.Add(25*time.Hour), (*Job).Activate); out.Err != nil || out.Licences[1].New != licence.Active {
		t.Errorf("a day later: %v %+v", out.Err, out.Licences)
	}
}

// TestKey sees that a product key is shown when it is needed, and kept nowhere.
func TestKey(t *testing.T) {
	o := newOffice(t, `items: [{name: data, kind: file, path: /srv/data}]
licences:
  - name: registration
    method: key
    serial: {file: /srv/reg.ini, key: reg/key}
    code: {file: /srv/reg.ini, key: reg/name}
`, "linux", map[string]string{"old/srv/data": "x", "old/srv/reg.ini": "[reg]\nkey=HB3-SECRET-4471\nname=Harbour office\n"})
	o.pack()
	p := &person{answers: []Reply{{Answer: "done"}, {Answer: "done"}, {Answer: "Harbour office, key HB3-SECRET-4471"}}}
	now := time.Now()
	if out := o.change(o.old, p, now, (*Job).Deactivate); out.Err != nil {
		t.Fatal(out.Err)
	}
	if out := o.change(o.now, p, now, (*Job).Activate); out.Err != nil || out.Licences[0].New != licence.Active || out.Licences[0].Serial != "••••4471" {
		t.Fatalf("%v %+v", out.Err, out.Licences)
	}
	if !strings.Contains(p.shown[1], "registered name Harbour office, key HB3-SECRET-4471") {
		t.Errorf("shown: %q", p.shown)
	}
	filepath.WalkDir(filepath.Join(o.dir, "kit"), func(path string, e os.DirEntry, _ error) error {
		if data, err := os.ReadFile(path); err == nil && strings.Contains(string(data), "SECRET") {
			t.Errorf("%s tells the key", path)
		}
		return nil
	})
}

// signed makes a certificate that runs out at a time, and its key.
func signed(t *testing.T, until time.Time) (cert, key string) {
	t.Helper()
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	c := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Tern Quay harbour office"}, NotBefore: until.AddDate(-2, 0, 0), NotAfter: until}
	der, err := x509.CreateCertificate(rand.Reader, c, c, k.Public(), k)
	if err != nil {
		t.Fatal(err)
	}
	private, err := x509.MarshalPKCS8PrivateKey(k)
	if err != nil {
		t.Fatal(err)
	}
	return string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})), string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private}))
}

const fileCard = `items:
  - {name: certificate, kind: file, path: /srv/office.pem}
  - {name: key, kind: file, path: /srv/office.key, secret: true}
licences: [{name: signing, method: file, items: [certificate, key]}]
`

// TestFileLicence moves a certificate with its key: on one computer at a time.
func TestFileLicence(t *testing.T) {
	now := time.Now()
	cert, key := signed(t, now.AddDate(1, 0, 0))
	o := newOffice(t, fileCard, "linux", map[string]string{"old/srv/office.pem": cert, "old/srv/office.key": key, "new/srv/x": ""})
	o.pack()
	if out := o.unpack(); len(out.Blocks) != 1 || out.Blocks[0].Gate != "licence-freed" {
		t.Errorf("on both computers: %+v", out.Blocks)
	}
	// Set aside by half: it is not free yet.
	os.Rename(filepath.Join(o.dir, "old/srv/office.pem"), filepath.Join(o.dir, "old/srv/half"))
	if all, err := o.job(o.old).LicenceStatuses(ctx); err != nil || all[0].Old != licence.Active {
		t.Errorf("%+v %v", all, err)
	}
	os.Rename(filepath.Join(o.dir, "old/srv/half"), filepath.Join(o.dir, "old/srv/office.pem"))
	out := o.change(o.old, nil, now, (*Job).Deactivate)
	if out.Err != nil || strings.Count(out.Licences[0].Aside, ".set-aside-") != 2 {
		t.Fatalf("%v %+v", out.Err, out.Licences)
	}
	if out := o.change(o.now, nil, now, (*Job).Activate); fault.KindOf(out.Err) != fault.Missing {
		t.Errorf("not unpacked: %v", out.Err)
	}
	o.unpack()
	if out := o.change(o.now, nil, now, (*Job).Activate); out.Err != nil || out.Licences[0].New != licence.Active {
		t.Fatalf("%v %+v", out.Err, out.Licences)
	}
	if v := o.verify(); !v.Licences[0].Good || !strings.Contains(v.Licences[0].By, "CN=Tern Quay harbour office") {
		t.Errorf("%+v", v.Licences)
	}
	lay(t, o.dir, map[string]string{"new/srv/office.key": "other"})
	if v := o.verify(); v.Licences[0].Good {
		t.Errorf("another key: %+v", v.Licences)
	}
}

// TestCertificates reads files of every form, and tells what runs out and what
// belongs together.
func TestCertificates(t *testing.T) {
	now := time.Now()
	cert, key := signed(t, now.AddDate(1, 0, 0))
	late, lateKey := signed(t, now.AddDate(0, 0, -1))
	o := newOffice(t, fileCard, "linux", nil)
	b := byHand{Job: o.job(o.now), app: o.kit.Cards[0], secrets: licence.Secrets{Passphrase: "tide-table"}}
	at := func(name, text string) target {
		lay(t, o.dir, map[string]string{name: text})
		return target{path: filepath.Join(o.dir, name)}
	}
	p12, lockedKey := encrypted(t, cert, key, "tide-table")
	for name, c := range map[string]struct {
		files          []target
		apart, expired bool
	}{
		"a certificate and its key":           {[]target{at("a", cert), at("b", key)}, false, false},
		"another's key":                       {[]target{at("a", cert), at("c", lateKey)}, true, false},
		"one that ran out":                    {[]target{at("d", late)}, false, true},
		"text":                                {[]target{at("e", "text")}, false, false},
		"its encrypted key":                   {[]target{at("a", cert), at("f", lockedKey)}, false, false},
		"another's certificate and encrypted": {[]target{at("d", late), at("f", lockedKey)}, true, true},
		"one file of PKCS 12":                 {[]target{at("g", p12)}, false, false},
		"PKCS 12 and another's key":           {[]target{at("g", p12), at("c", lateKey)}, true, false},
	} {
		if err := b.paired(c.files); (err != nil) != c.apart || c.apart && fault.KindOf(err) != fault.DeskRefused {
			t.Errorf("%s: %v", name, err)
		}
		if (b.expired(c.files) != "") != c.expired {
			t.Errorf("%s: runs out %q", name, b.expired(c.files))
		}
	}
	c := licence.ReadContents([]byte(key+cert), "")
	if c.Certificate == nil || c.Certificate.Key != c.Key || c.Certificate.Issuer != c.Certificate.Subject {
		t.Errorf("%+v", c)
	}
	if got := licence.ReadContents([]byte(p12), "tide-table"); got.Certificate == nil || got.Certificate.Key != c.Key || got.Key != c.Key || got.Certificate.Subject != "CN=Tern Quay harbour office" {
		t.Errorf("PKCS 12: %+v", got)
	}
	for name, text := range map[string]string{"PKCS 12": p12, "PKCS 8": lockedKey} {
		if got := licence.ReadContents([]byte(text), "wrong"); !got.Locked || got.Key != "" {
			t.Errorf("%s with another passphrase: %+v", name, got)
		}
	}
	for _, text := range []string{"", "text", "-----BEGIN CERTIFICATE-----\nAAAA\n-----END CERTIFICATE-----\n", cert[:40], p12[:len(p12)/2]} {
		if got := licence.ReadContents([]byte(text), ""); got.Certificate != nil || got.Key != "" {
			t.Errorf("%q is read: %+v", text, got)
		}
	}
}

// encrypted puts a certificate and its key into PKCS #12, and the key into an
// encrypted PKCS #8 file.
func encrypted(t *testing.T, cert, key, passphrase string) (p12, pkcs8Text string) {
	t.Helper()
	block, _ := pem.Decode([]byte(cert))
	c, err := x509.ParseCertificate(block.Bytes)
	if err != nil {
		t.Fatal(err)
	}
	block, _ = pem.Decode([]byte(key))
	k, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	if err != nil {
		t.Fatal(err)
	}
	out, err := pkcs12.Modern.Encode(k, c, nil, passphrase)
	if err != nil {
		t.Fatal(err)
	}
	der, err := pkcs8.MarshalPrivateKey(k, []byte(passphrase), nil)
	if err != nil {
		t.Fatal(err)
	}
	return string(out), string(pem.EncodeToMemory(&pem.Block{Type: "ENCRYPTED PRIVATE KEY", Bytes: der}))
}

// live makes a simulated computer count as one that runs.
type live struct {
	machine.Computer
}

func (live) Root() string { return "" }

func (l live) Locate(path string, _ *machine.User) (string, error) { return path, nil }

// TestMakersCommand moves a licence by a maker's program, which is a script.
func TestMakersCommand(t *testing.T) {
	dir := t.TempDir()
	program := filepath.Join(dir, "maker")
	script := "#!/bin/sh\ncd " + dir + "\ncase $1 in\nshow) cat $2.state; echo 'token sk-SECRET-1'; echo left: $(cat left);;\nfree) echo idle > $2.state; echo ok;;\ntake) echo active > $2.state; echo $(($(cat left)-1)) > left;;\nfail) echo no; exit 3;;\nlie) echo ok;;\nesac\n"
	if err := os.WriteFile(program, []byte(script), 0o755); err != nil {
		t.Fatal(err)
	}
	lay(t, dir, map[string]string{"old.state": "active", "new.state": "idle", "left": "3"})
	b := func(side string, free, take string) byHand {
		o := newOffice(t, "items: [{name: data, kind: file, path: /srv/data}]\n", "linux", nil)
		c := o.old
		if side == "new" {
			c = o.now
		}
		j := o.job(live{c})
		j.Commands = true
		return byHand{j, o.kit.Cards[0], card.Licence{Name: "lic", Method: card.MethodCommand, Show: &card.Show{Run: []string{program, "show", side}, Active: "(?m)^active", Left: `left: (\d+)`},
			Deactivate: &card.Change{Run: []string{program, free, side}, Done: "^ok"}, Activate: &card.Change{Run: []string{program, take, side}}}, steps.Key{App: "app", Item: "lic"}, licence.Secrets{}, nil}
	}
	ask := func(b byHand, action licence.Action) (*licence.Answer, error) {
		return b.Ask(ctx, action, licence.Request{Serial: "app/lic", Computer: machine.ID(b.Computer)}, "")
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
	if a, err := ask(b("new", "free", "take"), licence.Activate); err != nil || a.State != licence.Active || a.Transfers != 2 || a.Spent != 1 {
		t.Errorf("%+v %v", a, err)
	}
	not := b("old", "free", "take")
	not.Commands = false
	if _, err := ask(not, licence.Status); fault.KindOf(err) != fault.Waits || !strings.Contains(err.Error(), "--run-commands") {
		t.Errorf("nobody agreed: %v", err)
	}
	not.Commands, not.card.Show = true, &card.Show{Run: []string{filepath.Join(dir, "nothing")}, Active: "x"}
	if _, err := ask(not, licence.Status); fault.KindOf(err) != fault.Missing {
		t.Errorf("no such program: %v", err)
	}
}
