package safe_test

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"crypto/x509/pkix"
	"math/big"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/safe"
)

// quick is a work factor of scrypt for tests.
const quick = 10

var (
	passphrase = []byte("fog over the fell")
	made       = time.Date(2026, 11, 27, 9, 0, 0, 0, time.UTC)
)

func filled(t *testing.T) (*safe.Box, safe.Item, safe.Item) {
	t.Helper()
	b, err := safe.New()
	require.NoError(t, err)
	key, err := b.MakeKey("development key", made)
	require.NoError(t, err)
	return b, key, b.PutSecret("weather", []byte("planted-weather-secret"), made)
}

func TestASafeIsOpenedByWhatLocksItAndByNothingElse(t *testing.T) {
	b, key, secret := filled(t)
	sealed, err := b.Seal()
	require.NoError(t, err)
	unlock, err := safe.NewUnlockKey()
	require.NoError(t, err)
	other, err := safe.NewUnlockKey()
	require.NoError(t, err)
	byWord, err := b.LockByPassphrase(passphrase, quick)
	require.NoError(t, err)
	byKey, err := b.LockByKey(unlock)
	require.NoError(t, err)
	require.True(t, safe.ByPassphrase(byWord))
	require.False(t, safe.ByPassphrase(byKey))

	text, err := safe.OpenByPassphrase(byWord, passphrase)
	require.NoError(t, err)
	again, err := safe.Open(text, sealed)
	require.NoError(t, err)
	require.Equal(t, []safe.Item{key, secret}, again.Items())
	got, err := again.Secret(secret.ID)
	require.NoError(t, err)
	require.Equal(t, "planted-weather-secret", string(got))
	text, err = safe.OpenByKey(byKey, unlock)
	require.NoError(t, err)
	_, err = safe.Open(text, sealed)
	require.NoError(t, err)

	_, err = safe.OpenByPassphrase(byWord, []byte("another one"))
	require.ErrorIs(t, err, safe.ErrPassphrase)
	_, err = safe.OpenByPassphrase(byKey, passphrase)
	require.Error(t, err)
	_, err = safe.OpenByPassphrase(byWord, nil)
	require.ErrorIs(t, err, safe.ErrPassphrase)
	_, err = safe.OpenByKey(byKey, other)
	require.ErrorIs(t, err, safe.ErrUnlockKey)
	_, err = safe.OpenByKey(byKey, []byte("no key"))
	require.Error(t, err)
	for _, raw := range [][]byte{sealed, byWord, byKey} {
		require.NotContains(t, string(raw), "planted")
	}
}

func TestAPassphraseThatIsNoneIsRefused(t *testing.T) {
	b, _, _ := filled(t)
	for _, weak := range []string{"", "short", "two\nlines of it"} {
		_, err := b.LockByPassphrase([]byte(weak), quick)
		require.Error(t, err, weak)
		_, err = b.Export([]byte(weak), quick)
		require.Error(t, err, weak)
	}
}

func TestALockThatCostsTooMuchIsNotTried(t *testing.T) {
	lock := "age-encryption.org/v1\n-> scrypt " + strings.Repeat("A", 22) + " 30\n" + strings.Repeat("A", 43) + "\n--- " + strings.Repeat("A", 43) + "\n"
	began := time.Now()
	_, err := safe.OpenByPassphrase([]byte(lock), passphrase)
	require.Error(t, err)
	require.Less(t, time.Since(began), time.Second)
}

func TestAKeyOfTheSafeSigns(t *testing.T) {
	b, key, secret := filled(t)
	signer, err := b.Signer(key.ID)
	require.NoError(t, err)
	sum := sha256.Sum256([]byte("callout 2.3"))
	signature, err := signer.Sign(rand.Reader, sum[:], crypto.SHA256)
	require.NoError(t, err)
	public, err := x509.ParsePKIXPublicKey(key.Public)
	require.NoError(t, err)
	require.True(t, ecdsa.VerifyASN1(public.(*ecdsa.PublicKey), sum[:], signature))
	_, err = b.Signer(secret.ID)
	require.ErrorIs(t, err, safe.ErrNotFound)
	_, err = b.Secret(key.ID)
	require.ErrorIs(t, err, safe.ErrNotFound, "a private key is never given out as a secret")
	require.NoError(t, b.Drop(key.ID))
	require.ErrorIs(t, b.Drop(key.ID), safe.ErrNotFound)
}

func TestWhatIsExportedIsImportedOnce(t *testing.T) {
	b, key, secret := filled(t)
	export, err := b.Export([]byte("for the harbour"), quick)
	require.NoError(t, err)
	other, err := safe.New()
	require.NoError(t, err)
	_, err = other.Import(export, passphrase)
	require.ErrorIs(t, err, safe.ErrPassphrase)
	items, err := other.Import(export, []byte("for the harbour"))
	require.NoError(t, err)
	require.Equal(t, []safe.Item{key, secret}, items)
	items, err = other.Import(export, []byte("for the harbour"))
	require.NoError(t, err)
	require.Empty(t, items)
	require.Len(t, other.Items(), 2)
}

// The reference program opens what we write, without code of ours between.
func TestAgeOpensAnExportAndASafe(t *testing.T) {
	age, err := exec.LookPath("age")
	if err != nil {
		t.Skip("age is not installed")
	}
	dir := t.TempDir()
	b, _, secret := filled(t)
	unlock, err := safe.NewUnlockKey()
	require.NoError(t, err)
	lock, err := b.LockByKey(unlock)
	require.NoError(t, err)
	sealed, err := b.Seal()
	require.NoError(t, err)
	for name, raw := range map[string][]byte{"unlock": unlock, "lock.age": lock, "safe.age": sealed} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), raw, 0o600))
	}
	opened, err := exec.Command(age, "-d", "-i", filepath.Join(dir, "unlock"), filepath.Join(dir, "lock.age")).Output()
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "key"), append(opened, '\n'), 0o600))
	plain, err := exec.Command(age, "-d", "-i", filepath.Join(dir, "key"), filepath.Join(dir, "safe.age")).Output()
	require.NoError(t, err)
	require.Contains(t, string(plain), `"format":1`)
	require.Contains(t, string(plain), secret.ID)
}

func TestAnEnvelopeIsOpenedByItsHolderForItsPurpose(t *testing.T) {
	key, err := safe.NewEnvelopeKey()
	require.NoError(t, err)
	sealed, err := safe.Envelope(key.Public(), "unlock ", passphrase)
	require.NoError(t, err)
	got, err := key.Open("unlock ", sealed)
	require.NoError(t, err)
	require.Equal(t, passphrase, got)
	_, err = key.Open("prove 17", sealed)
	require.ErrorIs(t, err, safe.ErrEnvelope)
	other, err := safe.NewEnvelopeKey()
	require.NoError(t, err)
	_, err = other.Open("unlock ", sealed)
	require.ErrorIs(t, err, safe.ErrEnvelope)
	for n := range sealed {
		_, err = key.Open("unlock ", sealed[:n])
		require.ErrorIs(t, err, safe.ErrEnvelope)
	}
	_, err = safe.Envelope([]byte("no point"), "unlock ", passphrase)
	require.Error(t, err)
}

// certified is a self-signed certificate of a key of the safe.
func certified(t *testing.T, b *safe.Box, id string) []byte {
	t.Helper()
	signer, err := b.Signer(id)
	require.NoError(t, err)
	c := &x509.Certificate{SerialNumber: big.NewInt(7), Subject: pkix.Name{CommonName: "Ada of fellgate"}, NotBefore: made, NotAfter: made.AddDate(1, 0, 0)}
	der, err := x509.CreateCertificate(rand.Reader, c, c, signer.Public(), signer)
	require.NoError(t, err)
	return der
}

func TestOpenSSLAndTheSafeReadEachOthersPKCS12(t *testing.T) {
	openssl, err := exec.LookPath("openssl")
	if err != nil {
		t.Skip("openssl is not installed")
	}
	dir := t.TempDir()
	b, key, _ := filled(t)
	file, err := b.ExportPKCS12(key.ID, [][]byte{certified(t, b, key.ID)}, []byte("carry it well"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "ours.p12"), file, 0o600))
	run := func(args ...string) string {
		cmd := exec.Command(openssl, args...)
		cmd.Dir = dir
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "openssl %v\n%s", args, out)
		return string(out)
	}
	said := run("pkcs12", "-in", "ours.p12", "-passin", "pass:carry it well", "-info", "-nodes")
	require.Contains(t, said, "AES-256-CBC")
	require.Contains(t, said, "BEGIN PRIVATE KEY")
	require.Contains(t, said, "Ada of fellgate")

	for name, args := range map[string][]string{"as openssl makes it now": nil, "with triple DES": {"-keypbe", "PBE-SHA1-3DES", "-certpbe", "PBE-SHA1-3DES", "-macalg", "sha1"},
		"with RC2": {"-legacy", "-keypbe", "PBE-SHA1-3DES", "-certpbe", "PBE-SHA1-RC2-40", "-macalg", "sha1"}} {
		t.Run(name, func(t *testing.T) {
			run("req", "-x509", "-newkey", "rsa:2048", "-nodes", "-keyout", "k.pem", "-out", "c.pem", "-subj", "/CN=Ada", "-days", "9")
			run(append([]string{"pkcs12", "-export", "-inkey", "k.pem", "-in", "c.pem", "-out", "theirs.p12", "-passout", "pass:old ways"}, args...)...)
			raw, err := os.ReadFile(filepath.Join(dir, "theirs.p12"))
			require.NoError(t, err)
			_, _, err = b.ImportPKCS12("Ada", raw, []byte("wrong"), made)
			require.ErrorContains(t, err, "does not open")
			item, chain, err := b.ImportPKCS12("Ada", raw, []byte("old ways"), made)
			require.NoError(t, err)
			require.Len(t, chain, 1)
			again, _, err := b.ImportPKCS12("Ada", raw, []byte("old ways"), made)
			require.NoError(t, err)
			require.Equal(t, item.ID, again.ID, "a key is kept once")
		})
	}
	_, err = b.ExportPKCS12(key.ID, nil, []byte("carry it well"))
	require.ErrorContains(t, err, "certificate")
}

func FuzzPKCS12(f *testing.F) {
	b, err := safe.New()
	require.NoError(f, err)
	f.Add([]byte{0x30, 0x80}, "x")
	f.Add(bytes.Repeat([]byte{0x30}, 100), "")
	f.Fuzz(func(t *testing.T, file []byte, password string) {
		b.ImportPKCS12("x", file, []byte(password), made)
	})
}

func FuzzOpen(f *testing.F) {
	b, err := safe.New()
	require.NoError(f, err)
	sealed, err := b.Seal()
	require.NoError(f, err)
	lock, err := b.LockByPassphrase(passphrase, quick)
	require.NoError(f, err)
	f.Add(lock, sealed)
	f.Add([]byte("age-encryption.org/v1\n-> X25519 "), []byte{})
	f.Fuzz(func(t *testing.T, lock, sealed []byte) {
		if text, err := safe.OpenByKey(lock, sealed); err == nil {
			safe.Open(text, sealed)
		}
		safe.Open(lock, sealed)
	})
}
