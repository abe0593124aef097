package developer_test

import (
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"encoding/asn1"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"math/big"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/developer"
)

// The key and signature of RFC 7515, appendix A.3.
var rfc = developer.Public{Type: "EC", Curve: "P-256", X: "f83OJ3D2xF1Bg8vub9tLe1gHMzV76e8Tus9uPHvRVEU", Y: "x_FEzRu9m36HLN_tue659LNpXW6pCyStikYjKIWI5a0"}

const (
	rfcDocument  = "{\"iss\":\"joe\",\r\n \"exp\":1300819380,\r\n \"http://example.com/is_root\":true}"
	rfcSignature = "eyJhbGciOiJFUzI1NiJ9..DtEhU3ljbEg8L38VWAfUAqOyKAM6-Xx-F4GawxaepmXFCgfTjDxw5djxLa8ISlSApmWQxfKTUJqPP3-Kg6NU1Q"
)

const thumbprintOfRFC = "oKIywvGUpTVTyxMQ3bwIIeQUudfr_CkLMjCE19ECD-U"

func TestASignatureOfTheStandardIsVerified(t *testing.T) {
	require.NoError(t, rfc.Check())
	require.NoError(t, rfc.Verify([]byte(rfcDocument), rfcSignature))
}

func TestABrokenSignatureIsRefused(t *testing.T) {
	value := strings.TrimPrefix(rfcSignature, "eyJhbGciOiJFUzI1NiJ9..")
	none := base64.RawURLEncoding.EncodeToString([]byte(`{"alg":"none"}`))
	spaced := base64.RawURLEncoding.EncodeToString([]byte(`{"alg": "ES256"}`))
	for name, c := range map[string]struct{ document, signature string }{
		"another document":           {rfcDocument + " ", rfcSignature},
		"no signature":               {rfcDocument, ""},
		"only a header":              {rfcDocument, "eyJhbGciOiJFUzI1NiJ9.."},
		"no algorithm":               {rfcDocument, none + ".."},
		"another header":             {rfcDocument, spaced + ".." + value},
		"a payload inside":           {rfcDocument, "eyJhbGciOiJFUzI1NiJ9." + base64.RawURLEncoding.EncodeToString([]byte(rfcDocument)) + "." + value},
		"stray bits in its last one": {rfcDocument, rfcSignature[:len(rfcSignature)-1] + "R"},
		"padding":                    {rfcDocument, rfcSignature + "=="},
		"a line break":               {rfcDocument, rfcSignature[:40] + "\n" + rfcSignature[40:]},
		"a byte too few":             {rfcDocument, rfcSignature[:len(rfcSignature)-2]},
		"two zeros":                  {rfcDocument, "eyJhbGciOiJFUzI1NiJ9.." + strings.Repeat("A", 86)},
	} {
		t.Run(name, func(t *testing.T) {
			require.ErrorIs(t, rfc.Verify([]byte(c.document), c.signature), developer.ErrSignature)
		})
	}
	other, err := developer.New()
	require.NoError(t, err)
	require.ErrorIs(t, other.Public().Verify([]byte(rfcDocument), rfcSignature), developer.ErrSignature)
}

func TestAKeyThatIsNoneIsRefused(t *testing.T) {
	for name, change := range map[string]func(*developer.Public){
		"another type":        func(p *developer.Public) { p.Type = "RSA" },
		"another curve":       func(p *developer.Public) { p.Curve = "P-384" },
		"a point beside":      func(p *developer.Public) { p.X = p.Y },
		"a short coordinate":  func(p *developer.Public) { p.X = p.X[:20] },
		"another spelling":    func(p *developer.Public) { p.Y = p.Y[:len(p.Y)-1] + "1" },
		"a line break inside": func(p *developer.Public) { p.X = p.X[:20] + "\n" + p.X[20:] },
	} {
		t.Run(name, func(t *testing.T) {
			p := rfc
			change(&p)
			require.Error(t, p.Check())
			require.Error(t, p.Verify([]byte(rfcDocument), rfcSignature))
		})
	}
}

// privateKey is a key as a file in PEM has it.
func privateKey(t *testing.T) (*developer.Key, []byte) {
	t.Helper()
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	key, err := developer.KeyOf(private)
	require.NoError(t, err)
	der, err := x509.MarshalPKCS8PrivateKey(private)
	require.NoError(t, err)
	return key, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der})
}

func TestAKeyIsReadFromPEM(t *testing.T) {
	key, text := privateKey(t)
	back, err := developer.ParsePrivate(text)
	require.NoError(t, err)
	same, err := developer.KeyOf(back)
	require.NoError(t, err)
	require.Equal(t, key.Public(), same.Public())
	for _, wrong := range []string{"", "no key", strings.ReplaceAll(string(text), "PRIVATE KEY", "PUBLIC KEY")} {
		_, err := developer.ParsePrivate([]byte(wrong))
		require.Error(t, err)
	}
	_, other, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	_, err = developer.KeyOf(other)
	require.ErrorContains(t, err, "P-256")
}

// openssl verifies what we sign by a key that it reads itself: no code of ours is between.
func TestOpenSSLVerifiesASignature(t *testing.T) {
	openssl, err := exec.LookPath("openssl")
	if err != nil {
		t.Skip("openssl is not installed")
	}
	dir := t.TempDir()
	key, text := privateKey(t)
	signature, err := key.Sign([]byte(rfcDocument))
	require.NoError(t, err)
	require.LessOrEqual(t, len(signature), developer.MaxSignature)

	head, value, _ := strings.Cut(signature, "..")
	raw, err := base64.RawURLEncoding.DecodeString(value)
	require.NoError(t, err)
	der, err := asn1.Marshal([]*big.Int{new(big.Int).SetBytes(raw[:32]), new(big.Int).SetBytes(raw[32:])})
	require.NoError(t, err)
	for name, data := range map[string][]byte{"key.pem": text, "sig.der": der, "input": []byte(head + "." + base64.RawURLEncoding.EncodeToString([]byte(rfcDocument)))} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), data, 0o600))
	}
	out, err := exec.Command(openssl, "dgst", "-sha256", "-prverify", filepath.Join(dir, "key.pem"), "-signature", filepath.Join(dir, "sig.der"), filepath.Join(dir, "input")).CombinedOutput()
	require.NoError(t, err, string(out))
	require.Contains(t, string(out), "Verified OK")
}

// The thumbprint of the RFC's key, and the figures, were made with another program.
func TestThumbprintAndFiguresAreThoseOfTheVectors(t *testing.T) {
	require.Equal(t, thumbprintOfRFC, rfc.Thumbprint())
	raw, err := os.ReadFile("testdata/figures.json")
	require.NoError(t, err)
	var vectors []struct {
		Challenge  string `json:"challenge"`
		DeviceKey  string `json:"device_key"`
		Thumbprint string `json:"thumbprint"`
		Figures    string `json:"figures"`
	}
	require.NoError(t, json.Unmarshal(raw, &vectors))
	require.NotEmpty(t, vectors)
	for _, v := range vectors {
		require.Equal(t, v.Figures, developer.Figures(v.Challenge, v.DeviceKey, v.Thumbprint))
	}
}
