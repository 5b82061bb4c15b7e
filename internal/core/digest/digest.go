// Package digest defines the content hash of Move Kit: BLAKE3 with 32 bytes of output.
package digest

import (
	"encoding/hex"
	"io"

	"github.com/zeebo/blake3"

	"movekit/internal/core/block"
)

// Sum is a BLAKE3 hash.
type Sum [32]byte

// String returns the hash in lower-case hex, as b3sum prints it.
func (s Sum) String() string { return hex.EncodeToString(s[:]) }

// Of returns the hash of data.
func Of(data []byte) Sum { return blake3.Sum256(data) }

// Parse parses 64 lower-case hex digits.
func Parse(s string) (Sum, bool) {
	var out Sum
	raw, err := hex.DecodeString(s)
	if err != nil || len(raw) != len(out) {
		return out, false
	}
	copy(out[:], raw)
	return out, out.String() == s
}

// Hash is a running hash.
type Hash struct{ h *blake3.Hasher }

// New returns an empty Hash.
func New() *Hash { return &Hash{blake3.New()} }

// Keyed returns a Hash that only holders of the 32-byte key can compute.
func Keyed(key Sum) *Hash {
	h, err := blake3.NewKeyed(key[:])
	if err != nil {
		panic(err) // only for a key of another length
	}
	return &Hash{h}
}

// Write adds p to the hash. It never fails.
func (h *Hash) Write(p []byte) (int, error) { return h.h.Write(p) }

// Sum returns the hash of everything written.
func (h *Hash) Sum() (s Sum) {
	h.h.Sum(s[:0])
	return s
}

// Reset makes the Hash empty.
func (h *Hash) Reset() { h.h.Reset() }

// Derive returns a key for one purpose from a secret (BLAKE3 derive_key; the
// purpose is its context string).
func Derive(purpose string, secret []byte) (s Sum) {
	blake3.DeriveKey(purpose, secret, s[:])
	return s
}

// Reader hashes all of r, and returns the hash and the number of bytes.
func Reader(r io.Reader) (Sum, int64, error) {
	buf := block.Take()
	defer block.Give(buf)
	h := New()
	n, err := io.CopyBuffer(h, struct{ io.Reader }{r}, buf)
	return h.Sum(), n, err
}
