// Package storm moves licences over a network that loses requests and answers, with clients that
// are killed and a desk that restarts.
package storm

import (
	"context"
	"crypto/ed25519"
	"encoding/base64"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"movekit/internal/core/licence"
	"movekit/internal/desk"
)

// Result is the result of a storm.
type Result struct {
	Moves    int
	Right    int // moves whose licence is active on the new computer alone, with one transfer spent
	Requests int64
	Lost     int64 // requests that never arrived
	Unheard  int64 // answers that were lost
	Kills    int64
	Restarts int64
	Took     time.Duration
}

// weather is a desk behind an unreliable network.
type weather struct {
	name                    string
	mu                      sync.RWMutex // held for writing while the desk is down
	store                   *desk.Store
	random                  func(n int64) int64
	requests, lost, unheard atomic.Int64
}

// ServeHTTP loses a tenth of the requests, and three tenths of the other requests' answers.
func (w *weather) ServeHTTP(to http.ResponseWriter, r *http.Request) {
	w.requests.Add(1)
	gone := func(n *atomic.Int64) {
		n.Add(1)
		if c, _, err := http.NewResponseController(to).Hijack(); err == nil {
			c.Close()
		}
	}
	if w.random(10) == 0 {
		gone(&w.lost)
		return
	}
	w.mu.RLock()
	answer := httptest.NewRecorder()
	w.store.Handler(slog.New(slog.DiscardHandler)).ServeHTTP(answer, r)
	w.mu.RUnlock()
	if w.random(10) < 3 {
		gone(&w.unheard)
		return
	}
	for k, v := range answer.Header() {
		to.Header()[k] = v
	}
	to.WriteHeader(answer.Code)
	to.Write(answer.Body.Bytes())
}

// restart closes the desk's file in the middle of its work, and opens it again.
func (w *weather) restart() (err error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if err := w.store.Close(); err != nil {
		return err
	}
	w.store, err = desk.OpenStore(w.name)
	return err
}

// errKilled is the error of a client that is killed.
var errKilled = errors.New("killed")

// memory is a client's journal, which survives a kill.
type memory struct {
	answers int
	random  func(n int64) int64
	kills   *atomic.Int64
}

// Asked sometimes fails before it writes.
func (m *memory) Asked(licence.Action, string) error { return m.killed() }

// Answered sometimes fails between the answer and its recording.
func (m *memory) Answered(*licence.Answer) error {
	if err := m.killed(); err != nil {
		return err
	}
	m.answers++
	return nil
}

func (m *memory) killed() error {
	if m.random(8) == 0 {
		m.kills.Add(1)
		return errKilled
	}
	return nil
}

// Run moves a number of licences in a folder, eight at a time. The failures of each seed are always
// the same.
func Run(ctx context.Context, dir string, moves int, day uint64) (*Result, error) {
	var lock sync.Mutex
	source := rand.New(rand.NewPCG(day, 1))
	random := func(n int64) int64 {
		lock.Lock()
		defer lock.Unlock()
		return source.Int64N(n)
	}
	w := &weather{name: filepath.Join(dir, "desk.db"), random: random}
	var err error
	if w.store, err = desk.OpenStore(w.name); err != nil {
		return nil, err
	}
	defer func() { w.store.Close() }()
	var list []desk.Licence
	for i := range moves {
		list = append(list, desk.Licence{Serial: fmt.Sprintf("SN-%05d", i), Code: fmt.Sprintf("code-%d", i), Product: "tidewright", Covers: "8", Seats: 1, Transfers: 3, Active: []string{fmt.Sprintf("old-%d", i)}})
	}
	if err := w.store.Add(ctx, list); err != nil {
		return nil, err
	}
	key, err := base64.RawURLEncoding.DecodeString(w.store.PublicKey())
	if err != nil {
		return nil, err
	}
	srv := httptest.NewServer(w)
	defer srv.Close()
	service := &licence.Desk{URL: srv.URL, Key: ed25519.PublicKey(key), Client: srv.Client()}
	out := &Result{Moves: moves}
	start := time.Now()
	storm, calm := context.WithCancel(ctx)
	var weatherEnds, clients sync.WaitGroup
	failed := make(chan error, moves+1)
	var kills atomic.Int64
	weatherEnds.Go(func() {
		for storm.Err() == nil {
			time.Sleep(time.Duration(50+random(150)) * time.Millisecond)
			if err := w.restart(); err != nil {
				failed <- err
				return
			}
			out.Restarts++
		}
	})
	next := make(chan int)
	for range 8 {
		clients.Go(func() {
			for i := range next {
				if err := move(ctx, service, i, random, &kills); err != nil {
					failed <- fmt.Errorf("move %d: %w", i, err)
				}
			}
		})
	}
	for i := range moves {
		next <- i
	}
	close(next)
	clients.Wait()
	calm()
	weatherEnds.Wait()
	out.Took, out.Kills = time.Since(start), kills.Load()
	out.Requests, out.Lost, out.Unheard = w.requests.Load(), w.lost.Load(), w.unheard.Load()
	close(failed)
	if err := <-failed; err != nil {
		return out, err
	}
	all, err := w.store.List(ctx)
	for _, l := range all {
		if slices.Equal(l.Active, []string{"new-" + l.Code[len("code-"):]}) && l.Transfers == 2 {
			out.Right++
		}
	}
	return out, err
}

// move moves one licence. It repeats each step until it succeeds, as a technician would.
func move(ctx context.Context, service licence.Service, i int, random func(int64) int64, kills *atomic.Int64) error {
	for _, s := range []struct {
		action   licence.Action
		computer string
	}{{licence.Deactivate, "old"}, {licence.Activate, "new"}} {
		m := &memory{random: random, kills: kills}
		err := errKilled
		for n := 0; err != nil; n++ {
			if n == 200 {
				return fmt.Errorf("%s never came to its end: %w", s.action, err)
			}
			run, kill := ctx, context.CancelFunc(func() {})
			if random(4) == 0 { // killed while it waits for an answer
				run, kill = context.WithTimeout(ctx, time.Duration(random(int64(20*time.Millisecond))))
			}
			_, err = licence.Change{
				Service: service, Record: m, Move: fmt.Sprint("move-", i), Round: m.answers, Pause: time.Millisecond,
				Request: licence.Request{Serial: fmt.Sprintf("SN-%05d", i), Code: fmt.Sprintf("code-%d", i), Product: "tidewright", Computer: fmt.Sprintf("%s-%d", s.computer, i), Version: "8.2"},
			}.Do(run, s.action)
			if run.Err() != nil {
				kills.Add(1)
			}
			kill()
		}
	}
	return nil
}
