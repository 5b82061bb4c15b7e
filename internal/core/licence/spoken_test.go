package licence

import (
	"strings"
	"testing"

	"movekit/internal/core/fault"
)

func telephoned() Request {
	return Request{Serial: "TW8-QUAY-0001", Code: "ebb-flow-42", Product: "tidewright", Version: "8.4", Computer: "00f1e2d3c4b5a6978869504132231405", Nonce: Nonce()}
}

func TestTelephone(t *testing.T) {
	for _, action := range []Action{Activate, Deactivate} {
		r := telephoned()
		text, err := r.Speak(action)
		if err != nil || len(text) != 12*6-1 {
			t.Fatalf("%q %v", text, err)
		}
		// Typed as people type.
		s, err := ReadSpoken(strings.ToLower(strings.ReplaceAll(text, "-", " ")))
		if err != nil || s.String() != text || s.Action != action || s.Computer != r.Computer || s.Major != 8 || !strings.HasPrefix(LicenceID(r.Serial), s.Licence) {
			t.Fatalf("%+v %v", s, err)
		}
		if !s.Proven(r.Code) || s.Proven("another") {
			t.Error("the proof is not one of the code")
		}
		state := map[Action]State{Activate: Active, Deactivate: Deactivated}[action]
		said := s.Answer(r.Code, &Answer{State: state, Transfers: 300, Spent: 1})
		a, err := r.Hear(action, said)
		if err != nil || a.State != state || a.Transfers != manyTransfers || a.Spent != 1 || a.Licence != r.ID() {
			t.Errorf("%q: %+v %v", said, a, err)
		}
		later := r
		later.Nonce = Nonce()
		if _, err := later.Hear(action, said); fault.KindOf(err) != fault.DeskSignature {
			t.Errorf("the answer to an older request: %v", err)
		}
		if is := state == Active; len(a.Active) == 1 != is || is && a.Active[0] != r.Computer {
			t.Errorf("active on %q", a.Active)
		}
		if _, err := r.Hear(action, strings.Repeat("0", 15)); fault.KindOf(err) != fault.Usage {
			t.Errorf("no answer: %v", err)
		}
		if a, err := r.Hear(action, s.Answer(r.Code, &Answer{State: NotActivated})); err != nil || action == Activate && fault.KindOf(a.Reached(action)) != fault.DeskNonsense {
			t.Errorf("not done: %v", err)
		}
	}
	for text, major := range map[string]int{"": 0, "none": 0, "126.9": 126, "127": 127, "2024.1": 127} {
		r := telephoned()
		r.Version = text
		if s, err := r.spoken(Activate); err != nil || s.Major != major {
			t.Errorf("version %q: %+v %v", text, s, err)
		}
	}
	for _, computer := range []string{"", "OLD", strings.Repeat("0", 30), strings.Repeat("g", 32), strings.Repeat("0", 34)} {
		r := telephoned()
		r.Computer = computer
		if _, err := r.Speak(Activate); fault.KindOf(err) != fault.Usage {
			t.Errorf("computer %q: %v", computer, err)
		}
	}
	r := telephoned()
	r.From = "other"
	if _, err := r.Speak(Activate); fault.KindOf(err) != fault.Usage {
		t.Errorf("a takeover: %v", err)
	}
}

// TestTypingErrors makes every single error, and exchanges neighbours and
// groups; each is noticed and its group named.
func TestTypingErrors(t *testing.T) {
	text, err := telephoned().Speak(Activate)
	if err != nil {
		t.Fatal(err)
	}
	caught := func(typed, group, what string) {
		t.Helper()
		_, err := ReadSpoken(typed)
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
		if _, err := ReadSpoken(short); fault.KindOf(err) != fault.Usage {
			t.Errorf("%q: %v", short, err)
		}
	}
}

func FuzzTelephone(f *testing.F) {
	text, _ := telephoned().Speak(Deactivate)
	f.Add(text)
	f.Add(strings.Repeat("0", 60))
	f.Fuzz(func(t *testing.T, typed string) {
		s, err := ReadSpoken(typed)
		if err == nil {
			if again, err := ReadSpoken(s.String()); err != nil || *again != *s {
				t.Errorf("%q is read as %+v, and %q as %+v", typed, s, s.String(), again)
			}
		}
	})
}
