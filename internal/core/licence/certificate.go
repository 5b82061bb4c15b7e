package licence

import (
	"bytes"
	"crypto"
	"crypto/sha256"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"time"
)

// Certificate is what is known of an X.509 certificate (RFC 5280).
type Certificate struct {
	Subject string
	Issuer  string
	Until   time.Time // when it expires
	Key     string    // fingerprint of its public key: SHA-256 of the SubjectPublicKeyInfo, hex
}

// ReadCertificate reads the first certificate of PEM or DER bytes, or nil where
// there is none.
func ReadCertificate(data []byte) *Certificate {
	for _, der := range blocks(data, "CERTIFICATE") {
		c, err := x509.ParseCertificate(der)
		if err != nil {
			continue
		}
		return &Certificate{c.Subject.String(), c.Issuer.String(), c.NotAfter, keyPrint(c.PublicKey)}
	}
	return nil
}

// ReadKey returns the fingerprint of the public key that belongs to a private
// one (PEM or DER; PKCS #8, PKCS #1 or SEC 1, not encrypted), or "".
func ReadKey(data []byte) string {
	for _, der := range blocks(data, "PRIVATE KEY") {
		for _, parse := range []func([]byte) (any, error){
			x509.ParsePKCS8PrivateKey,
			func(b []byte) (any, error) { return x509.ParsePKCS1PrivateKey(b) },
			func(b []byte) (any, error) { return x509.ParseECPrivateKey(b) },
		} {
			key, err := parse(der)
			if k, ok := key.(crypto.Signer); err == nil && ok {
				return keyPrint(k.Public())
			}
		}
	}
	return ""
}

// blocks returns the DER of the PEM blocks whose type ends so, or the bytes
// themselves where there is no PEM.
func blocks(data []byte, ending string) (out [][]byte) {
	if !bytes.Contains(data, []byte("-----BEGIN ")) {
		return [][]byte{data}
	}
	for {
		var b *pem.Block
		if b, data = pem.Decode(data); b == nil {
			return out
		}
		if bytes.HasSuffix([]byte(b.Type), []byte(ending)) {
			out = append(out, b.Bytes)
		}
	}
}

func keyPrint(public any) string {
	der, err := x509.MarshalPKIXPublicKey(public)
	if err != nil {
		return ""
	}
	return fmt.Sprintf("%x", sha256.Sum256(der))
}
