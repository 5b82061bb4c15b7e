// Package licence moves licences. It asks a licence service for the state of a licence, deactivates
// it on the old computer and activates it on the new one.
//
// The protocol is described in docs/licence-desk.openapi.yaml: HTTP with JSON requests, answers
// signed as JWS (RFC 7515) with EdDSA (RFC 8037), errors as problem+json (RFC 9457), and an
// Idempotency-Key, so that a request that is sent twice is carried out once.
package licence

import (
	"crypto/ed25519"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"github.com/go-jose/go-jose/v4"

	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
)

// State is the state of a licence on one computer.
type State string

// The states.
const (
	Active       State = "active"
	Deactivated  State = "deactivated"
	NotActivated State = "not activated"
	Expired      State = "expired"
	Unknown      State = "unknown"
)

// Action is a request to the service.
type Action string

// The actions.
const (
	Status     Action = "status"
	Deactivate Action = "deactivate"
	Activate   Action = "activate"
)

// Path returns the URL path of an action, below the desk's address.
func (a Action) Path() string {
	switch a {
	case Activate:
		return "/v1/activations"
	case Deactivate:
		return "/v1/deactivations"
	}
	return "/v1/status"
}

// Media types of the protocol.
const (
	TypeJSON    = "application/json"
	TypeAnswer  = "application/jose"
	TypeProblem = "application/problem+json"
	KeyHeader   = "Idempotency-Key"
)

// Request is a request from the client. A request in a file identifies the licence by its id, and
// proves that the sender knows the code. It does not contain the serial or the code.
type Request struct {
	Serial   string   `json:"serial,omitempty"`
	Code     string   `json:"code,omitempty"`
	Licence  string   `json:"licence,omitempty"` // LicenceID of the serial
	Proof    string   `json:"proof,omitempty"`   // see Prove
	Product  string   `json:"product"`
	Computer string   `json:"computer"`          // machine.ID of the computer
	Version  string   `json:"version,omitempty"` // app version, for an activation
	Edition  string   `json:"edition,omitempty"` // app edition, for an activation
	From     string   `json:"from,omitempty"`    // for an activation: the computer to take the seat over from
	Also     []string `json:"also,omitempty"`    // other computers to include in Active if the licence is active on them; at most MaxAlso
	Nonce    string   `json:"nonce"`             // 16 to 64 characters, new in each request
}

// Answer is the signed content of an answer.
type Answer struct {
	Issued    int64    `json:"iat"` // seconds since 1970
	Nonce     string   `json:"nonce"`
	Action    Action   `json:"action"`
	Licence   string   `json:"licence"` // LicenceID of the serial
	Product   string   `json:"product"`
	Computer  string   `json:"computer"`
	State     State    `json:"state"`             // on that computer
	Active    []string `json:"active"`            // computers that it is active on, including those in the request; at most MaxActive
	Taken     int      `json:"seats_taken"`       // number of computers that it is active on
	Covers    string   `json:"covers"`            // major version that is covered
	Edition   string   `json:"edition,omitempty"` // edition that is covered; "" means all
	Seats     int      `json:"seats"`
	Transfers int      `json:"transfers_left"`
	Used      int      `json:"transfers_used"`       // by this request
	Takeover  bool     `json:"takeover,omitempty"`   // an activation may disable another computer
	Disabled  string   `json:"disabled,omitempty"`   // computer whose seat this request took over
	Again     int64    `json:"again_from,omitempty"` // when it can be activated again; seconds since 1970
	Until     int64    `json:"expires,omitempty"`    // when it expires; seconds since 1970
	// Signed is the complete signed answer, which the app keeps. It is not part of the answer.
	Signed string `json:"-"`
}

// Limits for the lists in requests and answers.
const (
	MaxAlso   = 8
	MaxActive = 64
)

// Seated returns the number of computers that the licence is active on.
func (a *Answer) Seated() int { return max(a.Taken, len(a.Active)) }

// ID returns the id of the licence in a request.
func (r Request) ID() string {
	if r.Licence != "" {
		return r.Licence
	}
	return LicenceID(r.Serial)
}

// Prove returns the proof that the sender of a request knows the code: HMAC-SHA256 (RFC 2104) under
// the code, in base64url, over all fields of the request, the action and the idempotency key.
func (r Request) Prove(code string, action Action, key string) string {
	h := hmac.New(sha256.New, []byte(code))
	for _, s := range []string{"licence request of Move Kit", string(action), key, r.ID(), r.Product, r.Computer, r.Version, r.Edition, r.From, strings.Join(r.Also, " "), r.Nonce} {
		fmt.Fprintf(h, "%d:%s\n", len(s), s)
	}
	return base64.RawURLEncoding.EncodeToString(h.Sum(nil))
}

// Sealed returns the request for a file, without serial and code.
func (r Request) Sealed(action Action, key string) Request {
	r.Proof = r.Prove(r.Code, action, key)
	r.Licence, r.Serial, r.Code = r.ID(), "", ""
	return r
}

// Problem is an error of the service (RFC 9457).
type Problem struct {
	Type   string `json:"type"`
	Title  string `json:"title"`
	Status int    `json:"status"`
	Detail string `json:"detail,omitempty"`
}

// The problem types.
const (
	ProblemBadRequest   = "urn:movekit:desk:bad-request"
	ProblemUnknown      = "urn:movekit:desk:unknown-licence"
	ProblemSeatTaken    = "urn:movekit:desk:seat-taken"
	ProblemNoTransfer   = "urn:movekit:desk:no-transfer-left"
	ProblemNotCovered   = "urn:movekit:desk:version-not-covered"
	ProblemNotActive    = "urn:movekit:desk:not-active-there"
	ProblemNoTakeover   = "urn:movekit:desk:takeover-not-allowed"
	ProblemWaiting      = "urn:movekit:desk:waiting-time"
	ProblemExpired      = "urn:movekit:desk:expired"
	ProblemTooMany      = "urn:movekit:desk:too-many-wrong-codes"
	ProblemMistyped     = "urn:movekit:desk:mistyped"
	ProblemKeyReused    = "urn:movekit:desk:idempotency-key-reused"
	ProblemServerFailed = "urn:movekit:desk:failed"
)

// Error returns the problem's title and detail.
func (p *Problem) Error() string {
	if p.Detail == "" {
		return p.Title
	}
	return p.Title + ": " + p.Detail
}

// LicenceID returns an id for a licence that does not reveal its serial.
func LicenceID(serial string) string {
	return digest.Of([]byte("licence of Move Kit\x00" + serial)).String()[:32]
}

// Mask shows the last four characters of a secret.
func Mask(secret string) string {
	r := []rune(secret)
	if len(r) <= 4 {
		return "••••"
	}
	return "••••" + string(r[len(r)-4:])
}

// Sign signs an answer as a compact JWS.
func Sign(a Answer, key ed25519.PrivateKey) (string, error) {
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.EdDSA, Key: key}, nil)
	if err != nil {
		return "", err
	}
	payload, err := json.Marshal(a)
	if err != nil {
		return "", err
	}
	jws, err := signer.Sign(payload)
	if err != nil {
		return "", err
	}
	return jws.CompactSerialize()
}

// Verify checks the signature of a compact JWS and returns its answer.
func Verify(compact string, key ed25519.PublicKey) (*Answer, error) {
	jws, err := jose.ParseSignedCompact(compact, []jose.SignatureAlgorithm{jose.EdDSA})
	if err != nil {
		return nil, fault.Wrap(fault.DeskNonsense, err, "the licence desk's answer is not signed")
	}
	payload, err := jws.Verify(key)
	if err != nil {
		return nil, fault.New(fault.DeskSignature, "the licence desk's answer is not signed with the key in the card")
	}
	var a Answer
	if err := json.Unmarshal(payload, &a); err != nil {
		return nil, fault.Wrap(fault.DeskNonsense, err, "the licence desk's answer cannot be read")
	}
	a.Signed = compact
	return &a, nil
}

// Answers checks that an answer belongs to the request and the action.
func (a *Answer) Answers(r Request, want Action) error {
	if a.Nonce != r.Nonce || a.Action != want || a.Licence != r.ID() || a.Computer != r.Computer || a.Product != r.Product {
		return fault.New(fault.DeskSignature, "the licence desk's answer belongs to another request")
	}
	return nil
}

// Reached returns an error if the action did not reach its intended state.
func (a *Answer) Reached(action Action) error {
	if action == Activate && a.State != Active || action == Deactivate && a.State != Deactivated && a.State != NotActivated {
		return fault.New(fault.DeskNonsense, "the licence service reports that the licence is %s after the request to %s it", a.State, action)
	}
	return nil
}

// Held reports whether a computer in this state has the licence, even if it has expired.
func (s State) Held() bool { return s == Active || s == Expired }

// When converts a time of the protocol; 0 becomes the zero time.
func When(seconds int64) time.Time {
	if seconds == 0 {
		return time.Time{}
	}
	return time.Unix(seconds, 0)
}

// FindProblem returns the problem of that type in an error, or nil.
func FindProblem(err error, typ string) *Problem {
	for e := err; e != nil; {
		if p, ok := e.(*Problem); ok && (typ == "" || p.Type == typ) {
			return p
		}
		u, ok := e.(interface{ Unwrap() error })
		if !ok {
			return nil
		}
		e = u.Unwrap()
	}
	return nil
}

// refused returns a service's problem as an error of the right kind.
func refused(p *Problem) error {
	kind := fault.DeskRefused
	if p.Status >= 500 {
		kind = fault.DeskDown
	}
	return fault.Wrap(kind, p, "the licence desk refused (%d)", p.Status)
}

// Secrets are a licence's secrets, which are sealed in the kit.
type Secrets struct {
	Serial     string `json:"serial"`
	Code       string `json:"code"`
	Passphrase string `json:"passphrase,omitempty"` // of a licence file
	User       string `json:"user,omitempty"`       // the user whose profile has it; "" if it is not in a profile
}

// String keeps the secrets out of messages.
func (s Secrets) String() string { return fmt.Sprintf("serial %s", Mask(s.Serial)) }
