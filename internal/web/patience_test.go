package web_test

import (
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/internal/web"
)

// Three hundred ask for much and do not take it: their connections end, and the owner is answered meanwhile.
func TestAnswersThatNobodyTakesEnd(t *testing.T) {
	d := newDesk(t, func(c *web.Config) { c.SentWithin = 2 * time.Second })
	host := strings.TrimPrefix(d.Base, "http://")
	ask := strings.Repeat(fmt.Sprintf("GET /api/openapi.json HTTP/1.1\r\nHost: %s\r\nAuthorization: Bearer %s\r\n\r\n", host, d.keys["key look"]), 60) // 11 MB of answers
	ended := make(chan error, 300)
	for range 300 {
		c, err := net.Dial("tcp", host)
		require.NoError(t, err)
		defer c.Close()
		go func() {
			_, err := io.WriteString(c, ask)
			for err == nil { // nothing is read; the end shows when more is asked for
				time.Sleep(50 * time.Millisecond)
				_, err = io.WriteString(c, "G")
			}
			ended <- err
		}()
	}
	began := time.Now()
	_, err := d.Client.Bench(t.Context())
	require.NoError(t, err)
	require.Less(t, time.Since(began), 2*time.Second)
	for range 300 {
		select {
		case <-ended:
		case <-time.After(30 * time.Second):
			t.Fatal("a connection goes on although nobody reads")
		}
	}
}

// A page that has gone without a word answers no ping; one that is there does, and stays.
func TestAPageThatAnswersNoPingIsLetGo(t *testing.T) {
	const beat = 600 * time.Millisecond // also a busy computer answers within that
	d := newDesk(t, func(c *web.Config) { c.Heartbeat = beat })
	cookie := d.session(t)
	there, _ := d.dial(t, d.Base, cookie)
	stays := make(chan error, 1)
	go func() {
		for {
			if _, _, err := there.ReadMessage(); err != nil { // reading answers pings
				stays <- err
				return
			}
		}
	}()
	gone, err := net.Dial("tcp", strings.TrimPrefix(d.Base, "http://"))
	require.NoError(t, err)
	defer gone.Close()
	fmt.Fprintf(gone, "GET /api/v1/events?after=0 HTTP/1.1\r\nHost: %s\r\nOrigin: %s\r\nCookie: %s\r\nConnection: Upgrade\r\nUpgrade: websocket\r\nSec-WebSocket-Version: 13\r\nSec-WebSocket-Key: AAAAAAAAAAAAAAAAAAAAAA==\r\n\r\n",
		strings.TrimPrefix(d.Base, "http://"), d.Base, cookie)
	require.NoError(t, gone.SetReadDeadline(time.Now().Add(20*time.Second)))
	began := time.Now()
	raw, err := io.ReadAll(gone) // it hears, and answers nothing
	require.NoError(t, err, "the service has ended it")
	require.Contains(t, string(raw), fmt.Sprint(http.StatusSwitchingProtocols))
	require.Greater(t, time.Since(began), 2*beat)
	select {
	case err := <-stays:
		require.NoError(t, err, "the page that answers was let go")
	case <-time.After(3 * beat):
	}
}
