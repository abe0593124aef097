package statement_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/x509"
	"encoding/asn1"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"math/big"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/developer"
	"earlybench.invalid/earlybench/core/statement"
)

type vector struct {
	Name    string          `json:"name"`
	Text    string          `json:"text"`
	Claims  json.RawMessage `json:"claims"`
	Refused int             `json:"refused"`
}

func vectors(t testing.TB) (statement.Authority, []vector) {
	t.Helper()
	raw, err := os.ReadFile("testdata/vectors.json")
	require.NoError(t, err)
	var all struct {
		Authority  string             `json:"authority"`
		Keys       []developer.Public `json:"keys"`
		Statements []vector           `json:"statements"`
	}
	require.NoError(t, json.Unmarshal(raw, &all))
	require.Greater(t, len(all.Statements), 40)
	return statement.Authority{Name: all.Authority, Keys: all.Keys}, all.Statements
}

// read reads a statement of any kind.
func read(a statement.Authority, text string) (any, error) {
	if statement.KindOf(text) == statement.StatusList {
		return a.ReadStatus(text)
	}
	return a.Read(text)
}

func TestTheVectorsAreReadAsTheySay(t *testing.T) {
	a, all := vectors(t)
	for _, v := range all {
		t.Run(v.Name, func(t *testing.T) {
			got, err := read(a, v.Text)
			if v.Refused != 0 {
				var refused *statement.Refused
				require.ErrorAs(t, err, &refused)
				require.Equal(t, v.Refused, refused.Rule, refused.Text)
				return
			}
			require.NoError(t, err)
			claims, err := json.Marshal(got)
			require.NoError(t, err)
			require.JSONEq(t, string(v.Claims), string(claims))
		})
	}
}

// No bit of a grant, a token or a status list can be another.
func TestEveryBitThatIsFlippedIsRefused(t *testing.T) {
	a, all := vectors(t)
	for _, v := range all[:3] {
		t.Run(v.Name, func(t *testing.T) {
			require.Zero(t, v.Refused)
			for at := range len(v.Text) * 8 {
				b := []byte(v.Text)
				b[at/8] ^= 1 << (at % 8)
				_, err := read(a, string(b))
				require.Error(t, err, "bit %d of byte %d", at%8, at/8)
			}
		})
	}
}

// go-jose and openssl verify what we sign, and neither of them is ours.
func TestOthersVerifyWhatWeSign(t *testing.T) {
	key, err := developer.New()
	require.NoError(t, err)
	s := sample()
	text, err := statement.Sign(s, key)
	require.NoError(t, err)
	public := key.Public()
	var jwk jose.JSONWebKey
	raw, err := json.Marshal(public)
	require.NoError(t, err)
	require.NoError(t, jwk.UnmarshalJSON(raw))
	j, err := jose.ParseSignedCompact(text, []jose.SignatureAlgorithm{jose.ES256})
	require.NoError(t, err)
	payload, err := j.Verify(jwk)
	require.NoError(t, err)
	require.Contains(t, string(payload), `"sub":"fellgate/rowan"`)

	openssl, err := exec.LookPath("openssl")
	require.NoError(t, err)
	dir := t.TempDir()
	cut := strings.LastIndexByte(text, '.')
	signature, err := base64.RawURLEncoding.DecodeString(text[cut+1:])
	require.NoError(t, err)
	der, err := asn1.Marshal([]*big.Int{new(big.Int).SetBytes(signature[:32]), new(big.Int).SetBytes(signature[32:])})
	require.NoError(t, err)
	spki, err := x509.MarshalPKIXPublicKey(jwk.Key.(*ecdsa.PublicKey))
	require.NoError(t, err)
	for name, data := range map[string][]byte{"key.pem": pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: spki}), "sig.der": der, "input": []byte(text[:cut])} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), data, 0o600))
	}
	out, err := exec.Command(openssl, "dgst", "-sha256", "-verify", filepath.Join(dir, "key.pem"), "-signature", filepath.Join(dir, "sig.der"), filepath.Join(dir, "input")).CombinedOutput()
	require.NoError(t, err, string(out))
	require.Equal(t, elliptic.P256(), jwk.Key.(*ecdsa.PublicKey).Curve)
}

func sample() statement.Statement {
	return statement.Statement{Kind: statement.DebugToken, Issuer: "fell-authority", Subject: "fellgate/rowan", Confirmation: statement.Confirmation{Thumbprint: strings.Repeat("k", 43)}, App: "fellgate/callout",
		Devices: []string{"KS 0001", "KS 0002"}, Debug: true, Features: []string{"pulse"}, Made: 1000, Begins: 1000, Ends: 2000, ID: "abcdefghijklmnop"}
}

func TestAStatementCoversAStartOrSaysWhichLineOfItRefuses(t *testing.T) {
	start := statement.Start{App: "fellgate/callout", Developer: strings.Repeat("k", 43), Features: []string{"pulse"}, Serial: "KS 0002", Debug: true, At: time.Unix(1500, 0), Withdrawn: []string{"somethingelse0000"}}
	s := sample()
	require.NoError(t, s.Cover(start))
	asked := map[statement.Line]bool{}
	for line, c := range map[statement.Line]struct {
		change func(*statement.Statement, *statement.Start)
		text   string
	}{
		statement.LineType:     {func(_ *statement.Statement, w *statement.Start) { w.Signed = true }, "was signed by an identity"},
		statement.LineKey:      {func(_ *statement.Statement, w *statement.Start) { w.Developer = strings.Repeat("o", 43) }, "is fellgate/rowan's, and fellgate/callout was signed by another key"},
		statement.LineSubject:  {func(_ *statement.Statement, w *statement.Start) { w.App = "harbour/callout" }, "is for the crew fellgate"},
		statement.LineApp:      {func(_ *statement.Statement, w *statement.Start) { w.App = "fellgate/muster" }, "is for fellgate/callout, not for fellgate/muster"},
		statement.LineDevices:  {func(_ *statement.Statement, w *statement.Start) { w.Serial = "KS 0003" }, "does not name the device KS 0003"},
		statement.LineBegins:   {func(_ *statement.Statement, w *statement.Start) { w.At = time.Unix(999, 0) }, "and the clock says 1 January 1970 00:16"},
		statement.LineEnds:     {func(_ *statement.Statement, w *statement.Start) { w.At = time.Unix(2000, 0) }, "ended on 1 January 1970 00:33"},
		statement.LineID:       {func(s *statement.Statement, w *statement.Start) { w.Withdrawn = []string{s.ID} }, "was withdrawn"},
		statement.LineFeatures: {func(_ *statement.Statement, w *statement.Start) { w.Features = []string{"pulse", "map"} }, `does not give "map"`},
		statement.LineDebug:    {func(s *statement.Statement, _ *statement.Start) { s.Debug = false }, "be debugged"},
	} {
		asked[line] = true
		t.Run(string(line), func(t *testing.T) {
			s, w := sample(), start
			c.change(&s, &w)
			var o *statement.Objection
			require.ErrorAs(t, s.Cover(w), &o)
			require.Equal(t, line, o.Line)
			require.Contains(t, o.Text, c.text)
		})
	}
	require.Len(t, asked, len(statement.Lines), "every line is asked for")
	grant := sample()
	grant.Kind = statement.Grant
	require.ErrorContains(t, grant.Cover(start), "signed by a bare key")
	s.App, s.Devices = statement.Any, []string{statement.Any}
	start.App, start.Serial = "fellgate/other", "X 1"
	require.NoError(t, s.Cover(start), "any app, any device")
}

func TestOfSeveralTheOneThatCoversIsFoundElseTheNearest(t *testing.T) {
	w := statement.Start{App: "fellgate/callout", Developer: strings.Repeat("k", 43), Serial: "KS 0002", At: time.Unix(1500, 0)}
	good, ended, others := sample(), sample(), sample()
	ended.Ends = 1200
	others.Confirmation.Thumbprint = strings.Repeat("o", 43)
	s, o := statement.Best([]*statement.Statement{&others, &ended, &good}, w)
	require.Nil(t, o)
	require.Equal(t, &good, s)
	_, o = statement.Best([]*statement.Statement{&others, &ended}, w)
	require.Equal(t, statement.LineEnds, o.Line, "it is nearer than another developer's")
	s, o = statement.Best(nil, w)
	require.True(t, s == nil && o == nil)
}

func TestNothingIsSignedThatWouldNotBeRead(t *testing.T) {
	key, err := developer.New()
	require.NoError(t, err)
	a := statement.Authority{Name: "fell-authority", Keys: []developer.Public{key.Public()}}
	for name, change := range map[string]func(*statement.Statement){
		"no devices":   func(s *statement.Statement) { s.Devices = nil },
		"no features":  func(s *statement.Statement) { s.Features = nil },
		"no issuer":    func(s *statement.Statement) { s.Issuer = "" },
		"1001 devices": func(s *statement.Statement) { s.Devices = slices.Repeat([]string{"KS 1"}, 1001) },
	} {
		s := sample()
		change(&s)
		_, err := statement.Sign(s, key)
		require.Error(t, err, name)
	}
	text, err := statement.Sign(sample(), key)
	require.NoError(t, err)
	got, err := a.Read(text)
	require.NoError(t, err)
	want := sample()
	want.Text = text
	require.Equal(t, &want, got)
	require.Equal(t, "rowan", got.Developer())
	_, err = a.ReadStatus(text)
	require.ErrorContains(t, err, "not a status list")
}

func FuzzRead(f *testing.F) {
	a, all := vectors(f)
	for _, v := range all {
		f.Add(v.Text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if s, err := a.Read(text); err == nil {
			require.Equal(t, text, s.Text)
		}
		a.ReadStatus(text) // it must not panic
	})
}

// What is said inside a statement is fuzzed under a good signature.
func FuzzPayload(f *testing.F) {
	key, err := developer.New()
	require.NoError(f, err)
	a := statement.Authority{Name: "fell-authority", Keys: []developer.Public{key.Public()}}
	raw, err := json.Marshal(sample())
	require.NoError(f, err)
	f.Add(string(raw))
	f.Add(`{"iss":"fell-authority","iat":1,"exp":2,"withdrawn":[]}`)
	head := func(kind statement.Kind) string {
		return base64.RawURLEncoding.EncodeToString([]byte(`{"alg":"ES256","kid":"` + key.Public().Thumbprint() + `","typ":"` + string(kind) + `"}`))
	}
	f.Fuzz(func(t *testing.T, payload string) {
		for _, kind := range []statement.Kind{statement.Grant, statement.StatusList} {
			signed := head(kind) + "." + base64.RawURLEncoding.EncodeToString([]byte(payload))
			signature, err := key.SignBytes([]byte(signed))
			require.NoError(t, err)
			text := signed + "." + base64.RawURLEncoding.EncodeToString(signature)
			if len(text) > statement.MaxSize {
				return
			}
			s, err := read(a, text)
			if err != nil {
				continue
			}
			again, err := json.Marshal(s)
			require.NoError(t, err)
			require.JSONEq(t, payload, string(again), "it says no more and no less than was read")
		}
	})
}
