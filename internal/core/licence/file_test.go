package licence

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"movekit/internal/core/fault"
)

// TestFiles reads files of the one sort, and not of the other, and of a bounded size.
func TestFiles(t *testing.T) {
	requests := `{"movekit_licence_request":1,"kit":"k","requests":[]}`
	answers := `{"movekit_licence_answer":1,"kit":"k","answers":["a"]}`
	pad := func(n int) string { return answers + strings.Repeat(" ", n-len(answers)) }
	for text, want := range map[string]string{
		requests: "requests", answers: "answers", pad(maxFile): "answers", pad(maxFile + 1): "", "": "", "{}": "", "{": "", strings.Replace(answers, "1", "2", 1): "", strings.Replace(requests, "1", "0", 1): "",
		answers[:len(answers)-1] + `,"more":1}`: "answers", answers + "x": "",
	} {
		r, err := ReadFile[RequestFile]([]byte(text))
		if (err == nil) != (want == "requests") || (r != nil) != (want == "requests") || err != nil && (fault.KindOf(err) != fault.Usage || !strings.HasSuffix(err.Error(), "requests")) {
			t.Errorf("%.60q as requests: %+v %v", text, r, err)
		}
		a, err := ReadFile[AnswerFile]([]byte(text))
		if (err == nil) != (want == "answers") || (a != nil) != (want == "answers") || err != nil && !strings.HasSuffix(err.Error(), "answers") {
			t.Errorf("%.60q as answers: %+v %v", text, a, err)
		}
	}
}

// TestExchange brings the answers that came, and names the requests that got none.
func TestExchange(t *testing.T) {
	good, bad := &told{errs: []error{nil}}, &told{errs: []error{fault.New(fault.DeskRefused, "no")}}
	f := &RequestFile{Kit: "k"}
	for i, desk := range []string{"good", "bad", "none", "good"} {
		f.Requests = append(f.Requests, Travelling{App: "Tidewright", Licence: fmt.Sprint("seat-", i), Desk: desk, Once: fmt.Sprint("key-", i), Action: Deactivate, Request: Request{Nonce: fmt.Sprint("nonce-", i)}})
	}
	out, failed := Exchange(t.Context(), f, func(r Travelling) (Service, error) {
		s := map[string]Service{"good": good, "bad": bad}[r.Desk]
		if s == nil {
			return nil, fault.New(fault.NotAgreed, "not agreed")
		}
		return s, nil
	})
	if out.Format != 1 || out.Kit != "k" || fmt.Sprint(out.Answers) != "[nonce-0 nonce-3]" || fmt.Sprint(good.keys, bad.keys) != "[key-0 key-3] [key-1]" {
		t.Errorf("%+v, asked for %q and %q", out, good.keys, bad.keys)
	}
	if len(failed) != 2 || fault.KindOf(failed[0]) != fault.DeskRefused || fault.KindOf(failed[1]) != fault.NotAgreed || failed[0].Error() != "Tidewright, licence seat-1: not exchanged: no" {
		t.Errorf("failed: %q", failed)
	}
}

// TestProofs proves with every field of a request that travels, and tells none of its secrets.
func TestProofs(t *testing.T) {
	r := asked()
	r.Edition, r.From, r.Also = "Harbour", "older", []string{"a", "b"}
	sealed := r.Sealed(Activate, "once")
	if sealed.Serial != "" || sealed.Code != "" || sealed.Licence != LicenceID(r.Serial) || sealed.Proof != r.Prove(r.Code, Activate, "once") || sealed.Proof != sealed.Prove(r.Code, Activate, "once") {
		t.Errorf("sealed: %+v", sealed)
	}
	proofs := map[string]bool{r.Prove(r.Code, Activate, "once"): true, r.Prove("x", Activate, "once"): true, r.Prove(r.Code, Deactivate, "once"): true, r.Prove(r.Code, Activate, "twice"): true}
	changes := []func(*Request){
		func(r *Request) { r.Serial += "1" }, func(r *Request) { r.Product += "1" }, func(r *Request) { r.Computer += "1" }, func(r *Request) { r.Version += "1" }, func(r *Request) { r.Edition += "1" },
		func(r *Request) { r.From += "1" }, func(r *Request) { r.Also = r.Also[:1] }, func(r *Request) { r.Nonce += "1" }, func(r *Request) { r.Version, r.Edition = "8.4Harbour", "" },
	}
	for _, change := range changes {
		other := r
		change(&other)
		proofs[other.Prove(r.Code, Activate, "once")] = true
	}
	if len(proofs) != 4+len(changes) {
		t.Errorf("%d proofs for %d requests", len(proofs), 4+len(changes))
	}
}

// TestShown tells no more of a secret than its last four characters, and no whole short one.
func TestShown(t *testing.T) {
	for secret, want := range map[string]string{"": "••••", "abcd": "••••", "abcde": "••••bcde", "ÄÖÜßé": "••••ÖÜßé", "TW8-QUAY-0001": "••••0001"} {
		if got := Mask(secret); got != want {
			t.Errorf("%q is shown as %q", secret, got)
		}
	}
	for p, want := range map[Problem]string{{Title: "taken"}: "taken", {Title: "taken", Detail: "on OLD"}: "taken: on OLD"} {
		if p.Error() != want {
			t.Errorf("%+v is told as %q", p, p.Error())
		}
	}
	if s := (Secrets{Serial: "TW8-QUAY-0001", Code: "ebb", Passphrase: "flow"}); s.String() != "serial ••••0001" {
		t.Errorf("secrets are shown as %q", s)
	}
	if !When(0).IsZero() || When(86400).UTC().Format("2006-01-02") != "1970-01-02" {
		t.Errorf("times: %s %s", When(0), When(86400))
	}
	if a := (&Answer{Taken: 1, Active: []string{"a", "b"}}); a.Seated() != 2 || (&Answer{Taken: 3}).Seated() != 3 {
		t.Errorf("active on %d", a.Seated())
	}
}

// FuzzAnswers reads files of requests and of answers, and a desk's answer, that somebody
// made: nothing of them may bring the program down, and nothing counts that is not signed.
func FuzzAnswers(f *testing.F) {
	signed, err := Sign(Answer{Action: Status, State: Active}, deskKey)
	if err != nil {
		f.Fatal(err)
	}
	file, _ := json.Marshal(AnswerFile{Format: 1, Answers: []string{signed}})
	f.Add(file)
	f.Add([]byte(signed))
	f.Add([]byte(`{"format":1,"requests":[{"spoken":"A","request":{}}]}`))
	f.Fuzz(func(t *testing.T, data []byte) {
		ReadFile[RequestFile](data) //nolint:errcheck // only that it comes back
		if answers, err := ReadFile[AnswerFile](data); err == nil {
			for _, a := range answers.Answers {
				Verify(a, deskPublic) //nolint:errcheck // as above
			}
		}
		if a, err := Verify(string(data), deskPublic); err == nil && a.State != Active {
			t.Errorf("%q is taken for signed", data)
		}
	})
}
