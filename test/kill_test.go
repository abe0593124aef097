package test

import (
	"context"
	"database/sql"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/client"
)

// acknowledged is what a storm of writers was told to be kept.
type acknowledged struct {
	mu    sync.Mutex
	said  int // the newest number that was answered as kept
	tried int // the newest that was sent
}

func (a *acknowledged) next() int {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.tried++
	return a.tried
}

func (a *acknowledged) kept(n int) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.said = max(a.said, n)
}

func (a *acknowledged) bounds() (int, int) {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.said, a.tried
}

// TestNothingAcknowledgedIsLostWhenTheServiceIsKilled kills the service at random
// moments of copies, installs, told facts and renames.
func TestNothingAcknowledgedIsLostWhenTheServiceIsKilled(t *testing.T) {
	kills := soaked(t, 3, 100)
	d := startDemo(t)
	dir := largeProject(t, 40<<20)
	project, err := d.api.AddProject(context.Background(), dir)
	require.NoError(t, err)
	for _, handle := range []string{"told-0", "kittiwake-1"} {
		_, err = d.api.AddDevice(context.Background(), client.NewDevice{Handle: handle, Model: "Kittiwake"})
		require.NoError(t, err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	var told, named acknowledged
	var writers sync.WaitGroup
	defer writers.Wait()
	defer cancel()
	writers.Go(func() {
		for ctx.Err() == nil {
			n := told.next()
			if d.api.TellFact(ctx, "kittiwake-1", "air.network", fmt.Sprint("n", n)) == nil {
				told.kept(n)
			}
		}
	})
	writers.Go(func() {
		handle := "told-0"
		for ctx.Err() == nil {
			n := named.next()
			next := fmt.Sprint("told-", n)
			if d.api.Set(ctx, handle, client.Change{Handle: &next}) == nil {
				named.kept(n)
				handle = next
			} else if now := toldHandle(ctx, d); now != "" { // it may have been kept all the same
				handle = now
			}
			time.Sleep(2 * time.Millisecond)
		}
	})
	var added acknowledged // each device is added once, however often that is asked
	writers.Go(func() {
		for ctx.Err() == nil {
			n := added.next()
			for ctx.Err() == nil {
				if _, err := d.api.AddDevice(client.Once(ctx, fmt.Sprint("add-", n)), client.NewDevice{Model: "Kittiwake"}); err == nil {
					added.kept(n)
					break
				}
				time.Sleep(2 * time.Millisecond)
			}
			time.Sleep(20 * time.Millisecond)
		}
	})
	var jobs []string
	for n := range kills {
		d.eventually("heron-1 is linked", func() bool { return d.device("heron-1").Gates["linked"] == "open" })
		once := client.Once(ctx, fmt.Sprint("run-", n))
		run := client.Run{App: project.App, Device: "heron-1"}
		j, err := d.api.Start(once, run)
		require.NoError(t, err)
		jobs = append(jobs, j.ID)
		time.Sleep(time.Duration(100+rand.IntN(1500)) * time.Millisecond) // a random moment
		bench := processOf(t, d.cmd.Process.Pid, "serve")
		require.NotZero(t, bench)
		require.NoError(t, syscall.Kill(bench, syscall.SIGKILL))
		d.eventually("the service answers again", func() bool {
			_, err := d.api.Bench(ctx)
			return err == nil && processOf(t, d.cmd.Process.Pid, "serve") != bench
		})
		least, _ := told.bounds()
		require.GreaterOrEqual(t, networkOf(ctx, t, d), least, "kill %d: a told fact", n)
		least, _ = named.bounds()
		at, err := strconv.Atoi(strings.TrimPrefix(toldHandle(ctx, d), "told-"))
		require.NoError(t, err)
		require.GreaterOrEqual(t, at, least, "kill %d: a rename", n)
		again, err := d.api.Start(once, run)
		require.NoError(t, err)
		require.Equal(t, j.ID, again.ID, "kill %d: the same run again", n)
		for _, id := range jobs {
			done := d.ended(id)
			require.Equal(t, "done", done.State, "kill %d: %s: %+v", n, id, done.Error)
		}
	}
	require.NotEmpty(t, jobs)
	cancel()
	writers.Wait()
	said, tried := added.bounds()
	watches, err := d.api.Devices(context.Background(), "", client.Select{Where: `device.model == "Kittiwake"`})
	require.NoError(t, err)
	already := len(watches) - said
	require.True(t, already >= 2 && already <= 4+tried-said, "%d watches, %d of them added: no more than were asked for", len(watches), said)
	all, err := d.api.Jobs(context.Background())
	require.NoError(t, err)
	require.Len(t, all, len(jobs), "every job is the one that was begun")
	_, most := told.bounds()
	row(t, "kills of the service", kills, "%d jobs and %d facts acknowledged, none lost", len(jobs), most)
	db, err := sql.Open("sqlite", filepath.Join(d.state, "bench.db"))
	require.NoError(t, err)
	defer db.Close()
	var says string
	require.NoError(t, db.QueryRow(`PRAGMA integrity_check`).Scan(&says))
	require.Equal(t, "ok", says)
}

// toldHandle is what the renamed device is called now.
func toldHandle(ctx context.Context, d *demo) string {
	all, err := d.api.Devices(ctx, "")
	if err != nil {
		return ""
	}
	for _, dev := range all {
		if strings.HasPrefix(dev.Handle, "told-") {
			return dev.Handle
		}
	}
	return ""
}

// networkOf is the number that was told last.
func networkOf(ctx context.Context, t *testing.T, d *demo) int {
	t.Helper()
	facts, err := d.api.Facts(ctx, "kittiwake-1")
	require.NoError(t, err)
	for _, f := range facts {
		if f.Key == "air.network" {
			n, err := strconv.Atoi(strings.TrimPrefix(fmt.Sprint(f.Value), "n"))
			require.NoError(t, err)
			return n
		}
	}
	return -1
}
