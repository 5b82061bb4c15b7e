package desk

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"time"

	"movekit/internal/core/fault"
)

// Faults are simulated faults, in percent of the requests.
type Faults struct {
	Delay          time.Duration `json:"delay_ns"`        // before every answer
	LostRequests   int           `json:"lost_requests"`   // not carried out, connection closed
	LostAnswers    int           `json:"lost_answers"`    // carried out, connection closed
	Errors         int           `json:"errors"`          // answered with status 500
	WrongSignature int           `json:"wrong_signature"` // signed with another key
	Restarts       int           `json:"restarts"`        // carried out; then the desk closes its file and all connections
}

// Check returns an error for invalid faults.
func (f Faults) Check() error {
	for _, percent := range []int{f.LostRequests, f.LostAnswers, f.Errors, f.WrongSignature, f.Restarts} {
		if percent < 0 || percent > 100 {
			return fault.New(fault.Usage, "%d%% is not a valid share of requests (0 to 100)", percent)
		}
	}
	if f.Delay < 0 || f.Delay > time.Minute {
		return fault.New(fault.Usage, "the delay %s is not valid (at most 1m)", f.Delay)
	}
	return nil
}

// The desk's settings are in its file, so that they affect a running desk.
const (
	settingFaults = "faults"
	settingClock  = "clock" // nanoseconds that its clock is ahead
	settingTLS    = "tls"   // its own certificate and key, PEM
)

type rower interface {
	QueryRowContext(context.Context, string, ...any) *sql.Row
}

// setting reads a setting into v, which stays unchanged if there is none.
func setting(ctx context.Context, from rower, name string, v any) error {
	var text string
	err := from.QueryRowContext(ctx, "SELECT value FROM setting WHERE name = ?", name).Scan(&text)
	if errors.Is(err, sql.ErrNoRows) {
		return nil
	}
	if err != nil {
		return err
	}
	return json.Unmarshal([]byte(text), v)
}

func (s *Store) set(ctx context.Context, name string, v any) error {
	text, err := json.Marshal(v)
	if err != nil {
		return err
	}
	s.open.RLock()
	defer s.open.RUnlock()
	_, err = s.db.ExecContext(ctx, "INSERT OR REPLACE INTO setting VALUES (?, ?)", name, string(text))
	return err
}

// Faults returns the active faults.
func (s *Store) Faults(ctx context.Context) (f Faults, err error) {
	s.open.RLock()
	defer s.open.RUnlock()
	err = setting(ctx, s.db, settingFaults, &f)
	return f, err
}

// SetFaults sets the active faults at once.
func (s *Store) SetFaults(ctx context.Context, f Faults) error {
	if err := f.Check(); err != nil {
		return err
	}
	return s.set(ctx, settingFaults, f)
}

// SetClock sets the desk's clock ahead of the computer's.
func (s *Store) SetClock(ctx context.Context, ahead time.Duration) error {
	return s.set(ctx, settingClock, ahead)
}

// Now returns the time on the desk's clock.
func (s *Store) Now(ctx context.Context) (time.Time, error) {
	s.open.RLock()
	defer s.open.RUnlock()
	return now(ctx, s.db)
}

func now(ctx context.Context, from rower) (time.Time, error) {
	var ahead time.Duration
	err := setting(ctx, from, settingClock, &ahead)
	return time.Now().Add(ahead), err
}
