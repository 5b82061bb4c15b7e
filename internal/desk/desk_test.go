package desk

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers/gorillamux"

	"movekit/internal/core/card/value"
	"movekit/internal/core/fault"
	"movekit/internal/core/licence"
	"movekit/test/fatal"
)

var ctx = context.Background()

const (
	serial  = "TW8-QUAY-0001"
	code    = "ebb-flow-42"
	product = "tidewright"
	oldPC   = "old-computer"
	newPC   = "new-computer"
)

// opened is a running desk with one licence.
func opened(t *testing.T, l Licence) (*Store, *httptest.Server, *licence.Desk) {
	t.Helper()
	s, err := OpenStore(filepath.Join(t.TempDir(), "desk.db"))
	fatal.If(t, err)
	l.Serial, l.Code, l.Product = serial, code, product
	fatal.If(t, s.Add(ctx, []Licence{l}))
	srv := httptest.NewServer(s.Handler(slog.New(slog.DiscardHandler)))
	t.Cleanup(func() { srv.Close(); s.Close() })
	return s, srv, &licence.Desk{URL: srv.URL, Key: value.ParseKey(s.PublicKey()).PublicKey, Timeout: 2 * time.Second}
}

func request(computer string) licence.Request {
	return licence.Request{Serial: serial, Code: code, Product: product, Computer: computer, Version: "8.2", Nonce: licence.Nonce()}
}

func key(n int) string { return fmt.Sprintf("idempotency-key-%04d", n) }

func TestRules(t *testing.T) {
	_, _, d := opened(t, Licence{Covers: "8", Seats: 1, Transfers: 1})
	for i, s := range []struct {
		action   licence.Action
		computer string
		version  string
		problem  string
		state    licence.State
		left     int
		spent    int
	}{
		{licence.Status, oldPC, "", "", licence.NotActivated, 1, 0},
		{licence.Deactivate, oldPC, "", licence.ProblemNotActive, "", 0, 0},
		{licence.Activate, oldPC, "9.0", licence.ProblemNotCovered, "", 0, 0},
		{licence.Activate, oldPC, "8.2", "", licence.Active, 1, 0}, // the first is free
		{licence.Activate, oldPC, "8.2", "", licence.Active, 1, 0}, // again changes nothing
		{licence.Activate, newPC, "8.2", licence.ProblemSeatTaken, "", 0, 0},
		{licence.Deactivate, oldPC, "", "", licence.Deactivated, 1, 0},
		{licence.Deactivate, oldPC, "", "", licence.Deactivated, 1, 0},
		{licence.Activate, oldPC, "8.2", "", licence.Active, 1, 0}, // back home is free
		{licence.Deactivate, oldPC, "", "", licence.Deactivated, 1, 0},
		{licence.Activate, newPC, "8.4", "", licence.Active, 0, 1}, // the move
		{licence.Deactivate, newPC, "", "", licence.Deactivated, 0, 0},
		{licence.Activate, "third", "8.4", licence.ProblemNoTransfer, "", 0, 0},
	} {
		r := request(s.computer)
		r.Version = s.version
		a, err := d.Ask(ctx, s.action, r, key(i))
		switch {
		case s.problem != "":
			if licence.FindProblem(err, s.problem) == nil || fault.KindOf(err) != fault.DeskRefused {
				t.Errorf("step %d: %v, want %s", i, err, s.problem)
			}
		case err != nil:
			t.Errorf("step %d: %v", i, err)
		case a.State != s.state || a.Transfers != s.left || a.Used != s.spent:
			t.Errorf("step %d: %s, %d left, %d spent", i, a.State, a.Transfers, a.Used)
		}
	}
}

func TestRepeatedRequestsAreCarriedOutOnce(t *testing.T) {
	_, _, d := opened(t, Licence{Covers: "8", Seats: 1, Transfers: 2})
	d.Ask(ctx, licence.Activate, request(oldPC), key(1))
	d.Ask(ctx, licence.Deactivate, request(oldPC), key(2))
	for range 3 {
		a, err := d.Ask(ctx, licence.Activate, request(newPC), key(3))
		if err != nil || a.Used != 1 || a.Transfers != 1 {
			t.Errorf("%+v %v", a, err)
		}
	}
	if _, err := d.Ask(ctx, licence.Deactivate, request(newPC), key(3)); licence.FindProblem(err, licence.ProblemKeyReused) == nil {
		t.Errorf("a key used for another request: %v", err)
	}
	// A repeated request gets the current state.
	d.Ask(ctx, licence.Deactivate, request(newPC), key(4))
	if a, err := d.Ask(ctx, licence.Activate, request(newPC), key(3)); err != nil || a.State != licence.Deactivated || a.Used != 1 || len(a.Active) != 0 {
		t.Errorf("a replay: %+v %v", a, err)
	}
	// Many requests at once, each with its own key: one seat is activated once.
	_, _, d = opened(t, Licence{Covers: "8", Seats: 3, Transfers: 9})
	var mu sync.Mutex
	var all sync.WaitGroup
	granted := 0
	for i := range 40 {
		all.Go(func() {
			if _, err := d.Ask(ctx, licence.Activate, request(fmt.Sprintf("pc-%d", i)), key(i)); err == nil {
				mu.Lock()
				granted++
				mu.Unlock()
			}
		})
	}
	all.Wait()
	if granted != 3 {
		t.Errorf("%d of 3 seats were granted", granted)
	}
}

func TestUnknownSerialAndWrongCodeAreAnsweredAlike(t *testing.T) {
	_, srv, _ := opened(t, Licence{Covers: "8", Seats: 1})
	var bodies []string
	for _, change := range []func(*licence.Request){
		func(r *licence.Request) { r.Serial = "no such" }, func(r *licence.Request) { r.Code = "wrong" }, func(r *licence.Request) { r.Product = "other" },
	} {
		r := request(oldPC)
		change(&r)
		body, _ := json.Marshal(r)
		resp, err := http.Post(srv.URL+"/v1/status", licence.TypeJSON, bytes.NewReader(body))
		fatal.If(t, err)
		text, _ := io.ReadAll(resp.Body)
		resp.Body.Close()
		bodies = append(bodies, resp.Status+string(text))
	}
	if bodies[0] != bodies[1] || bodies[0] != bodies[2] || !strings.Contains(bodies[0], licence.ProblemUnknown) {
		t.Errorf("%q", bodies)
	}
}

// TestServerKeepsToItsDescription checks requests and answers against
// docs/licence-desk.openapi.yaml, and that every operation exists.
func TestServerKeepsToItsDescription(t *testing.T) {
	doc, err := openapi3.NewLoader().LoadFromFile("../../docs/licence-desk.openapi.yaml")
	fatal.If(t, err)
	fatal.If(t, doc.Validate(ctx))
	_, srv, d := opened(t, Licence{Covers: "8", Seats: 1, Transfers: 1})
	doc.Servers = openapi3.Servers{{URL: srv.URL}}
	router, err := gorillamux.NewRouter(doc)
	fatal.If(t, err)
	text := func(body io.Reader, _ http.Header, _ *openapi3.SchemaRef, _ openapi3filter.EncodingFn) (any, error) {
		b, err := io.ReadAll(body)
		return string(b), err
	}
	openapi3filter.RegisterBodyDecoder(licence.TypeAnswer, text)
	openapi3filter.RegisterBodyDecoder("text/html", text)
	good := func(computer string) string {
		b, _ := json.Marshal(request(computer))
		return string(b)
	}
	sealed := func(computer string, action licence.Action, key string) string {
		b, _ := json.Marshal(request(computer).Sealed(action, key))
		return string(b)
	}
	spoken := func(code string) string {
		r := request("000102030405060708090a0b0c0d0e0f")
		r.Code = code
		text, err := r.ForPhone(licence.Activate)
		fatal.If(t, err)
		return `{"request":"` + text + `"}`
	}
	met := map[string]bool{}
	for i, c := range []struct {
		method, path, body, key string
		status                  int
		badRequest              bool // the description refuses the request too
	}{
		{"GET", "/v1/desk", "", "", 200, false},
		{"GET", "/", "", "", 200, false},
		{"POST", "/v1/status", good(oldPC), "", 200, false},
		{"POST", "/v1/activations", good(oldPC), key(1), 200, false},
		{"POST", "/v1/activations", good(newPC), key(2), 409, false},
		{"POST", "/v1/activations", strings.Replace(good(newPC), "8.2", "9.1", 1), key(3), 403, false},
		{"POST", "/v1/activations", good(oldPC), "short", 400, true},
		{"POST", "/v1/activations", good(oldPC), "", 400, true},
		{"POST", "/v1/deactivations", good(newPC), key(4), 409, false},
		{"POST", "/v1/deactivations", good(oldPC), key(5), 200, false},
		{"POST", "/v1/deactivations", good(newPC), key(5), 422, false},
		{"POST", "/v1/status", strings.Replace(good(oldPC), code, "wrong", 1), "", 403, false},
		{"POST", "/v1/telephone", spoken(code), "", 200, false},
		{"POST", "/v1/telephone", spoken("wrong"), "", 403, false},
		{"POST", "/v1/telephone", `{"request":"00000"}`, "", 422, false},
		{"POST", "/v1/telephone", `{"request":`, "", 400, true},
		{"POST", "/v1/deactivations", good("000102030405060708090a0b0c0d0e0f"), key(10), 200, false},
		{"POST", "/v1/activations", sealed(newPC, licence.Activate, key(6)), key(6), 409, false}, // the transfer is spent
		{"POST", "/v1/activations", sealed(oldPC, licence.Activate, key(6)), key(6), 200, false},
		{"POST", "/v1/activations", sealed(newPC, licence.Activate, key(7)), key(8), 403, false}, // a proof for another key
		{"POST", "/v1/deactivations", sealed(newPC, licence.Activate, key(9)), key(9), 403, false},
		{"POST", "/v1/status", strings.Replace(sealed(newPC, licence.Status, ""), newPC, oldPC, 1), "", 403, false},
		{"POST", "/v1/status", strings.Replace(sealed(newPC, licence.Status, ""), "{", `{"serial":"x",`, 1), "", 400, true},
		{"POST", "/v1/status", `{"serial":"x"}`, "", 400, true},
		{"POST", "/v1/status", `{"serial":`, "", 400, true},
		{"POST", "/v1/status", strings.Replace(good(oldPC), "{", `{"more":1,`, 1), "", 400, true},
		{"POST", "/v1/status", strings.Replace(good(oldPC), `"nonce":"`, `"nonce":"!`, 1), "", 400, true},
		{"POST", "/v1/status", strings.Replace(good(oldPC), oldPC, strings.Repeat("x", 9000), 1), "", 413, false},
	} {
		req, _ := http.NewRequest(c.method, srv.URL+c.path, strings.NewReader(c.body))
		if c.body != "" {
			req.Header.Set("Content-Type", licence.TypeJSON)
		}
		if c.key != "" {
			req.Header.Set(licence.KeyHeader, c.key)
		}
		route, params, err := router.FindRoute(req)
		if err != nil {
			t.Fatalf("%s %s is not described: %v", c.method, c.path, err)
		}
		met[route.Operation.OperationID] = true
		in := &openapi3filter.RequestValidationInput{Request: req, PathParams: params, Route: route}
		if err := openapi3filter.ValidateRequest(ctx, in); (err != nil) != c.badRequest {
			t.Errorf("request %d: the description says %v", i, err)
		}
		req.Body = io.NopCloser(strings.NewReader(c.body))
		resp, err := http.DefaultClient.Do(req)
		fatal.If(t, err)
		body, _ := io.ReadAll(resp.Body)
		resp.Body.Close()
		if resp.StatusCode != c.status {
			t.Errorf("request %d: %s %s", i, resp.Status, body)
		}
		out := &openapi3filter.ResponseValidationInput{RequestValidationInput: in, Status: resp.StatusCode, Header: resp.Header}
		out.SetBodyBytes(body)
		if err := openapi3filter.ValidateResponse(ctx, out); err != nil {
			t.Errorf("request %d: the answer is not as described: %v\n%s", i, err, body)
		}
		if resp.Header.Get("Content-Type") == licence.TypeAnswer {
			a, err := licence.Verify(string(body), d.Key)
			fatal.If(t, err)
			raw, _ := json.Marshal(a)
			var v any
			json.Unmarshal(raw, &v)
			if err := doc.Components.Schemas["Answer"].Value.VisitJSON(v); err != nil {
				t.Errorf("request %d: the signed answer is not as described: %v", i, err)
			}
		}
	}
	for path, item := range doc.Paths.Map() {
		for method, op := range item.Operations() {
			if !met[op.OperationID] {
				t.Errorf("%s %s is described and was not tried", method, path)
			}
		}
	}
}

func TestStoreSurvivesAndRefuses(t *testing.T) {
	file := filepath.Join(t.TempDir(), "desk.db")
	s, err := OpenStore(file)
	fatal.If(t, err)
	was := s.PublicKey()
	l := Licence{Serial: serial, Code: code, Product: product, Seats: 1}
	fatal.If(t, s.Add(ctx, []Licence{l}))
	other := l
	other.Serial = "second"
	if err := s.Add(ctx, []Licence{other, l}); err == nil {
		t.Error("a serial was entered twice")
	}
	s.Close()
	s, err = OpenStore(file)
	fatal.If(t, err)
	defer s.Close()
	all, err := s.List(ctx)
	if err != nil || len(all) != 1 || s.PublicKey() != was {
		t.Errorf("after opening again: %v %v", all, err)
	}
	for _, bad := range []Licence{{}, {Serial: "x", Code: "y", Product: "z"}, {Serial: "x", Code: "y", Product: "z", Seats: 1, Transfers: -1}} {
		if err := s.Add(ctx, []Licence{bad}); fault.KindOf(err) != fault.Usage {
			t.Errorf("%+v: %v", bad, err)
		}
	}
	for _, addr := range []string{"0.0.0.0:0", "example.org:80", "nonsense"} {
		if err := s.Serve(ctx, addr, nil, slog.New(slog.DiscardHandler), func(string) {}); fault.KindOf(err) != fault.Usage {
			t.Errorf("listening on %s: %v", addr, err)
		}
	}
}

// TestManySeats queries a licence with more active computers than an answer can list.
func TestManySeats(t *testing.T) {
	many := Licence{Covers: "8", Seats: 5000, Transfers: 1}
	for i := range 3000 {
		many.Active = append(many.Active, fmt.Sprintf("computer-%032d", i))
	}
	s, srv, d := opened(t, many)
	more := make([]Licence, 250)
	for i := range more {
		more[i] = Licence{Serial: fmt.Sprintf("TW8-%04d", i), Code: code, Product: "winch", Covers: "1", Seats: 1}
	}
	fatal.If(t, s.Add(ctx, more))
	last := many.Active[2999]
	for computer, also := range map[string][]string{last: nil, newPC: {last, oldPC}} {
		r := request(computer)
		r.Also = also
		a, err := d.Ask(ctx, licence.Status, r, "")
		if err != nil || len(a.Active) != licence.MaxActive || a.Active[0] != last || a.Seated() != 3000 || slices.Contains(a.Active, oldPC) {
			t.Errorf("%s: %v %+v", computer, err, a)
		}
	}
	r := request(newPC)
	r.Also = make([]string, licence.MaxAlso+1)
	if a, err := d.Ask(ctx, licence.Status, r, ""); err == nil {
		t.Errorf("names too many: %+v", a)
	}
	for from, want := range map[string]int{"": 100, "?from=200": 51, "?from=-7": 100, "?from=9999": 0, "?from=x": 100} {
		resp, err := http.Get(srv.URL + "/" + from)
		fatal.If(t, err)
		b, _ := io.ReadAll(resp.Body)
		resp.Body.Close()
		p := string(b)
		if got := strings.Count(p, "<tr><td>"); got != want && want > 0 || len(p) > 64<<10 || strings.Contains(p, "More licences") != (want == 100) || from == "" && !strings.Contains(p, "and 2990 more") {
			t.Errorf("%s: %d licences, %d bytes", from, got, len(p))
		}
	}
}

// TestPage checks that the page shows the changes, and no secrets.
func TestPage(t *testing.T) {
	_, srv, d := opened(t, Licence{Covers: "8", Seats: 1, Transfers: 1})
	get := func() string {
		resp, err := http.Get(srv.URL + "/")
		fatal.If(t, err)
		defer resp.Body.Close()
		b, _ := io.ReadAll(resp.Body)
		return string(b)
	}
	if p := get(); !strings.Contains(p, "nobody") || !strings.Contains(p, "No changes yet") {
		t.Errorf("before: %s", p)
	}
	r := request("<script>alert(1)</script>")
	_, err := d.Ask(ctx, licence.Activate, r, key(1))
	fatal.If(t, err)
	p := get()
	if !strings.Contains(p, "&lt;script&gt;") || strings.Contains(p, "<script>") || !strings.Contains(p, "<td>activate<td>") {
		t.Errorf("after: %s", p)
	}
	if strings.Contains(p, serial) || strings.Contains(p, code) {
		t.Error("the page tells serial or code")
	}
}
