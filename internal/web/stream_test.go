package web_test

import (
	"encoding/json"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/fasthttp/websocket"
	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/client"
)

// dial opens the events as a WebSocket, as a signed-in browser on a page of an origin.
func (d *desk) dial(t *testing.T, origin, cookie string) (*websocket.Conn, int) {
	t.Helper()
	conn, res, err := websocket.DefaultDialer.Dial(strings.Replace(d.Base, "http", "ws", 1)+"/api/v1/events?after=0", http.Header{"Origin": {origin}, "Cookie": {cookie}})
	if err != nil {
		require.NotNil(t, res, "%v", err)
		return nil, res.StatusCode
	}
	t.Cleanup(func() { conn.Close() })
	require.NoError(t, conn.SetReadDeadline(time.Now().Add(20*time.Second)))
	return conn, res.StatusCode
}

func TestPagesFollowEventsOverAWebSocketAndOnlyOurOwnDo(t *testing.T) {
	d := newDesk(t)
	cookie := d.session(t)
	for what, c := range map[string]struct {
		origin, cookie string
		status         int
	}{
		"our own page":                  {d.Base, cookie, http.StatusSwitchingProtocols},
		"a page elsewhere":              {"http://elsewhere.example", cookie, http.StatusForbidden},
		"a page of another port here":   {"http://127.0.0.1:1", cookie, http.StatusForbidden},
		"a page without an origin":      {"null", cookie, http.StatusForbidden},
		"a browser that is not let in":  {d.Base, "", http.StatusUnauthorized},
		"a browser with another cookie": {d.Base, "earlybench=no", http.StatusUnauthorized},
	} {
		_, status := d.dial(t, c.origin, c.cookie)
		require.Equal(t, c.status, status, what)
	}
	conn, _ := d.dial(t, d.Base, cookie)
	_, err := d.Rack.Add(t.Context(), "kittiwake-1", "Kittiwake")
	require.NoError(t, err)
	for {
		_, message, err := conn.ReadMessage()
		require.NoError(t, err)
		for line := range strings.SplitSeq(string(message), "\n") {
			var e client.Event
			require.NoError(t, json.Unmarshal([]byte(line), &e))
			if e.Subject == "kittiwake-1" {
				require.Equal(t, []string{"device.changed", "1.0"}, []string{e.Type, e.SpecVersion})
				require.Regexp(t, `/[0-9]+$`, e.ID, "its end is from where to go on")
				return
			}
		}
	}
}
