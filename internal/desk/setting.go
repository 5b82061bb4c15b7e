package desk

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"time"

	"movekit/internal/core/fault"
)

// Faults are what goes wrong on purpose, in percent of the requests.
type Faults struct {
	Delay          time.Duration `json:"delay_ns"`        // before every answer
	LostRequests   int           `json:"lost_requests"`   // broken off before they are carried out
	LostAnswers    int           `json:"lost_answers"`    // carried out, and not answered
	Errors         int           `json:"errors"`          // answered with status 500
	WrongSignature int           `json:"wrong_signature"` // answered with another key's signature
	Restarts       int           `json:"restarts"`        // carried out; then the desk closes its file and every connection
}

// Check says which fault cannot be.
func (f Faults) Check() error {
	for _, percent := range []int{f.LostRequests, f.LostAnswers, f.Errors, f.WrongSignature, f.Restarts} {
		if percent < 0 || percent > 100 {
			return fault.New(fault.Usage, "%d%% of requests cannot go wrong; 0 to 100 can", percent)
		}
	}
	if f.Delay < 0 || f.Delay > time.Minute {
		return fault.New(fault.Usage, "the delay %s cannot be; up to 1m can", f.Delay)
	}
	return nil
}

// The desk's settings, in its file so that they hold for a desk that runs.
const (
	settingFaults = "faults"
	settingClock  = "clock" // nanoseconds that its clock is ahead
	settingTLS    = "tls"   // its own certificate and key, PEM
)

type rower interface {
	QueryRowContext(context.Context, string, ...any) *sql.Row
}

// setting reads a setting into v, which stays as it is where there is none.
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

// Faults returns what goes wrong on purpose.
func (s *Store) Faults(ctx context.Context) (f Faults, err error) {
	s.open.RLock()
	defer s.open.RUnlock()
	err = setting(ctx, s.db, settingFaults, &f)
	return f, err
}

// SetFaults has things go wrong on purpose, at once.
func (s *Store) SetFaults(ctx context.Context, f Faults) error {
	if err := f.Check(); err != nil {
		return err
	}
	return s.set(ctx, settingFaults, f)
}

// SetClock puts the desk's clock ahead of the computer's.
func (s *Store) SetClock(ctx context.Context, ahead time.Duration) error {
	return s.set(ctx, settingClock, ahead)
}

// Now is the time by the desk's clock.
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
