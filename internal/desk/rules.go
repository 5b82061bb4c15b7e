// Package desk is the simulated licence desk that ships with the program: a licence service with
// seats, transfers, covered versions and waiting times. Its protocol is in
// docs/licence-desk.openapi.yaml.
package desk

import (
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"movekit/internal/core/licence"
	"movekit/internal/core/version"
)

// Licence is one licence at the desk.
type Licence struct {
	Serial    string   `yaml:"serial" json:"serial"`
	Code      string   `yaml:"code" json:"code"`
	Product   string   `yaml:"product" json:"product"`
	Covers    string   `yaml:"covers" json:"covers"`                               // major version that is covered
	Edition   string   `yaml:"edition,omitempty" json:"edition,omitempty"`         // edition that is covered; "" means all
	Seats     int      `yaml:"seats" json:"seats"`                                 // number of computers that may use it at the same time
	Transfers int      `yaml:"transfers" json:"transfers"`                         // remaining moves to another computer
	Takeover  bool     `yaml:"takeover,omitempty" json:"takeover"`                 // a new computer may disable another
	Wait      string   `yaml:"wait,omitempty" json:"wait,omitempty"`               // between two moves, such as 24h
	Expires   string   `yaml:"expires,omitempty" json:"expires,omitempty"`         // last valid day, such as 2027-03-31
	Active    []string `yaml:"active,omitempty" json:"active"`                     // computers that it is active on
	Vacated   []string `yaml:"vacated,omitempty" json:"vacated"`                   // computers that it was deactivated on, newest last
	Free      int      `yaml:"free-seats,omitempty" json:"free_seats"`             // seats that were deactivated and not activated again
	FreedAt   int64    `yaml:"deactivated-at,omitempty" json:"freed_at,omitempty"` // last deactivation; seconds since 1970
}

// maxVacated limits the remembered vacated computers.
const maxVacated = 100

// check returns the problem with a new licence, or "".
func (l *Licence) check() string {
	switch {
	case l.Serial == "" || l.Code == "" || l.Product == "" || l.Seats < 1 || l.Transfers < 0:
		return "a licence needs a serial, a code, a product, at least one seat, and transfers of 0 or more"
	case l.Wait != "" && l.wait() <= 0:
		return fmt.Sprintf("the waiting time %q is not valid; write it like 24h", l.Wait)
	case l.Expires != "" && l.until().IsZero():
		return fmt.Sprintf("the last day %q is not valid; write it like 2027-03-31", l.Expires)
	}
	return ""
}

func (l *Licence) wait() time.Duration {
	d, _ := time.ParseDuration(l.Wait)
	return d
}

// until returns the end of its last day, or the zero time.
func (l *Licence) until() time.Time {
	day, err := time.Parse(time.DateOnly, l.Expires)
	if err != nil {
		return time.Time{}
	}
	return day.AddDate(0, 0, 1)
}

func (l *Licence) expired(now time.Time) bool { return l.Expires != "" && !now.Before(l.until()) }

// again returns when a seat may be moved again, or the zero time for now.
func (l *Licence) again(now time.Time) time.Time {
	from := time.Unix(l.FreedAt, 0).Add(l.wait())
	if l.Wait == "" || l.FreedAt == 0 || !from.After(now) {
		return time.Time{}
	}
	return from
}

// State returns the licence's state on a computer.
func (l *Licence) State(computer string, now time.Time) licence.State {
	switch {
	case slices.Contains(l.Active, computer) && l.expired(now):
		return licence.Expired
	case slices.Contains(l.Active, computer):
		return licence.Active
	case slices.Contains(l.Vacated, computer):
		return licence.Deactivated
	}
	return licence.NotActivated
}

// Apply carries out an action. It returns the number of transfers used, and the computer whose seat
// was taken over. If there is a problem, the licence does not change. An action whose result is
// already reached changes nothing and is no problem.
func (l *Licence) Apply(action licence.Action, r licence.Request, now time.Time) (spent int, disabled string, p *licence.Problem) {
	active := slices.Contains(l.Active, r.Computer)
	switch {
	case action == licence.Activate && !active:
		return l.activate(r, now)
	case action == licence.Deactivate && active:
		l.vacate(r.Computer, now)
	case action == licence.Deactivate && l.State(r.Computer, now) == licence.NotActivated:
		return 0, "", problem(http.StatusConflict, licence.ProblemNotActive, "The licence is not active on that computer", "")
	}
	return 0, "", nil
}

// activate activates a seat. Moving a seat from another computer uses a transfer. Going back to the
// computer where it was deactivated uses none, and needs no wait.
func (l *Licence) activate(r licence.Request, now time.Time) (spent int, disabled string, p *licence.Problem) {
	covered, v := version.Numbers(l.Covers), version.Numbers(r.Version)
	home := slices.Contains(l.Vacated, r.Computer)
	takeover := r.From != "" && r.From != r.Computer && slices.Contains(l.Active, r.From)
	no := func(status int, typ, title, detail string, args ...any) (int, string, *licence.Problem) {
		return 0, "", problem(status, typ, title, fmt.Sprintf(detail, args...))
	}
	switch {
	case len(covered) > 0 && (len(v) == 0 || v[0] != covered[0]):
		return no(http.StatusForbidden, licence.ProblemNotCovered, "The licence does not cover this version", "it covers version %s; the app has version %q", l.Covers, r.Version)
	case l.Edition != "" && r.Edition != "" && !strings.EqualFold(l.Edition, r.Edition):
		return no(http.StatusForbidden, licence.ProblemNotCovered, "The licence does not cover this edition", "it covers the edition %q; the app has %q", l.Edition, r.Edition)
	case l.expired(now):
		return no(http.StatusForbidden, licence.ProblemExpired, "The licence has expired", "its last day was %s", l.Expires)
	case takeover && !l.Takeover:
		return no(http.StatusForbidden, licence.ProblemNoTakeover, "The licence cannot be taken over", "it must be deactivated on the other computer first")
	case !takeover && len(l.Active) >= l.Seats:
		return no(http.StatusConflict, licence.ProblemSeatTaken, "All seats are in use", "%d of %d seats are active on other computers", len(l.Active), l.Seats)
	}
	if (l.Free > 0 || takeover) && !home {
		spent = 1
	}
	if spent > l.Transfers {
		return no(http.StatusConflict, licence.ProblemNoTransfer, "No transfers are left", "the licence was moved as often as allowed")
	}
	if again := l.again(now); spent > 0 && !again.IsZero() {
		return no(http.StatusConflict, licence.ProblemWaiting, "The waiting time is not over", "it can be activated on another computer from %s", again.UTC().Format(time.RFC3339))
	}
	if takeover {
		disabled = r.From
		l.vacate(r.From, now)
	}
	l.Transfers -= spent
	l.Free = max(l.Free-1, 0)
	l.Active = append(slices.Clone(l.Active), r.Computer)
	l.Vacated = without(l.Vacated, r.Computer)
	return spent, disabled, nil
}

// Rules describes the licence's rules besides seats and transfers.
func (l *Licence) Rules(now time.Time) []string {
	out := []string{}
	if l.Covers != "" {
		out = append(out, "version "+l.Covers)
	}
	if l.Edition != "" {
		out = append(out, "edition "+l.Edition)
	}
	if l.Takeover {
		out = append(out, "may be taken over")
	}
	if l.Wait != "" {
		out = append(out, "can move once every "+l.Wait)
	}
	if again := l.again(now); !again.IsZero() {
		out = append(out, "again from "+again.UTC().Format("2 Jan 15:04"))
	}
	switch {
	case l.expired(now):
		out = append(out, "expired after "+l.Expires)
	case l.Expires != "":
		out = append(out, "until "+l.Expires)
	}
	return out
}

// vacate releases the seat of a computer.
func (l *Licence) vacate(computer string, now time.Time) {
	l.Active = without(l.Active, computer)
	l.Vacated = append(without(l.Vacated, computer), computer)
	if len(l.Vacated) > maxVacated {
		l.Vacated = l.Vacated[1:]
	}
	l.Free++
	l.FreedAt = now.Unix()
}

func without(list []string, s string) []string {
	return slices.DeleteFunc(slices.Clone(list), func(c string) bool { return c == s })
}

// named returns the computers that the licence is active on, those in the request first.
func (l *Licence) named(r licence.Request) (out []string) {
	for _, c := range slices.Concat([]string{r.Computer, r.From}, r.Also, l.Active) {
		if len(out) == licence.MaxActive {
			break
		}
		if slices.Contains(l.Active, c) && !slices.Contains(out, c) {
			out = append(out, c)
		}
	}
	return out
}

// answer returns the unsigned answer to a request.
func (l *Licence) answer(action licence.Action, r licence.Request, now time.Time) *licence.Answer {
	a := &licence.Answer{
		Action: action, Licence: licence.LicenceID(l.Serial), Product: l.Product, Computer: r.Computer,
		State: l.State(r.Computer, now), Active: l.named(r), Taken: len(l.Active), Covers: l.Covers, Edition: l.Edition, Seats: l.Seats,
		Transfers: l.Transfers, Takeover: l.Takeover,
	}
	if again := l.again(now); !again.IsZero() && len(l.Active) < l.Seats {
		a.Again = again.Unix()
	}
	if l.Expires != "" {
		a.Until = l.until().Unix()
	}
	return a
}

func problem(status int, typ, title, detail string) *licence.Problem {
	return &licence.Problem{Type: typ, Title: title, Status: status, Detail: detail}
}
