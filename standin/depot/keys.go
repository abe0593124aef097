package depot

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"time"
)

// Keys are a depot's certificate with its chain, and its publisher.
type Keys struct {
	TLS    tls.Certificate
	Signer *x509.Certificate
	Key    crypto.Signer
}

// good is how long the certificates of a stand-in are good.
const good = 10 * 365 * 24 * time.Hour

// ReadKeys reads the keys in a directory, or creates them there.
func ReadKeys(dir, publisher string) (k Keys, err error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return k, err
	}
	if _, err := os.Stat(filepath.Join(dir, "publisher.pem")); errors.Is(err, fs.ErrNotExist) {
		if err := makeKeys(dir, publisher); err != nil {
			return k, fmt.Errorf("depot: make its keys: %w", err)
		}
	}
	if k.TLS, err = tls.LoadX509KeyPair(filepath.Join(dir, "tls.pem"), filepath.Join(dir, "tls.pem")); err != nil {
		return k, fmt.Errorf("depot: %w", err)
	}
	p, err := tls.LoadX509KeyPair(filepath.Join(dir, "publisher.pem"), filepath.Join(dir, "publisher.pem"))
	if err != nil {
		return k, fmt.Errorf("depot: %w", err)
	}
	k.Signer, k.Key = p.Leaf, p.PrivateKey.(crypto.Signer)
	return k, nil
}

func makeKeys(dir, publisher string) error {
	now := time.Now()
	plan := func(name string) *x509.Certificate {
		serial, _ := rand.Int(rand.Reader, big.NewInt(1<<62))
		return &x509.Certificate{SerialNumber: serial, Subject: pkix.Name{CommonName: name}, NotBefore: now.Add(-48 * time.Hour), NotAfter: now.Add(good),
			BasicConstraintsValid: true, KeyUsage: x509.KeyUsageDigitalSignature}
	}
	root, leaf, signer := plan("Stand-in depot root"), plan("Stand-in depot"), plan(publisher)
	root.IsCA, root.KeyUsage = true, x509.KeyUsageCertSign
	leaf.IPAddresses, leaf.DNSNames, leaf.ExtKeyUsage = []net.IP{net.IPv4(127, 0, 0, 1), net.IPv6loopback}, []string{"localhost"}, []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}
	rootPEM, rootKey, err := certificate(root, root, nil)
	if err != nil {
		return err
	}
	leafPEM, leafKey, err := certificate(leaf, root, rootKey)
	if err != nil {
		return err
	}
	signerPEM, signerKey, err := certificate(signer, signer, nil)
	if err != nil {
		return err
	}
	if err := writeKey(filepath.Join(dir, "tls.pem"), leafKey, leafPEM, rootPEM); err != nil {
		return err
	}
	return writeKey(filepath.Join(dir, "publisher.pem"), signerKey, signerPEM)
}

// certificate makes a certificate and its key; by is the issuer's key, nil for itself.
func certificate(c, issuer *x509.Certificate, by crypto.Signer) ([]byte, *ecdsa.PrivateKey, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, nil, err
	}
	if by == nil {
		by = key
	}
	der, err := x509.CreateCertificate(rand.Reader, c, issuer, key.Public(), by)
	if err != nil {
		return nil, nil, err
	}
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), key, nil
}

func writeKey(file string, key *ecdsa.PrivateKey, chain ...[]byte) error {
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return err
	}
	out := pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der})
	for _, c := range chain {
		out = append(out, c...)
	}
	return os.WriteFile(file, out, 0o600)
}
