package fetch_test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"earlybench.invalid/earlybench/internal/fetch"
	"earlybench.invalid/earlybench/internal/outside"
	"earlybench.invalid/earlybench/internal/store"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

// content is a file with its digest.
func content(size int) ([]byte, string) {
	b := make([]byte, size)
	rand.NewChaCha8([32]byte{1}).Read(b)
	sum := sha256.Sum256(b)
	return b, hex.EncodeToString(sum[:])
}

// served starts a service that answers every request by f.
func served(t *testing.T, f http.HandlerFunc) *outside.Client {
	t.Helper()
	s := httptest.NewServer(f)
	t.Cleanup(s.Close)
	c, err := outside.New(s.URL, nil)
	require.NoError(t, err)
	t.Cleanup(c.Close)
	return c
}

// whole serves a file as a good service does.
func whole(w http.ResponseWriter, r *http.Request, file []byte) {
	w.Header().Set("ETag", `"one"`)
	http.ServeContent(w, r, "", time.Time{}, bytes.NewReader(file))
}

// cutting ends an answer's connection after a number of bytes.
type cutting struct {
	http.ResponseWriter
	left int
}

func (c *cutting) Write(b []byte) (int, error) {
	n, err := c.ResponseWriter.Write(b[:min(len(b), c.left)])
	if c.left -= n; c.left == 0 {
		panic(http.ErrAbortHandler)
	}
	return n, err
}

// ignored takes no notice of how a transfer goes.
var ignored = fetch.Sink{Progress: func(int64) {}, State: func(fetch.State, int64, error) {}}

func TestAFileIsFetched(t *testing.T) {
	file, digest := content(9<<20 + 1234)
	fails := atomic.Int32{}
	for name, f := range map[string]http.HandlerFunc{
		"from a good service":             func(w http.ResponseWriter, r *http.Request) { whole(w, r, file) },
		"from one that knows no ranges":   func(w http.ResponseWriter, _ *http.Request) { w.Write(file) },
		"from one that cuts every answer": func(w http.ResponseWriter, r *http.Request) { whole(&cutting{w, 3 << 20}, r, file) },
		"from one that cuts, without ranges": func(w http.ResponseWriter, _ *http.Request) {
			(&cutting{w, 1<<20 + 1<<20*int(fails.Add(1))}).Write(file)
		},
		"from one that is overloaded at first": overloaded(3, file),
	} {
		t.Run(name, func(t *testing.T) {
			files := store.Files{Dir: t.TempDir()}
			p, err := files.Begin(digest, int64(len(file)))
			require.NoError(t, err)
			var last int64
			sink := ignored
			sink.Progress = func(n int64) {
				require.GreaterOrEqual(t, n, last)
				last = n
			}
			require.NoError(t, fetch.File(t.Context(), served(t, f), "file", p, sink))
			require.EqualValues(t, len(file), last)
			got, err := os.ReadFile(files.Path(digest))
			require.NoError(t, err)
			require.True(t, bytes.Equal(file, got))
			left, err := os.ReadDir(files.Dir)
			require.NoError(t, err)
			require.Len(t, left, 1, "nothing else is left over")
		})
	}
}

// overloaded answers 503 to so many requests.
func overloaded(times int32, file []byte) http.HandlerFunc {
	var asked atomic.Int32
	return func(w http.ResponseWriter, r *http.Request) {
		if asked.Add(1) <= times {
			w.Header().Set("Retry-After", "1")
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		whole(w, r, file)
	}
}

func TestAServiceThatLiesIsRefused(t *testing.T) {
	file, digest := content(5 << 20)
	other := bytes.Clone(file)
	other[4<<20+5] ^= 1
	for name, c := range map[string]struct {
		answer http.HandlerFunc
		err    error
	}{
		"another file of the same size": {func(w http.ResponseWriter, r *http.Request) { whole(w, r, other) }, store.ErrOther},
		"another part": {func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Range", fmt.Sprintf("bytes 1-%d/%d", len(file)-1, len(file)))
			w.WriteHeader(http.StatusPartialContent)
			w.Write(file)
		}, fetch.ErrRange},
		"another size, without ranges": {func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Length", strconv.Itoa(len(file)+1))
			w.Write(file)
		}, fetch.ErrRange},
	} {
		t.Run(name, func(t *testing.T) {
			files := store.Files{Dir: t.TempDir()}
			p, err := files.Begin(digest, int64(len(file)))
			require.NoError(t, err)
			require.ErrorIs(t, fetch.File(t.Context(), served(t, c.answer), "file", p, ignored), c.err)
			require.NoFileExists(t, files.Path(digest))
		})
	}
}

func TestAFileThatIsReplacedMeanwhileIsNotMixed(t *testing.T) {
	file, digest := content(40 << 20)
	var asked atomic.Int32
	c := served(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("ETag", fmt.Sprintf(`"%d"`, min(asked.Add(1)/6, 1)))
		r.Header.Del("If-Range")
		http.ServeContent(w, r, "", time.Time{}, bytes.NewReader(file))
	})
	p, err := store.Files{Dir: t.TempDir()}.Begin(digest, int64(len(file)))
	require.NoError(t, err)
	require.ErrorContains(t, fetch.File(t.Context(), c, "file", p, ignored), "replaced the file")
}

func TestAMissingFileIsNotAskedForAgain(t *testing.T) {
	_, digest := content(1000)
	var asked atomic.Int32
	c := served(t, func(w http.ResponseWriter, _ *http.Request) { asked.Add(1); w.WriteHeader(http.StatusNotFound) })
	p, err := store.Files{Dir: t.TempDir()}.Begin(digest, 1000)
	require.NoError(t, err)
	require.ErrorContains(t, fetch.File(t.Context(), c, "file", p, ignored), "404")
	require.EqualValues(t, 1, asked.Load())
}

func TestAStoppedTransferGoesOnWhereItWas(t *testing.T) {
	file, digest := content(24 << 20)
	var sent atomic.Int64
	c := served(t, func(w http.ResponseWriter, r *http.Request) { whole(&counting{w, &sent}, r, file) })
	files := store.Files{Dir: t.TempDir()}
	for stopAt := int64(2 << 20); ; stopAt += 5 << 20 {
		p, err := files.Begin(digest, int64(len(file)))
		require.NoError(t, err)
		ctx, stop := context.WithCancel(t.Context())
		sink := ignored
		sink.State = func(fetch.State, int64, error) {
			if p.Bytes() >= stopAt {
				stop()
			}
		}
		err = fetch.File(ctx, c, "file", p, sink)
		stop()
		if err == nil {
			break
		}
		require.ErrorIs(t, err, context.Canceled)
		have, _ := files.Coming(digest)
		require.Positive(t, have)
	}
	require.Less(t, sent.Load(), int64(len(file))*5/4, "what was here was not sent again")
}

// counting counts what is sent, slowly enough to be stopped in between.
type counting struct {
	http.ResponseWriter
	sent *atomic.Int64
}

func (c *counting) Write(b []byte) (int, error) {
	time.Sleep(2 * time.Millisecond)
	c.sent.Add(int64(len(b)))
	return c.ResponseWriter.Write(b)
}

func TestADeadServiceIsSaidToBeDead(t *testing.T) {
	s := httptest.NewServer(http.NotFoundHandler())
	c, err := outside.New(s.URL, nil)
	require.NoError(t, err)
	s.Close()
	_, digest := content(1000)
	p, err := store.Files{Dir: t.TempDir()}.Begin(digest, 1000)
	require.NoError(t, err)
	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	sink := ignored
	sink.State = func(s fetch.State, _ int64, err error) {
		if s == fetch.Down && strings.Contains(err.Error(), "nothing listens") {
			stop()
		}
	}
	require.ErrorIs(t, fetch.File(ctx, c, "file", p, sink), context.Canceled)
}
