package desk

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"io"
	"maps"
	mathrand "math/rand/v2"
	"net"
	"net/http"
	"strconv"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"movekit/internal/core/licence"
)

// breaking adds the active faults to a handler. The web page has no faults.
func (s *Store) breaking(handler http.Handler, restart func()) http.Handler {
	hits := func(percent int) bool { return mathrand.IntN(100) < percent }
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		f, err := s.Faults(r.Context())
		if err != nil || f == (Faults{}) || r.Method != http.MethodPost {
			handler.ServeHTTP(w, r)
			return
		}
		if hits(f.LostRequests) {
			breakOff(w)
			return
		}
		select {
		case <-time.After(f.Delay):
		case <-r.Context().Done():
			return
		}
		if hits(f.Errors) {
			refuse(w, problem(http.StatusInternalServerError, licence.ProblemServerFailed, "The desk was told to fail", ""))
			return
		}
		answer := &held{header: http.Header{}, code: http.StatusOK}
		// Once started, the request is carried out even if the client is gone.
		handler.ServeHTTP(answer, r.WithContext(context.WithoutCancel(r.Context())))
		if hits(f.Restarts) {
			breakOff(w)
			restart()
			return
		}
		if hits(f.LostAnswers) {
			breakOff(w)
			return
		}
		body := answer.body.Bytes()
		if hits(f.WrongSignature) && answer.header.Get("Content-Type") == licence.TypeAnswer {
			body = wronglySigned(body, s.key.Public().(ed25519.PublicKey))
		}
		maps.Copy(w.Header(), answer.header)
		w.WriteHeader(answer.code)
		w.Write(body)
	})
}

// held is an answer that is held back.
type held struct {
	header http.Header
	code   int
	body   bytes.Buffer
}

func (h *held) Header() http.Header         { return h.header }
func (h *held) Write(p []byte) (int, error) { return h.body.Write(p) }
func (h *held) WriteHeader(code int)        { h.code = code }

// breakOff closes the connection without an answer.
func breakOff(w http.ResponseWriter) {
	if c, _, err := http.NewResponseController(w).Hijack(); err == nil {
		c.Close()
		return
	}
	panic(http.ErrAbortHandler) // HTTP/2: resets the stream, and is not logged
}

// wronglySigned signs an answer with an unknown key.
func wronglySigned(signed []byte, key ed25519.PublicKey) []byte {
	a, err := licence.Verify(string(bytes.TrimSpace(signed)), key)
	if err != nil {
		return signed
	}
	_, other, _ := ed25519.GenerateKey(rand.Reader)
	text, err := licence.Sign(*a, other)
	if err != nil {
		return signed
	}
	return []byte(text)
}

// An address may send wrongCodes wrong codes, and one more every wrongEvery.
const (
	wrongCodes = 10
	wrongEvery = time.Minute
	maxKnown   = 10_000 // number of remembered addresses
)

// limiter slows down addresses that guess codes.
type limiter struct {
	mu sync.Mutex
	by map[string]*guesser
}

// guesser is one address. Its requests are served one at a time, so that parallel requests cannot
// evade the limit.
type guesser struct {
	sync.Mutex
	may *rate.Limiter
}

func (l *limiter) of(r *http.Request) *guesser {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		host = r.RemoteAddr
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.by[host] == nil {
		if len(l.by) >= maxKnown {
			clear(l.by)
		}
		l.by[host] = &guesser{may: rate.NewLimiter(rate.Every(wrongEvery), wrongCodes)}
	}
	return l.by[host]
}

// unless serves a request if its sender has not guessed too often, and counts wrong guesses. It
// reads the whole body first, so that all earlier guesses count for a slow request.
func (l *limiter) unless(w http.ResponseWriter, r *http.Request, serve func() *licence.Problem) int {
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, maxRequest))
	r.Body = io.NopCloser(io.MultiReader(bytes.NewReader(body), failing{err}))
	g := l.of(r)
	g.Lock()
	defer g.Unlock()
	if left := g.may.Tokens(); left < 1 {
		wait := time.Duration((1 - left) * float64(wrongEvery)).Round(time.Second)
		w.Header().Set("Retry-After", strconv.Itoa(int(wait.Seconds())+1))
		p := refuse(w, problem(http.StatusTooManyRequests, licence.ProblemTooMany, "Too many wrong codes came from this address", "try again in "+wait.String()))
		return p.Status
	}
	p := serve()
	if p == nil {
		return http.StatusOK
	}
	if p.Type == licence.ProblemUnknown {
		g.may.Allow()
	}
	return p.Status
}

// failing is a reader that returns the error a body ended with.
type failing struct{ err error }

func (f failing) Read([]byte) (int, error) {
	if f.err == nil {
		return 0, io.EOF
	}
	return 0, f.err
}
