package benchtest

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"testing"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/getkin/kin-openapi/routers/legacy"
	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/est"
)

// Root is the directory of the project.
func Root() string {
	_, file, _, _ := runtime.Caller(0)
	return filepath.Join(filepath.Dir(file), "..", "..")
}

// document is the OpenAPI document of authorities.
var document = sync.OnceValues(func() (routers.Router, error) {
	for _, kind := range []string{est.RequestType, est.CertsType} {
		openapi3filter.RegisterBodyDecoder(kind, openapi3filter.FileBodyDecoder)
	}
	doc, err := openapi3.NewLoader().LoadFromFile(filepath.Join(Root(), "docs", "formats", "authority.openapi.yaml"))
	if err != nil {
		return nil, err
	}
	if err := doc.Validate(context.Background()); err != nil {
		return nil, err
	}
	return legacy.NewRouter(doc)
})

// checked answers as h does, and fails the test if a request or an answer is not as the OpenAPI
// document of authorities says. What a faulty authority answers is not checked: see faulty.
func checked(t testing.TB, h http.Handler, faulty func() bool) http.Handler {
	t.Helper()
	doc, err := document()
	require.NoError(t, err, "docs/formats/authority.openapi.yaml")
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if faulty() || r.URL.Path == "/code" { // a page for people
			h.ServeHTTP(w, r)
			return
		}
		var sent bytes.Buffer
		r.Body = io.NopCloser(io.TeeReader(r.Body, &sent))
		seen := &answer{ResponseWriter: w, status: http.StatusOK}
		h.ServeHTTP(seen, r)
		if faulty() || strings.HasPrefix(r.Header.Get("User-Agent"), "curl") && seen.status >= 400 {
			return
		}
		if err := seen.check(doc, r, sent.Bytes()); err != nil {
			t.Errorf("%s %s: %v\n%s", r.Method, r.URL, err, seen.body.String())
		}
	})
}

// answer keeps what is answered.
type answer struct {
	http.ResponseWriter
	status int
	body   bytes.Buffer
}

func (a *answer) WriteHeader(status int) {
	a.status = status
	a.ResponseWriter.WriteHeader(status)
}

func (a *answer) Write(p []byte) (int, error) {
	a.body.Write(p)
	return a.ResponseWriter.Write(p)
}

func (a *answer) check(doc routers.Router, r *http.Request, sent []byte) error {
	again := r.Clone(context.Background())
	again.Body = io.NopCloser(bytes.NewReader(sent))
	route, values, err := doc.FindRoute(again)
	if err != nil {
		return err
	}
	in := &openapi3filter.RequestValidationInput{Request: again, PathParams: values, Route: route,
		Options: &openapi3filter.Options{AuthenticationFunc: openapi3filter.NoopAuthenticationFunc, IncludeResponseStatus: true, MultiError: true}}
	if a.status < 400 {
		if err := openapi3filter.ValidateRequest(again.Context(), in); err != nil {
			return fmt.Errorf("the request: %w", err)
		}
	}
	out := &openapi3filter.ResponseValidationInput{RequestValidationInput: in, Status: a.status, Header: a.Header(), Options: in.Options}
	out.SetBodyBytes(a.body.Bytes())
	if err := openapi3filter.ValidateResponse(again.Context(), out); err != nil {
		return fmt.Errorf("the answer: %w", err)
	}
	return nil
}
