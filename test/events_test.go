package test

import (
	"bufio"
	"context"
	"database/sql"
	"encoding/json"
	"net/http"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite"

	"earlybench.invalid/earlybench/client"
)

// signedIn is the cookie of a browser that has signed in.
func (d *demo) signedIn() map[string]string {
	d.t.Helper()
	url := strings.TrimSpace(d.ok("console"))
	res := d.ask("POST", "/api/v1/sign-in", `{"secret":"`+url[strings.Index(url, "=")+1:]+`"}`, map[string]string{"Origin": d.console()})
	require.Equal(d.t, 204, res.StatusCode)
	return map[string]string{"Cookie": strings.Split(res.Header.Get("Set-Cookie"), ";")[0]}
}

// follow reads n events, with their ids.
func follow(t *testing.T, res *http.Response, n int) (ids []int64, events []client.Event) {
	t.Helper()
	stop := time.AfterFunc(patience, func() { res.Body.Close() })
	defer stop.Stop()
	lines := bufio.NewScanner(res.Body)
	for len(events) < n && lines.Scan() {
		if id, ok := strings.CutPrefix(lines.Text(), "id: "); ok {
			number, err := strconv.ParseInt(id, 10, 64)
			require.NoError(t, err)
			ids = append(ids, number)
		}
		if data, ok := strings.CutPrefix(lines.Text(), "data: "); ok {
			var e client.Event
			require.NoError(t, json.Unmarshal([]byte(data), &e))
			events = append(events, e)
		}
	}
	require.Len(t, events, n)
	return ids, events
}

func TestEventsAreResumedBySequenceAndMerged(t *testing.T) {
	d := startDemo(t)
	session := d.signedIn()
	d.waits("heron-1", "linked", "open")
	bench, err := d.api.Bench(context.Background())
	require.NoError(t, err)
	d.eventually("all that the start brings has been told", func() bool {
		before := bench.Sequence
		time.Sleep(3 * time.Second) // what is heard on the network is told late
		bench, err = d.api.Bench(context.Background())
		return err == nil && bench.Sequence == before
	})
	hands := d.device("heron-2").HandsURL
	for range 20 {
		require.NoError(t, d.api.Set(context.Background(), "heron-2", client.Change{HandsURL: &hands}))
	}
	ids, events := follow(t, d.ask("GET", "/api/v1/events?after="+strconv.FormatInt(bench.Sequence, 10), "", session), 1)
	require.Equal(t, "device.changed", events[0].Type)
	require.Equal(t, "heron-2", events[0].Subject)
	require.Equal(t, "1.0", events[0].SpecVersion)
	require.Equal(t, "earlybench:"+bench.ID, events[0].Source)
	require.GreaterOrEqual(t, ids[0], bench.Sequence+20, "the twenty are one, the last")

	resume := map[string]string{"Cookie": session["Cookie"], "Last-Event-ID": strconv.FormatInt(ids[0], 10)}
	res := d.ask("GET", "/api/v1/events", "", resume)
	name := "casualty-pulse"
	require.NoError(t, d.api.Set(context.Background(), "heron-2", client.Change{Handle: &name}))
	later, events := follow(t, res, 2)
	require.Greater(t, later[0], ids[0])
	require.Equal(t, []string{"heron-2", "casualty-pulse"}, []string{events[0].Subject, events[1].Subject}, "those who knew it by either name hear of it")

	for _, from := range []string{"99999999", "0"} {
		if from == "0" { // older than what is kept
			require.NoError(t, d.trimEvents(later[1]))
		}
		ids, events := follow(t, d.ask("GET", "/api/v1/events", "", map[string]string{"Cookie": session["Cookie"], "Last-Event-ID": from}), 1)
		require.Equal(t, "reset", events[0].Type, "from %s", from)
		require.GreaterOrEqual(t, ids[0], later[1])
	}
	require.Equal(t, 401, d.ask("GET", "/api/v1/events", "", nil).StatusCode)
}

// trimEvents drops the events before one, as the bench does with old ones.
func (d *demo) trimEvents(before int64) error {
	db, err := sql.Open("sqlite", "file:"+filepath.Join(d.state, "bench.db")+"?_pragma=busy_timeout(5000)")
	if err != nil {
		return err
	}
	defer db.Close()
	_, err = db.Exec(`DELETE FROM outbox WHERE sequence < ?`, before)
	return err
}

func TestTheLogIsFollowedOverHTTPWhileTheDeviceIsLinked(t *testing.T) {
	d := startDemo(t)
	session := d.signedIn()
	require.Equal(t, 409, d.ask("GET", "/api/v1/devices/heron-2/log", "", session).StatusCode)
	require.Equal(t, 404, d.ask("GET", "/api/v1/devices/heron-9/log", "", session).StatusCode)
	d.ok("run", "demo/apps/callout", "heron-1", "--follow=false")
	res := d.ask("GET", "/api/v1/devices/heron-1/log?app=fellgate/callout", "", session)
	lines := bufio.NewScanner(res.Body)
	for lines.Scan() && !strings.Contains(lines.Text(), "callout ready") {
	}
	require.Contains(t, lines.Text(), `"app":"fellgate/callout"`)
	d.ok("standin", "pull", "heron-1")
	for lines.Scan() { // it ends with the link
	}
}
