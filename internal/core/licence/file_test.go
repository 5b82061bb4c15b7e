package licence

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"movekit/internal/core/card/value"
	"movekit/internal/core/fault"
)

// TestFiles accepts the right kind of file, up to the size limit.
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

// TestExchange returns the answers that arrived, and names the unanswered requests.
func TestExchange(t *testing.T) {
	good, bad := &told{errs: []error{nil}}, &told{errs: []error{fault.New(fault.DeskRefused, "no")}}
	f := &RequestFile{Kit: "k"}
	for i, desk := range []string{"good", "bad", "none", "good"} {
		f.Requests = append(f.Requests, FileRequest{App: "Tidewright", Licence: fmt.Sprint("seat-", i), Desk: desk, Once: fmt.Sprint("key-", i), Action: Deactivate, Request: Request{Nonce: fmt.Sprint("nonce-", i)}})
	}
	out, failed := Exchange(t.Context(), f, func(r FileRequest) (Service, error) {
		s := map[string]Service{"good": good, "bad": bad}[r.Desk]
		if s == nil {
			return nil, fault.New(fault.NotAgreed, "not agreed")
		}
		return s, nil
	})
	if out.Format != 1 || out.Kit != "k" || fmt.Sprint(out.Answers) != "[nonce-0 nonce-3]" || fmt.Sprint(good.keys, bad.keys) != "[key-0 key-3] [key-1]" {
		t.Errorf("%+v, asked for %q and %q", out, good.keys, bad.keys)
	}
	if len(failed) != 2 || fault.KindOf(failed[0]) != fault.DeskRefused || fault.KindOf(failed[1]) != fault.NotAgreed || failed[0].Error() != "Tidewright, licence seat-1: no answer: no" {
		t.Errorf("failed: %q", failed)
	}
}

// TestProofs proves every field of a request in a file, and reveals no secret.
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

// TestShown shows at most the last four characters of a secret, and nothing of a short one.
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

// FuzzAnswers reads forged requests and answers. None causes a panic, and unsigned content is never
// accepted.
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

// again is a service that carried out a request which somebody undid since. An old key gets the
// current state; a new key is carried out.
type again struct {
	state State
	done  map[string]bool
	deaf  bool // nothing is carried out
}

func (s *again) Ask(_ context.Context, action Action, r Request, key string) (*Answer, error) {
	if action != Status && !s.done[key] && !s.deaf {
		s.state, s.done[key] = Deactivated, true
	}
	return &Answer{Action: action, State: s.state}, nil
}

// kept is the recorded line.
type kept struct{ asked, answered int }

func (k *kept) Asked(Action, string) error { k.asked++; return nil }
func (k *kept) Answered(*Answer) error     { k.answered++; return nil }

// TestStaleAnswer deactivates a licence that the same request deactivated once and
// somebody activated again. Only a deactivated licence is reported as such.
func TestStaleAnswer(t *testing.T) {
	s := &again{state: Active, done: map[string]bool{}}
	c := Change{Service: s, Move: "m", Record: &kept{}, Request: Request{Serial: "s", Computer: "old"}}
	s.done[c.key(Deactivate)] = true
	k := &kept{}
	c.Record = k
	if a, err := c.Do(t.Context(), Deactivate); err != nil || a.State != Deactivated || k.asked != 2 || k.answered != 2 {
		t.Errorf("%+v %v %+v", a, err, k)
	}
	s.state, s.deaf = Active, true
	if a, err := c.Do(t.Context(), Deactivate); a != nil || fault.KindOf(err) != fault.DeskNonsense {
		t.Errorf("still active: %+v %v", a, err)
	}
}

// TestSerials checks published examples, and detects every single wrong character.
func TestSerials(t *testing.T) {
	for _, c := range []struct {
		form SerialForm
		good string
	}{
		{SerialForm{Check: "luhn"}, "4992-7398-716"},           // the usual example of ISO/IEC 7812-1
		{SerialForm{Check: "mod-11-10"}, "07945"},              // ISO 7064, MOD 11,10: 0794, check digit 5
		{SerialForm{Check: "mod-37-36"}, "A12425GABC1234002M"}, // ISO 7064, MOD 37,36
		{SerialForm{Check: "mod-97-10"}, "79444"},              // ISO 7064, MOD 97-10: 794, check 44
		{SerialForm{Check: "mod-37-36", Parts: true, Form: value.WholePatternOf("[0-9A-Z]{18}-[0-9A-Z]{18}")}, "A12425GABC1234002M-A12425GABC1234002M"},
	} {
		if wrong := c.form.Problem(strings.ToLower(c.good)); wrong != "" {
			t.Errorf("%+v: %s: %s", c.form, c.good, wrong)
		}
		for i := range c.good {
			for _, other := range "0123456789" {
				if c.good[i] == '-' || c.good[i] == byte(other) {
					continue
				}
				bad := c.good[:i] + string(other) + c.good[i+1:]
				wrong := c.form.Problem(bad)
				part := map[bool]string{true: "part 1", false: "part 2"}[i < len(c.good)/2]
				if wrong == "" || c.form.Parts && !strings.HasPrefix(wrong, part) {
					t.Errorf("%+v: %s is taken for %s: %q", c.form, bad, c.good, wrong)
				}
			}
		}
	}
	for _, c := range []struct {
		form   SerialForm
		serial string
		says   string
	}{
		{SerialForm{Form: value.WholePatternOf("[A-Z]{2}[0-9]-[A-Z]+-[0-9]{4}")}, "tw8-quay-0001", ""},
		{SerialForm{Form: value.WholePatternOf("[A-Z]{2}[0-9]-[A-Z]+-[0-9]{4}")}, "TW8-QUAY-00O1", "does not match"},
		{SerialForm{Form: value.WholePatternOf("TW|HB")}, "TWX", "does not match"},
		{SerialForm{Check: "luhn"}, "12A4", "check digits"},
		{SerialForm{Check: "luhn"}, "", "check digits"},
		{SerialForm{Check: "luhn"}, "0", "check digits"},
		{SerialForm{Check: "luhn"}, "18", ""},
		{SerialForm{Check: "mod-37-36"}, "1@", "check digits"},
		{SerialForm{Check: "mod-37-36"}, "1[", "check digits"},
		{SerialForm{Check: "mod-97-10"}, "é1", "check digits"},
		{SerialForm{}, "anything", ""},
	} {
		if got := c.form.Problem(c.serial); !strings.Contains(got, c.says) || c.says == "" && got != "" {
			t.Errorf("%+v %q: %q", c.form, c.serial, got)
		}
	}
}

func telephoned() Request {
	return Request{Serial: "TW8-QUAY-0001", Code: "ebb-flow-42", Product: "tidewright", Version: "8.4", Computer: "00f1e2d3c4b5a6978869504132231405", Nonce: Nonce()}
}

func TestTelephone(t *testing.T) {
	for _, action := range []Action{Activate, Deactivate} {
		r := telephoned()
		text, err := r.ForPhone(action)
		if err != nil || len(text) != 12*6-1 {
			t.Fatalf("%q %v", text, err)
		}
		// Typed with spaces, in lower case, and with similar characters.
		s, err := ParsePhoneRequest(strings.ToLower(strings.ReplaceAll(text, "-", " ")))
		if err != nil || s.String() != text || s.Action != action || s.Computer != r.Computer || s.Major != 8 || !strings.HasPrefix(LicenceID(r.Serial), s.Licence) {
			t.Fatalf("%+v %v", s, err)
		}
		if !s.VerifiedBy(r.Code) || s.VerifiedBy("another") {
			t.Error("the proof is not one of the code")
		}
		state := map[Action]State{Activate: Active, Deactivate: Deactivated}[action]
		said := s.Answer(r.Code, &Answer{State: state, Transfers: 300, Used: 1})
		a, err := r.ReadPhoneAnswer(action, said)
		if err != nil || a.State != state || a.Transfers != manyTransfers || a.Used != 1 || a.Licence != r.ID() {
			t.Errorf("%q: %+v %v", said, a, err)
		}
		later := r
		later.Nonce = Nonce()
		if _, err := later.ReadPhoneAnswer(action, said); fault.KindOf(err) != fault.DeskSignature {
			t.Errorf("the answer to an older request: %v", err)
		}
		if is := state == Active; len(a.Active) == 1 != is || is && a.Active[0] != r.Computer {
			t.Errorf("active on %q", a.Active)
		}
		if _, err := r.ReadPhoneAnswer(action, strings.Repeat("0", 15)); fault.KindOf(err) != fault.Usage {
			t.Errorf("no answer: %v", err)
		}
		if a, err := r.ReadPhoneAnswer(action, s.Answer(r.Code, &Answer{State: NotActivated})); err != nil || action == Activate && fault.KindOf(a.Reached(action)) != fault.DeskNonsense {
			t.Errorf("not done: %v", err)
		}
	}
	for text, major := range map[string]int{"": 0, "none": 0, "126.9": 126, "127": 127, "2024.1": 127} {
		r := telephoned()
		r.Version = text
		if s, err := r.phoneRequest(Activate); err != nil || s.Major != major {
			t.Errorf("version %q: %+v %v", text, s, err)
		}
	}
	for _, computer := range []string{"", "OLD", strings.Repeat("0", 30), strings.Repeat("g", 32), strings.Repeat("0", 34)} {
		r := telephoned()
		r.Computer = computer
		if _, err := r.ForPhone(Activate); fault.KindOf(err) != fault.Usage {
			t.Errorf("computer %q: %v", computer, err)
		}
	}
	r := telephoned()
	r.From = "other"
	if _, err := r.ForPhone(Activate); fault.KindOf(err) != fault.Usage {
		t.Errorf("a takeover: %v", err)
	}
}

// TestTypingErrors makes every single error, and swaps neighbours and groups. Each is detected, and
// its group is named.
func TestTypingErrors(t *testing.T) {
	text, err := telephoned().ForPhone(Activate)
	if err != nil {
		t.Fatal(err)
	}
	caught := func(typed, group, what string) {
		t.Helper()
		_, err := ParsePhoneRequest(typed)
		if fault.KindOf(err) != fault.Usage || !strings.Contains(err.Error(), group) {
			t.Errorf("%s: %q is taken for %q: %v", what, typed, text, err)
		}
	}
	for i := range len(text) {
		if text[i] == '-' {
			continue
		}
		group := "group " + string("123456789"[min(i/6, 8)])
		if i/6 >= 9 {
			group = "group 1" + string("012"[i/6-9])
		}
		for _, c := range spokenAlphabet + "U*" {
			if byte(c) != text[i] {
				caught(text[:i]+string(c)+text[i+1:], group, "one character")
			}
		}
		if i%6 < 4 && text[i] != text[i+1] {
			caught(text[:i]+text[i+1:i+2]+text[i:i+1]+text[i+2:], group, "neighbours")
		}
	}
	groups := strings.Split(text, "-")
	for a := range groups {
		for b := range a {
			other := append([]string{}, groups...)
			other[a], other[b] = other[b], other[a]
			if groups[a] != groups[b] {
				caught(strings.Join(other, "-"), "group", "groups")
			}
		}
	}
	for _, short := range []string{"", text[:20], text + "0", "é" + text[1:]} {
		if _, err := ParsePhoneRequest(short); fault.KindOf(err) != fault.Usage {
			t.Errorf("%q: %v", short, err)
		}
	}
}

func FuzzTelephone(f *testing.F) {
	text, _ := telephoned().ForPhone(Deactivate)
	f.Add(text)
	f.Add(strings.Repeat("0", 60))
	f.Fuzz(func(t *testing.T, typed string) {
		s, err := ParsePhoneRequest(typed)
		if err == nil {
			if again, err := ParsePhoneRequest(s.String()); err != nil || *again != *s {
				t.Errorf("%q is read as %+v, and %q as %+v", typed, s, s.String(), again)
			}
		}
	})
}
