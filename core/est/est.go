// Package est is the bodies of Enrollment over Secure Transport (RFC 7030): the certificate
// request that is sent, and the certificates that are answered. Bodies are base64, whose line
// breaks and Content-Transfer-Encoding do not matter (RFC 8951, section 3).
package est

import (
	"bytes"
	"crypto"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base64"
	"errors"
	"fmt"
	"time"

	"github.com/smallstep/pkcs7"
)

// Types of bodies.
const (
	RequestType = "application/pkcs10"
	CertsType   = "application/pkcs7-mime"
)

// MaxBody is the largest body that is read, in bytes.
const MaxBody = 256 << 10

// maxCerts is how many certificates one answer may hold.
const maxCerts = 20

// lineLength is that of base64 in what is written, so that programs that read lines take it.
const lineLength = 64

// ErrBody is the error for a body that EST does not define.
var ErrBody = errors.New("the answer contains no certificates")

// Serial is the serial number of a certificate, in hexadecimal.
func Serial(c *x509.Certificate) string { return fmt.Sprintf("%x", c.SerialNumber.Bytes()) }

// Request makes a certificate request (PKCS #10, RFC 2986) for a name, signed by its key.
func Request(name string, key crypto.Signer) ([]byte, error) {
	der, err := x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{Subject: pkix.Name{CommonName: name}}, key)
	if err != nil {
		return nil, fmt.Errorf("make a certificate request: %w", err)
	}
	return Encode(der), nil
}

// Encode writes DER as base64 in lines.
func Encode(der []byte) []byte {
	text := make([]byte, base64.StdEncoding.EncodedLen(len(der)))
	base64.StdEncoding.Encode(text, der)
	var out bytes.Buffer
	for len(text) > 0 {
		n := min(lineLength, len(text))
		out.Write(text[:n])
		out.WriteByte('\n')
		text = text[n:]
	}
	return out.Bytes()
}

// Decode reads base64 with or without line breaks.
func Decode(body []byte) ([]byte, error) {
	if len(body) > MaxBody {
		return nil, fmt.Errorf("%w: it has more than %d bytes", ErrBody, MaxBody)
	}
	packed := bytes.Join(bytes.Fields(body), nil)
	der := make([]byte, base64.StdEncoding.DecodedLen(len(packed)))
	n, err := base64.StdEncoding.Decode(der, packed)
	if err != nil {
		return nil, fmt.Errorf("%w: it is not base64", ErrBody)
	}
	return der[:n], nil
}

// Certs reads the certificates of an answer: a PKCS #7 without signers (RFC 7030, section 4.1.3).
func Certs(body []byte) (certs []*x509.Certificate, err error) {
	der, err := Decode(body)
	if err != nil {
		return nil, err
	}
	defer func() { // the decoder is not made for everything that others may send
		if recover() != nil {
			certs, err = nil, ErrBody
		}
	}()
	p, err := pkcs7.Parse(der)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrBody, err)
	}
	if len(p.Certificates) == 0 || len(p.Certificates) > maxCerts {
		return nil, fmt.Errorf("%w: it has %d", ErrBody, len(p.Certificates))
	}
	return p.Certificates, nil
}

// Check finds the certificate of a key among those that were answered, and checks that it comes
// from one of roots and is good at a time.
func Check(answered, roots []*x509.Certificate, key crypto.PublicKey, now time.Time) (*x509.Certificate, error) {
	pool, between := x509.NewCertPool(), x509.NewCertPool()
	for _, r := range roots {
		pool.AddCert(r)
	}
	same, ok := key.(interface{ Equal(crypto.PublicKey) bool })
	if !ok {
		return nil, errors.New("keys of this kind cannot be compared")
	}
	var mine *x509.Certificate
	for _, c := range answered {
		if same.Equal(c.PublicKey) {
			mine = c
		} else {
			between.AddCert(c)
		}
	}
	if mine == nil {
		return nil, errors.New("none of the certificates in the answer is for the key")
	}
	if now.Before(mine.NotBefore) {
		return nil, fmt.Errorf("the certificate is valid from %s, which is in the future by this computer's clock", mine.NotBefore.UTC().Format(time.RFC3339))
	}
	_, err := mine.Verify(x509.VerifyOptions{Roots: pool, Intermediates: between, CurrentTime: now, KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageAny}})
	if err != nil {
		return nil, fmt.Errorf("the certificate was not issued by this authority: %w", err)
	}
	return mine, nil
}
