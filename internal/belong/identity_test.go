package belong_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base64"
	"encoding/pem"
	"math/big"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/est"
	"earlybench.invalid/earlybench/core/problem"
	core "earlybench.invalid/earlybench/core/safe"
	"earlybench.invalid/earlybench/internal/authority"
	"earlybench.invalid/earlybench/internal/outside"
	"earlybench.invalid/earlybench/internal/safe/holder"
)

// sealed is a password on its way to the safe.
func (d *desk) sealed(method, password string) []byte {
	d.T.Helper()
	v, err := d.Safe.View(d.T.Context())
	require.NoError(d.T, err)
	envelope, err := core.Envelope(v.Public, holder.EnvelopePurpose(method, ""), []byte(password))
	require.NoError(d.T, err)
	return envelope
}

func TestAnIdentityIsMadeRenewedWithOverlapAndRevoked(t *testing.T) {
	d := newDesk(t, "starter")
	i, err := d.Belong.NewIdentity(t.Context(), "moor-desk 2026")
	require.NoError(t, err)
	require.Equal(t, "moor-desk 2026", i.Leaf.Subject.CommonName)
	_, err = d.Belong.NewIdentity(t.Context(), "moor-desk 2026")
	require.Equal(t, problem.Taken, problem.KindOf(err))
	_, err = d.Belong.NewIdentity(t.Context(), "../x")
	require.Equal(t, problem.Invalid, problem.KindOf(err))

	next, err := d.Belong.RenewIdentity(t.Context(), "moor-desk 2026", "owner/ada")
	require.NoError(t, err)
	require.NotEqual(t, i.Serial, next.Serial)
	require.Equal(t, i.Key, next.Key)
	require.Equal(t, i.Certificate, next.Former, "the one before stays until its end")

	// Ahead of its end it is renewed automatically.
	for _, c := range []interface {
		Move(time.Duration) time.Time
	}{d.Clock, d.clock} {
		c.Move(47 * 24 * time.Hour)
	}
	require.NoError(t, d.Safe.OpenAtStart(t.Context(), d.UnlockKey()))
	d.Eventually("it is renewed", func() bool {
		d.Belong.Again()
		now, err := d.Belong.Identity(t.Context(), "moor-desk 2026")
		return err == nil && now.Serial != next.Serial
	})
	require.NoError(t, d.Belong.RevokeIdentity(t.Context(), "moor-desk 2026"))
	_, err = d.Belong.RenewIdentity(t.Context(), "moor-desk 2026", "owner/ada")
	require.Equal(t, problem.Refused, problem.KindOf(err))
	uses, err := d.Store.SafeUses(t.Context())
	require.NoError(t, err)
	require.Equal(t, "bench/renewal", uses[0].Actor)
}

func TestACertificateWithoutItsKeySaysWhereTheKeyIs(t *testing.T) {
	d := newDesk(t, "starter")
	_, err := d.Belong.NewIdentity(t.Context(), "harbour-desk 2026")
	require.NoError(t, err)
	file, err := d.Belong.ExportIdentity(t.Context(), "harbour-desk 2026", d.sealed(holder.PKCS12Export, "carry it well"), "owner/rowan")
	require.NoError(t, err)
	require.NoError(t, d.Belong.DropIdentity(t.Context(), "harbour-desk 2026"))
	d.Eventually("only its certificate is known", func() bool {
		d.Belong.Again()
		_, err = d.Belong.Identity(t.Context(), "harbour-desk 2026")
		return err != nil && problem.KindOf(err) == problem.Refused
	})
	require.ErrorContains(t, err, "is not on this computer")
	_, err = d.Belong.ImportIdentity(t.Context(), "back", file, d.sealed(holder.PKCS12Import, "wrong word"))
	require.ErrorContains(t, err, "does not open")
	i, err := d.Belong.ImportIdentity(t.Context(), "back", file, d.sealed(holder.PKCS12Import, "carry it well"))
	require.NoError(t, err)
	require.Equal(t, "fellgate", i.Crew)
	_, err = d.Belong.RenewIdentity(t.Context(), "back", "owner/ada")
	require.NoError(t, err, "its key is here again")
}

// program runs a program in a directory.
func program(t *testing.T, dir, name string, args ...string) string {
	t.Helper()
	path, err := exec.LookPath(name)
	if err != nil {
		t.Skip(name + " is not installed")
	}
	cmd := exec.Command(path, args...)
	cmd.Dir = dir
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s %v\n%s", name, args, out)
	return string(out)
}

// The stand-in is an EST server to others too: curl and openssl enrol, and renew by the certificate.
func TestCurlAndOpenSSLEnrolAtTheStandIn(t *testing.T) {
	d := newDesk(t, "full")
	dir := t.TempDir()
	acc, err := d.Belong.Used()
	require.NoError(t, err)
	once, err := d.Authorities.Enrolment(t.Context(), acc)
	require.NoError(t, err)
	at := d.at.URL() + ".well-known/est/"
	program(t, dir, "curl", "-sS", "-k", "-o", "ca.b64", at+"cacerts")
	program(t, dir, "openssl", "base64", "-d", "-in", "ca.b64", "-out", "ca.p7")
	program(t, dir, "openssl", "pkcs7", "-inform", "DER", "-in", "ca.p7", "-print_certs", "-out", "ca.pem")
	program(t, dir, "openssl", "req", "-new", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256", "-nodes", "-keyout", "k.pem", "-subj", "/CN=by hand", "-outform", "DER", "-out", "r.der")
	program(t, dir, "openssl", "base64", "-in", "r.der", "-out", "r.b64")
	enrol := func(operation string, how ...string) string {
		args := append([]string{"-sS", "-f", "--cacert", "ca.pem", "-H", "Content-Type: application/pkcs10", "--data-binary", "@r.b64", "-o", "c.b64", at + operation}, how...)
		program(t, dir, "curl", args...)
		program(t, dir, "openssl", "base64", "-d", "-in", "c.b64", "-out", "c.p7")
		program(t, dir, "openssl", "pkcs7", "-inform", "DER", "-in", "c.p7", "-print_certs", "-out", "c.pem")
		program(t, dir, "openssl", "verify", "-CAfile", "ca.pem", "c.pem")
		return program(t, dir, "openssl", "x509", "-in", "c.pem", "-noout", "-serial", "-subject")
	}
	first := enrol("simpleenroll", "-u", once.User+":"+once.Password)
	require.Contains(t, first, "by hand")
	require.NotEqual(t, first, enrol("simplereenroll", "--cert", "c.pem", "--key", "k.pem"))
}

// ours enrols at an EST server that is not ours: openssl signs, and a few lines of HTTP.
func TestOurClientEnrolsAtAServerMadeOfOpenSSL(t *testing.T) {
	dir := t.TempDir()
	program(t, dir, "openssl", "req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256", "-nodes", "-keyout", "ca.key", "-out", "ca.pem", "-subj", "/CN=Another authority", "-days", "30")
	certs := func(files ...string) []byte {
		args := []string{"crl2pkcs7", "-nocrl", "-outform", "DER", "-out", "out.p7"}
		for _, f := range files {
			args = append(args, "-certfile", f)
		}
		program(t, dir, "openssl", args...)
		raw, err := os.ReadFile(filepath.Join(dir, "out.p7"))
		require.NoError(t, err)
		return []byte(base64.StdEncoding.EncodeToString(raw)) // in one line, as others do
	}
	issuer := "ca.key"
	mux := http.NewServeMux()
	mux.HandleFunc("GET /est/cacerts", func(w http.ResponseWriter, _ *http.Request) { w.Write(certs("ca.pem")) })
	mux.HandleFunc("POST /est/simpleenroll", func(w http.ResponseWriter, r *http.Request) {
		if _, password, _ := r.BasicAuth(); password != "once" {
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		body := make([]byte, 10_000)
		n, _ := r.Body.Read(body)
		der, err := est.Decode(body[:n])
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(dir, "r.der"), der, 0o600))
		ca := "ca.pem"
		if issuer != "ca.key" {
			ca = "other.pem"
		}
		program(t, dir, "openssl", "x509", "-req", "-inform", "DER", "-in", "r.der", "-CA", ca, "-CAkey", issuer, "-CAcreateserial", "-days", "9", "-out", "c.pem")
		w.Write(certs("c.pem"))
	})
	server := httptest.NewTLSServer(mux)
	defer server.Close()
	c, err := outside.New(server.URL, server.Certificate())
	require.NoError(t, err)
	defer c.Close()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	e := authority.EST{Client: c, Path: "est/"}
	got, err := e.Enroll(t.Context(), "moor-desk 2026", key, "fellgate", "once", time.Now().Add(time.Minute))
	require.NoError(t, err)
	require.Equal(t, "moor-desk 2026", got.Certificate.Subject.CommonName)
	_, err = e.Enroll(t.Context(), "moor-desk 2026", key, "fellgate", "twice", time.Now())
	require.Equal(t, problem.Refused, problem.KindOf(err))

	// A certificate of somebody else's root is not taken.
	otherRoot(t, dir)
	issuer = "other.key"
	_, err = e.Enroll(t.Context(), "moor-desk 2026", key, "fellgate", "once", time.Now().Add(time.Minute))
	require.ErrorContains(t, err, "not issued by this authority")
}

// otherRoot makes another root in other.pem and other.key.
func otherRoot(t *testing.T, dir string) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	c := &x509.Certificate{SerialNumber: big.NewInt(3), Subject: pkix.Name{CommonName: "Somebody else"}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(24 * time.Hour), IsCA: true, BasicConstraintsValid: true}
	der, err := x509.CreateCertificate(rand.Reader, c, c, key.Public(), key)
	require.NoError(t, err)
	private, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "other.pem"), pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "other.key"), pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private}), 0o600))
}
