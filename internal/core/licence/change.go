package licence

import (
	"context"
	"time"

	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
)

// Recorder writes requests and answers to disk before they are acted on.
type Recorder interface {
	Asked(action Action, key string) error
	Answered(a *Answer) error
}

// Change is one change of a licence's state on one computer.
type Change struct {
	Service Service
	Record  Recorder
	Move    string // id of the move, which makes its requests distinct
	Round   int    // number of recorded answers about this computer
	Request Request
	Tries   int           // how often a request is sent; 0 means 4
	Pause   time.Duration // wait before the second try, doubled for each further one; 0 means 250 ms
}

// Do carries out the action and returns the service's answer.
//
// It first asks for the state. If an earlier, interrupted run already succeeded, Do only records
// that. If an answer is lost, the request is sent again with the same idempotency key, derived from
// the move, so that the service carries it out only once.
func (c Change) Do(ctx context.Context, action Action) (*Answer, error) {
	now, err := c.ask(ctx, Status, "")
	if err != nil {
		return nil, err
	}
	if now.Reached(action) == nil {
		return now, c.Record.Answered(now)
	}
	// If the request was carried out before and the state has changed since, the service returns
	// the current state. Then a new request is needed.
	for range 2 {
		key := c.key(action)
		if err := c.Record.Asked(action, key); err != nil {
			return nil, err
		}
		if now, err = c.ask(ctx, action, key); err != nil {
			return nil, err
		}
		if err := c.Record.Answered(now); err != nil {
			return nil, err
		}
		if err = now.Reached(action); err == nil {
			return now, nil
		}
		c.Round++
	}
	return nil, err
}

// Look asks for the state on the request's computer, and records nothing.
func (c Change) Look(ctx context.Context) (*Answer, error) { return c.ask(ctx, Status, "") }

// key returns the idempotency key, which is the same for every try of this change.
func (c Change) key(action Action) string {
	h := digest.New()
	for _, s := range []string{c.Move, string(action), LicenceID(c.Request.Serial), c.Request.Computer, string(rune('0' + c.Round))} {
		h.Write([]byte(s))
		h.Write([]byte{0})
	}
	return h.Sum().String()[:40]
}

// ask sends a request until there is an answer or a permanent error.
func (c Change) ask(ctx context.Context, action Action, key string) (*Answer, error) {
	return retry(ctx, c.Tries, c.Pause, func() (*Answer, error) {
		r := c.Request
		r.Nonce = Nonce()
		return c.Service.Ask(ctx, action, r, key)
	})
}

// retry asks until there is an answer or a permanent error. Only an unreachable service is asked
// again. For tries and pause see Change.
func retry(ctx context.Context, tries int, pause time.Duration, ask func() (*Answer, error)) (*Answer, error) {
	if tries == 0 {
		tries = 4
	}
	if pause == 0 {
		pause = 250 * time.Millisecond
	}
	for n := 1; ; n++ {
		a, err := ask()
		if err == nil || n == tries || fault.KindOf(err) != fault.DeskDown {
			return a, err
		}
		select {
		case <-time.After(pause << (n - 1)):
		case <-ctx.Done():
			return nil, fault.Wrap(fault.Stopped, ctx.Err(), "the request to the licence desk was stopped")
		}
	}
}
