package card

import (
	"crypto/ed25519"
	"encoding/base64"
	"fmt"
)

// PublicKey decodes the desk's pinned key. It fails on anything but 32 bytes
// in base64url without padding.
func (d Desk) PublicKey() (ed25519.PublicKey, error) {
	raw, err := base64.RawURLEncoding.DecodeString(d.Key)
	if err != nil || len(raw) != ed25519.PublicKeySize {
		return nil, fmt.Errorf("not an Ed25519 public key in base64url: %q", d.Key)
	}
	return ed25519.PublicKey(raw), nil
}
