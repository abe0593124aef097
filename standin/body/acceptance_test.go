package body

import (
	"bytes"
	"encoding/json"
	"os"
	"slices"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/appfile"
	"earlybench.invalid/earlybench/core/developer"
	"earlybench.invalid/earlybench/core/link"
	"earlybench.invalid/earlybench/core/rpc"
)

// packed is an app file by a developer, or by nobody.
func packed(t *testing.T, key *developer.Key, version string) *appfile.File {
	t.Helper()
	var b bytes.Buffer
	m := appfile.Manifest{ID: "fellgate/callout", Name: "Callout", Version: version, Families: []string{"tarn"}, Entry: "main.wasm"}
	var by appfile.Signer // nil: signed by nobody
	if key != nil {
		by = key
	}
	_, err := appfile.Pack(&b, m, fstest.MapFS{"main.wasm": {}}, []string{"main.wasm"}, by)
	require.NoError(t, err)
	f, err := appfile.Open(bytes.NewReader(b.Bytes()), int64(b.Len()))
	require.NoError(t, err)
	return f
}

// offered offers an app to a body over the control channel's methods.
func offered(t *testing.T, b *Body, manifest []byte, signature string) error {
	t.Helper()
	return control(t, b, link.MethodAppOffer, link.Offer{Manifest: manifest, Signature: signature})
}

func control(t *testing.T, b *Body, method string, params any) error {
	t.Helper()
	raw, err := json.Marshal(params)
	require.NoError(t, err)
	_, err = b.Control(t.Context(), method, raw, nil)
	return err
}

func newKey(t *testing.T) *developer.Key {
	t.Helper()
	key, err := developer.New()
	require.NoError(t, err)
	return key
}

// opened is a handset by Ivory Reach on which computers may install.
func opened(t *testing.T) *Body {
	t.Helper()
	b, _ := made(t, "ivory-reach", "OF")
	b.mu.Lock()
	b.st.Settings["computers"] = "debug and install"
	b.mu.Unlock()
	return b
}

func TestADeviceThatAcceptsDevelopersTakesOnlyWhatTheyHaveSigned(t *testing.T) {
	b := opened(t)
	mine := packed(t, newKey(t), "1")
	other := packed(t, newKey(t), "1")
	nobody := packed(t, nil, "1")
	for name, c := range map[string]struct {
		manifest  []byte
		signature string
		text      string
	}{
		"nobody's app":                     {nobody.Manifest, "", "names no developer"},
		"a signature that is missing":      {mine.Manifest, "", "has no signature"},
		"a signature of another manifest":  {mine.Manifest, packed(t, newKey(t), "2").Signature.Bare, "another key"},
		"another developer's signature":    {mine.Manifest, other.Signature.Bare, "another key"},
		"a manifest that was changed":      {bytes.Replace(mine.Manifest, []byte(`"version": "1"`), []byte(`"version": "2"`), 1), mine.Signature.Bare, "another manifest"},
		"a signature of nobody's manifest": {nobody.Manifest, mine.Signature.Bare, "names no developer"},
	} {
		t.Run(name, func(t *testing.T) {
			var refusal *rpc.Error
			require.ErrorAs(t, offered(t, b, c.manifest, c.signature), &refusal)
			require.Equal(t, rpc.CodeUnsigned, refusal.Code)
			require.Contains(t, refusal.Message, c.text)
		})
	}
	require.NoError(t, offered(t, b, mine.Manifest, mine.Signature.Bare))
}

func TestADeviceThatAcceptsNoDevelopersRefusesAWrongSignatureAllTheSame(t *testing.T) {
	b, _ := made(t, "halden", "H4")
	b.mu.Lock()
	b.st.Settings["computers"] = "debug and install"
	b.mu.Unlock()
	require.NoError(t, offered(t, b, packed(t, nil, "1").Manifest, ""))
	mine := packed(t, newKey(t), "1")
	require.Error(t, offered(t, b, mine.Manifest, ""))
	require.NoError(t, offered(t, b, mine.Manifest, mine.Signature.Bare))
}

// startOf puts an app of a developer on a body, and starts it.
func (b *Body) startOf(t *testing.T, key *developer.Key) error {
	t.Helper()
	f := packed(t, key, "1")
	require.NoError(t, offered(t, b, f.Manifest, f.Signature.Bare))
	b.checked(f.App.Files[0].SHA256, f.App.Files[0].SHA256)
	require.NoError(t, os.WriteFile(b.filePath(f.App.Files[0].SHA256), nil, 0o600))
	require.NoError(t, control(t, b, link.MethodAppSwitch, link.AppRef{Digest: f.Digest}))
	return control(t, b, link.MethodAppStart, link.AppRef{ID: "fellgate/callout"})
}

// shownFigures are those that a bench with a developer's key shows.
func (b *Body) shownFigures(key *developer.Key) string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return developer.Figures(b.st.Challenge, b.fingerprint(), key.Public().Thumbprint())
}

func TestAnAppOfAnUnknownDeveloperIsStoppedUntilItsOwnerTypesTheFigures(t *testing.T) {
	b, key := opened(t), newKey(t)
	var refusal *rpc.Error
	require.ErrorAs(t, b.startOf(t, key), &refusal)
	require.Equal(t, rpc.CodeUnaccepted, refusal.Code)
	require.Contains(t, b.says(), "Callout | 1, developer not known", "it stays in the app list, marked")

	before := b.shownFigures(key)
	require.NoError(t, b.Touch("Callout"))
	wrong := "0000"
	if before == wrong {
		wrong = "0001"
	}
	for range 3 {
		require.NoError(t, b.Type(wrong))
		require.NoError(t, b.Touch("Let run"))
	}
	require.Contains(t, b.says(), "new ones")
	require.ErrorAs(t, control(t, b, link.MethodAppStart, link.AppRef{ID: "fellgate/callout"}), &refusal, "still not")

	require.NoError(t, b.Touch("Callout"))
	require.NoError(t, b.Type(b.shownFigures(key)))
	require.NoError(t, b.Touch("Let run"))
	require.Contains(t, b.says(), "Known from now on")
	require.NotContains(t, b.says(), "developer not known")
	require.NoError(t, control(t, b, link.MethodAppStart, link.AppRef{ID: "fellgate/callout"}))

	require.ErrorAs(t, b.startOf(t, newKey(t)), &refusal, "another developer's app of the same id")
	for _, thing := range slices.Concat([]string{"Settings", "Warranty"}, dialled, times(9, "Card number"), []string{"Back", "Back room", "Developers known", "Callout", "Yes"}) {
		require.NoError(t, b.Touch(thing))
	}
	require.ErrorAs(t, b.startOf(t, key), &refusal, "forgotten, it is not known again")
}

// A developer cannot wait for a challenge and then look for a key with the figures of
// another: the challenge comes after the key.
func TestTheChallengeIsNewForEveryDeveloperWhoseAppIsStopped(t *testing.T) {
	b := opened(t)
	seen := map[string]bool{}
	for range 20 {
		require.Error(t, b.startOf(t, newKey(t)))
		b.mu.Lock()
		require.False(t, seen[b.st.Challenge])
		seen[b.st.Challenge] = true
		require.LessOrEqual(t, len(b.st.Developers), maxStopped)
		b.mu.Unlock()
	}
	require.NoError(t, control(t, b, link.MethodAppRemove, link.AppRef{ID: "fellgate/callout"}))
	require.Len(t, b.stopped(), maxStopped-1, "what was stopped last goes with its app")
}
