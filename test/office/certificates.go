package office

import (
	"crypto/x509"
	"encoding/pem"
	"testing"

	"github.com/youmark/pkcs8"
	"software.sslmate.com/src/go-pkcs12"

	"movekit/internal/core/machine"
	"movekit/test/fatal"
)

// Encrypted stores a certificate and its key in PKCS #12, and the key in an encrypted PKCS #8 file.
func Encrypted(t testing.TB, cert, key, passphrase string) (p12, pkcs8Text string) {
	t.Helper()
	block, _ := pem.Decode([]byte(cert))
	c, err := x509.ParseCertificate(block.Bytes)
	fatal.If(t, err)
	block, _ = pem.Decode([]byte(key))
	k, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	fatal.If(t, err)
	out, err := pkcs12.Modern.Encode(k, c, nil, passphrase)
	fatal.If(t, err)
	der, err := pkcs8.MarshalPrivateKey(k, []byte(passphrase), nil)
	fatal.If(t, err)
	return string(out), string(pem.EncodeToMemory(&pem.Block{Type: "ENCRYPTED PRIVATE KEY", Bytes: der}))
}

// Live makes a simulated computer count as a running one.
type Live struct {
	machine.Computer
}

// Root returns "", because a live computer has no root.
func (Live) Root() string { return "" }

// Locate returns every path unchanged.
func (l Live) Locate(path string, _ *machine.User) (string, error) { return path, nil }
