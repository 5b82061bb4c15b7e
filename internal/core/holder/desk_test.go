//go:build unix

package holder_test

import (
	"fmt"
	"log/slog"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"movekit/internal/core/card"
	"movekit/internal/core/card/value"
	"movekit/internal/core/fault"
	"movekit/internal/core/holder"
	"movekit/internal/core/journal"
	"movekit/internal/core/licence"
	"movekit/internal/core/machine"
	"movekit/internal/core/move"
	"movekit/internal/core/run"
	"movekit/internal/core/steps"
	"movekit/internal/desk"
	"movekit/test/fatal"
	"movekit/test/lay"
	"movekit/test/office"
)

// atDesk is an office with a packed app, and a desk that has its licence.
type atDesk struct {
	*office.Office
	store *desk.Store
	srv   *httptest.Server
}

func deskOffice(t *testing.T, l desk.Licence) *atDesk {
	t.Helper()
	s, err := desk.OpenStore(filepath.Join(t.TempDir(), "desk.db"))
	fatal.If(t, err)
	l.Serial, l.Code, l.Product = "TW8-QUAY-0001", "ebb-flow-42", "app"
	fatal.If(t, s.Add(t.Context(), []desk.Licence{l}))
	srv := httptest.NewServer(s.Handler(slog.New(slog.DiscardHandler)))
	t.Cleanup(func() { srv.Close(); s.Close() })
	o := office.New(t, fmt.Sprintf(`version: {file: /srv/version}
items: [{name: data, kind: file, path: /srv/data}]
licences:
  - name: seat
    method: desk
    product: app
    serial: {file: /srv/reg.ini, key: reg/serial}
    code: {file: /srv/reg.ini, key: reg/code}
    token: /srv/lic/app.token
    desk: {url: '%s', key: '%s'}
`, srv.URL, s.PublicKey()), "linux", map[string]string{
		"old/srv/data": "x", "old/srv/version": "8.1", "new/srv/version": "8.2",
		"old/srv/reg.ini": "[reg]\nserial=TW8-QUAY-0001\ncode=ebb-flow-42\n", "old/srv/lic/app.token": "the old token"})
	if _, p, err := s.Handle(t.Context(), licence.Activate, licence.Request{Serial: l.Serial, Code: l.Code, Product: l.Product, Computer: machine.ID(o.Old), Version: "8.1", Nonce: licence.Nonce()}, "the-first-activation"); p != nil || err != nil {
		t.Fatal(p, err)
	}
	o.Pack()
	return &atDesk{o, s, srv}
}

func (d *atDesk) known(j *move.Move) *steps.Licence {
	return j.State.Licences[steps.Key{App: "app", Item: "seat"}]
}

// TestNoToken moves a licence whose app keeps nothing of the desk's answers.
func TestNoToken(t *testing.T) {
	t.Parallel()
	d := deskOffice(t, desk.Licence{Covers: "8", Seats: 1, Transfers: 2})
	d.Kit.Cards[0].Licences[0].Token = card.Path{}
	now := time.Now()
	for _, step := range []func() *run.Outcome{
		func() *run.Outcome { return d.Change(d.Old, nil, now, (*move.Move).Deactivate) },
		d.Unpack,
		func() *run.Outcome { return d.Change(d.New, nil, now, (*move.Move).Activate) },
	} {
		if out := step(); out.Err != nil || len(out.Blocks) > 0 || len(out.Licences) > 0 && (out.Licences[0].Token != "" || out.Licences[0].Aside != "") {
			t.Errorf("%+v", out)
		}
	}
	if d.Text("old/srv/lic/app.token") != "the old token" || d.known(d.Job(d.New)).New != licence.Active {
		t.Errorf("%+v", d.known(d.Job(d.New)))
	}
}

// TestDesk deactivates and activates a licence at a desk, and checks the app's own copy on each
// computer.
func TestDesk(t *testing.T) {
	t.Parallel()
	d := deskOffice(t, desk.Licence{Covers: "8", Seats: 1, Transfers: 2})
	all, err := d.Job(d.Old).Licences().Statuses(ctx)
	if err != nil || all[0].Old != licence.Active || all[0].New != licence.NotActivated || all[0].Left != 2 || all[0].By != "the licence desk" || all[0].Next != steps.Deactivate {
		t.Errorf("%+v %v", all, err)
	}
	out := d.Change(d.Old, nil, time.Now(), (*move.Move).Deactivate)
	l := out.Licences[0]
	if out.Err != nil || l.Did != "deactivated" || !l.Good || l.Old != licence.Deactivated || l.New != licence.NotActivated || l.Serial != "••••0001" || d.Text("old/srv/lic/app.token") != "" || !strings.Contains(l.Aside, "app.token.set-aside-") {
		t.Fatalf("%v %+v", out.Err, l)
	}
	if out := d.Change(d.Old, nil, time.Now(), (*move.Move).Deactivate); out.Err != nil || out.Licences[0].Did != "already deactivated" || out.Licences[0].Aside != "" {
		t.Errorf("again: %v %+v", out.Err, out.Licences)
	}
	lay.Out(t, d.Dir, map[string]string{"new/srv/lic/app.token": "of a trial"})
	out = d.Change(d.New, nil, time.Now(), (*move.Move).Activate)
	l = out.Licences[0]
	token := d.Text("new/srv/lic/app.token")
	a, bad := licence.Verify(strings.TrimSpace(token), value.ParseKey(d.store.PublicKey()).PublicKey)
	if out.Err != nil || l.Did != "activated" || l.New != licence.Active || l.Transfers != 1 || l.Used != 1 || l.Disabled || l.Token == "" || !strings.Contains(l.Aside, "app.token.set-aside-") || bad != nil || a.Computer != machine.ID(d.New) {
		t.Fatalf("%v %+v: %s %v", out.Err, l, token, bad)
	}
	for name, c := range map[string]struct {
		token string
		kept  bool
	}{"as it is": {token, true}, "gone": {"", false}, "another's": {"x", false}} {
		path := filepath.Join(d.Dir, "new/srv/lic/app.token")
		if os.Remove(path); c.token != "" {
			lay.Out(t, d.Dir, map[string]string{"new/srv/lic/app.token": c.token})
		}
		all, err := d.Job(d.New).Licences().Statuses(ctx)
		if err != nil || (all[0].Copy == "") != c.kept || (all[0].Next == "") != c.kept || (all[0].Copy != "" && !strings.Contains(all[0].Copy, "/srv/lic/app.token, is ")) {
			t.Errorf("a token that is %s: %+v %v", name, all, err)
		}
		if seen := d.Change(d.New, nil, time.Now(), (*move.Move).Verify).Licences; len(seen) != 1 || seen[0].Good != c.kept {
			t.Errorf("a token that is %s is verified as %+v", name, seen)
		}
		out := d.Change(d.New, nil, time.Now(), (*move.Move).Activate)
		now := d.Text("new/srv/lic/app.token")
		if l := out.Licences[0]; out.Err != nil || l.Did != "already activated" || l.Token != path || (now == token) != c.kept || (l.Aside != "") != (c.token == "x") {
			t.Errorf("a token that is %s: %v %+v", name, out.Err, l)
		}
		if _, err := licence.Verify(strings.TrimSpace(now), value.ParseKey(d.store.PublicKey()).PublicKey); err != nil {
			t.Errorf("a token that is %s: %v", name, err)
		}
	}
	if st := d.known(d.Job(d.New)); st.Used != 1 || st.Left != 1 {
		t.Errorf("%+v", st)
	}
	for open, serial := range map[bool]string{false: "••••0001", true: "TW8-QUAY-0001"} {
		l, err := d.Job(d.New).Licences().Letters(ctx, open)
		if err != nil || l[0].Serial != serial || (l[0].Code == "ebb-flow-42") != open || l[0].Version != "8.1" || l[0].OldAt.IsZero() || l[0].NewAt.IsZero() || l[0].Used != 1 || l[0].Please != holder.PleaseCorrect {
			t.Errorf("%+v %v", l, err)
		}
	}
	d.srv.Close()
	j := d.Job(d.New).Licences()
	j.Pause = time.Millisecond
	if all, err := j.Statuses(ctx); err != nil || all[0].Why == "" || all[0].By != "the journal" || all[0].New != licence.Active {
		t.Errorf("the desk is down: %+v %v", all, err)
	}
}

// TestDeskWithTwoSeats deactivates a licence that is also active on a third computer, which may be
// the new one.
func TestDeskWithTwoSeats(t *testing.T) {
	t.Parallel()
	d := deskOffice(t, desk.Licence{Covers: "8", Seats: 2, Transfers: 2})
	if _, p, err := d.store.Handle(ctx, licence.Activate, licence.Request{Serial: "TW8-QUAY-0001", Code: "ebb-flow-42", Product: "app", Computer: "another", Version: "8.1", Nonce: licence.Nonce()}, "another-activation"); p != nil || err != nil {
		t.Fatal(p, err)
	}
	if out := d.Change(d.Old, nil, time.Now(), (*move.Move).Deactivate); out.Err != nil || out.Licences[0].New != licence.Unknown || out.Licences[0].Old != licence.Deactivated {
		t.Errorf("%v %+v", out.Err, out.Licences)
	}
}

// TestDeskByFile sends requests by file, and accepts each answer once.
func TestDeskByFile(t *testing.T) {
	t.Parallel()
	d := deskOffice(t, desk.Licence{Covers: "8", Seats: 1, Transfers: 2, Takeover: true})
	round := func(c machine.Computer, action licence.Action, takeover string) (*licence.AnswerFile, *move.Move) {
		t.Helper()
		j := d.Job(c)
		j.Exceptions.Takeover, j.Technician, j.Overrides = takeover, yes(), office.Alone()
		f, all, err := j.Request(ctx)
		if err != nil || len(f.Requests) != 1 || f.Requests[0].Action != action || f.Requests[0].App != "The App" || len(all[0].Blocks) > 0 {
			t.Fatalf("%+v %+v %v", f, all[0], err)
		}
		if strings.Contains(fmt.Sprintf("%+v", f), "ebb-flow-42") {
			t.Error("the request tells the code")
		}
		a, bad := licence.Exchange(ctx, f, func(t licence.FileRequest) (licence.Service, error) {
			return &licence.Desk{URL: t.Desk, Key: value.ParseKey(t.Key).PublicKey}, nil
		})
		if bad != nil {
			t.Fatal(bad)
		}
		return a, d.Job(c)
	}
	f, j := round(d.Old, licence.Deactivate, "")
	if st := d.known(j); st.Requested == nil || st.Old == licence.Deactivated {
		t.Errorf("%+v", st)
	}
	// Only the computer that made the request accepts the answer; elsewhere it stays unused.
	if out, err := d.Job(d.New).Accept(ctx, f); err == nil && (out[0].Err == nil || !strings.Contains(out[0].Err.Error(), "the request was made on "+d.Old.Name())) {
		t.Errorf("accepted on another computer: %+v", out[0])
	}
	j = d.Job(d.Old)
	out, err := j.Accept(ctx, f)
	if err != nil || out[0].Err != nil || out[0].Licences[0].Did != "deactivated" || d.known(j).Old != licence.Deactivated || d.Text("old/srv/lic/app.token") != "" {
		t.Fatalf("%+v %v", out[0], err)
	}
	if out, err := d.Job(d.Old).Accept(ctx, f); err == nil && out[0].Err == nil {
		t.Errorf("the same answer twice: %+v", out[0])
	}
	f, j = round(d.New, licence.Activate, "")
	out, err = j.Accept(ctx, f)
	if st := d.known(j); err != nil || out[0].Err != nil || st.New != licence.Active || st.Used != 1 || st.Answers[machine.ID(d.New)] != 1 || !strings.HasPrefix(d.Text("new/srv/lic/app.token"), "ey") {
		t.Fatalf("%+v %v", out[0], err)
	}
	// An answer that comes late, after the desk said otherwise, is not used.
	d = deskOffice(t, desk.Licence{Covers: "8", Seats: 1, Transfers: 2, Takeover: true})
	f, j = round(d.Old, licence.Deactivate, "")
	fatal.If(t, j.RecordLicence(journal.EventSeen, steps.Key{App: "app", Item: "seat"}, steps.Seen{Old: licence.Active, New: licence.NotActivated, Asked: true, Issued: time.Now().Add(time.Minute).Unix()}))
	if out, err := d.Job(d.Old).Accept(ctx, f); err == nil && (out[0].Err == nil || !strings.Contains(out[0].Err.Error(), "the licence is active here: it has changed since")) {
		t.Errorf("a late answer: %+v", out[0])
	}
	for later, old := range map[int64]licence.State{0: licence.Active, 9: licence.Deactivated} { // at the same time, or the same state later
		d = deskOffice(t, desk.Licence{Covers: "8", Seats: 1, Transfers: 2, Takeover: true})
		f, j = round(d.Old, licence.Deactivate, "")
		a, bad := licence.Verify(f.Answers[0], value.ParseKey(d.store.PublicKey()).PublicKey)
		if bad != nil {
			t.Fatal(bad)
		}
		fatal.If(t, j.RecordLicence(journal.EventSeen, steps.Key{App: "app", Item: "seat"}, steps.Seen{Old: old, New: licence.NotActivated, Asked: true, Issued: a.Issued + later}))
		if out, err := d.Job(d.Old).Accept(ctx, f); err != nil || out[0].Err != nil {
			t.Errorf("%s %d seconds later: %+v %v", old, later, out[0], err)
		}
	}
	d = deskOffice(t, desk.Licence{Covers: "8", Seats: 1, Transfers: 2, Takeover: true})
	f, j = round(d.New, licence.Activate, "it burnt")
	out, err = j.Accept(ctx, f)
	if st := d.known(j); err != nil || out[0].Err != nil || st.New != licence.Active || st.Old != licence.Deactivated || !out[0].Licences[0].Disabled || out[0].Licences[0].DisabledOn != d.Old.Name() {
		t.Errorf("taken over: %+v %v", out[0], err)
	}
	// On behalf of a lost computer.
	d = deskOffice(t, desk.Licence{Covers: "8", Seats: 1, Transfers: 2})
	j = d.Job(d.New)
	j.Exceptions.Lost, j.Technician = "it burnt", yes()
	deactivated, err := j.Deactivate(ctx)
	if err != nil || deactivated[0].Err != nil || len(deactivated[0].Licences) != 1 || deactivated[0].Licences[0].Old != licence.Deactivated || d.Text("old/srv/lic/app.token") == "" {
		t.Errorf("%+v %v", deactivated[0], err)
	}
	if out := d.Change(d.New, nil, time.Now(), (*move.Move).Deactivate); fault.KindOf(out.Err) == "" && office.Blocked(out) != "old-computer" {
		t.Errorf("%+v", out)
	}
}
