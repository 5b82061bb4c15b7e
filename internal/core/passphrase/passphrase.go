// Package passphrase makes and judges passphrases, and wraps the key of a kit with one (age, with scrypt as in RFC 7914).
package passphrase

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"runtime/debug"
	"strconv"
	"strings"
	"unicode/utf8"

	"filippo.io/age"
	"github.com/sethvargo/go-diceware/diceware"
	"golang.org/x/text/unicode/norm"

	"movekit/internal/core/fault"
)

// scrypt work factors (log2 N) of key.age. One unlock needs 128*r*N bytes: 32 MiB and 128 MiB. A
// generated passphrase has 77 bits of its own; a typed one depends more on the work factor.
const (
	workMade  = 15
	workTyped = 17
	maxWork   = 20
)

// testWork replaces both in the program built for tests, which unlocks a thousand kits (-ldflags
// -X).
var testWork string

// Min is the minimum length of a typed passphrase, in characters.
const Min = 12

// Make returns six random words of the EFF long list (77 bits), joined by hyphens. It
// skips the few words that contain a hyphen, because the number of words must be clear.
func Make() (string, error) {
	for {
		words, err := diceware.Generate(6)
		if err != nil {
			return "", fault.Wrap(fault.Internal, err, "cannot make a passphrase")
		}
		if p := strings.Join(words, "-"); strings.Count(p, "-") == len(words)-1 {
			return p, nil
		}
	}
}

// Check returns why a typed passphrase is not allowed, or nil.
func Check(p string) error {
	if n := utf8.RuneCountInString(normal(p)); n < Min {
		return fault.New(fault.Usage, "the passphrase has %d characters; it needs at least %d", n, Min)
	}
	// The estimator is slow for long texts, so only the beginning is checked.
	some := []rune(normal(p))
	if n := guesses(string(some[:min(len(some), 64)])); n < guessable {
		return fault.New(fault.Usage, "the passphrase could be guessed in about %.0e tries: use unrelated words, or let Move Kit make one", n)
	}
	return nil
}

// guessable is the number of guesses that an attacker with many computers makes in a day at the
// work factor workTyped.
const guessable = 1e11

// normal returns the same text for every keyboard (Unicode NFC), without surrounding spaces.
func normal(p string) string { return norm.NFC.String(strings.TrimSpace(p)) }

// LooksMade reports whether a passphrase has the form of one from Make.
func LooksMade(p string) bool {
	known := map[string]bool{}
	list := diceware.WordListEffLarge()
	for _, w := range strings.Split(normal(p), "-") {
		known[w] = false
	}
	if len(known) != 6 {
		return false
	}
	// The list is numbered with five dice: 11111 to 66666.
	for n := 11111; n <= 66666; n++ {
		if w := list.WordAt(n); w != "" {
			if _, asked := known[w]; asked {
				known[w] = true
			}
		}
	}
	for _, found := range known {
		if !found {
			return false
		}
	}
	return true
}

// Recipient encrypts to a passphrase, with the work factor that it needs.
func Recipient(passphrase string) (*age.ScryptRecipient, error) {
	r, err := age.NewScryptRecipient(normal(passphrase))
	if err != nil {
		return nil, fault.Wrap(fault.Usage, err, "the passphrase is not valid")
	}
	r.SetWorkFactor(workTyped)
	if LooksMade(passphrase) {
		r.SetWorkFactor(workMade)
	}
	if work, err := strconv.Atoi(testWork); err == nil {
		r.SetWorkFactor(work)
	}
	return r, nil
}

// Wrap encrypts a key with a passphrase. work is the work factor; 0 means the one that the passphrase needs.
func Wrap(id *age.X25519Identity, passphrase string, work int) ([]byte, error) {
	r, err := Recipient(passphrase)
	if err != nil {
		return nil, err
	}
	if work > 0 {
		r.SetWorkFactor(work)
	}
	var out bytes.Buffer
	w, err := age.Encrypt(&out, r)
	if err == nil {
		_, err = fmt.Fprintf(w, "# the key of a Move Kit kit\n%s\n", id)
	}
	if err == nil {
		err = w.Close()
	}
	debug.FreeOSMemory() // scrypt's tables are large
	if err != nil {
		return nil, fault.Wrap(fault.Internal, err, "cannot encrypt the kit's key")
	}
	return out.Bytes(), nil
}

// Identity decrypts files that were encrypted to a passphrase.
func Identity(passphrase string) (*age.ScryptIdentity, error) {
	p := normal(passphrase)
	if p == "" {
		return nil, fault.New(fault.WrongPassphrase, "the passphrase is empty")
	}
	s, err := age.NewScryptIdentity(p)
	if err != nil {
		return nil, fault.Wrap(fault.WrongPassphrase, err, "the passphrase is not valid")
	}
	s.SetMaxWorkFactor(maxWork)
	return s, nil
}

// Unwrap decrypts a key that Wrap encrypted, from the file name.
func Unwrap(name string, wrapped []byte, passphrase string) (*age.X25519Identity, error) {
	s, err := Identity(passphrase)
	if err != nil {
		return nil, err
	}
	r, err := age.Decrypt(bytes.NewReader(wrapped), s)
	debug.FreeOSMemory()
	if err != nil {
		if errors.Is(err, age.ErrIncorrectIdentity) {
			return nil, fault.New(fault.WrongPassphrase, "the passphrase is wrong")
		}
		var no *age.NoIdentityMatchError
		if errors.As(err, &no) {
			return nil, fault.New(fault.WrongPassphrase, "the passphrase is wrong")
		}
		return nil, fault.Wrap(fault.Damaged, err, "%s is damaged", name)
	}
	text, err := io.ReadAll(io.LimitReader(r, 4096))
	if err == nil {
		for line := range strings.Lines(string(text)) {
			if line = strings.TrimSpace(line); strings.HasPrefix(line, "AGE-SECRET-KEY-1") {
				return age.ParseX25519Identity(line)
			}
		}
	}
	return nil, fault.Wrap(fault.Damaged, err, "%s contains no key", name)
}
