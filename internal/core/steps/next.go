package steps

import (
	"movekit/internal/core/card"
)

// Work are the steps that every app goes through, in their order, with the
// computer that each runs on.
var Work = []struct {
	Step Step
	Side Side
}{
	{Pack, OldSide}, {Deactivate, OldSide}, {Unpack, NewSide}, {Activate, NewSide}, {Verify, NewSide}, {Retire, OldSide},
}

// Todo stands for what a person takes in by hand, and Report for the hand-over.
const (
	Todo   Step = "todo"
	Report Step = "report"
)

// Due is the step that comes next; Step is "" where everything is done.
type Due struct {
	Step Step
	Apps []string
	Side Side // "" where it may be done anywhere
}

// Next finds the first step that an app has not done.
func (s *State) Next(cards []*card.Card) Due {
	if s.Closed != nil {
		return Due{}
	}
	for _, w := range Work {
		if s.Keep && w.Step != Pack {
			return Due{}
		}
		if w.Step == Verify {
			for _, c := range cards {
				if s.Waiting(c) {
					return Due{Todo, []string{c.Name}, NewSide}
				}
			}
		}
		d := Due{Step: w.Step, Side: w.Side}
		for _, c := range cards {
			if (w.Step == Deactivate || w.Step == Activate) && s.Trying(c) {
				continue // its data is proven first
			}
			switch s.Progress(c, w.Step) {
			case No, Partly, Bad:
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
