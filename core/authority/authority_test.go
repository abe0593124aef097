package authority_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"encoding/json"
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

func TestAnAnswerThatSaysWhatCannotBeIsRefusedWhole(t *testing.T) {
	const standing = `{"name":"full","places":60,"grant_days":150,"certificate_days":365,"lacks":[],"costs":"","alone":""}`
	const entry = `{"serial":"KS 0001","model":"KS","since":"2026-01-02T03:04:05Z","seen":"2026-01-02T03:04:05Z"}`
	for name, c := range map[string]struct {
		into any
		raw  string
		ok   bool
	}{
		"an authority":                   {&authority.About{}, `{"name":"Fell Authority","standings":[` + standing + `]}`, true},
		"an authority without standings": {&authority.About{}, `{"name":"Fell Authority","standings":[]}`, false},
		"a grant that lasts no day":      {&authority.About{}, `{"name":"F","standings":[{"name":"x","places":1,"grant_days":0,"certificate_days":1}]}`, false},
		"an account":                     {&authority.Account{}, `{"id":"rowan","name":"Rowan","crews":[{"name":"fellgate","number":"4471 0926","standing":` + standing + `,"used":1}]}`, true},
		"an account without a crew":      {&authority.Account{}, `{"id":"rowan","name":"Rowan","crews":[]}`, false},
		"a crew that leads elsewhere":    {&authority.Account{}, `{"id":"rowan","name":"Rowan","crews":[{"name":"../x","number":"4471 0926","standing":` + standing + `}]}`, false},
		"a register":                     {&authority.List[authority.Entry]{}, `{"items":[` + entry + `]}`, true},
		"an empty register":              {&authority.List[authority.Entry]{}, `{"items":[]}`, true},
		"a register that is missing":     {&authority.List[authority.Entry]{}, `{}`, false},
		"an entry of no serial":          {&authority.List[authority.Entry]{}, `{"items":[{"since":"2026-01-02T03:04:05Z","seen":"2026-01-02T03:04:05Z"}]}`, false},
		"a serial that steers":           {&authority.List[authority.Entry]{}, `{"items":[{"serial":"KS\u001b[2J","since":"2026-01-02T03:04:05Z","seen":"2026-01-02T03:04:05Z"}]}`, false},
		"an entry that was never made":   {&authority.Entry{}, `{"serial":"KS 0001"}`, false},
		"a token":                        {&authority.Token{}, `{"access_token":"abcdefghijklmnopqrstuvwxyz","token_type":"DPoP","expires_in":600}`, true},
		"a token for whoever has it":     {&authority.Token{}, `{"access_token":"abcdefghijklmnopqrstuvwxyz","token_type":"Bearer","expires_in":600}`, false},
		"endpoints":                      {&authority.Metadata{}, `{"issuer":"https://a","device_authorization_endpoint":"https://a/d","token_endpoint":"https://a/t","revocation_endpoint":"https://a/r"}`, true},
		"an endpoint without TLS":        {&authority.Metadata{}, `{"issuer":"https://a","device_authorization_endpoint":"http://a/d","token_endpoint":"https://a/t","revocation_endpoint":"https://a/r"}`, false},
		"a code":                         {&authority.DeviceCode{}, `{"device_code":"abcdefghijklmnopqrstuvwxyz","user_code":"BCDF-GHJK","verification_uri":"https://a/code","expires_in":600}`, true},
		"a code that never ends":         {&authority.DeviceCode{}, `{"device_code":"abcdefghijklmnopqrstuvwxyz","user_code":"BCDF-GHJK","verification_uri":"https://a/code","expires_in":600000}`, false},
		"a page that runs a script":      {&authority.DeviceCode{}, `{"device_code":"abcdefghijklmnopqrstuvwxyz","user_code":"BCDF-GHJK","verification_uri":"javascript:alert(1)","expires_in":600}`, false},
		"a certificate":                  {&authority.Certificate{}, `{"serial":"0a1","subject":"x","ends":"2026-01-02T03:04:05Z"}`, true},
		"a certificate of no number":     {&authority.Certificate{}, `{"serial":"zz","subject":"x","ends":"2026-01-02T03:04:05Z"}`, false},
		"not UTF-8":                      {&authority.About{}, "{\"name\":\"\xff\"}", false},
	} {
		t.Run(name, func(t *testing.T) {
			err := authority.Read([]byte(c.raw), c.into)
			require.Equal(t, c.ok, err == nil, "%v", err)
		})
	}
}

// What is read from an answer, is written and read again, stays the same.
func FuzzRead(f *testing.F) {
	for _, seed := range []string{`{"items":[{"serial":"KS 0001","since":"2026-01-02T03:04:05Z","seen":"2026-01-02T03:04:05Z"}]}`, `{"name":"F","standings":[{"name":"x","grant_days":1,"certificate_days":1}]}`,
		`{"id":"rowan","crews":[{"name":"fellgate","number":"4471 0926","standing":{"name":"x","grant_days":1,"certificate_days":1}}]}`, `{"access_token":"abcdefghijklmnopqrstuvwxyz","token_type":"DPoP","expires_in":600}`, `[`, `null`} {
		f.Add([]byte(seed))
	}
	f.Fuzz(func(t *testing.T, raw []byte) {
		for _, fresh := range []func() any{func() any { return &authority.About{} }, func() any { return &authority.Account{} }, func() any { return &authority.List[authority.Entry]{} }, func() any { return &authority.Token{} },
			func() any { return &authority.DeviceCode{} }, func() any { return &authority.Metadata{} }, func() any { return &authority.List[authority.Certificate]{} }, func() any { return &authority.App{} }, func() any { return &authority.Enrolment{} }} {
			v := fresh()
			if authority.Read(raw, v) != nil {
				continue
			}
			again, err := json.Marshal(v)
			require.NoError(t, err)
			w := fresh()
			require.NoError(t, authority.Read(again, w), "%s", again)
			require.Equal(t, v, w)
		}
	})
}
