package test

import (
	"context"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// A stale link says locked although the device is not. Restarting it cures that, with
// nothing done at the device, and work on another device goes on.
func TestAStaleLinkIsRestartedAndNoOtherDeviceNotices(t *testing.T) {
	d := startDemo(t)
	d.waits("heron-1", "linked", "open")
	d.openMode("heron-2")
	d.installDriver()
	d.waits("heron-2", "driver", "open")
	d.ok("standin", "fault", "add", "heron-2", "stale-link")
	job, err := d.api.Ask(context.Background(), "heron-2")
	require.NoError(t, err)
	d.eventually("it says that it is locked", func() bool { return strings.Contains(d.ok("why", "heron-2"), "Locked: yes") })

	ctx, cancel := context.WithTimeout(context.Background(), 2*patience)
	defer cancel()
	log := d.command(ctx, "log", "heron-1", "--for", "4s")
	before := whyOf(t, d, "heron-1")
	begun := time.Now()
	require.Equal(t, "heron-2 by cable: not admitted\n", d.ok("link", "restart", "heron-2"))
	require.Less(t, time.Since(begun), 5*time.Second)
	ended := d.ended(job.ID)
	require.Equal(t, "stopped", ended.State, "the question that never came is over")

	job, err = d.api.Ask(context.Background(), "heron-2")
	require.NoError(t, err)
	d.touch("heron-2", "Until withdrawn")
	require.Equal(t, "done", d.ended(job.ID).State)
	d.waits("heron-2", "linked", "open")
	require.Zero(t, log.wait().code, "the log of the other device went on")
	require.Equal(t, before.Gate, whyOf(t, d, "heron-1").Gate)
}

func TestALinkIsNotRestartedUnderWork(t *testing.T) {
	d := startDemo(t)
	d.waits("heron-1", "linked", "open")
	d.ok("project", "add", "demo/apps/callout")
	run := d.command(context.Background(), "try", "fellgate/callout", "heron-1")
	d.eventually("the tryout runs", func() bool { return d.device("heron-1").Working != "" })
	r := d.run("link", "restart", "heron-1")
	require.Equal(t, 3, r.code)
	require.Contains(t, r.err, "heron-1 is busy: Try fellgate/callout on heron-1.")
	require.Zero(t, run.wait().code)

	// Two at once: one restarts it, the other is told, or comes after it.
	var both sync.WaitGroup
	var errs [2]error
	for i := range errs {
		both.Go(func() { errs[i] = d.api.RestartLink(context.Background(), "heron-1") })
	}
	both.Wait()
	for _, err := range errs {
		if err != nil {
			require.ErrorContains(t, err, "restart its link")
		}
	}
	d.waits("heron-1", "linked", "open")

	// Nothing is left of a restart when the cable is pulled under it.
	done := make(chan error, 1)
	go func() { done <- d.api.RestartLink(context.Background(), "heron-1") }()
	d.ok("standin", "pull", "heron-1")
	select {
	case <-done: // whether it came before the cable or not
	case <-time.After(patience):
		require.Fail(t, "the restart never ends")
	}
	d.eventually("it is gone", func() bool { return d.run("link", "restart", "heron-1").code == 7 })
	d.ok("standin", "plug", "heron-1")
	d.waits("heron-1", "linked", "open")
	require.Contains(t, d.run("link", "restart").err, "Every link that was tried is up.")
	require.Contains(t, d.ok("link"), "linked")
}
