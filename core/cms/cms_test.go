package cms_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/cms"
)

// signer makes a certificate and its key, in files too: signer.pem and key.pem in dir.
func signer(t *testing.T, dir string) (*x509.Certificate, *ecdsa.PrivateKey) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	plan := &x509.Certificate{SerialNumber: big.NewInt(7), Subject: pkix.Name{CommonName: "Upland publishing"}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
		KeyUsage: x509.KeyUsageDigitalSignature}
	der, err := x509.CreateCertificate(rand.Reader, plan, plan, key.Public(), key)
	require.NoError(t, err)
	cert, err := x509.ParseCertificate(der)
	require.NoError(t, err)
	raw, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "signer.pem"), pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "key.pem"), pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: raw}), 0o600))
	return cert, key
}

func TestOnlyTheSignedContentIsVerified(t *testing.T) {
	cert, key := signer(t, t.TempDir())
	signature, err := cms.Sign([]byte("an index"), cert, key)
	require.NoError(t, err)
	by, err := cms.Verify([]byte("an index"), signature)
	require.NoError(t, err)
	require.Equal(t, cms.KeyOf(cert), cms.KeyOf(by))
	_, err = cms.Verify([]byte("another index"), signature)
	require.ErrorIs(t, err, cms.ErrSignature)
	for i := range signature { // a bit anywhere is either of no meaning, or noticed; never a crash
		bad := append([]byte{}, signature...)
		bad[i] ^= 1
		if by, err := cms.Verify([]byte("an index"), bad); err == nil {
			require.NotNil(t, by)
		}
	}
	_, err = cms.Verify(nil, make([]byte, cms.MaxBytes+1))
	require.ErrorIs(t, err, cms.ErrSignature)
}

func TestOpensslAgrees(t *testing.T) {
	dir := t.TempDir()
	cert, key := signer(t, dir)
	file := func(name string) string { return filepath.Join(dir, name) }
	require.NoError(t, os.WriteFile(file("content"), []byte("an index\n"), 0o600))
	signature, err := cms.Sign([]byte("an index\n"), cert, key)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file("ours"), signature, 0o600))
	out, err := exec.Command("openssl", "cms", "-verify", "-binary", "-inform", "DER", "-in", file("ours"), "-content", file("content"), "-noverify", "-out", file("out")).CombinedOutput()
	require.NoError(t, err, "%s", out)
	for _, digest := range []string{"sha256", "sha384"} {
		out, err = exec.Command("openssl", "cms", "-sign", "-binary", "-md", digest, "-outform", "DER", "-in", file("content"), "-signer", file("signer.pem"), "-inkey", file("key.pem"), "-out", file("theirs")).CombinedOutput()
		require.NoError(t, err, "%s", out)
		theirs, err := os.ReadFile(file("theirs"))
		require.NoError(t, err)
		by, err := cms.Verify([]byte("an index\n"), theirs)
		require.NoError(t, err, digest)
		require.Equal(t, "Upland publishing", by.Subject.CommonName)
	}
	out, err = exec.Command("openssl", "cms", "-sign", "-binary", "-md", "sha1", "-outform", "DER", "-in", file("content"), "-signer", file("signer.pem"), "-inkey", file("key.pem"), "-out", file("weak")).CombinedOutput()
	require.NoError(t, err, "%s", out)
	weak, err := os.ReadFile(file("weak"))
	require.NoError(t, err)
	_, err = cms.Verify([]byte("an index\n"), weak)
	require.ErrorContains(t, err, "too weak")
}

func FuzzVerify(f *testing.F) {
	f.Add([]byte("an index"), []byte{0x30, 0x03, 0x02, 0x01, 0x01})
	f.Fuzz(func(t *testing.T, content, signature []byte) {
		if _, err := cms.Verify(content, signature); err == nil {
			t.Log("it verifies")
		}
	})
}
