package steps

import (
	"cmp"
	"maps"
	"reflect"
	"slices"
	"time"

	"movekit/internal/core/journal"
	"movekit/internal/core/kit"
)

// Copy is a state of a safety copy: its content when a pack was complete.
type Copy struct {
	Line   int       // the journal line that records it
	At     time.Time // time of that line
	Keep   int       // number of states that were kept from then on
	Items  map[Key]SealedItem
	Packed map[string]*Packed
}

// SealedItem is the sealed data of an item, and the time when it was sealed.
type SealedItem struct {
	kit.Sealed
	At time.Time
}

// StateChosen is the data of journal.EventStateChosen.
type StateChosen struct {
	Line int `json:"line"` // Copy.Line; 0 means the newest content
}

// use makes sealed data the item's data. The recorded unpack and verify were of other data.
func (s *State) use(key Key, sealed SealedItem) {
	was := s.Items[key]
	it := &Item{Key: key, Sealed: sealed.Sealed, SealedAt: sealed.At}
	if was == nil {
		s.Order = append(s.Order, key)
	} else {
		it.Earlier, it.Retired, it.Removed = cmp.Or(was.Placed, was.Earlier), was.Retired, was.Removed
		it.Placing, it.Undoing, it.Retiring, it.Returning = was.Placing, was.Undoing, was.Retiring, was.Returning // still to be finished
	}
	s.Items[key] = it
}

// NextCopy returns the data of the line that makes the newest content a state, of which keep are kept. The same content again
// replaces the last state.
func (s *State) NextCopy(keep int) kit.Copied {
	c := kit.Copied{Keep: keep}
	before := s.States
	if n := len(before); n > 0 && !s.Changed() {
		before = before[:n-1]
	}
	for _, old := range before[max(len(before)-keep+1, 0):] {
		c.Kept = append(c.Kept, old.Line)
	}
	return c
}

// copied records a state. Package kit keeps the files of the same states.
func (s *State) copied(c *kit.Copied, l journal.Line) {
	s.States = slices.DeleteFunc(s.States, func(old Copy) bool { return !slices.Contains(c.Kept, old.Line) })
	s.States = append(s.States, Copy{Line: l.N, At: l.At, Keep: c.Keep, Items: maps.Clone(s.latest.Items), Packed: maps.Clone(s.latest.Packed)})
}

// choose uses the content of a state. An unknown line changes nothing.
func (s *State) choose(line int) {
	to := s.latest
	if line != 0 {
		i := slices.IndexFunc(s.States, func(c Copy) bool { return c.Line == line })
		if i < 0 {
			return
		}
		to = s.States[i]
	}
	s.Past, s.Packed = line, maps.Clone(to.Packed)
	for _, key := range slices.Clone(s.Order) {
		it := s.Items[key]
		if _, is := to.Items[key]; !is && it.Placed == nil && it.Placing == nil && it.Undoing == nil && it.Earlier == nil {
			delete(s.Items, key)
			s.Order = slices.DeleteFunc(s.Order, func(k Key) bool { return k == key })
		}
	}
	keys := slices.SortedFunc(maps.Keys(to.Items), func(a, b Key) int { return cmp.Compare(a.Address(), b.Address()) })
	for _, key := range keys {
		if it, sealed := s.Items[key], to.Items[key]; it == nil || !reflect.DeepEqual(it.Sealed, sealed.Sealed) {
			s.use(key, sealed)
		}
	}
}

// Changed reports whether the kit's content differs from its newest state.
func (s *State) Changed() bool {
	if len(s.States) == 0 {
		return len(s.latest.Packed) > 0
	}
	last := s.States[len(s.States)-1]
	return !reflect.DeepEqual(last.Items, s.latest.Items) || !maps.EqualFunc(last.Packed, s.latest.Packed, func(a, b *Packed) bool { return reflect.DeepEqual(a, b) })
}
