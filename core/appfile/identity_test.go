package appfile_test

import (
	"archive/zip"
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"io"
	"math/big"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/appfile"
	"earlybench.invalid/earlybench/core/developer"
)

func newIdentity(t *testing.T) appfile.Identity {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	plan := &x509.Certificate{SerialNumber: big.NewInt(7), Subject: pkix.Name{CommonName: "moor-desk 2026"}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageCodeSigning}}
	der, err := x509.CreateCertificate(rand.Reader, plan, plan, key.Public(), key)
	require.NoError(t, err)
	c, err := x509.ParseCertificate(der)
	require.NoError(t, err)
	return appfile.Identity{Certificate: c, Key: key}
}

func packedBy(t *testing.T, s appfile.Signer) []byte {
	t.Helper()
	var out bytes.Buffer
	_, err := appfile.Pack(&out, appfile.Manifest{ID: "fellgate/callout", Name: "Callout", Version: "2.3", Families: []string{"ostler"}, Entry: "app.wasm", Features: []string{"background positions"}},
		fstest.MapFS{"app.wasm": {Data: []byte("\x00asm")}}, []string{"app.wasm"}, s)
	require.NoError(t, err)
	return out.Bytes()
}

// openssl and unzip read what we write, and neither of them is ours.
func TestAnAppFileThatAnIdentityHasSignedIsVerifiedByOpenSSL(t *testing.T) {
	i := newIdentity(t)
	raw := packedBy(t, i)
	f, err := appfile.Open(bytes.NewReader(raw), int64(len(raw)))
	require.NoError(t, err)
	require.True(t, f.Signed())
	require.Equal(t, i.Public().Thumbprint(), f.App.By())
	require.Equal(t, "moor-desk 2026", f.Certificate().Subject.CommonName)

	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	require.NoError(t, os.WriteFile(at("app.zip"), raw, 0o600))
	require.NoError(t, os.WriteFile(at("ca.pem"), pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: i.Certificate.Raw}), 0o600))
	z, err := zip.NewReader(bytes.NewReader(raw), int64(len(raw)))
	require.NoError(t, err)
	for _, name := range []string{"app.json", "signature.p7s"} {
		r, err := z.Open(name)
		require.NoError(t, err)
		data, err := io.ReadAll(r)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(at(name), data, 0o600))
	}
	verify := func(content string) error {
		out, err := exec.Command("openssl", "cms", "-verify", "-binary", "-inform", "DER", "-in", at("signature.p7s"), "-content", content, "-CAfile", at("ca.pem"), "-purpose", "any", "-out", os.DevNull).CombinedOutput()
		t.Log(string(out))
		return err
	}
	require.NoError(t, verify(at("app.json")))
	require.NoError(t, os.WriteFile(at("other.json"), append([]byte(" "), f.Manifest...), 0o600))
	require.Error(t, verify(at("other.json")))
	out, err := exec.Command("unzip", "-t", at("app.zip")).CombinedOutput()
	require.NoError(t, err, string(out))
}

func TestASignatureOfAnotherIdentityOrManifestIsRefused(t *testing.T) {
	one, other := newIdentity(t), newIdentity(t)
	raw := packedBy(t, one)
	f, err := appfile.Open(bytes.NewReader(raw), int64(len(raw)))
	require.NoError(t, err)
	foreign, err := other.SignManifest(f.Manifest)
	require.NoError(t, err)
	elsewhere, err := one.SignManifest([]byte("something else"))
	require.NoError(t, err)
	for name, s := range map[string]developer.Signature{"another identity's": foreign, "of something else": elsewhere, "none": {}, "no CMS": {CMS: []byte("later")},
		"twice": {Bare: "x", CMS: f.Signature.CMS}} {
		require.ErrorIs(t, f.App.CheckSignature(f.Manifest, s), developer.ErrSignature, name)
	}
	require.NoError(t, f.App.CheckSignature(f.Manifest, f.Signature))
	for at := range f.Manifest { // each bit of what is signed counts
		changed := bytes.Clone(f.Manifest)
		changed[at] ^= 1
		require.Error(t, f.App.CheckSignature(changed, f.Signature))
	}
}
