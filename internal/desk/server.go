package desk

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"log/slog"
	"mime"
	"net"
	"net/http"
	"regexp"
	"time"

	"movekit/internal/core/fault"
	"movekit/internal/core/licence"
)

// maxRequest is the largest request body, in bytes.
const maxRequest = 8 << 10

// Handler answers the desk's protocol.
func (s *Store) Handler(log *slog.Logger) http.Handler {
	mux := http.NewServeMux()
	for _, action := range []licence.Action{licence.Status, licence.Deactivate, licence.Activate} {
		mux.HandleFunc("POST "+action.Path(), func(w http.ResponseWriter, r *http.Request) {
			start := time.Now()
			status := s.serve(w, r, action)
			log.Info("request", "action", action, "status", status, "took", time.Since(start))
		})
		mux.HandleFunc(action.Path(), func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Allow", http.MethodPost)
			refuse(w, problem(http.StatusMethodNotAllowed, licence.ProblemBadRequest, "This is asked with POST", ""))
		})
	}
	mux.HandleFunc("GET /v1/desk", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", licence.TypeJSON)
		json.NewEncoder(w).Encode(map[string]string{"desk": "movekit", "key": s.PublicKey()})
	})
	mux.HandleFunc("GET /{$}", s.page)
	mux.HandleFunc("/", func(w http.ResponseWriter, _ *http.Request) {
		refuse(w, problem(http.StatusNotFound, licence.ProblemBadRequest, "Nothing is here", ""))
	})
	return mux
}

var (
	nonceForm = regexp.MustCompile(`^[A-Za-z0-9_-]{16,64}$`)
	keyForm   = regexp.MustCompile(`^[A-Za-z0-9_-]{16,128}$`)
)

// serve answers one request and returns its status.
func (s *Store) serve(w http.ResponseWriter, r *http.Request, action licence.Action) int {
	req, key, p := readRequest(w, r, action)
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
	a.Nonce, a.Issued = req.Nonce, time.Now().Unix()
	signed, err := licence.Sign(*a, s.key)
	if err != nil {
		return refuse(w, problem(http.StatusInternalServerError, licence.ProblemServerFailed, "The desk could not sign its answer", ""))
	}
	w.Header().Set("Content-Type", licence.TypeAnswer)
	w.Header().Set("Cache-Control", "no-store")
	io.WriteString(w, signed)
	return http.StatusOK
}

func readRequest(w http.ResponseWriter, r *http.Request, action licence.Action) (req licence.Request, key string, p *licence.Problem) {
	bad := func(detail string) *licence.Problem {
		return problem(http.StatusBadRequest, licence.ProblemBadRequest, "The request cannot be read", detail)
	}
	if typ, _, _ := mime.ParseMediaType(r.Header.Get("Content-Type")); typ != licence.TypeJSON {
		return req, "", problem(http.StatusUnsupportedMediaType, licence.ProblemBadRequest, "The request is not "+licence.TypeJSON, "")
	}
	dec := json.NewDecoder(http.MaxBytesReader(w, r.Body, maxRequest))
	dec.DisallowUnknownFields()
	if err := dec.Decode(&req); err != nil {
		var big *http.MaxBytesError
		if errors.As(err, &big) {
			return req, "", problem(http.StatusRequestEntityTooLarge, licence.ProblemBadRequest, "The request is too large", "")
		}
		return req, "", bad("the body is not the JSON object of the protocol")
	}
	key = r.Header.Get(licence.KeyHeader)
	switch {
	case (req.Serial == "" || req.Code == "") == (req.Licence == "" || req.Proof == ""), (req.Serial+req.Code != "") == (req.Licence+req.Proof != ""), req.Product == "", req.Computer == "":
		return req, "", bad("product, computer, and either serial and code or licence and proof are needed")
	case !nonceForm.MatchString(req.Nonce):
		return req, "", bad("nonce must be 16 to 64 letters, digits, - or _")
	case action != licence.Status && !keyForm.MatchString(key):
		return req, "", bad("the header " + licence.KeyHeader + " must be 16 to 128 letters, digits, - or _")
	}
	return req, key, nil
}

func refuse(w http.ResponseWriter, p *licence.Problem) int {
	w.Header().Set("Content-Type", licence.TypeProblem)
	w.WriteHeader(p.Status)
	json.NewEncoder(w).Encode(p)
	return p.Status
}

// Serve answers on addr, which must be of this computer (loopback), until ctx
// ends. ready is told the address it listens on.
func (s *Store) Serve(ctx context.Context, addr string, log *slog.Logger, ready func(url string)) error {
	host, _, err := net.SplitHostPort(addr)
	if err != nil {
		return fault.Wrap(fault.Usage, err, "the address %q cannot be used", addr)
	}
	if ip := net.ParseIP(host); host != "localhost" && (ip == nil || !ip.IsLoopback()) {
		return fault.New(fault.Usage, "the desk has no TLS and listens on this computer only (127.0.0.1), not on %q", host)
	}
	l, err := net.Listen("tcp", addr)
	if err != nil {
		return fault.Wrap(fault.Usage, err, "cannot listen on %s", addr)
	}
	srv := &http.Server{
		Handler: s.Handler(log), ReadHeaderTimeout: 5 * time.Second, ReadTimeout: 10 * time.Second,
		WriteTimeout: 20 * time.Second, IdleTimeout: time.Minute, MaxHeaderBytes: 16 << 10,
	}
	go func() {
		<-ctx.Done()
		stop, cancel := context.WithTimeout(context.WithoutCancel(ctx), 2*time.Second)
		defer cancel()
		srv.Shutdown(stop)
	}()
	ready("http://" + l.Addr().String())
	if err := srv.Serve(l); !errors.Is(err, http.ErrServerClosed) {
		return fault.Wrap(fault.Internal, err, "the desk stopped")
	}
	return nil
}
