//go:build unix

package holder_test

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"movekit/internal/core/card"
	"movekit/internal/core/fault"
	"movekit/internal/core/holder"
	"movekit/internal/core/licence"
	"movekit/internal/core/machine"
	"movekit/internal/core/move"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
	"movekit/test/lay"
	"movekit/test/office"
)

const seatCard = `items: [{name: data, kind: file, path: /srv/data}]
licences:
  - name: seat
    method: guided
    transfers: 2
    wait: 24h
    deactivate: {steps: [{do: release it}, {do: look, ask: how many, answer: "^[0-9]$"}]}
    activate: {steps: [{do: take it, evidence: true}]}
`

// TestGuided stops a technician's steps, continues them, and gives wrong and early answers.
func TestGuided(t *testing.T) {
	t.Parallel()
	o := office.New(t, seatCard, "linux", map[string]string{"old/srv/data": "x", "proof.png": "picture"})
	o.Pack()
	now := time.Now()
	if out := o.Change(o.Old, nil, now, (*move.Move).Deactivate); fault.KindOf(out.Err) != fault.ManualStep {
		t.Errorf("nobody there: %v", out.Err)
	}
	first := &office.Person{Answers: []run.Reply{{Answer: "done"}}}
	if out := o.Change(o.Old, first, now, (*move.Move).Deactivate); fault.KindOf(out.Err) != fault.ManualStep || len(first.Shown) != 2 {
		t.Errorf("left in the middle: %v %q", out.Err, first.Shown)
	}
	if out := o.Change(o.New, &office.Person{}, now, (*move.Move).Activate); len(out.Blocks) == 0 || out.Blocks[0].Gate != "old-deactivated" {
		t.Errorf("active on the old one: %+v %v", out.Blocks, out.Err)
	}
	second := &office.Person{Answers: []run.Reply{{Answer: "many"}, {Answer: ""}, {Answer: "2"}}}
	out := o.Change(o.Old, second, now, (*move.Move).Deactivate)
	if out.Err != nil || len(second.Shown) != 3 || !strings.HasPrefix(second.Shown[0], "deactivate 2/2 look") || out.Licences[0].Old != licence.Deactivated {
		t.Errorf("gone on: %v %q %+v", out.Err, second.Shown, out.Licences)
	}
	if out := o.Change(o.Old, &office.Person{}, now, (*move.Move).Deactivate); out.Err != nil || !strings.HasPrefix(out.Licences[0].Did, "already") {
		t.Errorf("again: %v %+v", out.Err, out.Licences)
	}
	if all, err := o.Job(o.Old).Licences().Statuses(ctx); err != nil || all[0].By != `the technician on OLD, who answered "2" to "how many"` {
		t.Errorf("%+v %v", all, err)
	}
	proof := run.Reply{Answer: "done", Evidence: filepath.Join(o.Dir, "proof.png")}
	if out := o.Change(o.New, &office.Person{Answers: []run.Reply{proof}}, now.Add(23*time.Hour), (*move.Move).Activate); len(out.Blocks) != 1 || out.Blocks[0].Gate != "waiting-over" {
		t.Errorf("too early: %+v %v", out.Blocks, out.Err)
	}
	later := now.Add(25 * time.Hour)
	for name, r := range map[string]run.Reply{"no proof": {Answer: "done"}, "a proof that is not there": {Answer: "done", Evidence: "/nowhere.png"}} {
		if out := o.Change(o.New, &office.Person{Answers: []run.Reply{r, r, r}}, later, (*move.Move).Activate); out.Err == nil {
			t.Errorf("%s: %+v", name, out.Licences)
		}
	}
	out = o.Change(o.New, &office.Person{Answers: []run.Reply{proof}}, later, (*move.Move).Activate)
	if out.Err != nil || out.Licences[0].New != licence.Active || out.Licences[0].Transfers != 1 || out.Licences[0].Used != 1 {
		t.Fatalf("%v %+v", out.Err, out.Licences)
	}
	j := o.Job(o.New)
	all, err := j.Licences().Statuses(ctx)
	if err != nil || len(all) != 1 || all[0].Next != "" || all[0].New != licence.Active || !strings.Contains(all[0].By, "the technician on NEW (proof.png, BLAKE3 ") {
		t.Errorf("%+v %v", all, err)
	}
	if got := len(j.State.Licences[steps.Key{App: "app", Item: "seat"}].History); got != 3 {
		t.Errorf("%d steps are kept", got)
	}
}

// TestToken activates a licence only if its token is plugged in, and an account's seat only after
// its waiting time.
func TestToken(t *testing.T) {
	t.Parallel()
	o := office.New(t, `items: [{name: data, kind: file, path: /srv/data}]
licences:
  - {name: dongle, method: token, usb: '1D6B:0a02', deactivate: {steps: [{do: pull it out}]}, activate: {steps: [{do: plug it in}]}}
  - {name: seat, method: account, wait: 24h, deactivate: {steps: [{do: ask the vendor for a reset}]}, activate: {steps: [{do: sign in here first}]}}
`, "linux", map[string]string{"old/srv/data": "x", "new/sys/bus/usb/devices/1-1/idVendor": "1d6b\n", "new/sys/bus/usb/devices/1-1/idProduct": "0002\n"})
	o.Pack()
	now := time.Now()
	yes := func() *office.Person { return &office.Person{Answers: []run.Reply{{Answer: "done"}, {Answer: "done"}}} }
	if out := o.Change(o.Old, yes(), now, (*move.Move).Deactivate); out.Err != nil {
		t.Fatal(out.Err)
	}
	if out := o.Change(o.New, yes(), now, (*move.Move).Activate); fault.KindOf(out.Err) != fault.ManualStep || !strings.Contains(out.Err.Error(), "1D6B:0a02) is not plugged into NEW") {
		t.Errorf("another device is plugged in: %v", out.Err)
	}
	if s, err := o.Job(o.New).Licences().Statuses(ctx); err != nil || strings.Contains(s[0].By, "plugged in") {
		t.Errorf("it is said to be plugged in: %+v %v", s, err)
	}
	lay.Out(t, o.Dir, map[string]string{"new/sys/bus/usb/devices/1-2/idVendor": "1d6b\n", "new/sys/bus/usb/devices/1-2/idProduct": "0a02\n"})
	out := o.Change(o.New, yes(), now, (*move.Move).Activate)
	if out.Err != nil || len(out.Licences) != 1 || out.Licences[0].New != licence.Active || len(out.Blocks) != 1 || out.Blocks[0].Gate != "waiting-over" || out.Licences[0].Used != 0 {
		t.Errorf("%v %+v %+v", out.Err, out.Licences, out.Blocks)
	}
	all, err := o.Job(o.New).Licences().Statuses(ctx)
	if err != nil || !strings.Contains(all[0].By, "the token 1D6B:0a02 is plugged in") || all[1].Again == nil || all[1].Next != steps.Activate {
		t.Errorf("%+v %v", all, err)
	}
	if out := o.Change(o.New, yes(), now.Add(25*time.Hour), (*move.Move).Activate); out.Err != nil || out.Licences[1].New != licence.Active {
		t.Errorf("a day later: %v %+v", out.Err, out.Licences)
	}
}

// TestKey shows a product key only when it is needed, and stores it nowhere.
func TestKey(t *testing.T) {
	t.Parallel()
	o := office.New(t, `items: [{name: data, kind: file, path: /srv/data}]
licences:
  - name: registration
    method: key
    serial: {file: /srv/reg.ini, key: reg/key}
    code: {file: /srv/reg.ini, key: reg/name}
`, "linux", map[string]string{"old/srv/data": "x", "old/srv/reg.ini": "[reg]\nkey=HB3-SECRET-4471\nname=Harbour office\n"})
	o.Pack()
	p := &office.Person{Answers: []run.Reply{{Answer: "done"}, {Answer: "done"}, {Answer: "Harbour office, key HB3-SECRET-4471"}}}
	now := time.Now()
	if out := o.Change(o.Old, p, now, (*move.Move).Deactivate); out.Err != nil {
		t.Fatal(out.Err)
	}
	if out := o.Change(o.New, p, now, (*move.Move).Activate); out.Err != nil || out.Licences[0].New != licence.Active || out.Licences[0].Serial != "••••4471" {
		t.Fatalf("%v %+v", out.Err, out.Licences)
	}
	if !strings.Contains(p.Shown[1], "registered name Harbour office, key HB3-SECRET-4471") {
		t.Errorf("shown: %q", p.Shown)
	}
	filepath.WalkDir(filepath.Join(o.Dir, "kit"), func(path string, e os.DirEntry, _ error) error {
		if data, err := os.ReadFile(path); err == nil && strings.Contains(string(data), "SECRET") {
			t.Errorf("%s tells the key", path)
		}
		return nil
	})
}

// TestKeyOfEachUser moves the keys of two users as one licence each.
func TestKeyOfEachUser(t *testing.T) {
	t.Parallel()
	users := "maren:x:1000:1000::/home/maren:/bin/sh\ntobias:x:1001:1001::/home/tobias:/bin/sh\n"
	o := office.New(t, `items: [{name: data, kind: file, path: /srv/data}]
licences: [{name: key, method: key, serial: {file: ~/.app.ini, key: key}}]
`, "linux", map[string]string{"old/srv/data": "x", "old/etc/passwd": users, "new/etc/passwd": users, "old/home/maren/.app.ini": "key=HB-ONE-7\n", "old/home/tobias/.app.ini": "key=HB-TWO-8\n"})
	if out := o.Pack(); out.Err != nil || len(out.Blocks) > 0 {
		t.Fatalf("%v %+v", out.Err, out.Blocks)
	}
	p := &office.Person{Answers: []run.Reply{{Answer: "done"}, {Answer: "done"}, {Answer: "done"}, {Answer: "maren"}, {Answer: "done"}, {Answer: "tobias"}}}
	now := time.Now()
	for _, step := range []struct {
		on machine.Computer
		do func(*move.Move, context.Context) ([]*run.Outcome, error)
	}{{o.Old, (*move.Move).Deactivate}, {o.New, (*move.Move).Activate}} {
		out := o.Change(step.on, p, now, step.do)
		if out.Err != nil || len(out.Licences) != 2 || out.Licences[0].Serial != "••••NE-7" || out.Licences[1].Licence != "key@tobias" || out.Licences[1].Serial != "••••WO-8" {
			t.Fatalf("%v %+v", out.Err, out)
		}
	}
	shown := strings.Join(p.Shown, "\n")
	if !strings.Contains(shown, "Enter in the app: key HB-ONE-7") || !strings.Contains(shown, "Enter in the app: key HB-TWO-8") {
		t.Errorf("%s", shown)
	}
	if all, err := o.Job(o.New).Licences().Statuses(ctx); err != nil || len(all) != 2 || all[1].Licence != "key@tobias" || all[0].New != licence.Active || all[1].New != licence.Active || all[1].Old != licence.Deactivated {
		t.Errorf("%+v %v", all, err)
	}
}

// TestFileLicence moves a certificate with its key: it is active on one computer at a time.
func TestFileLicence(t *testing.T) {
	t.Parallel()
	now := time.Now()
	cert, key := lay.Signed(t, now.AddDate(1, 0, 0))
	o := office.New(t, fileCard, "linux", map[string]string{"old/srv/office.pem": cert, "old/srv/office.key": key, "new/srv/x": ""})
	o.Pack()
	if out := o.Unpack(); len(out.Blocks) != 1 || out.Blocks[0].Gate != "licence-deactivated" {
		t.Errorf("on both computers: %+v", out.Blocks)
	}
	// Only one file is set aside, so the licence is not deactivated yet.
	os.Rename(filepath.Join(o.Dir, "old/srv/office.pem"), filepath.Join(o.Dir, "old/srv/half"))
	if all, err := o.Job(o.Old).Licences().Statuses(ctx); err != nil || all[0].Old != licence.Active {
		t.Errorf("%+v %v", all, err)
	}
	os.Rename(filepath.Join(o.Dir, "old/srv/office.key"), filepath.Join(o.Dir, "old/srv/other half"))
	if all, err := o.Job(o.Old).Licences().Statuses(ctx); err != nil || all[0].Old != licence.Deactivated {
		t.Errorf("nothing of it is there: %+v %v", all, err)
	}
	os.Rename(filepath.Join(o.Dir, "old/srv/other half"), filepath.Join(o.Dir, "old/srv/office.key"))
	os.Rename(filepath.Join(o.Dir, "old/srv/half"), filepath.Join(o.Dir, "old/srv/office.pem"))
	out := o.Change(o.Old, nil, now, (*move.Move).Deactivate)
	if out.Err != nil || strings.Count(out.Licences[0].Aside, ".set-aside-") != 2 {
		t.Fatalf("%v %+v", out.Err, out.Licences)
	}
	if out := o.Change(o.New, nil, now, (*move.Move).Activate); fault.KindOf(out.Err) != fault.NotPlaced {
		t.Errorf("not unpacked: %v", out.Err)
	}
	o.Unpack()
	if all, err := o.Job(o.New).Licences().Statuses(ctx); err != nil || all[0].New != licence.NotActivated {
		t.Errorf("in place, and not activated: %+v %v", all, err)
	}
	if out := o.Change(o.New, nil, now, (*move.Move).Activate); out.Err != nil || out.Licences[0].New != licence.Active {
		t.Fatalf("%v %+v", out.Err, out.Licences)
	}
	if v := o.Verify(); !v.Licences[0].Good || !strings.Contains(v.Licences[0].By, "CN=Tern Quay harbour office") {
		t.Errorf("%+v", v.Licences)
	}
	lay.Out(t, o.Dir, map[string]string{"new/srv/office.key": "other"})
	if v := o.Verify(); v.Licences[0].Good {
		t.Errorf("another key: %+v", v.Licences)
	}
}

// TestHalfAFileLicence deactivates a licence of which somebody removed one file.
func TestHalfAFileLicence(t *testing.T) {
	t.Parallel()
	cert, key := lay.Signed(t, time.Now().AddDate(1, 0, 0))
	o := office.New(t, fileCard, "linux", map[string]string{"old/srv/office.pem": cert, "old/srv/office.key": key})
	o.Pack()
	os.Remove(filepath.Join(o.Dir, "old/srv/office.pem"))
	if out := o.Change(o.Old, nil, time.Now(), (*move.Move).Deactivate); office.Blocked(out) != "old-unchanged" {
		t.Errorf("%v %+v", out.Err, out)
	}
	all := func(j *move.Move, ctx context.Context) ([]*run.Outcome, error) {
		j.Overrides = map[string]string{"old-unchanged": "the rest is in the kit"}
		return j.Deactivate(ctx)
	}
	if out := o.Change(o.Old, nil, time.Now(), all); out.Err != nil || !strings.Contains(out.Licences[0].Aside, "office.key.set-aside-") || strings.Contains(out.Licences[0].Aside, "office.pem") {
		t.Errorf("%v %+v", out.Err, out.Licences)
	}
}

// TestEveryMethodIsInTheTable compares the table with the methods in cards.
func TestEveryMethodIsInTheTable(t *testing.T) {
	have := holder.Methods()
	for _, info := range card.Methods {
		if !slices.Contains(have, info.Method) {
			t.Errorf("%s is not in the table", info.Method)
		}
	}
	if len(have) != len(card.Methods) {
		t.Errorf("%d methods are in the table, and cards know %d", len(have), len(card.Methods))
	}
}
