package job_test

import (
	"context"
	"errors"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/job"
)

// kept keeps every record that is saved.
type kept struct {
	mu   sync.Mutex
	last map[string]job.Job
	bad  error
}

func (k *kept) Save(_ context.Context, j job.Job) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.bad == nil {
		k.last[j.ID] = j
	}
	return k.bad
}

func (k *kept) get(id string) job.Job {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.last[id]
}

func runner(t *testing.T) (*job.Runner, *kept) {
	k := &kept{last: map[string]job.Job{}}
	n := 0
	r := job.New(k, clock.System{}, func() string { n++; return string(rune('a' + n)) })
	t.Cleanup(r.Close)
	return r, k
}

func (k *kept) ended(t *testing.T, id string) job.Job {
	t.Helper()
	require.Eventually(t, func() bool { return k.get(id).State.Ended() }, 5*time.Second, time.Millisecond)
	return k.get(id)
}

func TestAJobGoesThroughItsPhasesAndKeepsHowItEnded(t *testing.T) {
	r, k := runner(t)
	j, err := r.Start(t.Context(), "app.run", "Run", "heron-2", []string{"build", "copy"}, func(_ context.Context, run *job.Run) (any, error) {
		run.Phase("build", 0)
		run.Phase("copy", 100)
		run.Progress(60)
		return "done it", nil
	})
	require.NoError(t, err)
	end := k.ended(t, j.ID)
	require.Equal(t, job.Done, end.State)
	require.Equal(t, "done it", end.Result)
	require.Equal(t, job.Done, end.Phases[0].State)
	require.Equal(t, int64(60), end.Phases[1].Done)
	require.False(t, end.Phases[1].Ended.IsZero())
}

func TestAJobThatFailsSaysWhyAndWhatToDo(t *testing.T) {
	r, k := runner(t)
	j, err := r.Start(t.Context(), "x", "X", "", []string{"one"}, func(_ context.Context, run *job.Run) (any, error) {
		run.Phase("one", 0)
		return nil, &job.Problem{Kind: job.Gone, Text: "It went away.", Remedy: "Plug it in."}
	})
	require.NoError(t, err)
	end := k.ended(t, j.ID)
	require.Equal(t, job.Failed, end.State)
	require.Equal(t, job.Failed, end.Phases[0].State)
	require.Equal(t, "It went away. Plug it in.", end.Error.Error())

	j, err = r.Start(t.Context(), "x", "X", "", nil, func(context.Context, *job.Run) (any, error) { return nil, errors.New("plain") })
	require.NoError(t, err)
	require.Equal(t, "plain", k.ended(t, j.ID).Error.Text)
}

func TestAJobCanBeStoppedAndIsInterruptedWithTheService(t *testing.T) {
	r, k := runner(t)
	wait := func(ctx context.Context, run *job.Run) (any, error) {
		run.Phase("copy", 100)
		run.Progress(40)
		<-ctx.Done()
		return nil, ctx.Err()
	}
	j, err := r.Start(t.Context(), "x", "X", "", []string{"copy"}, wait)
	require.NoError(t, err)
	require.True(t, r.Stop(j.ID))
	require.Equal(t, job.Stopped, k.ended(t, j.ID).State)
	require.False(t, r.Stop("nothing"))

	j, err = r.Start(t.Context(), "x", "X", "", []string{"copy"}, wait)
	require.NoError(t, err)
	require.Eventually(t, func() bool { return k.get(j.ID).Phases[0].State == job.Running }, 5*time.Second, time.Millisecond)
	r.Close()
	end := k.get(j.ID)
	require.Equal(t, job.Interrupted, end.State)
	require.Contains(t, end.Error.Text, "during the phase copy, at 40 of 100 bytes")
}

func TestAJobThatCannotBeRecordedIsNotBegun(t *testing.T) {
	r, k := runner(t)
	k.bad = errors.New("the disk is full")
	_, err := r.Start(t.Context(), "x", "X", "", nil, func(context.Context, *job.Run) (any, error) {
		t.Error("it was begun")
		return nil, nil
	})
	require.ErrorContains(t, err, "the disk is full")
}
