package benchtest

import (
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// failing notes failures in place of the test's own.
type failing struct {
	testing.TB
	failed bool
}

func (f *failing) Errorf(string, ...any) { f.failed = true }

func TestAnAnswerThatIsNotAsTheDocumentOfAuthoritiesSaysFailsTheTest(t *testing.T) {
	entry := `{"serial":"KS 0001","model":"KS","since":"2026-01-02T03:04:05Z","seen":"2026-01-02T03:04:05Z","self":false}`
	for name, c := range map[string]struct {
		method, path, kind, answer string
		status                     int
		fails                      bool
	}{
		"as it says":                {"GET", "/v1/crews/fellgate/devices", "application/json", `{"items":[` + entry + `]}`, 200, false},
		"a member is missing":       {"GET", "/v1/crews/fellgate/devices", "application/json", `{"items":[{"serial":"KS 0001"}]}`, 200, true},
		"a member of another type":  {"GET", "/v1/crews/fellgate/devices", "application/json", `{"items":7}`, 200, true},
		"another content type":      {"GET", "/v1/crews/fellgate/devices", "text/html", `<p>`, 200, true},
		"a problem that it knows":   {"GET", "/v1/account", "application/problem+json", `{"type":"about:blank","title":"Not signed in"}`, 401, false},
		"a problem of another type": {"GET", "/v1/account", "application/problem+json", `{"type":"elsewhere","title":"Not signed in"}`, 401, true},
		"a path that it lacks":      {"GET", "/v1/everything", "application/json", `{}`, 200, true},
	} {
		t.Run(name, func(t *testing.T) {
			f := &failing{TB: t}
			h := checked(f, http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
				w.Header().Set("Content-Type", c.kind)
				w.WriteHeader(c.status)
				io.WriteString(w, c.answer)
			}), func() bool { return false })
			r := httptest.NewRequest(c.method, c.path, strings.NewReader(""))
			r.Header.Set("DPoP", "a.b.c")
			h.ServeHTTP(httptest.NewRecorder(), r)
			require.Equal(t, c.fails, f.failed)
		})
	}
}
