package test

import (
	"bytes"
	"compress/gzip"
	"context"
	"fmt"
	"io"
	"net"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// collecting makes the programs of a test collect garbage as often as people's do: the tests that measure memory
// begin with it.
func collecting(t *testing.T) { t.Setenv("GOGC", "100") }

// memory is what of a process is in memory now, and its open files.
func memory(t *testing.T, pid int) (bytes int64, files int) {
	t.Helper()
	raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	require.NoError(t, err)
	for line := range strings.Lines(string(raw)) {
		if rest, ok := strings.CutPrefix(line, "VmRSS:"); ok {
			kb, err := strconv.ParseInt(strings.Fields(rest)[0], 10, 64)
			require.NoError(t, err)
			bytes = kb << 10
		}
	}
	open, err := os.ReadDir(fmt.Sprintf("/proc/%d/fd", pid))
	require.NoError(t, err)
	return bytes, len(open)
}

// unsigned are requests of somebody who is not signed in, as far as they are ever sent.
func unsigned(t *testing.T, host string) map[string][]byte {
	t.Helper()
	var packed bytes.Buffer
	w, err := gzip.NewWriterLevel(&packed, gzip.BestCompression)
	require.NoError(t, err)
	zeros := make([]byte, 1<<20)
	for range 300 {
		_, err := w.Write(zeros)
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	post := "POST /api/v1/sign-in HTTP/1.1\r\nHost: " + host + "\r\nSec-Fetch-Site: same-origin\r\nContent-Type: application/json\r\n"
	kilobyte := strings.Repeat("x", 1024)
	pipelined := strings.Repeat("GET / HTTP/1.1\r\nHost: "+host+"\r\n\r\n", 200)
	return map[string][]byte{
		"announces 60 MB and sends 1 kB":    []byte(post + "Content-Length: 60000000\r\n\r\n" + kilobyte),
		"announces 9 EB":                    []byte(post + "Content-Length: 9000000000000000000\r\n\r\n" + kilobyte),
		"sends a compressed body":           append([]byte(post+fmt.Sprintf("Content-Encoding: gzip\r\nContent-Length: %d\r\n\r\n", packed.Len())), packed.Bytes()...),
		"sends chunks without end":          []byte(post + "Transfer-Encoding: chunked\r\n\r\n" + strings.Repeat("400\r\n"+kilobyte+"\r\n", 512)),
		"never ends its headers":            []byte("GET / HTTP/1.1\r\nHost: " + host + "\r\nX-A: " + kilobyte),
		"sends headers of 1 MB":             []byte("GET / HTTP/1.1\r\nHost: " + host + "\r\nX-A: " + strings.Repeat(kilobyte, 1024) + "\r\n\r\n"),
		"asks much and reads nothing":       []byte(pipelined),
		"follows the events without a name": []byte("GET /api/v1/events HTTP/1.1\r\nHost: " + host + "\r\n\r\n"),
	}
}

// Four hundred connections of somebody who is not signed in cost the service little, and the owner is
// answered meanwhile.
func TestAStormOfConnectionsBeforeSignInCostsLittle(t *testing.T) {
	collecting(t)
	d := startDemoIn(t, t.TempDir(), "--few")
	pid := processOf(t, d.cmd.Process.Pid, "serve")
	before, _ := memory(t, pid)
	host, console := strings.TrimPrefix(d.at.Service, "http://"), strings.TrimPrefix(d.console(), "http://")
	var conns []net.Conn
	defer func() {
		for _, c := range conns {
			c.Close()
		}
	}()
	requests := unsigned(t, console)
	names := []string{}
	for name := range requests {
		names = append(names, name)
	}
	slices.Sort(names)
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	for n := range 400 {
		c, err := net.Dial("tcp", host)
		require.NoError(t, err)
		conns = append(conns, c)
		go func() {
			stop := context.AfterFunc(ctx, func() { c.SetDeadline(time.Now()) }) // it only ends
			defer stop()
			c.Write(requests[names[n%len(names)]]) // the service may refuse to read all of it
		}()
	}
	var took []time.Duration
	most, files := int64(0), 0
	for range 60 {
		began := time.Now()
		_, err := d.api.Bench(t.Context())
		require.NoError(t, err)
		took = append(took, time.Since(began))
		now, open := memory(t, pid)
		most, files = max(most, now), max(files, open)
		time.Sleep(50 * time.Millisecond)
	}
	slices.Sort(took)
	row(t, "connections before sign-in", len(conns), "%d MB of memory at most, %d before; %d files open; the owner is answered within %s", most>>20, before>>20, files, took[len(took)-1].Round(100*time.Microsecond))
	require.Less(t, most, int64(120)<<20)
	require.Less(t, took[len(took)/2], 100*time.Millisecond)
	cancel()
	for _, c := range conns {
		c.Close()
	}
	d.eventually("what they cost is given back", func() bool {
		now, open := memory(t, pid)
		return now < 120<<20 && open < 120
	})
}

// What is refused says why, and nothing of a body that was not read is taken for the next request.
func TestWhatIsRefusedBeforeSignInSaysWhy(t *testing.T) {
	d := startDemoIn(t, t.TempDir(), "--few")
	host, console := strings.TrimPrefix(d.at.Service, "http://"), strings.TrimPrefix(d.console(), "http://")
	requests := unsigned(t, console)
	for name, want := range map[string]string{
		"sends a compressed body":        "HTTP/1.1 415",
		"announces 9 EB":                 "HTTP/1.1 4",
		"sends headers of 1 MB":          "HTTP/1.1 431",
		"announces 60 MB and sends 1 kB": "HTTP/1.1 4",
	} {
		c, err := net.Dial("tcp", host)
		require.NoError(t, err)
		go c.Write(requests[name]) // it may not be read
		require.NoError(t, c.SetReadDeadline(time.Now().Add(30*time.Second)))
		head := make([]byte, len(want))
		_, err = io.ReadFull(c, head)
		require.NoError(t, err, name)
		require.Equal(t, want, string(head), name)
		rest, _ := io.ReadAll(c)
		require.NotContains(t, string(rest), "HTTP/1.1 ", "%s: one answer, and the connection ends", name)
		c.Close()
	}

	// A browser that sends 6 kB of the cookies of other servers along gets in.
	c, err := net.Dial("tcp", host)
	require.NoError(t, err)
	defer c.Close()
	fmt.Fprintf(c, "GET / HTTP/1.1\r\nHost: %s\r\nCookie: other=%s\r\nConnection: close\r\n\r\n", console, strings.Repeat("c", 6<<10))
	answer, err := io.ReadAll(c)
	require.NoError(t, err)
	require.True(t, strings.HasPrefix(string(answer), "HTTP/1.1 200"), string(answer[:min(len(answer), 200)]))
}
