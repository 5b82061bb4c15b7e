package licence

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"errors"
	"io"
	"mime"
	"net/http"
	"strings"
	"time"

	"movekit/internal/core/fault"
)

// maxAnswer limits the size of an answer, in bytes.
const maxAnswer = 64 << 10

// Service is a licence service. key is the idempotency key; Status has none.
type Service interface {
	Ask(ctx context.Context, action Action, r Request, key string) (*Answer, error)
}

// Desk is a client of the licence desk's protocol.
type Desk struct {
	URL     string
	Key     ed25519.PublicKey // the key that must have signed answers
	Pin     string            // the required TLS key; "" means that the system must trust the certificate
	Timeout time.Duration     // for one request; 0 means 10 s
	Client  *http.Client      // nil means a new one
}

// Nonce returns 26 random characters.
func Nonce() string { return rand.Text() }

// Ask sends one request and returns the verified answer.
func (d *Desk) Ask(ctx context.Context, action Action, r Request, key string) (*Answer, error) {
	timeout := d.Timeout
	if timeout == 0 {
		timeout = 10 * time.Second
	}
	ctx, cancel := context.WithTimeout(ctx, timeout)
	defer cancel()
	body, err := json.Marshal(r)
	if err != nil {
		return nil, fault.Wrap(fault.Internal, err, "cannot write the request")
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, strings.TrimSuffix(d.URL, "/")+action.Path(), bytes.NewReader(body))
	if err != nil {
		return nil, fault.Wrap(fault.BadCard, err, "the desk's address is not valid")
	}
	req.Header.Set("Content-Type", TypeJSON)
	req.Header.Set("Accept", TypeAnswer+", "+TypeProblem)
	if key != "" {
		req.Header.Set(KeyHeader, key)
	}
	client := d.Client
	if client == nil {
		client = d.client()
	}
	resp, err := client.Do(req)
	if err != nil {
		if errors.Is(ctx.Err(), context.DeadlineExceeded) {
			return nil, fault.New(fault.DeskDown, "the licence desk at %s did not answer within %s", d.URL, timeout)
		}
		return nil, fault.Wrap(fault.DeskDown, errors.Unwrap(err), "the licence desk at %s cannot be reached", d.URL)
	}
	defer resp.Body.Close()
	data, err := io.ReadAll(io.LimitReader(resp.Body, maxAnswer+1))
	if err != nil {
		return nil, fault.Wrap(fault.DeskDown, err, "the licence desk at %s sent an incomplete answer", d.URL)
	}
	return d.read(resp, data, r, action)
}

// client returns a client that sends secrets only to the card's address.
func (d *Desk) client() *http.Client {
	c := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	if d.Pin == "" {
		return c
	}
	transport := http.DefaultTransport.(*http.Transport).Clone()
	transport.DisableKeepAlives = true // it serves one request
	transport.TLSClientConfig = &tls.Config{
		MinVersion:         tls.VersionTLS12,
		InsecureSkipVerify: true, // the pin is checked instead of names and issuers
		VerifyConnection: func(s tls.ConnectionState) error {
			if len(s.PeerCertificates) == 0 || Pin(s.PeerCertificates[0]) != d.Pin {
				return fault.New(fault.DeskSignature, "the certificate at %s is not the one in the card", d.URL)
			}
			return nil
		},
	}
	c.Transport = transport
	return c
}

// Pin identifies a certificate by its public key: the SHA-256 of its SubjectPublicKeyInfo (RFC
// 7469, section 2.4) in base64url.
func Pin(c *x509.Certificate) string {
	sum := sha256.Sum256(c.RawSubjectPublicKeyInfo)
	return base64.RawURLEncoding.EncodeToString(sum[:])
}

func (d *Desk) read(resp *http.Response, data []byte, r Request, action Action) (*Answer, error) {
	typ, _, _ := mime.ParseMediaType(resp.Header.Get("Content-Type"))
	switch {
	case len(data) > maxAnswer:
		return nil, fault.New(fault.DeskNonsense, "the licence desk at %s answered with more than %d bytes", d.URL, maxAnswer)
	case typ == TypeProblem:
		p := &Problem{}
		if err := json.Unmarshal(data, p); err != nil || p.Title == "" {
			return nil, fault.New(fault.DeskNonsense, "the licence desk at %s answered with an unreadable error", d.URL)
		}
		p.Status = resp.StatusCode
		return nil, refused(p)
	case resp.StatusCode != http.StatusOK || typ != TypeAnswer:
		return nil, fault.New(fault.DeskNonsense, "the answer from %s (%q, %q) is not from a licence desk", d.URL, resp.Status, typ)
	}
	a, err := Verify(strings.TrimSpace(string(data)), d.Key)
	if err != nil {
		return nil, err
	}
	return a, a.Answers(r, action)
}
