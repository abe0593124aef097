package authority_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/authority"
	"earlybench.invalid/earlybench/core/developer"
)

var now = time.Date(2026, 11, 27, 9, 0, 0, 0, time.UTC)

func newKey(t testing.TB) (*ecdsa.PrivateKey, string) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	public, err := developer.PublicOf(key.Public())
	require.NoError(t, err)
	return key, public.Thumbprint()
}

func TestAProofIsForOneRequestOfOneKeyAtItsTime(t *testing.T) {
	key, thumbprint := newKey(t)
	to, err := url.Parse("https://authority.invalid/v1/account?x=1")
	require.NoError(t, err)
	proof, err := authority.Proof(key, "GET", to, "token", now)
	require.NoError(t, err)
	got, err := authority.CheckProof(proof, "GET", "https://authority.invalid/v1/account", "token", now)
	require.NoError(t, err)
	require.Equal(t, thumbprint, got.Thumbprint)
	for name, c := range map[string]struct {
		method, to, token string
		at                time.Time
		want              string
	}{
		"another method":  {"PUT", "https://authority.invalid/v1/account", "token", now, "another request"},
		"another address": {"GET", "https://authority.invalid/v1/crews", "token", now, "another request"},
		"another token":   {"GET", "https://authority.invalid/v1/account", "other", now, "another request"},
		"no token":        {"GET", "https://authority.invalid/v1/account", "", now, "another request"},
		"a clock behind":  {"GET", "https://authority.invalid/v1/account", "token", now.Add(-6 * time.Minute), "clocks differ"},
		"a clock ahead":   {"GET", "https://authority.invalid/v1/account", "token", now.Add(6 * time.Minute), "clocks differ"},
	} {
		_, err := authority.CheckProof(proof, c.method, c.to, c.token, c.at)
		require.ErrorContains(t, err, c.want, name)
	}
	parts := strings.Split(proof, ".")
	other, err := authority.Proof(key, "GET", to, "other", now)
	require.NoError(t, err)
	for _, wrong := range []string{"", "a.b.c", parts[0] + "." + strings.Split(other, ".")[1] + "." + parts[2]} {
		_, err := authority.CheckProof(wrong, "GET", "https://authority.invalid/v1/account", "token", now)
		require.Error(t, err)
	}
}

func TestAnAssertionIsByAKeyThatIsSignedIn(t *testing.T) {
	key, thumbprint := newKey(t)
	const audience = "https://authority.invalid/oauth/token"
	assertion, err := authority.Assertion(key, "thwaite", audience, now)
	require.NoError(t, err)
	known := func(name string) *ecdsa.PublicKey {
		if name == thumbprint {
			return &key.PublicKey
		}
		return nil
	}
	account, by, err := authority.CheckAssertion(assertion, audience, known, now)
	require.NoError(t, err)
	require.Equal(t, []string{"thwaite", thumbprint}, []string{account, by})
	_, _, err = authority.CheckAssertion(assertion, audience, func(string) *ecdsa.PublicKey { return nil }, now)
	require.ErrorContains(t, err, "nobody is signed in")
	other, _ := newKey(t)
	_, _, err = authority.CheckAssertion(assertion, audience, func(string) *ecdsa.PublicKey { return &other.PublicKey }, now)
	require.ErrorContains(t, err, "not made by its key")
	_, _, err = authority.CheckAssertion(assertion, "https://elsewhere.invalid/", known, now)
	require.ErrorContains(t, err, "another authority")
	_, _, err = authority.CheckAssertion(assertion, audience, known, now.Add(time.Hour))
	require.ErrorIs(t, err, authority.ErrClock)
	proof, err := authority.Proof(key, "POST", &url.URL{Scheme: "https", Host: "authority.invalid", Path: "/oauth/token"}, "", now)
	require.NoError(t, err)
	_, _, err = authority.CheckAssertion(proof, audience, known, now)
	require.Error(t, err, "a proof is no assertion")
}

func TestAppIDsThatComeFromTemplatesAreRefusedWithOthers(t *testing.T) {
	for _, id := range []string{"fellgate/callout", "ab/c"} {
		require.NoError(t, authority.CheckAppID(id))
	}
	for _, id := range []string{"", "callout", "Fellgate/x", "fellgate/", "fellgate/x/y", "1a/b"} {
		require.Error(t, authority.CheckAppID(id), id)
	}
	require.ErrorIs(t, authority.CheckAppID("example/callout"), authority.ErrPlaceholder)
	require.ErrorIs(t, authority.CheckAppID("fellgate/my-app"), authority.ErrPlaceholder)
	require.Equal(t, []string{"fellgate/rota-field", "fellgate/rota-team", "fellgate/rota-2"}, authority.Suggest("fellgate", "Rota!", func(id string) bool { return id == "fellgate/rota" }))
	require.Equal(t, "fellgate/fellgate", authority.Suggest("fellgate", "example", func(string) bool { return false })[0])
}

func FuzzProof(f *testing.F) {
	key, _ := newKey(f)
	to := &url.URL{Scheme: "https", Host: "a", Path: "/"}
	proof, err := authority.Proof(key, "GET", to, "", now)
	require.NoError(f, err)
	f.Add(proof)
	f.Add("e30.e30.e30")
	f.Fuzz(func(_ *testing.T, text string) { // it must not panic
		authority.CheckProof(text, "GET", "https://a/", "", now)
		authority.CheckAssertion(text, "x", func(string) *ecdsa.PublicKey { return &key.PublicKey }, now)
	})
}
