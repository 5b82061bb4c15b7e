package main

import (
	"bufio"
	"context"
	"crypto/ed25519"
	"encoding/base64"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"movekit/internal/core/licence"
	"movekit/test/storm"
)

// storm moves 1,000 licences over an unreliable network.
func (b *bench) storm() error {
	dir, err := os.MkdirTemp(b.dir, "storm-")
	if err != nil {
		return err
	}
	r, err := storm.Run(context.Background(), dir, 1000, uint64(time.Now().UnixNano()))
	if err != nil {
		return err
	}
	fmt.Printf("storm: of %d moves %d ended with the licence on one computer and one transfer spent; %d requests, of which %d were lost and %d not heard of, %d kills, %d restarts of the desk, %s\n",
		r.Moves, r.Right, r.Requests, r.Lost, r.Unheard, r.Kills, r.Restarts, seconds(r.Took))
	if r.Right != r.Moves {
		return fmt.Errorf("%d licences need to be repaired by hand", r.Moves-r.Right)
	}
	return b.remove(filepath.Base(dir))
}

// desk sends 100 deactivations and activations in a row to the desk. The desk uses one core and
// flushes every change.
func (b *bench) desk() error {
	const licences, rounds, clients = 100, 20, 16
	var list strings.Builder
	for i := range licences {
		fmt.Fprintf(&list, "- {serial: SN-%03d, code: c, product: p, covers: '8', seats: 1, transfers: %d, active: [a]}\n", i, rounds)
	}
	if err := os.WriteFile(filepath.Join(b.dir, "licences.yaml"), []byte(list.String()), 0o644); err != nil {
		return err
	}
	if _, err := b.timed(false, b.program, "desk", "add", "licences.yaml"); err != nil {
		return err
	}
	cmd := exec.Command(b.program, "desk", "serve", "--quiet", "--listen", "127.0.0.1:0")
	cmd.Dir, cmd.Env = b.dir, append(os.Environ(), "GOMAXPROCS=1")
	out, err := cmd.StdoutPipe()
	if err != nil {
		return err
	}
	if err := cmd.Start(); err != nil {
		return err
	}
	defer cmd.Wait()
	defer cmd.Process.Kill()
	lines := bufio.NewScanner(out)
	var said []string
	for len(said) < 2 && lines.Scan() {
		f := strings.Fields(lines.Text())
		said = append(said, f[len(f)-1])
	}
	key, err := base64.RawURLEncoding.DecodeString(said[1])
	if err != nil {
		return err
	}
	d := &licence.Desk{URL: said[0], Key: ed25519.PublicKey(key)}
	var asked, failed atomic.Int64
	var all sync.WaitGroup
	next := make(chan int)
	start := time.Now()
	for range clients {
		all.Go(func() {
			for i := range next {
				for n := range rounds {
					at := []string{"a", "b"}[n%2]
					to := []string{"b", "a"}[n%2]
					b.change(d, licence.Deactivate, i, n, at, &asked, &failed)
					b.change(d, licence.Activate, i, n, to, &asked, &failed)
				}
			}
		})
	}
	for i := range licences {
		next <- i
	}
	close(next)
	all.Wait()
	took := time.Since(start)
	fmt.Printf("desk: %d changes by %d clients in %s: %.0f a second with one core, %d failed (goal: 500)\n", asked.Load(), clients, seconds(took), float64(asked.Load())/took.Seconds(), failed.Load())
	return b.remove("licences.yaml")
}

func (b *bench) change(d *licence.Desk, action licence.Action, i, n int, computer string, asked, failed *atomic.Int64) {
	asked.Add(1)
	r := licence.Request{Serial: fmt.Sprintf("SN-%03d", i), Code: "c", Product: "p", Computer: computer, Version: "8.1", Nonce: licence.Nonce()}
	a, err := d.Ask(context.Background(), action, r, fmt.Sprintf("key-of-%s-%d-%d-%s", action, i, n, computer))
	if err != nil || (a.State == licence.Active) != (action == licence.Activate) {
		failed.Add(1)
	}
}
