package web_test

import (
	"bufio"
	"bytes"
	"net"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/internal/benchtest"
)

// FuzzHeaders sends headers of somebody who has neither a session nor a key, for what only others may see.
func FuzzHeaders(f *testing.F) { fuzzHead(f, "") }

// FuzzCookies sends cookies: of the service's own name, and of other servers of this computer.
func FuzzCookies(f *testing.F) { fuzzHead(f, "Cookie: ") }

func fuzzHead(f *testing.F, before string) {
	b := benchtest.New(f)
	at := strings.TrimPrefix(b.Serve().Base, "http://")
	own := "earlybench-" + at[strings.LastIndex(at, ":")+1:]
	for _, seed := range []string{"", "Authorization: Bearer x", "Authorization: Bearer " + strings.Repeat("A", 5000), "Origin: null", "Cookie: " + own + "=", own + "=x", own + "=\"x\"; " + own + "=y", "a=b;;=;" + own,
		own + "=" + strings.Repeat("x", 7000), "Content-Length: 5", "Transfer-Encoding: chunked\r\n\r\n0", "Host: elsewhere.example", "Upgrade: websocket\r\nConnection: upgrade", "Idempotency-Key: \xff"} {
		f.Add([]byte(seed))
	}
	f.Fuzz(func(t *testing.T, head []byte) {
		c, err := net.Dial("tcp", at)
		require.NoError(t, err)
		defer c.Close()
		require.NoError(t, c.SetDeadline(time.Now().Add(20*time.Second)))
		c.Write(bytes.Join([][]byte{[]byte("GET /api/v1/devices HTTP/1.1\r\nHost: " + at + "\r\n" + before), head, []byte("\r\n\r\n")}, nil))
		c.(*net.TCPConn).CloseWrite()
		answer := bufio.NewReader(c)
		for {
			res, err := http.ReadResponse(answer, nil)
			if err != nil {
				return
			}
			if res.StatusCode < 300 && res.StatusCode != http.StatusContinue || res.StatusCode == http.StatusInternalServerError {
				t.Fatalf("status %d for %q", res.StatusCode, head)
			}
			res.Body.Close()
		}
	})
}
