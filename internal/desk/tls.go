package desk

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"net"
	"os"
	"time"

	"movekit/internal/core/fault"
	"movekit/internal/core/licence"
)

// Certificate returns the desk's self-signed certificate. It is created on first use and stored in
// the desk's file. Clients identify it by its pin.
func (s *Store) Certificate(ctx context.Context) (*tls.Certificate, error) {
	var kept struct{ Cert, Key string }
	err := func() error {
		s.open.RLock()
		defer s.open.RUnlock()
		return setting(ctx, s.db, settingTLS, &kept)
	}()
	if err == nil && kept.Cert == "" {
		if kept.Cert, kept.Key, err = selfSigned(); err == nil {
			err = s.set(ctx, settingTLS, kept)
		}
	}
	if err != nil {
		return nil, fault.Wrap(fault.BadDatabase, err, "cannot make the desk's certificate")
	}
	cert, err := tls.X509KeyPair([]byte(kept.Cert), []byte(kept.Key))
	if err != nil {
		return nil, fault.Wrap(fault.BadDatabase, err, "the desk's certificate cannot be read")
	}
	return &cert, nil
}

// Pin returns the pin of a certificate for cards.
func Pin(cert *tls.Certificate) (string, error) {
	c, err := x509.ParseCertificate(cert.Certificate[0])
	if err != nil {
		return "", fault.Wrap(fault.Usage, err, "the certificate cannot be read")
	}
	return licence.Pin(c), nil
}

func selfSigned() (cert, key string, err error) {
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return "", "", err
	}
	number, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120))
	if err != nil {
		return "", "", err
	}
	names := []string{"localhost"}
	if host, err := os.Hostname(); err == nil {
		names = append(names, host)
	}
	now := time.Now()
	c := &x509.Certificate{
		SerialNumber: number, Subject: pkix.Name{CommonName: "Licence desk"}, DNSNames: names, IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1), net.IPv6loopback},
		NotBefore: now.AddDate(0, 0, -1), NotAfter: now.AddDate(10, 0, 0), ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
	}
	der, err := x509.CreateCertificate(rand.Reader, c, c, k.Public(), k)
	if err != nil {
		return "", "", err
	}
	private, err := x509.MarshalPKCS8PrivateKey(k)
	if err != nil {
		return "", "", err
	}
	text := func(typ string, b []byte) string {
		return string(pem.EncodeToMemory(&pem.Block{Type: typ, Bytes: b}))
	}
	return text("CERTIFICATE", der), text("PRIVATE KEY", private), nil
}
