package lay

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

	"movekit/test/fatal"
)

// Signed makes a certificate that runs out at a time, and its key.
func Signed(t testing.TB, until time.Time) (cert, key string) {
	t.Helper()
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	fatal.If(t, err)
	c := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Tern Quay harbour office"}, NotBefore: until.AddDate(-2, 0, 0), NotAfter: until}
	der, err := x509.CreateCertificate(rand.Reader, c, c, k.Public(), k)
	fatal.If(t, err)
	private, err := x509.MarshalPKCS8PrivateKey(k)
	fatal.If(t, err)
	return string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})), string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private}))
}
