// Package remote uses a kit on another computer over SFTP (SSH, RFC 4251 to 4254; draft-ietf-secsh-filexfer-02). Share offers
// the kit of this computer to one other, and Mirror keeps a copy of a remote kit that is always up to date: what the other
// computer changed is loaded first, and every change here is sent before the run goes on.
package remote

import (
	"crypto/ed25519"
	"strings"

	"golang.org/x/crypto/scrypt"
	"golang.org/x/text/unicode/norm"

	"movekit/internal/core/fault"
)

// Two computers that know the kit's passphrase need nothing else to trust each other: both derive the same two key pairs
// from it with scrypt (RFC 7914), one for each side. Somebody who sees the public keys could only guess passphrases, at the
// price of scrypt for each. A made passphrase has 77 bits. For one that somebody chose, a code of four words (51 bits) that is
// made for each share is part of the secret too.
type pair struct{ server, client ed25519.PrivateKey }

// The cost of scrypt: 2^15 rounds of 8 blocks, 32 MiB, about 0.1 s.
const (
	rounds = 1 << 15
	blocks = 8
)

// keysOf derives the keys of both sides. code is "" if the share has none.
func keysOf(passphrase, code, kitID string) (pair, error) {
	plain := func(s string) string { return norm.NFC.String(strings.TrimSpace(s)) }
	seeds, err := scrypt.Key([]byte(plain(passphrase)+"\x00"+strings.Join(strings.FieldsFunc(strings.ToLower(plain(code)), func(r rune) bool { return r == ' ' || r == '-' }), "-")), []byte("Move Kit share 1\x00"+kitID), rounds, blocks, 1, 2*ed25519.SeedSize)
	if err != nil {
		return pair{}, fault.Wrap(fault.Internal, err, "the keys of the connection cannot be derived")
	}
	return pair{ed25519.NewKeyFromSeed(seeds[:ed25519.SeedSize]), ed25519.NewKeyFromSeed(seeds[ed25519.SeedSize:])}, nil
}

// user is the name with which the other computer signs in at a share.
const user = "movekit"

// ident is the start of a share's identification string (RFC 4253, section 4.2). The kit's id follows, and withCode if the
// share has a code. Nothing in it is trusted: a wrong id gives wrong keys.
const (
	ident    = "SSH-2.0-movekit_"
	withCode = "_code"
)
