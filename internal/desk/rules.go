// Package desk is the simulated licence desk that ships with the tool: a
// licence service with seats, transfers and covered versions, by the protocol
// of docs/licence-desk.openapi.yaml.
package desk

import (
	"fmt"
	"net/http"
	"slices"

	"movekit/internal/core/licence"
	"movekit/internal/core/version"
)

// Licence is one licence that the desk keeps.
type Licence struct {
	Serial    string   `yaml:"serial" json:"serial"`
	Code      string   `yaml:"code" json:"code"`
	Product   string   `yaml:"product" json:"product"`
	Covers    string   `yaml:"covers" json:"covers"`                   // major version that is covered
	Seats     int      `yaml:"seats" json:"seats"`                     // computers it may be active on at a time
	Transfers int      `yaml:"transfers" json:"transfers"`             // moves to another computer that are left
	Active    []string `yaml:"active,omitempty" json:"active"`         // computers it is active on
	Vacated   []string `yaml:"vacated,omitempty" json:"vacated"`       // computers it was deactivated on, newest last
	Free      int      `yaml:"free-seats,omitempty" json:"free_seats"` // seats given up by a deactivation and not taken again
}

// maxVacated is how many vacated computers are remembered.
const maxVacated = 100

// State is the licence's state on a computer.
func (l *Licence) State(computer string) licence.State {
	switch {
	case slices.Contains(l.Active, computer):
		return licence.Active
	case slices.Contains(l.Vacated, computer):
		return licence.Deactivated
	}
	return licence.NotActivated
}

// Apply carries out an action and returns the transfers it spent. The
// licence is changed only where there is no problem. An action that changes
// nothing, because its end is reached already, is no problem.
func (l *Licence) Apply(action licence.Action, computer, version string) (spent int, p *licence.Problem) {
	active := slices.Contains(l.Active, computer)
	switch {
	case action == licence.Activate && !active:
		return l.activate(computer, version)
	case action == licence.Deactivate && active:
		l.Active = slices.DeleteFunc(slices.Clone(l.Active), func(c string) bool { return c == computer })
		l.vacate(computer)
		l.Free++
	case action == licence.Deactivate && l.State(computer) == licence.NotActivated:
		return 0, problem(http.StatusConflict, licence.ProblemNotActive, "The licence is not active on that computer", "")
	}
	return 0, nil
}

// activate takes a seat. A seat that was given up on another computer is
// moved, which spends a transfer; coming back to the computer it was given up
// on spends none.
func (l *Licence) activate(computer, app string) (int, *licence.Problem) {
	covered, v := version.Numbers(l.Covers), version.Numbers(app)
	if len(covered) > 0 && (len(v) == 0 || v[0] != covered[0]) {
		return 0, problem(http.StatusForbidden, licence.ProblemNotCovered, "The licence does not cover this version",
			fmt.Sprintf("it covers version %s; the app has version %q", l.Covers, app))
	}
	if len(l.Active) >= l.Seats {
		return 0, problem(http.StatusConflict, licence.ProblemSeatTaken, "All seats are taken",
			fmt.Sprintf("%d of %d seats are active on other computers", len(l.Active), l.Seats))
	}
	spent := 0
	if l.Free > 0 && !slices.Contains(l.Vacated, computer) {
		spent = 1
	}
	if spent > l.Transfers {
		return 0, problem(http.StatusConflict, licence.ProblemNoTransfer, "No transfer is left", "the licence was moved as often as it may be")
	}
	l.Transfers -= spent
	l.Free = max(l.Free-1, 0)
	l.Active = append(slices.Clone(l.Active), computer)
	l.Vacated = slices.DeleteFunc(slices.Clone(l.Vacated), func(c string) bool { return c == computer })
	return spent, nil
}

func (l *Licence) vacate(computer string) {
	l.Vacated = append(slices.DeleteFunc(slices.Clone(l.Vacated), func(c string) bool { return c == computer }), computer)
	if len(l.Vacated) > maxVacated {
		l.Vacated = l.Vacated[1:]
	}
}

// answer is the unsigned answer about a computer.
func (l *Licence) answer(action licence.Action, computer string, spent int) licence.Answer {
	return licence.Answer{
		Action: action, Licence: licence.LicenceID(l.Serial), Product: l.Product, Computer: computer,
		State: l.State(computer), Active: l.Active, Covers: l.Covers, Seats: l.Seats, Transfers: l.Transfers, Spent: spent,
	}
}

func problem(status int, typ, title, detail string) *licence.Problem {
	return &licence.Problem{Type: typ, Title: title, Status: status, Detail: detail}
}
