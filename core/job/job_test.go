package job_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/core/problem"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

// kept keeps every record that is saved, as JSON, as a database would.
type kept struct {
	mu   sync.Mutex
	last map[string][]byte
	bad  error
}

func (k *kept) Save(_ context.Context, j job.Job) error {
	raw, err := json.Marshal(j)
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.bad == nil {
		k.last[j.ID] = raw
	}
	return errors.Join(err, k.bad)
}

func (k *kept) Children(_ context.Context, parent string) (out []job.Job, err error) {
	for _, j := range k.all() {
		if j.Parent == parent {
			out = append(out, j)
		}
	}
	return out, nil
}

func (k *kept) all() (out []job.Job) {
	k.mu.Lock()
	defer k.mu.Unlock()
	for _, raw := range k.last {
		var j job.Job
		if err := json.Unmarshal(raw, &j); err != nil {
			panic(err)
		}
		out = append(out, j)
	}
	return out
}

func (k *kept) get(id string) job.Job {
	for _, j := range k.all() {
		if j.ID == id {
			return j
		}
	}
	return job.Job{}
}

func (k *kept) setBad(err error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.bad = err
}

func newKept() *kept { return &kept{last: map[string][]byte{}} }

// runner runs jobs of the kind x with one function.
func runner(t *testing.T, k *kept, do func(context.Context, *job.Run) (any, error)) *job.Runner {
	t.Helper()
	r := job.NewRunner(k, clock.System{}, func() string { return fmt.Sprint("job-", time.Now().UnixNano()) })
	r.Register(job.Kind{Name: "x", Run: do})
	t.Cleanup(r.Close)
	return r
}

func (k *kept) ended(t *testing.T, id string) job.Job {
	t.Helper()
	require.Eventually(t, func() bool { return k.get(id).State.Ended() }, 5*time.Second, time.Millisecond)
	return k.get(id)
}

func TestAJobGoesThroughItsPhasesAndKeepsHowItEnded(t *testing.T) {
	k := newKept()
	r := runner(t, k, func(_ context.Context, run *job.Run) (any, error) {
		var n int
		if err := run.Args(&n); err != nil {
			return nil, err
		}
		run.Phase("build", 0)
		run.Phase("copy", 100)
		run.Progress(60)
		return fmt.Sprint("done with ", n), nil
	})
	j, err := r.Start(t.Context(), job.New{Kind: "x", Title: "Run", Device: "heron-2", Args: 7, Phases: []string{"build", "copy"}, Actor: "owner/ada"})
	require.NoError(t, err)
	end := k.ended(t, j.ID)
	require.Equal(t, job.Done, end.State)
	require.Equal(t, "done with 7", end.Result)
	require.Equal(t, "owner/ada", end.Actor)
	require.Equal(t, job.Done, end.Phases[0].State)
	require.Equal(t, int64(60), end.Phases[1].Done)
	require.False(t, end.Phases[1].Ended.IsZero())
}

func TestAJobThatFailsSaysWhyAndWhatToDo(t *testing.T) {
	for name, c := range map[string]struct {
		do   func(context.Context, *job.Run) (any, error)
		kind problem.Kind
		text string
	}{
		"a problem": {func(context.Context, *job.Run) (any, error) {
			return nil, &problem.Problem{Kind: problem.Gone, Text: "It went away.", Remedy: "Plug it in."}
		}, problem.Gone, "It went away. Plug it in."},
		"another error": {func(context.Context, *job.Run) (any, error) { return nil, errors.New("other") }, problem.Failed, "other"},
		"a panic":       {func(context.Context, *job.Run) (any, error) { panic("oh") }, problem.Failed, "an error in the program ended a job of the kind x: oh"},
	} {
		t.Run(name, func(t *testing.T) {
			k := newKept()
			j, err := runner(t, k, c.do).Start(t.Context(), job.New{Kind: "x", Phases: []string{"one"}})
			require.NoError(t, err)
			end := k.ended(t, j.ID)
			require.Equal(t, job.Failed, end.State)
			require.Equal(t, c.kind, end.Error.Kind)
			require.Contains(t, end.Error.Error(), c.text)
		})
	}
}

// waits reports each begin and waits until it is stopped.
func waits(begun chan int) func(context.Context, *job.Run) (any, error) {
	return func(ctx context.Context, run *job.Run) (any, error) {
		var at int
		run.Kept(&at)
		run.Phase("copy", 100)
		run.Progress(40)
		if err := run.Keep(at + 1); err != nil {
			return nil, err
		}
		begun <- at
		<-ctx.Done()
		return nil, context.Cause(ctx)
	}
}

func TestAPersonStopsAJob(t *testing.T) {
	k, begun := newKept(), make(chan int, 1)
	r := runner(t, k, waits(begun))
	j, err := r.Start(t.Context(), job.New{Kind: "x", Phases: []string{"copy"}})
	require.NoError(t, err)
	<-begun
	require.True(t, r.Stop(j.ID))
	require.NoError(t, r.Wait(t.Context(), j.ID))
	require.Equal(t, job.Stopped, k.get(j.ID).State)
	require.False(t, r.Stop(j.ID), "it has ended")
}

func TestAJobGoesOnUnderItsIDFromItsCheckpointWithTheNextService(t *testing.T) {
	k, begun := newKept(), make(chan int, 1)
	first := runner(t, k, waits(begun))
	j, err := first.Start(t.Context(), job.New{Kind: "x", Phases: []string{"copy"}})
	require.NoError(t, err)
	require.Equal(t, 0, <-begun)
	first.Close()
	require.False(t, k.get(j.ID).State.Ended(), "it is only cut off")

	second := runner(t, k, waits(begun))
	second.Resume(t.Context(), k.all())
	require.Equal(t, 1, <-begun)
	require.Len(t, k.all(), 1)
	require.Equal(t, 2, k.get(j.ID).Begun)
	second.Stop(j.ID)
}

func TestAQuestionIsNotPutAgainAndSaysHowFarItWas(t *testing.T) {
	k, begun := newKept(), make(chan int, 1)
	asks := job.Kind{Name: "ask", Asks: true, Run: waits(begun)}
	first := runner(t, k, nil)
	first.Register(asks)
	j, err := first.Start(t.Context(), job.New{Kind: "ask", Phases: []string{"copy"}})
	require.NoError(t, err)
	<-begun
	cut := k.get(j.ID) // as a killed service leaves it
	first.Close()
	require.Equal(t, job.Interrupted, k.get(j.ID).State)

	second := runner(t, k, nil)
	second.Register(asks)
	second.Resume(t.Context(), []job.Job{cut})
	require.NoError(t, second.Wait(t.Context(), j.ID))
	end := k.ended(t, j.ID)
	require.Equal(t, job.Interrupted, end.State)
	require.Contains(t, end.Error.Text, "during the phase copy, at 40 of 100 bytes")
	require.Equal(t, problem.Person, end.Error.Kind)
}

func TestWhatAJobWorksOnIsHeldAndItsRefusalRefusesTheJob(t *testing.T) {
	k, begun := newKept(), make(chan int, 1)
	r := runner(t, k, nil)
	held := 0
	r.Register(job.Kind{Name: "held", Run: waits(begun), Hold: func(context.Context, job.Job) (func(), error) {
		if held > 0 {
			return nil, &problem.Problem{Kind: problem.Blocked, Text: "Busy."}
		}
		held++
		return func() { held-- }, nil
	}})
	j, err := r.Start(t.Context(), job.New{Kind: "held", Phases: []string{"copy"}})
	require.NoError(t, err)
	<-begun
	_, err = r.Start(t.Context(), job.New{Kind: "held"})
	require.Equal(t, problem.Blocked, problem.KindOf(err))
	require.Len(t, k.all(), 1, "a refused job is not on record")
	r.Stop(j.ID)
	require.NoError(t, r.Wait(t.Context(), j.ID))
	require.Zero(t, held)
	_, err = r.Start(t.Context(), job.New{Kind: "nothing"})
	require.ErrorContains(t, err, `"nothing"`)
}

func TestNoMoreJobsWorkAtOnceThanTheirLimit(t *testing.T) {
	k := newKept()
	r := runner(t, k, nil)
	var mu sync.Mutex
	now, most := 0, 0
	r.Register(job.Kind{Name: "limited", Limit: func(job.Job) (string, int) { return "host/loft", 2 }, Run: func(context.Context, *job.Run) (any, error) {
		mu.Lock()
		now++
		most = max(most, now)
		mu.Unlock()
		time.Sleep(2 * time.Millisecond)
		mu.Lock()
		defer mu.Unlock()
		now--
		return nil, nil
	}})
	var ids []string
	for range 9 {
		j, err := r.Start(t.Context(), job.New{Kind: "limited"})
		require.NoError(t, err)
		ids = append(ids, j.ID)
	}
	for _, id := range ids {
		require.Equal(t, job.Done, k.ended(t, id).State)
	}
	require.Equal(t, 2, most)
}

func TestAnEndThatCannotBeSavedIsSavedLater(t *testing.T) {
	k := newKept()
	goOn := make(chan struct{})
	r := runner(t, k, func(context.Context, *job.Run) (any, error) { <-goOn; return "it", nil })
	j, err := r.Start(t.Context(), job.New{Kind: "x"})
	require.NoError(t, err)
	k.setBad(errors.New("the disk is full"))
	close(goOn)
	require.Eventually(t, func() bool { now, ok := r.Job(j.ID); return ok && now.State == job.Done }, 5*time.Second, time.Millisecond,
		"those who ask hear that it has ended")
	require.False(t, k.get(j.ID).State.Ended())
	require.False(t, r.Stop(j.ID), "what has ended cannot be stopped")
	k.setBad(nil)
	require.Equal(t, job.Done, k.ended(t, j.ID).State)
}

func TestAJobThatIsNotBegunAgainIsToldAsEndedBeforeItsEndIsSaved(t *testing.T) {
	k := newKept()
	cut := job.Job{ID: "j1", Kind: "of another version", State: job.Running}
	require.NoError(t, k.Save(t.Context(), cut))
	k.setBad(errors.New("the disk is full"))
	r := runner(t, k, nil)
	r.Resume(t.Context(), []job.Job{cut})
	now, ok := r.Job("j1")
	require.True(t, ok)
	require.Equal(t, job.Failed, now.State)
	require.False(t, r.Stop("j1"))
	k.setBad(nil)
	require.NoError(t, r.Wait(t.Context(), "j1"))
	require.Equal(t, job.Failed, k.get("j1").State)
}

func TestAResultThatCannotBeRecordedFailsItsJob(t *testing.T) {
	k := newKept()
	r := runner(t, k, func(context.Context, *job.Run) (any, error) { return math.NaN(), nil })
	j, err := r.Start(t.Context(), job.New{Kind: "x"})
	require.NoError(t, err)
	ended := k.ended(t, j.ID)
	require.Equal(t, job.Failed, ended.State)
	require.Contains(t, ended.Error.Error(), "record the job's result")
}

func TestAJobThatCannotBeRecordedIsNotBegun(t *testing.T) {
	k := newKept()
	k.bad = errors.New("the disk is full")
	r := runner(t, k, func(context.Context, *job.Run) (any, error) {
		t.Error("it was begun")
		return nil, nil
	})
	_, err := r.Start(t.Context(), job.New{Kind: "x"})
	require.ErrorContains(t, err, "the disk is full")
}
