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
	"slices"
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
	CA      bool      // it signs others
}

// Contents is the content of a licence file.
type Contents struct {
	Certificates []*Certificate
	Keys         []string // fingerprints of the public keys that match the private keys
	Locked       bool     // part of it needs another passphrase
}

// Leaf returns the certificate that the licence is: the one that fits a private key, or else the first
// that signs no others, or else the first. fits is false if a key fits none of the certificates. The files
// of a licence can have them in any order.
func Leaf(all []Contents) (leaf *Certificate, fits bool) {
	var certificates []*Certificate
	var keys []string
	for _, c := range all {
		certificates, keys = append(certificates, c.Certificates...), append(keys, c.Keys...)
	}
	fits = len(certificates) == 0 || !slices.ContainsFunc(keys, func(key string) bool {
		return !slices.ContainsFunc(certificates, func(c *Certificate) bool { return c.Key == key })
	})
	if i := slices.IndexFunc(certificates, func(c *Certificate) bool { return slices.Contains(keys, c.Key) }); i >= 0 {
		return certificates[i], fits
	}
	if i := slices.IndexFunc(certificates, func(c *Certificate) bool { return !c.CA }); i >= 0 {
		return certificates[i], fits
	}
	if len(certificates) > 0 {
		return certificates[0], fits
	}
	return nil, fits
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
	for _, b := range blocks(data, "CERTIFICATE") {
		der := b.Bytes
		if cert, err := x509.ParseCertificate(der); err == nil {
			c.Certificates = append(c.Certificates, certificate(cert))
		}
	}
	for _, b := range blocks(data, "PRIVATE KEY") {
		key, locked := privateKey(b, passphrase)
		c.Locked = c.Locked || locked
		if key != nil {
			c.Keys = append(c.Keys, keyPrint(key.Public()))
		}
	}
	if c.Certificates != nil || c.Keys != nil || c.Locked {
		return c
	}
	key, cert, more, err := pkcs12.DecodeChain(data, passphrase)
	if errors.Is(err, pkcs12.ErrIncorrectPassword) {
		c.Locked = true
	}
	if err == nil {
		for _, cert := range append([]*x509.Certificate{cert}, more...) {
			c.Certificates = append(c.Certificates, certificate(cert))
		}
		if k, ok := key.(crypto.Signer); ok {
			c.Keys = append(c.Keys, keyPrint(k.Public()))
		}
	}
	return c
}

func certificate(c *x509.Certificate) *Certificate {
	key := keyPrint(c.PublicKey)
	if key == "" { // an unknown key type: compare its bytes
		key = fmt.Sprintf("%x", sha256.Sum256(c.RawSubjectPublicKeyInfo))
	}
	return &Certificate{c.Subject.String(), c.Issuer.String(), c.NotAfter, key, c.IsCA}
}

// privateKey parses a private key. locked means that it needs another passphrase.
func privateKey(b *pem.Block, passphrase string) (k crypto.Signer, locked bool) {
	der := b.Bytes
	//lint:ignore SA1019 old files have this encryption (RFC 1421), and are only read
	if x509.IsEncryptedPEMBlock(b) {
		var err error
		//lint:ignore SA1019 as above
		if der, err = x509.DecryptPEMBlock(b, []byte(passphrase)); err != nil {
			return nil, true
		}
	}
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

// blocks returns the PEM blocks whose type has the suffix, or data itself if it has no PEM.
func blocks(data []byte, ending string) (out []*pem.Block) {
	if !bytes.Contains(data, []byte("-----BEGIN ")) {
		return []*pem.Block{{Bytes: data}}
	}
	for {
		var b *pem.Block
		if b, data = pem.Decode(data); b == nil {
			return out
		}
		if bytes.HasSuffix([]byte(b.Type), []byte(ending)) {
			out = append(out, b)
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
