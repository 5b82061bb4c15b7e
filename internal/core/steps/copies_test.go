package steps

import (
	"encoding/json"
	"testing"
	"time"

	"movekit/internal/core/journal"
	"movekit/internal/core/kit"
	"movekit/internal/core/seal"
)

// TestStates records states of a safety copy whose items come and go, and chooses among them.
func TestStates(t *testing.T) {
	s := Fold(kit.Manifest{Keep: true}, nil)
	n := 0
	add := func(event, item string, data any) int {
		n++
		raw, err := json.Marshal(data)
		if err != nil {
			t.Fatal(err)
		}
		s.Add(journal.Line{N: n, At: time.Unix(int64(n), 0), Event: event, App: map[bool]string{true: "tide"}[item != ""], Item: item, Data: raw})
		return n
	}
	sealed := func(item, hash string) {
		add(journal.EventSealed, item, kit.Sealed{Parts: []seal.Part{{Hash: hash}}})
	}
	packed := func(items ...string) {
		p := Packed{}
		for _, i := range items {
			p.Items = append(p.Items, Key{App: "tide", Item: i})
		}
		raw, _ := json.Marshal(p)
		n++
		s.Add(journal.Line{N: n, Event: journal.EventPacked, App: "tide", Data: raw})
	}
	has := func(want map[string]string) {
		t.Helper()
		if len(s.Items) != len(want) || len(s.Order) != len(want) || len(s.Packed["tide"].Items) != len(want) {
			t.Errorf("items %v, packed %v, want %v", s.Order, s.Packed["tide"].Items, want)
		}
		for item, hash := range want {
			if it := s.Items[Key{App: "tide", Item: item}]; it == nil || it.Sealed.Parts[0].Hash != hash {
				t.Errorf("%s is %+v, want %s", item, it, hash)
			}
		}
	}
	if s.Changed() {
		t.Error("an empty kit changed")
	}
	sealed("a", "a1")
	packed("a")
	first := add(journal.EventCopied, "", s.NextCopy(2))
	sealed("a", "a2")
	sealed("b", "b1")
	packed("a", "b")
	second := add(journal.EventCopied, "", s.NextCopy(2))
	add(journal.EventStateChosen, "", StateChosen{first})
	has(map[string]string{"a": "a1"})
	add(journal.EventPlaced, "a", Placed{To: "/srv/a"})
	add(journal.EventStateChosen, "", StateChosen{second})
	has(map[string]string{"a": "a2", "b": "b1"})
	if a := s.Items[Key{App: "tide", Item: "a"}]; a.Placed != nil || a.Earlier == nil {
		t.Errorf("another state was in place: %+v", a)
	}
	add(journal.EventStateChosen, "", StateChosen{first})
	add(journal.EventStateChosen, "", StateChosen{second + 50}) // there is none
	if s.Past != first {
		t.Errorf("state %d, want %d", s.Past, first)
	}
	add(journal.EventStateChosen, "", StateChosen{})
	has(map[string]string{"a": "a2", "b": "b1"})
	if s.Changed() {
		t.Error("nothing changed since the newest state")
	}
	// The same content again is the same state, and the third state drops the first one.
	third := add(journal.EventCopied, "", s.NextCopy(2))
	if len(s.States) != 2 || s.States[0].Line != first || s.States[1].Line != third {
		t.Errorf("states: %+v", s.States)
	}
	sealed("b", "b2")
	if !s.Changed() {
		t.Error("an item changed")
	}
	last := add(journal.EventCopied, "", s.NextCopy(2))
	if len(s.States) != 2 || s.States[0].Line != third || s.States[1].Line != last {
		t.Errorf("states: %+v", s.States)
	}
	add(journal.EventCopied, "", s.NextCopy(1))
	if len(s.States) != 1 {
		t.Errorf("%d states, want 1", len(s.States))
	}
}

// TestChooseKeepsUnfinished keeps items that the chosen state lacks as long as their data is on the new computer, or on its way.
func TestChooseKeepsUnfinished(t *testing.T) {
	for what, set := range map[string]func(*Item){
		"nothing": func(*Item) {}, "placed": func(it *Item) { it.Placed = &Placed{} }, "placing": func(it *Item) { it.Placing = &Placed{} },
		"undoing": func(it *Item) { it.Undoing = &Undone{} }, "earlier": func(it *Item) { it.Earlier = &Placed{} },
	} {
		s := Fold(kit.Manifest{Keep: true}, nil)
		other := Key{App: "tide", Item: "other"}
		s.use(other, SealedItem{})
		set(s.Items[other])
		s.States = []Copy{{Line: 3, Items: map[Key]SealedItem{}}}
		s.choose(3)
		if _, is := s.Items[other]; is != (what != "nothing") || len(s.Order) != len(s.Items) {
			t.Errorf("%s: it is there %v, order %v", what, is, s.Order)
		}
		before := len(s.Items)
		if s.choose(99); s.Past != 3 || len(s.Items) != before {
			t.Errorf("an unknown state was chosen: %d", s.Past)
		}
	}
	if c := Fold(kit.Manifest{Keep: true}, nil).NextCopy(3); len(c.Kept) != 0 || c.Keep != 3 {
		t.Errorf("the first state keeps %+v", c)
	}
}
