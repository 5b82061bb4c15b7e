package licence

import (
	"bytes"
	"crypto"
	"crypto/sha256"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"encoding/pem"
	"errors"
	"fmt"
	"time"

	"github.com/youmark/pkcs8"
	"software.sslmate.com/src/go-pkcs12"
)

// Certificate has the relevant fields of an X.509 certificate (RFC 5280).
type Certificate struct {
	Subject string
	Issuer  string
	Until   time.Time // when it expires
	Key     string    // SHA-256 of its public key (SubjectPublicKeyInfo), hex
}

// Contents is the content of a licence file.
type Contents struct {
	Certificate *Certificate // the first certificate, or nil
	Key         string       // fingerprint of the public key that matches the private key, or ""
	Locked      bool         // part of it needs another passphrase
}

// openTime limits how long a file may take to decrypt, because an encrypted file itself sets the
// amount of work. Tests shorten it.
var openTime = 10 * time.Second

// ReadContents parses PEM or DER: certificates, private keys (PKCS #8, also encrypted, PKCS #1, SEC
// 1) and PKCS #12 (RFC 7292). For an unknown format the result is empty. A file that takes more
// than ten seconds counts as locked.
func ReadContents(data []byte, passphrase string) Contents {
	read := make(chan Contents, 1)
	go func() {
		defer func() {
			if recover() != nil { // a library panicked; such a file has no usable content
				read <- Contents{}
			}
		}()
		read <- readContents(data, passphrase)
	}()
	select {
	case c := <-read:
		return c
	case <-time.After(openTime):
		return Contents{Locked: true}
	}
}

func readContents(data []byte, passphrase string) (c Contents) {
	for _, der := range blocks(data, "CERTIFICATE") {
		if cert, err := x509.ParseCertificate(der); err == nil {
			c.Certificate = certificate(cert)
			break
		}
	}
	for _, der := range blocks(data, "PRIVATE KEY") {
		key, locked := privateKey(der, passphrase)
		c.Locked = c.Locked || locked
		if key != nil {
			c.Key = keyPrint(key.Public())
			break
		}
	}
	if bytes.Contains(data, []byte("Proc-Type: 4,ENCRYPTED")) {
		c.Locked = true // an encryption older than PKCS #8, which this program cannot read
	}
	if c.Certificate != nil || c.Key != "" || c.Locked {
		return c
	}
	key, cert, _, err := pkcs12.DecodeChain(data, passphrase)
	if errors.Is(err, pkcs12.ErrIncorrectPassword) {
		c.Locked = true
	}
	if err == nil {
		c.Certificate = certificate(cert)
		if k, ok := key.(crypto.Signer); ok {
			c.Key = keyPrint(k.Public())
		}
	}
	return c
}

func certificate(c *x509.Certificate) *Certificate {
	key := keyPrint(c.PublicKey)
	if key == "" { // an unknown key type: compare its bytes
		key = fmt.Sprintf("%x", sha256.Sum256(c.RawSubjectPublicKeyInfo))
	}
	return &Certificate{c.Subject.String(), c.Issuer.String(), c.NotAfter, key}
}

// privateKey parses a private key. locked means that it needs another passphrase.
func privateKey(der []byte, passphrase string) (k crypto.Signer, locked bool) {
	for _, parse := range []func([]byte) (any, error){
		x509.ParsePKCS8PrivateKey,
		func(b []byte) (any, error) { return x509.ParsePKCS1PrivateKey(b) },
		func(b []byte) (any, error) { return x509.ParseECPrivateKey(b) },
	} {
		key, err := parse(der)
		if k, ok := key.(crypto.Signer); err == nil && ok {
			return k, false
		}
	}
	var encrypted struct { // EncryptedPrivateKeyInfo, RFC 5958, section 3
		Algorithm pkix.AlgorithmIdentifier
		Data      []byte
	}
	if rest, err := asn1.Unmarshal(der, &encrypted); err != nil || len(rest) > 0 {
		return nil, false
	}
	key, err := pkcs8.ParsePKCS8PrivateKey(der, []byte(passphrase))
	if k, ok := key.(crypto.Signer); err == nil && ok {
		return k, false
	}
	return nil, true
}

// blocks returns the DER of the PEM blocks whose type has the suffix, or data itself if it has no
// PEM.
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
