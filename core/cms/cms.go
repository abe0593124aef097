// Package cms signs and verifies with detached CMS signatures (RFC 5652) by one signer, whose
// certificate is contained in the signature. It accepts SHA-256 and stronger digests only.
//
// Whether the signer is trusted is decided by the caller, who compares the signer's key with
// those that a person has accepted: see [KeyOf].
package cms

import (
	"crypto"
	"crypto/sha256"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"fmt"

	"github.com/smallstep/pkcs7"
)

// MaxBytes is the maximum size of a signature, in bytes.
const MaxBytes = 64 << 10

// ErrSignature is the error for a signature that is not one of the content.
var ErrSignature = errors.New("the signature does not match the content")

// Sign returns a detached signature of content in DER.
func Sign(content []byte, cert *x509.Certificate, key crypto.PrivateKey) ([]byte, error) {
	s, err := pkcs7.NewSignedData(content)
	if err != nil {
		return nil, fmt.Errorf("sign: %w", err)
	}
	s.SetDigestAlgorithm(pkcs7.OIDDigestAlgorithmSHA256)
	if err := s.AddSigner(cert, key, pkcs7.SignerInfoConfig{}); err != nil {
		return nil, fmt.Errorf("sign: %w", err)
	}
	s.Detach()
	return s.Finish()
}

// Verify checks that signature is a detached signature of content, and returns the signer's
// certificate. An error wraps [ErrSignature].
func Verify(content, signature []byte) (*x509.Certificate, error) {
	if len(signature) > MaxBytes {
		return nil, fmt.Errorf("%w: it has %d bytes, over the limit of %d", ErrSignature, len(signature), MaxBytes)
	}
	p, err := pkcs7.Parse(signature)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrSignature, err)
	}
	signer := p.GetOnlySigner()
	if signer == nil {
		return nil, fmt.Errorf("%w: it must have exactly one signer, with its certificate", ErrSignature)
	}
	digest := p.Signers[0].DigestAlgorithm.Algorithm
	if !digest.Equal(pkcs7.OIDDigestAlgorithmSHA256) && !digest.Equal(pkcs7.OIDDigestAlgorithmSHA384) && !digest.Equal(pkcs7.OIDDigestAlgorithmSHA512) {
		return nil, fmt.Errorf("%w: its digest %s is too weak", ErrSignature, digest)
	}
	p.Content = content
	if err := p.Verify(); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrSignature, err)
	}
	return signer, nil
}

// KeyOf identifies the key of a certificate: the SHA-256 of its SubjectPublicKeyInfo
// (RFC 5280, section 4.1.2.7), in hexadecimal. A renewed certificate of the same key has the
// same.
func KeyOf(cert *x509.Certificate) string {
	sum := sha256.Sum256(cert.RawSubjectPublicKeyInfo)
	return hex.EncodeToString(sum[:])
}
