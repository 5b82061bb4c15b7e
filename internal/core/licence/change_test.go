package licence

import (
	"context"
	"testing"

	"movekit/internal/core/fault"
)

// again is a service that carried a request out, whose end somebody has undone since:
// an old key gets what is so now, a new one is carried out.
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

// kept is what was recorded.
type kept struct{ asked, answered int }

func (k *kept) Asked(Action, string) error { k.asked++; return nil }
func (k *kept) Answered(*Answer) error     { k.answered++; return nil }

// TestAnsweredOfAnotherTime frees a licence that was freed by the same request once, and
// taken up again by somebody; and reports none freed that is not.
func TestAnsweredOfAnotherTime(t *testing.T) {
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
