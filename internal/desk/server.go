package desk

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"mime"
	"net"
	"net/http"
	"regexp"
	"sync/atomic"
	"time"

	"movekit/internal/core/fault"
	"movekit/internal/core/licence"
)

// maxRequest limits the size of a request body, in bytes.
const maxRequest = 8 << 10

// Handler serves the desk's protocol, without simulated faults.
func (s *Store) Handler(log *slog.Logger) http.Handler {
	limit := &limiter{by: map[string]*guesser{}}
	mux := http.NewServeMux()
	for _, action := range []licence.Action{licence.Status, licence.Deactivate, licence.Activate} {
		mux.HandleFunc("POST "+action.Path(), func(w http.ResponseWriter, r *http.Request) {
			start := time.Now()
			status := limit.unless(w, r, func() *licence.Problem { return s.serve(w, r, action) })
			log.Info("request", "action", action, "status", status, "took", time.Since(start))
		})
	}
	mux.HandleFunc("POST /v1/telephone", func(w http.ResponseWriter, r *http.Request) {
		limit.unless(w, r, func() *licence.Problem { return s.telephone(w, r) })
	})
	mux.HandleFunc("GET /v1/desk", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", licence.TypeJSON)
		json.NewEncoder(w).Encode(map[string]string{"desk": "movekit", "key": s.PublicKey()})
	})
	mux.HandleFunc("GET /{$}", s.page)
	for path, method := range map[string]string{licence.Status.Path(): http.MethodPost, licence.Deactivate.Path(): http.MethodPost, licence.Activate.Path(): http.MethodPost, "/v1/telephone": http.MethodPost, "/v1/desk": http.MethodGet, "/{$}": http.MethodGet} {
		mux.HandleFunc(path, func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Allow", method)
			refuse(w, problem(http.StatusMethodNotAllowed, licence.ProblemBadRequest, "Use the method "+method, ""))
		})
	}
	mux.HandleFunc("/", func(w http.ResponseWriter, _ *http.Request) {
		refuse(w, problem(http.StatusNotFound, licence.ProblemBadRequest, "Not found", ""))
	})
	return mux
}

var (
	nonceForm = regexp.MustCompile(`^[A-Za-z0-9_-]{16,64}$`)
	keyForm   = regexp.MustCompile(`^[A-Za-z0-9_-]{16,128}$`)
)

// serve answers one request, and returns the problem if it was refused, or nil.
func (s *Store) serve(w http.ResponseWriter, r *http.Request, action licence.Action) *licence.Problem {
	req, key, p := readRequest(r, action)
	if p != nil {
		return refuse(w, p)
	}
	a, p, err := s.Handle(r.Context(), action, req, key)
	if err != nil {
		return refuse(w, problem(http.StatusInternalServerError, licence.ProblemServerFailed, "The desk could not carry out the request", ""))
	}
	if p != nil {
		return refuse(w, p)
	}
	a.Nonce = req.Nonce
	signed, err := licence.Sign(*a, s.key)
	if err != nil {
		return refuse(w, problem(http.StatusInternalServerError, licence.ProblemServerFailed, "The desk could not sign its answer", ""))
	}
	w.Header().Set("Content-Type", licence.TypeAnswer)
	w.Header().Set("Cache-Control", "no-store")
	io.WriteString(w, signed)
	return nil
}

// telephone answers a request that is typed in for a caller.
func (s *Store) telephone(w http.ResponseWriter, r *http.Request) *licence.Problem {
	var typed struct {
		Request string `json:"request"`
	}
	if p := readJSON(r, &typed); p != nil {
		return refuse(w, p)
	}
	said, p, err := s.Telephone(r.Context(), typed.Request)
	if err != nil {
		p = problem(http.StatusInternalServerError, licence.ProblemServerFailed, "The desk could not carry out the request", "")
	}
	if p != nil {
		return refuse(w, p)
	}
	w.Header().Set("Content-Type", licence.TypeJSON)
	w.Header().Set("Cache-Control", "no-store")
	json.NewEncoder(w).Encode(map[string]string{"answer": said})
	return nil
}

// readJSON reads a body that is one JSON object with the right content type, which a page of
// another site cannot send.
func readJSON(r *http.Request, into any) *licence.Problem {
	if typ, _, _ := mime.ParseMediaType(r.Header.Get("Content-Type")); typ != licence.TypeJSON {
		return problem(http.StatusUnsupportedMediaType, licence.ProblemBadRequest, "The request is not "+licence.TypeJSON, "")
	}
	dec := json.NewDecoder(r.Body)
	dec.DisallowUnknownFields()
	err := dec.Decode(into)
	if err == nil {
		if _, more := dec.Token(); more != io.EOF {
			err = errors.New("there is data after the object")
		}
	}
	var big *http.MaxBytesError
	switch {
	case errors.As(err, &big):
		return problem(http.StatusRequestEntityTooLarge, licence.ProblemBadRequest, "The request is too large", "")
	case err != nil:
		return problem(http.StatusBadRequest, licence.ProblemBadRequest, "The request cannot be read", "the body is not the JSON object of the protocol")
	}
	return nil
}

func readRequest(r *http.Request, action licence.Action) (req licence.Request, key string, p *licence.Problem) {
	bad := func(detail string) *licence.Problem {
		return problem(http.StatusBadRequest, licence.ProblemBadRequest, "The request cannot be read", detail)
	}
	if p := readJSON(r, &req); p != nil {
		return req, "", p
	}
	key = r.Header.Get(licence.KeyHeader)
	switch {
	case (req.Serial == "" || req.Code == "") == (req.Licence == "" || req.Proof == ""), (req.Serial+req.Code != "") == (req.Licence+req.Proof != ""), req.Product == "", req.Computer == "":
		return req, "", bad("product, computer, and either serial and code or licence and proof are needed")
	case !nonceForm.MatchString(req.Nonce):
		return req, "", bad("nonce must be 16 to 64 letters, digits, - or _")
	case len(req.Also) > licence.MaxAlso:
		return req, "", bad(fmt.Sprintf("also names at most %d computers", licence.MaxAlso))
	case action != licence.Status && !keyForm.MatchString(key):
		return req, "", bad("the header " + licence.KeyHeader + " must be 16 to 128 letters, digits, - or _")
	}
	return req, key, nil
}

func refuse(w http.ResponseWriter, p *licence.Problem) *licence.Problem {
	w.Header().Set("Content-Type", licence.TypeProblem)
	w.WriteHeader(p.Status)
	json.NewEncoder(w).Encode(p)
	return p
}

// Serve answers on addr until ctx ends. Without a certificate, addr must be a loopback address.
// ready gets the URL.
func (s *Store) Serve(ctx context.Context, addr string, cert *tls.Certificate, log *slog.Logger, ready func(url string)) error {
	host, _, err := net.SplitHostPort(addr)
	if err != nil {
		return fault.Wrap(fault.Usage, err, "the address %q cannot be used", addr)
	}
	if ip := net.ParseIP(host); cert == nil && host != "localhost" && (ip == nil || !ip.IsLoopback()) {
		return fault.New(fault.Usage, "without TLS the desk listens on this computer only (127.0.0.1), not on %q", host)
	}
	handler := s.Handler(log) // the same handler after restarts, because it counts wrong guesses
	for first := true; ; first = false {
		l, err := net.Listen("tcp", addr)
		if err != nil {
			return fault.Wrap(fault.Usage, err, "cannot listen on %s", addr)
		}
		addr = l.Addr().String()
		scheme := "http://"
		if cert != nil {
			scheme, l = "https://", tls.NewListener(l, &tls.Config{Certificates: []tls.Certificate{*cert}, MinVersion: tls.VersionTLS12})
		}
		if first {
			ready(scheme + addr)
		}
		again, err := s.serveUntil(ctx, l, handler)
		if err != nil {
			return fault.Wrap(fault.Internal, err, "the desk stopped")
		}
		if !again {
			return nil
		}
		log.Info("restarting")
		if err := s.again(); err != nil {
			return fault.Wrap(fault.BadDatabase, err, "cannot open the desk's file again")
		}
	}
}

// serveUntil serves until ctx ends, or a simulated fault restarts the desk.
func (s *Store) serveUntil(ctx context.Context, l net.Listener, handler http.Handler) (again bool, err error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	var restarts atomic.Bool
	srv := &http.Server{
		Handler: s.breaking(handler, func() { restarts.Store(true); cancel() }), ReadHeaderTimeout: 5 * time.Second, ReadTimeout: 10 * time.Second,
		WriteTimeout: 20 * time.Second, IdleTimeout: time.Minute, MaxHeaderBytes: 16 << 10,
	}
	stopped := make(chan struct{})
	go func() {
		defer close(stopped)
		<-ctx.Done()
		if restarts.Load() {
			srv.Close()
			return
		}
		stop, cancel := context.WithTimeout(context.WithoutCancel(ctx), 2*time.Second)
		defer cancel()
		srv.Shutdown(stop)
	}()
	if err = srv.Serve(l); errors.Is(err, http.ErrServerClosed) {
		err = nil
	}
	cancel()
	<-stopped
	return restarts.Load(), err
}
