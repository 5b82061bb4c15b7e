package licence

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"math/big"
	"strings"

	"movekit/internal/core/digest"
	"movekit/internal/core/fault"
	"movekit/internal/core/version"
)

// Requests and answers can be read over the telephone. They are numbers in groups of five
// characters of Crockford's base 32: four data characters, and a check character for the group and
// its position. It detects one wrong character, two swapped neighbours and two swapped groups, and
// tells which group is wrong.
//
//	request  1 bit activate, 7 major version (0: none, 127: or more), 40 licence, 128 computer, 20 nonce, 44 proof
//	answer   3 bits state, 1 transfer spent, 8 transfers left (255: more), 48 proof
//
// Numbers are written with the highest bit first. Proofs are the first bits of HMAC-SHA256 (RFC
// 2104) under the licence's code. They replace the desk's signature, which would be a hundred
// characters long. Somebody who knows the code could forge an answer, but would deceive only their
// own kit.

const (
	spokenAlphabet = "0123456789ABCDEFGHJKMNPQRSTVWXYZ"
	groupData      = 4
	requestGroups  = 12
	answerGroups   = 3
	idBits         = 40
	nonceBits      = 20
	requestProof   = 44
	answerProof    = 48
	manyTransfers  = 255
	maxMajor       = 127
)

// PhoneRequest is a request in the form that is read over the telephone.
type PhoneRequest struct {
	Action   Action // Activate or Deactivate
	Major    int    // major app version; 0 means none
	Licence  string // the first 10 hex digits of LicenceID
	Computer string // machine.ID
	nonce    uint64
	proof    uint64
}

// spokenStates lists the states by their numbers in an answer.
var spokenStates = []State{Unknown, Active, Deactivated, NotActivated, Expired}

// ForPhone returns the request in the form for the telephone. A takeover cannot be requested by
// telephone.
func (r Request) ForPhone(action Action) (string, error) {
	s, err := r.phoneRequest(action)
	if err != nil {
		return "", err
	}
	return s.String(), nil
}

func (r Request) phoneRequest(action Action) (*PhoneRequest, error) {
	if raw, err := hex.DecodeString(r.Computer); err != nil || len(raw) != 16 || r.From != "" {
		return nil, fault.New(fault.Usage, "this request cannot be read over the telephone; write it into a file")
	}
	s := &PhoneRequest{Action: action, Licence: r.ID()[:idBits/4], Computer: r.Computer}
	if v := version.Numbers(r.Version); len(v) > 0 {
		s.Major = min(v[0], maxMajor)
	}
	sum := digest.Of([]byte(r.Nonce))
	s.nonce = firstBits(sum[:], nonceBits)
	s.proof = s.prove(r.Code)
	return s, nil
}

func (s *PhoneRequest) fields() string {
	return fmt.Sprintf("%s\n%d\n%s\n%s\n%d", s.Action, s.Major, s.Licence, s.Computer, s.nonce)
}

func (s *PhoneRequest) prove(code string) uint64 {
	return mac(code, "movekit telephone request\n"+s.fields(), requestProof)
}

// VerifiedBy reports whether the sender of the request knew the code.
func (s *PhoneRequest) VerifiedBy(code string) bool { return s.prove(code) == s.proof }

// Key returns the idempotency key of the request.
func (s *PhoneRequest) Key() string {
	return digest.Of([]byte("telephone " + s.String())).String()[:40]
}

// String returns the request in groups of characters.
func (s *PhoneRequest) String() string {
	activate := uint64(0)
	if s.Action == Activate {
		activate = 1
	}
	n := new(big.Int)
	push(n, activate, 1)
	push(n, uint64(s.Major), 7)
	pushHex(n, s.Licence)
	pushHex(n, s.Computer)
	push(n, s.nonce, nonceBits)
	push(n, s.proof, requestProof)
	return write(n, requestGroups)
}

// ParsePhoneRequest parses a request from ForPhone, as typed.
func ParsePhoneRequest(text string) (*PhoneRequest, error) {
	n, err := read(text, requestGroups)
	if err != nil {
		return nil, err
	}
	s := &PhoneRequest{Action: Deactivate, proof: pull(n, requestProof), nonce: pull(n, nonceBits)}
	s.Computer = pullHex(n, 32)
	s.Licence = pullHex(n, idBits/4)
	s.Major = int(pull(n, 7))
	if pull(n, 1) == 1 {
		s.Action = Activate
	}
	return s, nil
}

// Answer returns the desk's answer for the telephone.
func (s *PhoneRequest) Answer(code string, a *Answer) string {
	state := uint64(0)
	for i, st := range spokenStates {
		if st == a.State {
			state = uint64(i)
		}
	}
	n := new(big.Int)
	push(n, state, 3)
	push(n, uint64(min(max(a.Used, 0), 1)), 1)
	push(n, uint64(min(max(a.Transfers, 0), manyTransfers)), 8)
	push(n, s.seal(code, n.Uint64()), answerProof)
	return write(n, answerGroups)
}

// seal returns the proof of an answer to this request.
func (s *PhoneRequest) seal(code string, says uint64) uint64 {
	return mac(code, fmt.Sprintf("movekit telephone answer\n%s\n%d", s.fields(), says), answerProof)
}

// ReadPhoneAnswer parses a typed answer to the request. The answer is not signed: an app that keeps
// a signed activation gets it later from the desk.
func (r Request) ReadPhoneAnswer(action Action, text string) (*Answer, error) {
	n, err := read(text, answerGroups)
	if err != nil {
		return nil, err
	}
	s, err := r.phoneRequest(action)
	if err != nil {
		return nil, err
	}
	proof := pull(n, answerProof)
	says := n.Uint64()
	if s.seal(r.Code, says) != proof {
		return nil, fault.New(fault.DeskSignature, "the typed answer belongs to another request")
	}
	a := &Answer{Nonce: r.Nonce, Action: action, Licence: r.ID(), Product: r.Product, Computer: r.Computer}
	a.Transfers, a.Used = int(pull(n, 8)), int(pull(n, 1))
	if st := int(pull(n, 3)); st < len(spokenStates) {
		a.State = spokenStates[st]
	}
	if a.State == Active {
		a.Active = []string{a.Computer}
	}
	return a, nil
}

func mac(code, text string, bits uint) uint64 {
	h := hmac.New(sha256.New, []byte(code))
	h.Write([]byte(text))
	return firstBits(h.Sum(nil), bits)
}

func firstBits(b []byte, bits uint) uint64 {
	return new(big.Int).SetBytes(b[:8]).Uint64() >> (64 - bits)
}

func push(n *big.Int, v uint64, bits uint) {
	n.Lsh(n, bits).Or(n, new(big.Int).SetUint64(v))
}

func pushHex(n *big.Int, digits string) {
	v, _ := new(big.Int).SetString(digits, 16)
	n.Lsh(n, uint(4*len(digits))).Or(n, v)
}

// pull removes and returns the lowest bits.
func pull(n *big.Int, bits uint) uint64 {
	v := new(big.Int).And(n, new(big.Int).SetUint64(1<<bits-1)).Uint64()
	n.Rsh(n, bits)
	return v
}

func pullHex(n *big.Int, digits int) string {
	mask := new(big.Int).Lsh(big.NewInt(1), uint(4*digits))
	v := new(big.Int).And(n, mask.Sub(mask, big.NewInt(1)))
	n.Rsh(n, uint(4*digits))
	return fmt.Sprintf("%0*x", digits, v)
}

// write formats a number in groups.
func write(n *big.Int, groups int) string {
	values := make([]byte, groups*groupData)
	n = new(big.Int).Set(n)
	for i := len(values) - 1; i >= 0; i-- {
		values[i] = byte(pull(n, 5))
	}
	var out []string
	for g := range groups {
		group := values[g*groupData : (g+1)*groupData]
		text := ""
		for _, v := range append(group[:groupData:groupData], checkOf(group, g)) {
			text += spokenAlphabet[v : v+1]
		}
		out = append(out, text)
	}
	return strings.Join(out, "-")
}

// read parses groups, and reports which of them are mistyped.
func read(text string, groups int) (*big.Int, error) {
	text = strings.NewReplacer("O", "0", "I", "1", "L", "1", "-", "", ".", "").Replace(strings.ToUpper(strings.Join(strings.Fields(text), "")))
	if len(text) != groups*(groupData+1) {
		return nil, fault.New(fault.Usage, "%d characters were typed; expected %d, in %d groups of %d", len([]rune(text)), groups*(groupData+1), groups, groupData+1)
	}
	n := new(big.Int)
	var wrong []string
	for g := range groups {
		part := text[g*(groupData+1) : (g+1)*(groupData+1)]
		var v [groupData + 1]byte
		good := true
		for i := range v {
			at := strings.IndexByte(spokenAlphabet, part[i])
			if good = good && at >= 0; good {
				v[i] = byte(at)
			}
		}
		if !good || checkOf(v[:groupData], g) != v[groupData] {
			wrong = append(wrong, fmt.Sprintf("group %d (%s)", g+1, part))
		}
		for _, x := range v[:groupData] {
			push(n, uint64(x), 5)
		}
	}
	if len(wrong) > 0 {
		return nil, fault.New(fault.Usage, "typing error in %s", strings.Join(wrong, ", "))
	}
	return n, nil
}

// checkOf returns the check character of a group: a weighted sum over GF(32), plus a constant that
// depends on the position.
func checkOf(group []byte, place int) byte {
	sum := byte((place*7 + 3) % 32)
	weight := byte(2)
	for _, v := range group {
		sum ^= times(weight, v)
		weight = times(weight, 2)
	}
	return sum
}

// times multiplies in GF(32) modulo x^5 + x^2 + 1.
func times(a, b byte) (p byte) {
	for ; b > 0; b >>= 1 {
		if b&1 == 1 {
			p ^= a
		}
		if a <<= 1; a&32 != 0 {
			a ^= 0b100101
		}
	}
	return p
}
