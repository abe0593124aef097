package est_test

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base64"
	"math/big"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/smallstep/pkcs7"
	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/est"
)

var now = time.Date(2026, 11, 27, 9, 0, 0, 0, time.UTC)

// made makes a certificate of a key, by an issuer; nil for itself.
func made(t testing.TB, name string, key *ecdsa.PrivateKey, issuer *x509.Certificate, by *ecdsa.PrivateKey) *x509.Certificate {
	t.Helper()
	plan := &x509.Certificate{SerialNumber: big.NewInt(9), Subject: pkix.Name{CommonName: name}, NotBefore: now.Add(-time.Hour), NotAfter: now.Add(time.Hour), IsCA: issuer == nil, BasicConstraintsValid: true}
	if issuer == nil {
		issuer, by = plan, key
	}
	der, err := x509.CreateCertificate(rand.Reader, plan, issuer, key.Public(), by)
	require.NoError(t, err)
	c, err := x509.ParseCertificate(der)
	require.NoError(t, err)
	return c
}

func newKey(t testing.TB) *ecdsa.PrivateKey {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	return key
}

func TestTheCertificateOfAKeyIsTakenOnlyFromItsAuthority(t *testing.T) {
	rootKey, key, otherKey := newKey(t), newKey(t), newKey(t)
	root := made(t, "root", rootKey, nil, nil)
	mine := made(t, "Ada", key, root, rootKey)
	der, err := pkcs7.DegenerateCertificate(append(bytes.Clone(mine.Raw), root.Raw...))
	require.NoError(t, err)
	for name, body := range map[string][]byte{"in lines": est.Encode(der), "in one line": []byte(base64.StdEncoding.EncodeToString(der))} {
		t.Run(name, func(t *testing.T) {
			certs, err := est.Certs(body)
			require.NoError(t, err)
			require.Len(t, certs, 2)
			got, err := est.Check(certs, []*x509.Certificate{root}, key.Public(), now)
			require.NoError(t, err)
			require.Equal(t, mine.Raw, got.Raw)
			_, err = est.Check(certs, []*x509.Certificate{root}, otherKey.Public(), now)
			require.ErrorContains(t, err, "for the key")
			_, err = est.Check(certs, []*x509.Certificate{made(t, "another root", otherKey, nil, nil)}, key.Public(), now)
			require.ErrorContains(t, err, "not issued by this authority")
			_, err = est.Check(certs, []*x509.Certificate{root}, key.Public(), now.Add(-24*time.Hour))
			require.ErrorContains(t, err, "clock")
		})
	}
	for _, wrong := range []string{"", "no base64!", base64.StdEncoding.EncodeToString([]byte("no PKCS #7"))} {
		_, err := est.Certs([]byte(wrong))
		require.ErrorIs(t, err, est.ErrBody)
	}
	_, err = est.Certs(bytes.Repeat([]byte("A"), est.MaxBody+1))
	require.ErrorIs(t, err, est.ErrBody)
}

func TestOpenSSLReadsARequest(t *testing.T) {
	openssl, err := exec.LookPath("openssl")
	if err != nil {
		t.Skip("openssl is not installed")
	}
	body, err := est.Request("moor-desk 2026", newKey(t))
	require.NoError(t, err)
	der, err := est.Decode(body)
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "r.der")
	require.NoError(t, os.WriteFile(file, der, 0o600))
	out, err := exec.Command(openssl, "req", "-inform", "DER", "-in", file, "-verify", "-noout", "-subject").CombinedOutput()
	require.NoError(t, err, string(out))
	require.Contains(t, string(out), "moor-desk 2026")
}

func FuzzCerts(f *testing.F) {
	key := newKey(f)
	der, err := pkcs7.DegenerateCertificate(made(f, "root", key, nil, nil).Raw)
	require.NoError(f, err)
	f.Add(est.Encode(der))
	f.Add([]byte("MIAGCSqGSIb3DQEHAqCAMIA="))
	f.Fuzz(func(_ *testing.T, body []byte) { est.Certs(body) }) // it must not panic
}
