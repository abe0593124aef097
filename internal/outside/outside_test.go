package outside_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"io"
	"log"
	"math/big"
	"net"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/outside"
)

// issuer is a certificate authority of a test.
type issuer struct {
	root *x509.Certificate
	key  *ecdsa.PrivateKey
}

func newIssuer(t *testing.T) issuer {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	plan := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "root"}, NotBefore: time.Now().AddDate(-1, 0, 0), NotAfter: time.Now().AddDate(1, 0, 0), IsCA: true, BasicConstraintsValid: true}
	der, err := x509.CreateCertificate(rand.Reader, plan, plan, key.Public(), key)
	require.NoError(t, err)
	root, err := x509.ParseCertificate(der)
	require.NoError(t, err)
	return issuer{root, key}
}

// serves starts a service whose certificate is as given, until the test ends.
func (i issuer) serves(t *testing.T, plan x509.Certificate) string {
	t.Helper()
	plan.SerialNumber = big.NewInt(2)
	plan.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}
	der, err := x509.CreateCertificate(rand.Reader, &plan, i.root, i.key.Public(), i.key)
	require.NoError(t, err)
	s := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { io.WriteString(w, "it answers") }))
	s.Config.ErrorLog = log.New(io.Discard, "", 0)
	s.TLS = &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{der, i.root.Raw}, PrivateKey: i.key}}, MinVersion: tls.VersionTLS12}
	s.StartTLS()
	t.Cleanup(s.Close)
	return s.URL
}

func TestACertificateThatIsNotTrustedIsSaidWithItsReason(t *testing.T) {
	ours, others := newIssuer(t), newIssuer(t)
	here, now := []net.IP{net.IPv4(127, 0, 0, 1)}, time.Now()
	good := x509.Certificate{IPAddresses: here, NotBefore: now.Add(-time.Hour), NotAfter: now.Add(time.Hour)}
	for name, c := range map[string]struct {
		by   issuer
		plan x509.Certificate
		text string
	}{
		"it is trusted":              {ours, good, ""},
		"another root":               {others, good, "is not the one that was accepted"},
		"for another name":           {ours, x509.Certificate{DNSNames: []string{"fell.invalid"}, NotBefore: good.NotBefore, NotAfter: good.NotAfter}, "is for fell.invalid, not for 127.0.0.1"},
		"for no name":                {ours, x509.Certificate{NotBefore: good.NotBefore, NotAfter: good.NotAfter}, "is for no name, not for 127.0.0.1"},
		"it has ended":               {ours, x509.Certificate{IPAddresses: here, NotBefore: now.AddDate(0, -1, 0), NotAfter: now.AddDate(0, 0, -1)}, "the clock of this computer says"},
		"it begins only in one day":  {ours, x509.Certificate{IPAddresses: here, NotBefore: now.AddDate(0, 0, 1), NotAfter: now.AddDate(0, 0, 9)}, "the clock of this computer says"},
		"by somebody else and ended": {others, x509.Certificate{IPAddresses: here, NotBefore: now.AddDate(0, -1, 0), NotAfter: now.AddDate(0, 0, -1)}, "certificate"},
	} {
		t.Run(name, func(t *testing.T) {
			client, err := outside.New(c.by.serves(t, c.plan), ours.root)
			require.NoError(t, err)
			defer client.Close()
			raw, _, err := client.Read(t.Context(), "", 100, time.Second)
			if c.text == "" {
				require.NoError(t, err)
				require.Equal(t, "it answers", string(raw))
				return
			}
			require.Equal(t, problem.Refused, problem.KindOf(err))
			require.ErrorContains(t, err, c.text)
		})
	}
}
