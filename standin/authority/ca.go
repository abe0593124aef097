package authority

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

	"earlybench.invalid/earlybench/core/developer"
)

// certifier is the authority's certificate authority.
type certifier struct {
	root *x509.Certificate
	key  crypto.Signer
}

// rootGood is how long the root is good.
const rootGood = 20 * 365 * 24 * time.Hour

func readCertifier(dir, name string) (*certifier, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	file := filepath.Join(dir, "root.pem")
	if _, err := os.Stat(file); errors.Is(err, fs.ErrNotExist) {
		if err := makeRoot(file, name); err != nil {
			return nil, fmt.Errorf("authority: make its root: %w", err)
		}
	}
	pair, err := tls.LoadX509KeyPair(file, file)
	if err != nil {
		return nil, fmt.Errorf("authority: %w", err)
	}
	return &certifier{pair.Leaf, pair.PrivateKey.(crypto.Signer)}, nil
}

func makeRoot(file, name string) error {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	now := time.Now()
	c := &x509.Certificate{SerialNumber: number(), Subject: pkix.Name{CommonName: name + " root"}, NotBefore: now.Add(-48 * time.Hour), NotAfter: now.Add(rootGood),
		IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageCRLSign}
	der, err := x509.CreateCertificate(rand.Reader, c, c, key.Public(), key)
	if err != nil {
		return err
	}
	private, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return err
	}
	out := append(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private}), pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})...)
	return os.WriteFile(file, out, 0o600)
}

// number is a serial number: 63 random bits (RFC 5280, section 4.1.2.2).
func number() *big.Int {
	n, _ := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 63)) // it does not fail
	return n.Add(n, big.NewInt(1))
}

// server is the certificate of the authority's own TLS.
func (c *certifier) server() (tls.Certificate, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return tls.Certificate{}, err
	}
	plan := &x509.Certificate{SerialNumber: number(), Subject: pkix.Name{CommonName: "Stand-in authority"}, NotBefore: time.Now().Add(-48 * time.Hour), NotAfter: time.Now().Add(2 * 365 * 24 * time.Hour),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1), net.IPv6loopback}, DNSNames: []string{"localhost"}}
	der, err := x509.CreateCertificate(rand.Reader, plan, c.root, key.Public(), c.key)
	return tls.Certificate{Certificate: [][]byte{der, c.root.Raw}, PrivateKey: key}, err
}

// readSigner reads the key by which statements are signed, or makes it.
func readSigner(dir string) (*developer.Key, error) {
	file := filepath.Join(dir, "statements.pem")
	text, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		if err != nil {
			return nil, err
		}
		der, err := x509.MarshalPKCS8PrivateKey(key)
		if err != nil {
			return nil, err
		}
		text = pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der})
		if err := os.WriteFile(file, text, 0o600); err != nil {
			return nil, fmt.Errorf("authority: keep its key: %w", err)
		}
	} else if err != nil {
		return nil, fmt.Errorf("authority: %w", err)
	}
	private, err := developer.ParsePrivate(text)
	if err != nil {
		return nil, fmt.Errorf("authority: read its key: %w", err)
	}
	return developer.KeyOf(private)
}

// issue makes a certificate for a developer of a crew.
func (c *certifier) issue(name, crew string, key crypto.PublicKey, from time.Time, days int) (*x509.Certificate, error) {
	plan := &x509.Certificate{SerialNumber: number(), Subject: pkix.Name{CommonName: name, OrganizationalUnit: []string{crew}},
		NotBefore: from.Add(-time.Minute), NotAfter: from.AddDate(0, 0, days),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth, x509.ExtKeyUsageCodeSigning}}
	der, err := x509.CreateCertificate(rand.Reader, plan, c.root, key, c.key)
	if err != nil {
		return nil, err
	}
	return x509.ParseCertificate(der)
}
