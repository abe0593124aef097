package web_test

import (
	"bytes"
	"encoding/json"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/client"
)

// page is a browser that is signed in at a desk.
type page struct {
	*desk
	cookie string
}

// sends sends a request as the page does and returns its status and what was answered.
func (p page) sends(t *testing.T, method, path, body string) (int, string) {
	t.Helper()
	return p.with(t, http.DefaultClient, p.Base, func(r *http.Request) {
		r.Header.Set("Cookie", p.cookie)
		r.Header.Set("Origin", p.Base)
	}, method, path, body)
}

// owner sends a request over the socket.
func (p page) owner(t *testing.T, method, path, body string) (int, string) {
	t.Helper()
	return p.with(t, p.Dialer(), "http://bench", func(*http.Request) {}, method, path, body)
}

func (p page) with(t *testing.T, c *http.Client, base string, head func(*http.Request), method, path, body string) (int, string) {
	t.Helper()
	req, err := http.NewRequestWithContext(t.Context(), method, base+"/api/v1"+path, bytes.NewReader([]byte(body)))
	require.NoError(t, err)
	req.Header.Set("Content-Type", "application/json")
	head(req)
	res, err := c.Do(req)
	require.NoError(t, err)
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	return res.StatusCode, string(text)
}

// code asks for a confirmation and returns the code that the page shows.
func (p page) code(t *testing.T) string {
	t.Helper()
	status, text := p.sends(t, "POST", "/confirmations", "")
	require.Equal(t, http.StatusOK, status, text)
	var c client.Confirmation
	require.NoError(t, json.Unmarshal([]byte(text), &c))
	require.Len(t, c.Code, 6)
	require.Equal(t, 300, c.Seconds)
	return c.Code
}

const aHost = `{"name":"attic","usbip":"127.0.0.1:1","control":"127.0.0.1:1","shared":false,"trouble":""}`

func TestABrowserDoesWhatOnlyTheOwnerMayOnceTheOwnerHasConfirmedIt(t *testing.T) {
	d := newDesk(t)
	mine, other := page{d, d.session(t)}, page{d, d.session(t)}
	status, text := mine.sends(t, "POST", "/hosts", aHost)
	require.Equal(t, http.StatusForbidden, status)
	require.Contains(t, text, "Ask for the owner's confirmation")

	code := mine.code(t)
	status, _ = other.sends(t, "POST", "/confirmations/"+code, "")
	require.Equal(t, http.StatusForbidden, status, "a browser confirms nobody")
	status, text = mine.owner(t, "POST", "/confirmations/"+code, "")
	require.Equal(t, http.StatusOK, status, text)

	status, text = mine.sends(t, "POST", "/hosts", aHost)
	require.Equal(t, http.StatusOK, status, text)
	status, _ = other.sends(t, "POST", "/hosts", aHost)
	require.Equal(t, http.StatusForbidden, status, "the other browser was not confirmed")
	status, _ = mine.sends(t, "POST", "/confirmations/"+other.code(t), "")
	require.Equal(t, http.StatusForbidden, status, "a confirmed browser confirms nobody either")

	d.Clock.Move(-time.Minute)
	status, _ = mine.sends(t, "DELETE", "/hosts/attic", "")
	require.Equal(t, http.StatusForbidden, status, "a clock that steps back does not make it longer")
	d.Clock.Move(time.Minute)
	status, _ = mine.sends(t, "DELETE", "/confirmation", "")
	require.Equal(t, http.StatusNoContent, status)
	status, _ = mine.sends(t, "DELETE", "/hosts/attic", "")
	require.Equal(t, http.StatusForbidden, status, "the page gave it back")
}

func TestAConfirmationEndsByItself(t *testing.T) {
	d := newDesk(t)
	mine := page{d, d.session(t)}
	status, _ := mine.owner(t, "POST", "/confirmations/"+mine.code(t), "")
	require.Equal(t, http.StatusOK, status)
	d.Clock.Move(16 * time.Minute)
	status, _ = mine.sends(t, "POST", "/hosts", aHost)
	require.Equal(t, http.StatusForbidden, status)
	_, text := mine.sends(t, "GET", "/sessions", "")
	require.NotContains(t, text, `"confirmed":"`)
}

func TestACodeConfirmsOnce(t *testing.T) {
	d := newDesk(t)
	mine := page{d, d.session(t)}
	first := mine.code(t)
	second := mine.code(t)
	for name, code := range map[string]string{"an earlier code of the page": first, "a code that nobody shows": "no-code"} {
		status, text := mine.owner(t, "POST", "/confirmations/"+code, "")
		require.Equal(t, http.StatusNotFound, status, name)
		require.Contains(t, text, "let the page show a new one", name)
	}
	status, _ := mine.owner(t, "POST", "/confirmations/"+second[:3]+"%20"+second[3:], "")
	require.Equal(t, http.StatusOK, status, "spaces in it do not matter")
	status, _ = mine.owner(t, "POST", "/confirmations/"+second, "")
	require.Equal(t, http.StatusNotFound, status, "it was used")
	late := mine.code(t)
	d.Clock.Move(6 * time.Minute)
	status, _ = mine.owner(t, "POST", "/confirmations/"+late, "")
	require.Equal(t, http.StatusNotFound, status, "it has ended")
	status, text := mine.owner(t, "POST", "/confirmations", "")
	require.Equal(t, http.StatusUnprocessableEntity, status, "the owner's command needs none")
	require.Contains(t, text, "Only a signed-in browser")
}

func TestABenchIsRenamedWhileItRuns(t *testing.T) {
	d := newDesk(t)
	p := page{desk: d}
	status, text := p.owner(t, "PATCH", "/bench", `{"name":"harbour-desk"}`)
	require.Equal(t, http.StatusOK, status, text)
	require.Contains(t, text, `"name":"harbour-desk"`)
	require.Equal(t, "harbour-desk", d.Name())
	for _, bad := range []string{"", "Harbour", strings.Repeat("a", 41), "a b"} {
		status, text = p.owner(t, "PATCH", "/bench", `{"name":"`+bad+`"}`)
		require.Equal(t, http.StatusUnprocessableEntity, status, bad)
	}
	require.Contains(t, text, "is invalid: start with a lower-case letter")
}
