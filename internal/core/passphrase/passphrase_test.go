package passphrase

import (
	"bytes"
	"crypto/rand"
	"io"
	"strings"
	"testing"

	"filippo.io/age"

	"movekit/internal/core/fault"
)

// TestPassphrases makes passphrases, and judges typed ones.
func TestPassphrases(t *testing.T) {
	dice := rand.Reader
	rand.Reader = io.MultiReader(bytes.NewReader([]byte{1, 3, 1, 4, 4}), dice) // 24255 is drop-down
	made, err := Make()
	rand.Reader = dice
	if err != nil || Check(made) != nil {
		t.Errorf("made %q: %v", made, err)
	}
	if !LooksMade("agency-balcony-cabana-dagger-eagle-fable") || LooksMade("agency-balcony-cabana") || LooksMade("tern-quay-buoy-rope-xxx-yyy") {
		t.Error("what looks like a made passphrase")
	}
	for p, work := range map[string]string{made: " 15\n", "rope-and-tern-by-the-quay": " 17\n"} {
		k, _ := age.GenerateX25519Identity()
		if wrapped, err := Wrap(k, p, 0); err != nil || !strings.Contains(string(wrapped), work) {
			t.Errorf("%q: %.80q %v", p, wrapped, err)
		}
	}
	for p, takes := range map[string]bool{"short": false, "password123456": false, "aaaaaaaaaaaaaaaa": false, "qwertyuiop123": false, "12345678901234": false, "Passwort2026!": false, "rope-and-tern-by-the-quay": true, "w3-Fj9_kLq2xZ": true, strings.Repeat("tern quay buoy ", 5000): true} {
		if err := Check(p); (err == nil) != takes {
			t.Errorf("%.20q: %v", p, err)
		}
	}
}

// TestWrap wraps a key, and opens it with the same passphrase only.
func TestWrap(t *testing.T) {
	id, _ := age.GenerateX25519Identity()
	wrapped, err := Wrap(id, "café by the quay", 2)
	if err != nil {
		t.Fatal(err)
	}
	for p, kind := range map[string]fault.Kind{"café by the quay": "", " cafe\u0301 by the quay\n": "", "cafe by the quay": fault.WrongPassphrase, "": fault.WrongPassphrase} {
		got, err := Unwrap("key.age", wrapped, p)
		if kind == "" && (err != nil || got.String() != id.String()) || kind != "" && fault.KindOf(err) != kind {
			t.Errorf("%q: %v", p, err)
		}
	}
	if _, err := Unwrap("key.age", wrapped[:len(wrapped)-1], "café by the quay"); fault.KindOf(err) != fault.Damaged || !strings.Contains(err.Error(), "key.age") {
		t.Errorf("cut off: %v", err)
	}
}
