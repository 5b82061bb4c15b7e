package steps

import (
	"movekit/internal/core/card"
)

// Work lists the steps that every app goes through, in order, with the computer that each runs on.
var Work = []struct {
	Step Step
	Side Side
}{
	{Pack, OldSide}, {Deactivate, OldSide}, {Unpack, NewSide}, {Activate, NewSide}, {Verify, NewSide}, {Retire, OldSide},
}

// Todo is the manual import of exports, and Report the handover.
const (
	Todo   Step = "todo"
	Report Step = "report"
)

// Due is the next step. Step is "" if everything is done.
type Due struct {
	Step Step
	Apps []string
	Side Side   // "" if it can run on any computer
	Lost string // for a deactivation, the new computer that was replaced while it had the licence; "" if none
}

// Next returns the first step that an app has not finished.
func (s *State) Next(cards []*card.Card) Due {
	if s.Closed != nil || s.Back != nil {
		return Due{}
	}
	for _, w := range Work {
		if s.Keep && w.Step != Pack {
			return Due{}
		}
		if w.Step == Verify {
			for _, c := range cards {
				if s.Waiting(c) {
					return Due{Step: Todo, Apps: []string{c.Name}, Side: NewSide}
				}
			}
		}
		d := Due{Step: w.Step, Side: w.Side}
		for _, c := range cards {
			if (w.Step == Deactivate || w.Step == Activate) && s.Trying(c) {
				continue // its data is verified first
			}
			switch s.Progress(c, w.Step) {
			case No, Partly, Bad:
				if holder := s.Holder(c.Name); w.Step == Deactivate && holder.ID != s.Old.ID {
					return Due{Step: Deactivate, Apps: []string{c.Name}, Side: NewSide, Lost: holder.Name}
				}
				d.Apps = append(d.Apps, c.Name)
			}
		}
		if len(d.Apps) > 0 {
			return d
		}
	}
	if s.Reported.IsZero() {
		return Due{Step: Report}
	}
	return Due{Step: Close}
}
