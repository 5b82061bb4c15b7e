package office

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"testing"
	"time"

	"github.com/youmark/pkcs8"
	"software.sslmate.com/src/go-pkcs12"

	"movekit/internal/core/machine"
)

// Signed makes a certificate that runs out at a time, and its key.
func Signed(t testing.TB, until time.Time) (cert, key string) {
	t.Helper()
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	c := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Tern Quay harbour office"}, NotBefore: until.AddDate(-2, 0, 0), NotAfter: until}
	der, err := x509.CreateCertificate(rand.Reader, c, c, k.Public(), k)
	if err != nil {
		t.Fatal(err)
	}
	private, err := x509.MarshalPKCS8PrivateKey(k)
	if err != nil {
		t.Fatal(err)
	}
	return string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})), string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private}))
}

// Encrypted puts a certificate and its key into PKCS #12, and the key into an
// encrypted PKCS #8 file.
func Encrypted(t testing.TB, cert, key, passphrase string) (p12, pkcs8Text string) {
	t.Helper()
	block, _ := pem.Decode([]byte(cert))
	c, err := x509.ParseCertificate(block.Bytes)
	if err != nil {
		t.Fatal(err)
	}
	block, _ = pem.Decode([]byte(key))
	k, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	if err != nil {
		t.Fatal(err)
	}
	out, err := pkcs12.Modern.Encode(k, c, nil, passphrase)
	if err != nil {
		t.Fatal(err)
	}
	der, err := pkcs8.MarshalPrivateKey(k, []byte(passphrase), nil)
	if err != nil {
		t.Fatal(err)
	}
	return string(out), string(pem.EncodeToMemory(&pem.Block{Type: "ENCRYPTED PRIVATE KEY", Bytes: der}))
}

// Live makes a simulated computer count as one that runs.
type Live struct {
	machine.Computer
}

// Root is none.
func (Live) Root() string { return "" }

// Locate takes every path as it is.
func (l Live) Locate(path string, _ *machine.User) (string, error) { return path, nil }
