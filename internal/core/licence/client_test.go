package licence

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"reflect"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"movekit/internal/core/fault"
)

var (
	deskKey    = ed25519.NewKeyFromSeed(make([]byte, ed25519.SeedSize))
	deskPublic = deskKey.Public().(ed25519.PublicKey)
)

func asked() Request {
	return Request{Serial: "TW8-QUAY-0001", Code: "ebb-flow-42", Product: "tidewright", Computer: "old", Version: "8.4", Nonce: Nonce()}
}

// answering is a desk that signs every answer after changing it.
func answering(key ed25519.PrivateKey, change func(*Answer)) http.HandlerFunc {
	return func(w http.ResponseWriter, req *http.Request) {
		var r Request
		json.NewDecoder(req.Body).Decode(&r) //nolint:errcheck // one that cannot be read is answered wrongly
		action := map[string]Action{"/v1/status": Status, "/v1/activations": Activate, "/v1/deactivations": Deactivate}[req.URL.Path]
		a := Answer{Nonce: r.Nonce, Action: action, Licence: r.ID(), Product: r.Product, Computer: r.Computer, State: Active}
		if change != nil {
			change(&a)
		}
		text, _ := Sign(a, key)
		w.Header().Set("Content-Type", TypeAnswer+"; charset=us-ascii")
		io.WriteString(w, text+"\r\n")
	}
}

// TestAsked sends a request of the protocol, and parses the answer.
func TestAsked(t *testing.T) {
	var got *http.Request
	var sent Request
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		json.Unmarshal(body, &sent) //nolint:errcheck // it is looked at below
		got, r.Body = r, io.NopCloser(bytes.NewReader(body))
		answering(deskKey, nil)(w, r)
	}))
	defer srv.Close()
	for _, c := range []struct {
		action    Action
		key, path string
	}{{Status, "", "/desk/v1/status"}, {Activate, "once", "/desk/v1/activations"}, {Deactivate, "twice", "/desk/v1/deactivations"}} {
		mux := http.NewServeMux()
		mux.Handle("/desk/", http.StripPrefix("/desk", srv.Config.Handler))
		below := httptest.NewServer(mux)
		r := asked()
		a, err := (&Desk{URL: below.URL + "/desk/", Key: deskPublic}).Ask(t.Context(), c.action, r, c.key)
		below.Close()
		if err != nil || a.State != Active || a.Action != c.action || strings.Count(a.Signed, ".") != 2 {
			t.Fatalf("%s: %+v %v", c.action, a, err)
		}
		if again, err := Verify(a.Signed, deskPublic); err != nil || again.Nonce != r.Nonce {
			t.Errorf("what an app keeps: %+v %v", again, err)
		}
		if _, named := got.Header["Idempotency-Key"]; got.Method != "POST" || "/desk"+got.URL.Path != c.path || got.Header.Get("Content-Type") != "application/json" || got.Header.Get("Accept") != "application/jose, application/problem+json" || got.Header.Get("Idempotency-Key") != c.key || named != (c.key != "") || !reflect.DeepEqual(sent, r) {
			t.Errorf("%s: sent %s %s %v %+v", c.action, got.Method, got.URL, got.Header, sent)
		}
	}
}

// TestClientTrustsTheKeyAlone answers with everything that is not the desk's answer to this
// request.
func TestClientTrustsTheKeyAlone(t *testing.T) {
	good := httptest.NewServer(answering(deskKey, nil))
	defer good.Close()
	says := func(status int, typ, text string) http.HandlerFunc {
		return func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", typ)
			w.WriteHeader(status)
			io.WriteString(w, text)
		}
	}
	of := func(change func(*Answer)) http.HandlerFunc { return answering(deskKey, change) }
	older := func() string { // a whole answer of the desk's, to another request
		text, _ := Sign(Answer{Nonce: Nonce(), Action: Status, Licence: asked().ID(), Product: "tidewright", Computer: "old"}, deskKey)
		return text
	}()
	for name, c := range map[string]struct {
		handler http.HandlerFunc
		kind    fault.Kind
	}{
		"signed by another":   {answering(ed25519.NewKeyFromSeed(bytes.Repeat([]byte{7}, ed25519.SeedSize)), nil), fault.DeskSignature},
		"replayed":            {says(200, TypeAnswer, older), fault.DeskSignature},
		"another action":      {of(func(a *Answer) { a.Action = Activate }), fault.DeskSignature},
		"another licence":     {of(func(a *Answer) { a.Licence = LicenceID("HB-1") }), fault.DeskSignature},
		"another computer":    {of(func(a *Answer) { a.Computer = "new" }), fault.DeskSignature},
		"another product":     {of(func(a *Answer) { a.Product = "hoistbook" }), fault.DeskSignature},
		"a sign-in page":      {says(200, "text/html", "<html>Sign in to the guest network</html>"), fault.DeskNonsense},
		"nothing":             {func(http.ResponseWriter, *http.Request) {}, fault.DeskNonsense},
		"not with 200":        {says(201, TypeAnswer, older), fault.DeskNonsense},
		"not as an answer":    {says(200, "text/plain", older), fault.DeskNonsense},
		"just not too long":   {says(200, TypeAnswer, older+strings.Repeat(" ", maxAnswer-len(older))), fault.DeskSignature},
		"too long":            {says(200, TypeAnswer, older+strings.Repeat(" ", maxAnswer+1-len(older))), fault.DeskNonsense},
		"not a token":         {says(200, TypeAnswer, "eyJhbGciOiJub25lIn0.e30."), fault.DeskNonsense},
		"a refusal":           {says(409, TypeProblem, `{"title":"taken","type":"`+ProblemSeatTaken+`","status":200}`), fault.DeskRefused},
		"a refusal of 499":    {says(499, TypeProblem, `{"title":"taken"}`), fault.DeskRefused},
		"a failure":           {says(500, TypeProblem, `{"title":"failed"}`), fault.DeskDown},
		"a broken problem":    {says(500, TypeProblem, "{"), fault.DeskNonsense},
		"an untitled problem": {says(500, TypeProblem, "{}"), fault.DeskNonsense},
		"elsewhere": {func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, good.URL+r.URL.Path, http.StatusTemporaryRedirect)
		}, fault.DeskNonsense},
		"slow": {func(_ http.ResponseWriter, r *http.Request) {
			select {
			case <-r.Context().Done():
			case <-time.After(3 * time.Second):
			}
		}, fault.DeskDown},
		"broken off": {func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Length", "1000")
			w.Header().Set("Content-Type", TypeAnswer)
			io.WriteString(w, "half")
		}, fault.DeskDown},
	} {
		srv := httptest.NewServer(c.handler)
		client := &Desk{URL: srv.URL, Key: deskPublic, Timeout: 300 * time.Millisecond}
		a, err := client.Ask(t.Context(), Status, asked(), "")
		if fault.KindOf(err) != c.kind || a != nil && c.kind != fault.DeskSignature {
			t.Errorf("%s: %+v %v", name, a, err)
		}
		p := FindProblem(err, "")
		if refused := strings.HasPrefix(name, "a refusal") || name == "a failure"; (p != nil) != refused || refused && p.Status < 400 {
			t.Errorf("%s: the problem %+v", name, p)
		}
		if name == "slow" && !strings.HasSuffix(err.Error(), "did not answer within 300ms") {
			t.Error(err)
		}
		srv.Close()
	}
	_, err := (&Desk{URL: "http://127.0.0.1:1", Key: deskPublic}).Ask(t.Context(), Status, asked(), "")
	if fault.KindOf(err) != fault.DeskDown || strings.Contains(fmt.Sprint(err), "/v1/status") {
		t.Errorf("nobody there: %v", err)
	}
	if _, err := (&Desk{URL: "http://[::1", Key: deskPublic}).Ask(t.Context(), Status, asked(), ""); fault.KindOf(err) != fault.BadCard {
		t.Errorf("no address: %v", err)
	}
	if _, err := Verify("a.b.c", make(ed25519.PublicKey, 32)); fault.KindOf(err) != fault.DeskNonsense {
		t.Errorf("no token: %v", err)
	}
}

// TestPinnedCertificate accepts the certificate in the card and no other, whoever signed it.
func TestPinnedCertificate(t *testing.T) {
	srv := httptest.NewUnstartedServer(answering(deskKey, nil))
	srv.Config.ErrorLog = nil
	srv.StartTLS()
	defer srv.Close()
	pin := Pin(srv.Certificate())
	for _, c := range []struct {
		pin    string
		client *http.Client
		kind   fault.Kind
	}{{pin, nil, ""}, {strings.Repeat("A", len(pin)), nil, fault.DeskSignature}, {"", nil, fault.DeskDown}, {"", srv.Client(), ""}} {
		_, err := (&Desk{URL: srv.URL, Key: deskPublic, Pin: c.pin, Client: c.client}).Ask(t.Context(), Status, asked(), "")
		if c.kind == "" && err != nil || c.kind != "" && fault.KindOf(err) != c.kind {
			t.Errorf("pinned to %q: %v", c.pin, err)
		}
	}
}

// told is a service that gives one answer after another, and then repeats the last one.
type told struct {
	errs  []error
	state []State
	keys  []string
}

func (s *told) Ask(_ context.Context, action Action, r Request, key string) (*Answer, error) {
	n := len(s.keys)
	s.keys = append(s.keys, key)
	if err := s.errs[min(n, len(s.errs)-1)]; err != nil {
		return nil, err
	}
	a := &Answer{Action: action, Nonce: r.Nonce, Signed: r.Nonce}
	if s.state != nil {
		a.State = s.state[min(n, len(s.state)-1)]
	}
	return a, nil
}

// TestPatience asks again while a desk is down, with longer and longer pauses, and stops when it
// refused.
func TestPatience(t *testing.T) {
	down, no := fault.New(fault.DeskDown, "down"), fault.New(fault.DeskRefused, "no")
	for _, c := range []struct {
		tries  int
		pause  time.Duration
		errs   []error
		asked  int
		waited time.Duration
		kind   fault.Kind
	}{
		{0, 0, []error{down}, 4, (250 + 500 + 1000) * time.Millisecond, fault.DeskDown},
		{6, time.Second, []error{down}, 6, 31 * time.Second, fault.DeskDown},
		{1, time.Second, []error{down}, 1, 0, fault.DeskDown},
		{0, 0, []error{down, down, nil}, 3, 750 * time.Millisecond, ""},
		{0, 0, []error{no}, 1, 0, fault.DeskRefused},
		{0, 0, []error{down, no}, 2, 250 * time.Millisecond, fault.DeskRefused},
		{0, 0, []error{nil}, 1, 0, ""},
	} {
		synctest.Test(t, func(t *testing.T) {
			s := &told{errs: c.errs}
			begin := time.Now()
			a, err := Change{Service: s, Tries: c.tries, Pause: c.pause, Request: Request{Nonce: "old"}}.Look(t.Context())
			if len(s.keys) != c.asked || time.Since(begin) != c.waited || (a == nil) != (c.kind != "") || err != nil && fault.KindOf(err) != c.kind {
				t.Errorf("%+v: asked %d times in %s: %+v %v", c, len(s.keys), time.Since(begin), a, err)
			}
			if a != nil && (a.Nonce == "old" || len(a.Nonce) != 26) {
				t.Errorf("a request is sent with the nonce %q", a.Nonce)
			}
		})
	}
	synctest.Test(t, func(t *testing.T) {
		ctx, cancel := context.WithTimeout(t.Context(), 300*time.Millisecond)
		defer cancel()
		s := &told{errs: []error{down}}
		if _, err := (Change{Service: s}).Look(ctx); fault.KindOf(err) != fault.Stopped || len(s.keys) != 2 {
			t.Errorf("stopped: asked %d times, %v", len(s.keys), err)
		}
	})
}

// TestOneKeyAChange uses one key for all tries of a change, and another key for another change.
func TestOneKeyAChange(t *testing.T) {
	all := map[string]bool{}
	one := Change{Move: "m", Request: Request{Serial: "s", Computer: "old"}}
	changes := []Change{one, one, one, one, one, one, one}
	changes[1].Move, changes[2].Request.Serial, changes[3].Request.Computer, changes[4].Round, changes[5].Round = "m2", "s2", "new", 1, 2
	changes[6].Move, changes[6].Request.Computer = "mold", ""
	for _, c := range changes {
		for _, a := range []Action{Activate, Deactivate} {
			all[c.key(a)] = true
			again := c
			again.Tries, again.Request.Nonce = 9, Nonce()
			if len(c.key(a)) != 40 || again.key(a) != c.key(a) {
				t.Errorf("the key %q, then %q", c.key(a), again.key(a))
			}
		}
	}
	if len(all) != 2*len(changes) {
		t.Errorf("%d keys for %d changes", len(all), 2*len(changes))
	}
}

// failing is a journal that cannot be written from some line on.
type failing struct {
	kept
	from int
}

func (k *failing) Asked(a Action, key string) error { k.kept.Asked(a, key); return k.full() }
func (k *failing) Answered(a *Answer) error         { k.kept.Answered(a); return k.full() }
func (k *failing) full() error {
	if k.asked+k.answered > k.from {
		return fault.New(fault.NoSpace, "full")
	}
	return nil
}

// TestChange requests nothing that is done already, and nothing that is not recorded first. It
// reports failures of the journal and the service.
func TestChange(t *testing.T) {
	down, no := fault.New(fault.DeskDown, "down"), fault.New(fault.DeskRefused, "no")
	for name, c := range map[string]struct {
		service   told
		recorded  int    // that can be
		keys      string // which key came with each request; 0 for none
		asked     int
		answered  int
		kind      fault.Kind
		activates State
	}{
		"done before":              {told{state: []State{Active}, errs: []error{nil}}, 9, "0", 0, 1, "", Active},
		"done":                     {told{state: []State{NotActivated, Active}, errs: []error{nil}}, 9, "01", 1, 1, "", Active},
		"not done":                 {told{state: []State{NotActivated}, errs: []error{nil}}, 9, "012", 2, 2, fault.DeskNonsense, ""},
		"done the second time":     {told{state: []State{NotActivated, Expired, Active}, errs: []error{nil}}, 9, "012", 2, 2, "", Active},
		"nobody tells":             {told{errs: []error{no}}, 9, "0", 0, 0, fault.DeskRefused, ""},
		"refused":                  {told{state: []State{NotActivated}, errs: []error{nil, no}}, 9, "01", 1, 0, fault.DeskRefused, ""},
		"sent again":               {told{state: []State{NotActivated, "", "", Active}, errs: []error{nil, down, down, nil}}, 9, "0111", 1, 1, "", Active},
		"cannot be recorded":       {told{state: []State{NotActivated}, errs: []error{nil}}, 0, "0", 1, 0, fault.NoSpace, ""},
		"answer cannot be":         {told{state: []State{NotActivated, Active}, errs: []error{nil}}, 1, "01", 1, 1, fault.NoSpace, ""},
		"what is so cannot be":     {told{state: []State{Active}, errs: []error{nil}}, 0, "0", 0, 1, fault.NoSpace, Active},
		"not the second, recorded": {told{state: []State{NotActivated}, errs: []error{nil}}, 2, "01", 2, 1, fault.NoSpace, ""},
	} {
		k := &failing{from: c.recorded}
		a, err := Change{Service: &c.service, Record: k, Move: "m", Request: asked(), Pause: 1}.Do(t.Context(), Activate)
		if k.asked != c.asked || k.answered != c.answered || (err == nil) != (c.kind == "") || err != nil && fault.KindOf(err) != c.kind || (a == nil) != (c.activates == "") || a != nil && a.State != c.activates {
			t.Errorf("%s: %+v %+v %v", name, k, a, err)
		}
		keys, order := "", map[string]int{"": 0}
		for _, key := range c.service.keys {
			if _, met := order[key]; !met {
				order[key] = len(order)
			}
			keys += fmt.Sprint(order[key])
		}
		if keys != c.keys {
			t.Errorf("%s: the keys %q", name, c.service.keys)
		}
	}
}
