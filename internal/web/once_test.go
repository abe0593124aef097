package web_test

import (
	"crypto/sha256"
	"encoding/hex"
	"io"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/internal/store"
)

// posts sends a POST over the socket, with a key.
func (d *desk) posts(t *testing.T, key, path, body string) (status int, text string, replayed bool) {
	t.Helper()
	req, err := http.NewRequestWithContext(t.Context(), "POST", "http://bench/api/v1"+path, strings.NewReader(body))
	require.NoError(t, err)
	req.Header.Set("Content-Type", "application/json")
	if key != "" {
		req.Header.Set("Idempotency-Key", key)
	}
	res, err := d.Dialer().Do(req)
	require.NoError(t, err)
	defer res.Body.Close()
	raw, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	return res.StatusCode, string(raw), res.Header.Get("Idempotency-Replayed") == "true"
}

const addWatch = `{"model": "Kittiwake"}`

func TestTheSameRequestWithTheSameKeyIsDoneOnce(t *testing.T) {
	d := newDesk(t)
	status, first, replayed := d.posts(t, "one", "/devices", addWatch)
	require.Equal(t, http.StatusOK, status, first)
	require.False(t, replayed)
	status, again, replayed := d.posts(t, "one", "/devices", addWatch)
	require.Equal(t, http.StatusOK, status)
	require.True(t, replayed)
	require.Equal(t, first, again)
	require.Len(t, d.Rack.All(), 1)

	status, text, _ := d.posts(t, "one", "/devices", `{"model": "Whimbrel"}`)
	require.Equal(t, http.StatusUnprocessableEntity, status)
	require.Contains(t, text, "used for another request")
	status, _, replayed = d.posts(t, "two", "/devices", addWatch)
	require.Equal(t, http.StatusOK, status)
	require.False(t, replayed)
	d.posts(t, "", "/devices", addWatch)
	require.Len(t, d.Rack.All(), 3, "another key, and none, is another request")

	for range 2 {
		status, text, _ = d.posts(t, "told", "/devices/kittiwake-1/facts", `{"key": "air.network", "value": "same"}`)
		require.Equal(t, http.StatusNoContent, status, text)
	}
	status, _, _ = d.posts(t, strings.Repeat("k", 101), "/devices", addWatch)
	require.Equal(t, http.StatusUnprocessableEntity, status)
}

func TestWhatFailedMayBeTriedAgainWithItsKey(t *testing.T) {
	d := newDesk(t)
	status, _, _ := d.posts(t, "one", "/devices/kittiwake-1/facts", `{"key": "air.network", "value": "same"}`)
	require.Equal(t, http.StatusNotFound, status)
	_, err := d.Rack.Add(t.Context(), "kittiwake-1", "Kittiwake")
	require.NoError(t, err)
	status, text, replayed := d.posts(t, "one", "/devices/kittiwake-1/facts", `{"key": "air.network", "value": "same"}`)
	require.Equal(t, http.StatusNoContent, status, text)
	require.False(t, replayed)
}

func TestASecretIsToldOnceAlsoWithAKey(t *testing.T) {
	d := newDesk(t)
	body := `{"name": "nightly", "rights": ["look"], "for": "1h"}`
	status, text, _ := d.posts(t, "one", "/access", body)
	require.Equal(t, http.StatusOK, status, text)
	status, text, _ = d.posts(t, "one", "/access", body)
	require.Equal(t, http.StatusConflict, status)
	require.NotContains(t, text, `"secret"`)
	keys, err := d.Store.Accesses(t.Context())
	require.NoError(t, err)
	require.Len(t, keys, 5, "those of the test, and one")
}

func TestManyAtOnceWithOneKeyAreOne(t *testing.T) {
	d := newDesk(t)
	texts := make([]string, 8)
	var all sync.WaitGroup
	for i := range texts {
		all.Go(func() { _, texts[i], _ = d.posts(t, "one", "/devices", addWatch) })
	}
	all.Wait()
	require.Len(t, d.Rack.All(), 1)
	for _, text := range texts {
		require.Equal(t, texts[0], text)
	}
}

// What a request made is on disk together with that it made it, so that the same request
// is answered although the service was killed before it could keep its answer.
func TestARequestWhoseAnswerWasCutOffIsAnsweredByWhatItMade(t *testing.T) {
	d := newDesk(t)
	cut := func(key, path, body string) store.Once {
		sum := sha256.Sum256([]byte("POST /api/v1" + path + "\n" + body))
		o := store.Once{Actor: "owner/ada", Key: key, Request: hex.EncodeToString(sum[:])}
		_, had, err := d.Store.BeginOnce(t.Context(), o, d.Clock.Now())
		require.NoError(t, err)
		require.False(t, had)
		return o
	}
	o := cut("device", "/devices", addWatch)
	_, err := d.Rack.Add(store.Making(t.Context(), o), "kittiwake-7", "Kittiwake")
	require.NoError(t, err)
	status, text, replayed := d.posts(t, "device", "/devices", addWatch)
	require.Equal(t, http.StatusOK, status)
	require.True(t, replayed)
	require.Contains(t, text, `"handle":"kittiwake-7"`)
	require.Len(t, d.Rack.All(), 1)

	o = cut("job", "/runs", `{"app": "fellgate/callout", "device": "kittiwake-7"}`)
	require.NoError(t, d.Store.Save(store.Making(t.Context(), o), job.Job{ID: "job-7", State: job.Running, Created: time.Now()}))
	status, text, _ = d.posts(t, "job", "/runs", `{"app": "fellgate/callout", "device": "kittiwake-7"}`)
	require.Equal(t, http.StatusAccepted, status, text)
	require.Contains(t, text, `"id":"job-7"`)

	cut("nothing", "/devices", addWatch) // killed before anything was done
	status, _, replayed = d.posts(t, "nothing", "/devices", addWatch)
	require.Equal(t, http.StatusOK, status)
	require.False(t, replayed)
	require.Len(t, d.Rack.All(), 2)
}

func TestKeysAreForgottenAfterADayAndBelongToTheirSender(t *testing.T) {
	d := newDesk(t)
	for n := range 3 {
		status, text, _ := d.posts(t, "one", "/devices", addWatch)
		require.Equal(t, http.StatusOK, status, text)
		require.Len(t, d.Rack.All(), n+1)
		d.Clock.Move(25 * time.Hour)
	}
	_, had, err := d.Store.BeginOnce(t.Context(), store.Once{Actor: "access/other", Key: "one", Request: "x"}, d.Clock.Now())
	require.NoError(t, err)
	require.False(t, had, "the owner's key is not another's")
}
