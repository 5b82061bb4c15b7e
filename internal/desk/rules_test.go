package desk

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"strings"
	"testing"
	"time"

	"movekit/internal/core/fault"
	"movekit/internal/core/licence"
	"movekit/test/fatal"
)

// TestTakeoverAndTime takes over a seat, with a clock that is set.
func TestTakeoverAndTime(t *testing.T) {
	s, _, d := opened(t, Licence{Covers: "8", Edition: "Harbour", Seats: 1, Transfers: 3, Takeover: true, Wait: "24h", Expires: "2100-01-31", Active: []string{oldPC}})
	ahead := func(by time.Duration) func() error { return func() error { return s.SetClock(ctx, by) } }
	now := func() error { return nil }
	century := time.Until(time.Date(2100, 2, 1, 0, 0, 0, 0, time.UTC))
	for i, c := range []struct {
		first    func() error
		action   licence.Action
		computer string
		from     string
		edition  string
		problem  string
		state    licence.State
		left     int
		disabled string
	}{
		{now, licence.Activate, newPC, "", "", licence.ProblemSeatTaken, "", 0, ""},
		{now, licence.Activate, newPC, "a stranger", "", licence.ProblemSeatTaken, "", 0, ""},
		{now, licence.Activate, newPC, oldPC, "Yard", licence.ProblemNotCovered, "", 0, ""},
		{now, licence.Activate, newPC, oldPC, "harbour", "", licence.Active, 2, oldPC},
		{now, licence.Status, oldPC, "", "", "", licence.Deactivated, 2, ""},
		{now, licence.Activate, newPC, oldPC, "", "", licence.Active, 2, ""}, // it has it already
		{now, licence.Activate, "third", newPC, "", licence.ProblemWaiting, "", 0, ""},
		{now, licence.Deactivate, newPC, "", "", "", licence.Deactivated, 2, ""},
		{now, licence.Activate, newPC, "", "", "", licence.Active, 2, ""}, // back home need not wait
		{ahead(23 * time.Hour), licence.Activate, "third", newPC, "", licence.ProblemWaiting, "", 0, ""},
		{ahead(25 * time.Hour), licence.Activate, "third", newPC, "", "", licence.Active, 1, newPC},
		{ahead(century - time.Hour), licence.Status, "third", "", "", "", licence.Active, 1, ""},
		{ahead(century + time.Hour), licence.Status, "third", "", "", "", licence.Expired, 1, ""},
		{now, licence.Activate, oldPC, "third", "", licence.ProblemExpired, "", 0, ""},
		{now, licence.Deactivate, "third", "", "", "", licence.Deactivated, 1, ""},
	} {
		fatal.If(t, c.first())
		r := request(c.computer)
		r.From, r.Edition = c.from, c.edition
		a, err := d.Ask(ctx, c.action, r, key(i))
		switch {
		case c.problem != "":
			if licence.FindProblem(err, c.problem) == nil {
				t.Errorf("step %d: %v, want %s", i, err, c.problem)
			}
		case err != nil || a.State != c.state || a.Transfers != c.left || a.Disabled != c.disabled:
			t.Errorf("step %d: %+v %v", i, a, err)
		}
	}
	// Without the rule, a takeover is refused.
	_, _, d = opened(t, Licence{Seats: 1, Transfers: 3, Active: []string{oldPC}})
	r := request(newPC)
	r.From = oldPC
	if _, err := d.Ask(ctx, licence.Activate, r, key(1)); licence.FindProblem(err, licence.ProblemNoTakeover) == nil {
		t.Errorf("%v", err)
	}
}

// TestGuessingCodes delays an address that sends wrong codes, and does not reveal whether the
// serial was right.
func TestGuessingCodes(t *testing.T) {
	_, _, d := opened(t, Licence{Seats: 1})
	for i := range wrongCodes + 3 {
		r := request(oldPC)
		if r.Code = "wrong"; i%2 == 0 {
			r.Serial = fmt.Sprint("guess", i)
		}
		want := licence.ProblemUnknown
		if i >= wrongCodes {
			want = licence.ProblemTooMany
		}
		if _, err := d.Ask(ctx, licence.Status, r, ""); licence.FindProblem(err, want) == nil {
			t.Errorf("guess %d: %v", i, err)
		}
	}
	if _, err := d.Ask(ctx, licence.Status, request(oldPC), ""); licence.FindProblem(err, licence.ProblemTooMany) == nil || !strings.Contains(err.Error(), "again in") {
		t.Errorf("the right code, from the address that guesses: %v", err)
	}
}

// TestGuessingSideBySide opens many connections, and then sends the guesses. No more are answered
// than one after the other.
func TestGuessingSideBySide(t *testing.T) {
	s, _, _ := opened(t, Licence{Seats: 1})
	host := strings.TrimPrefix(served(t, s, nil), "http://")
	r := request(oldPC)
	r.Code = "wrong"
	body, err := json.Marshal(r)
	fatal.If(t, err)
	var conns []net.Conn
	for range 60 {
		c, err := net.Dial("tcp", host)
		fatal.If(t, err)
		defer c.Close()
		fmt.Fprintf(c, "POST %s HTTP/1.1\r\nHost: %s\r\nContent-Type: application/json\r\nContent-Length: %d\r\nConnection: close\r\n\r\n", licence.Status.Path(), host, len(body))
		conns = append(conns, c)
	}
	time.Sleep(100 * time.Millisecond)
	for _, c := range conns {
		c.Write(body)
	}
	judged := 0
	for _, c := range conns {
		said, err := io.ReadAll(c)
		fatal.If(t, err)
		if strings.Contains(string(said), string(licence.ProblemUnknown)) {
			judged++
		}
	}
	if judged != wrongCodes {
		t.Errorf("%d guesses of 60 were judged, want %d", judged, wrongCodes)
	}
}

// TestOddRequests are refused with the right problem, and do not count as guesses.
func TestOddRequests(t *testing.T) {
	s, _, d := opened(t, Licence{Seats: 1})
	url := served(t, s, nil)
	body, _ := json.Marshal(request(oldPC))
	for name, c := range map[string]struct {
		method, path, typ, body string
		status                  int
	}{
		"a page of another site": {"POST", "/v1/telephone", "text/plain", "{}", 415}, "a form": {"POST", licence.Activate.Path(), "application/x-www-form-urlencoded", string(body), 415},
		"something behind it": {"POST", licence.Status.Path(), "application/json", string(body) + "{}", 400}, "too much": {"POST", "/v1/telephone", "application/json", `{"request": "` + strings.Repeat("x", maxRequest) + `"}`, 413},
		"read with GET": {"GET", "/v1/telephone", "", "", 405}, "written": {"DELETE", "/v1/desk", "", "", 405}, "posted": {"POST", "/", "", "", 405}, "nothing": {"GET", "/v2", "", "", 404},
	} {
		req, _ := http.NewRequest(c.method, url+c.path, strings.NewReader(c.body))
		req.Header.Set("Content-Type", c.typ)
		res, err := http.DefaultClient.Do(req)
		fatal.If(t, err)
		res.Body.Close()
		if res.StatusCode != c.status || c.status == 405 && res.Header.Get("Allow") == "" {
			t.Errorf("%s: %d, want %d", name, res.StatusCode, c.status)
		}
	}
	if _, err := d.Ask(ctx, licence.Status, request(oldPC), ""); err != nil {
		t.Error(err)
	}
}

// served runs a desk like the program, until the test ends.
func served(t *testing.T, s *Store, cert *tls.Certificate) string {
	t.Helper()
	url, ended := make(chan string, 1), make(chan error, 1)
	ctx, cancel := context.WithCancel(ctx)
	go func() {
		ended <- s.Serve(ctx, "127.0.0.1:0", cert, slog.New(slog.DiscardHandler), func(u string) { url <- u })
	}()
	t.Cleanup(func() {
		cancel()
		if err := <-ended; err != nil {
			t.Error(err)
		}
	})
	select {
	case u := <-url:
		return u
	case err := <-ended:
		t.Fatal(err)
	}
	return ""
}

// TestFaults applies each fault to every request, and all faults to some.
func TestFaults(t *testing.T) {
	s, _, d := opened(t, Licence{Covers: "8", Seats: 1, Transfers: 9})
	d.URL = served(t, s, nil)
	n := 0
	ask := func(f Faults, action licence.Action) error {
		t.Helper()
		fatal.If(t, s.SetFaults(ctx, f))
		n++
		_, err := d.Ask(ctx, action, request(oldPC), key(n))
		return err
	}
	active := func(want int) {
		t.Helper()
		all, err := s.List(ctx)
		if err != nil || len(all[0].Active) != want {
			t.Errorf("active on %v (%v), want %d", all[0].Active, err, want)
		}
	}
	if err := ask(Faults{LostRequests: 100}, licence.Activate); fault.KindOf(err) != fault.DeskDown {
		t.Errorf("lost request: %v", err)
	}
	active(0)
	if err := ask(Faults{Errors: 100}, licence.Activate); fault.KindOf(err) != fault.DeskDown {
		t.Errorf("error: %v", err)
	}
	active(0)
	if err := ask(Faults{LostAnswers: 100}, licence.Activate); fault.KindOf(err) != fault.DeskDown {
		t.Errorf("lost answer: %v", err)
	}
	active(1)
	if err := ask(Faults{WrongSignature: 100}, licence.Status); fault.KindOf(err) != fault.DeskSignature {
		t.Errorf("wrong signature: %v", err)
	}
	if err := ask(Faults{Restarts: 100}, licence.Deactivate); fault.KindOf(err) != fault.DeskDown {
		t.Errorf("restart: %v", err)
	}
	fatal.If(t, s.SetFaults(ctx, Faults{Delay: 150 * time.Millisecond}))
	begin := time.Now() // it may still be starting: patiently
	if _, err := (licence.Change{Service: d, Request: request(oldPC)}).Look(ctx); err != nil || time.Since(begin) < 150*time.Millisecond {
		t.Errorf("delay: %v", err)
	}
	active(0) // what was carried out before the restart stands after it
	if err := s.SetFaults(ctx, Faults{LostAnswers: 101}); fault.KindOf(err) != fault.Usage {
		t.Errorf("101%%: %v", err)
	}
	// A client that retries gets through all of them.
	fatal.If(t, s.SetFaults(ctx, Faults{LostRequests: 20, LostAnswers: 20, Errors: 20, Restarts: 20}))
	change := licence.Change{Service: d, Record: forgetful{}, Move: "m", Request: request(oldPC), Tries: 200, Pause: 1}
	if _, err := change.Do(ctx, licence.Activate); err != nil {
		t.Error(err)
	}
	active(1)
}

// forgetful stores nothing.
type forgetful struct{}

func (forgetful) Asked(licence.Action, string) error { return nil }
func (forgetful) Answered(*licence.Answer) error     { return nil }

// TestTLS pins the desk's own certificate, which stays the same after a restart.
func TestTLS(t *testing.T) {
	s, _, d := opened(t, Licence{Seats: 1})
	cert, err := s.Certificate(ctx)
	fatal.If(t, err)
	again, err := s.Certificate(ctx)
	fatal.If(t, err)
	d.URL = served(t, s, cert)
	if d.Pin, err = Pin(again); err != nil || !strings.HasPrefix(d.URL, "https://") {
		t.Fatalf("%s %v", d.URL, err)
	}
	if _, err := d.Ask(ctx, licence.Status, request(oldPC), ""); err != nil {
		t.Errorf("its own certificate: %v", err)
	}
	d.Pin = strings.Repeat("A", 43)
	if _, err := d.Ask(ctx, licence.Status, request(oldPC), ""); fault.KindOf(err) != fault.DeskSignature {
		t.Errorf("another certificate: %v", err)
	}
	d.Pin = ""
	if _, err := d.Ask(ctx, licence.Status, request(oldPC), ""); fault.KindOf(err) != fault.DeskDown {
		t.Errorf("a certificate nobody signed: %v", err)
	}
}

// TestTelephoneAtTheDesk carries out a request once, even if it is read out again.
func TestTelephoneAtTheDesk(t *testing.T) {
	const here = "00112233445566778899aabbccddeeff"
	s, _, d := opened(t, Licence{Covers: "8", Seats: 1, Transfers: 2, Active: []string{oldPC}})
	r := request(here)
	text, err := r.ForPhone(licence.Activate)
	fatal.If(t, err)
	if _, p, err := s.Telephone(ctx, text); err != nil || p == nil || p.Type != licence.ProblemSeatTaken {
		t.Errorf("the seat is taken: %v %v", p, err)
	}
	_, err = d.Ask(ctx, licence.Deactivate, request(oldPC), key(1))
	fatal.If(t, err)
	answers := map[string]bool{}
	for range 3 {
		said, p, err := s.Telephone(ctx, strings.ToLower(text))
		if err != nil || p != nil {
			t.Fatal(p, err)
		}
		answers[said] = true
		if a, err := r.ReadPhoneAnswer(licence.Activate, said); err != nil || a.Transfers != 1 || a.Used != 1 {
			t.Errorf("%+v %v", a, err)
		}
	}
	if a, err := d.Ask(ctx, licence.Status, request(here), ""); err != nil || len(answers) != 1 || a.State != licence.Active || a.Transfers != 1 {
		t.Errorf("%d answers, and at the desk %+v %v", len(answers), a, err)
	}
	if _, p, _ := s.Telephone(ctx, strings.Replace(text, text[:1], "Z", 1)); p == nil || p.Type != licence.ProblemMistyped || !strings.Contains(p.Detail, "group 1 ") {
		t.Errorf("mistyped: %v", p)
	}
}

// TestPageTellsRules shows rules, takeovers and faults.
func TestPageTellsRules(t *testing.T) {
	s, srv, d := opened(t, Licence{Covers: "8", Seats: 1, Transfers: 2, Takeover: true, Wait: "24h", Expires: "2100-01-31", Active: []string{oldPC}})
	fatal.If(t, s.SetFaults(ctx, Faults{Errors: 1}))
	r := request(newPC)
	r.From = oldPC
	_, err := d.Ask(ctx, licence.Activate, r, key(1))
	fatal.If(t, err)
	resp, err := http.Get(srv.URL)
	fatal.If(t, err)
	defer resp.Body.Close()
	b, _ := io.ReadAll(resp.Body)
	for _, want := range []string{"may be taken over", "can move once every 24h", "again from", "until 2100-01-31", "taken over from:<br><code>old-computer", "Simulated faults are on"} {
		if !strings.Contains(string(b), want) {
			t.Errorf("the page does not say %q:\n%s", want, b)
		}
	}
}
