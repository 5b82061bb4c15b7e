package steps

import (
	"slices"

	"movekit/internal/core/journal"
)

// Contribution is a step that a technician did on a computer.
type Contribution struct {
	By       string `json:"by"`
	Step     Step   `json:"step"`
	Computer string `json:"computer"`
}

// stepOf maps events to the steps that record them.
var stepOf = map[string]Step{
	journal.EventMade: "new", journal.EventPacked: Pack, journal.EventPlaced: Unpack, journal.EventUndone: Undo, journal.EventChecked: Verify,
	journal.EventRetired: Retire, journal.EventReturned: Return, journal.EventRemoved: Remove, journal.EventReported: Report, journal.EventClosed: Close,
	journal.EventAnswered: "licences",
}

// did records who did a step.
func (s *State) did(l journal.Line) {
	step, is := stepOf[l.Event]
	if w := (Contribution{l.By, step, l.Computer}); is && l.By != "" && !slices.Contains(s.Contributions, w) {
		s.Contributions = append(s.Contributions, w)
	}
}

// Technicians returns the names in the journal, in the order of their first lines.
func (s *State) Technicians() (out []string) {
	for _, w := range s.Contributions {
		if !slices.Contains(out, w.By) {
			out = append(out, w.By)
		}
	}
	return out
}
