package safe

import (
	"crypto"
	"crypto/x509"
	"errors"
	"fmt"
	"time"

	"software.sslmate.com/src/go-pkcs12"
)

// pkcs12Iterations are those of PBKDF2 for files that the safe makes: half a second or so.
const pkcs12Iterations = 600_000

// MaxPKCS12 is the largest PKCS #12 file that is imported, in bytes.
const MaxPKCS12 = 256 << 10

// ImportPKCS12 puts the private key of a PKCS #12 file (RFC 7292) into the safe, and returns
// its certificates in DER, the key's own first. Files with the old ciphers (RC2, triple DES)
// are read, too.
func (b *Box) ImportPKCS12(name string, file, password []byte, now time.Time) (Item, [][]byte, error) {
	if len(file) > MaxPKCS12 {
		return Item{}, nil, fmt.Errorf("the PKCS #12 file has more than the allowed %d bytes", MaxPKCS12)
	}
	key, leaf, chain, err := pkcs12.DecodeChain(file, string(password))
	if errors.Is(err, pkcs12.ErrIncorrectPassword) {
		return Item{}, nil, errors.New("the password does not open the PKCS #12 file")
	}
	if err != nil {
		return Item{}, nil, fmt.Errorf("read the PKCS #12 file: %w", err)
	}
	signer, ok := key.(crypto.Signer)
	if !ok {
		return Item{}, nil, fmt.Errorf("the PKCS #12 file contains a key (%T) that cannot sign", key)
	}
	if same, ok := signer.Public().(interface{ Equal(crypto.PublicKey) bool }); !ok || !same.Equal(leaf.PublicKey) {
		return Item{}, nil, errors.New("the certificate in the PKCS #12 file belongs to another key")
	}
	i, err := b.PutKey(name, signer, now)
	certificates := [][]byte{leaf.Raw}
	for _, c := range chain {
		certificates = append(certificates, c.Raw)
	}
	return i, certificates, err
}

// ExportPKCS12 makes a PKCS #12 file of a key and its certificates in DER, the key's own
// first, with AES-256 and PBKDF2 (RFC 9579).
func (b *Box) ExportPKCS12(id string, certificates [][]byte, password []byte) ([]byte, error) {
	if err := CheckPassphrase(password); err != nil {
		return nil, err
	}
	key, err := b.Signer(id)
	if err != nil {
		return nil, err
	}
	var chain []*x509.Certificate
	for _, der := range certificates {
		c, err := x509.ParseCertificate(der)
		if err != nil {
			return nil, fmt.Errorf("a certificate: %w", err)
		}
		chain = append(chain, c)
	}
	if len(chain) == 0 {
		return nil, errors.New("a PKCS #12 file needs the key's certificate")
	}
	return pkcs12.Modern2023.WithIterations(pkcs12Iterations).Encode(key, chain[0], chain[1:], string(password))
}
