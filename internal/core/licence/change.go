package licence

import (
	"context"
	"time"

	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
)

// Recorder keeps what was asked and answered, on disk, before it is acted
// upon.
type Recorder interface {
	Asked(action Action, key string) error
	Answered(a *Answer) error
}

// Change is one change of a licence's state on one computer.
type Change struct {
	Service Service
	Record  Recorder
	Move    string // id of the move, so that its requests are told from another's
	Round   int    // how many answers about this computer are on record
	Request Request
	Tries   int           // how often a request is sent; 0 stands for 4
	Pause   time.Duration // before the second try, doubled for each next; 0 stands for 250 ms
}

// Do carries out the action and returns the service's answer.
//
// It first asks for the state: what an earlier, interrupted run has reached
// is only recorded, and nothing is asked for again. A request whose answer is
// lost is sent again with the same idempotency key, which is that of the move,
// so that the service carries it out once however often it is sent.
func (c Change) Do(ctx context.Context, action Action) (*Answer, error) {
	now, err := c.ask(ctx, Status, "")
	if err != nil {
		return nil, err
	}
	if now.Reached(action) == nil {
		return now, c.Record.Answered(now)
	}
	// A request that was carried out before, and whose end is no longer so, is answered
	// with what is so now. Then it is asked for anew.
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

// key is the same for every try of this change.
func (c Change) key(action Action) string {
	h := digest.New()
	for _, s := range []string{c.Move, string(action), LicenceID(c.Request.Serial), c.Request.Computer, string(rune('0' + c.Round))} {
		h.Write([]byte(s))
		h.Write([]byte{0})
	}
	return h.Sum().String()[:40]
}

// ask sends a request until it is answered, or there is no hope.
func (c Change) ask(ctx context.Context, action Action, key string) (*Answer, error) {
	return patiently(ctx, c.Tries, c.Pause, func() (*Answer, error) {
		r := c.Request
		r.Nonce = Nonce()
		return c.Service.Ask(ctx, action, r, key)
	})
}

// patiently asks until there is an answer, or no hope: only a service that is
// down is asked again. tries and pause are those of Change.
func patiently(ctx context.Context, tries int, pause time.Duration, ask func() (*Answer, error)) (*Answer, error) {
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
			return nil, fault.Wrap(fault.Stopped, ctx.Err(), "asking the licence desk was stopped")
		}
	}
}
