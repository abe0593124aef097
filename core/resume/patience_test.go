package resume_test

import (
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/resume"
)

func TestPatienceDoesNotCountTheTimeInWhichNothingCarriedTheStream(t *testing.T) {
	for name, c := range map[string]struct {
		idle func(began time.Time) time.Duration // at a moment
		lost time.Duration                       // after so long
	}{
		"a stream that is carried": {func(time.Time) time.Duration { return 0 }, 30 * time.Second},
		"a break of 20 seconds": {func(began time.Time) time.Duration {
			return min(max(0, time.Since(began)-5*time.Second), 20*time.Second)
		}, 50 * time.Second},
		"a break that was over before": {func(time.Time) time.Duration { return time.Minute }, 30 * time.Second},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				began := time.Now()
				var at atomic.Int64
				p := resume.Within(30*time.Second, func() time.Duration { return c.idle(began) }, func() { at.Store(int64(time.Since(began))) })
				defer p.Stop()
				time.Sleep(2 * time.Minute)
				synctest.Wait()
				require.Equal(t, c.lost, time.Duration(at.Load()))
			})
		})
	}
}

func TestPatienceBeginsAnewWithEveryAnswerAndEndsWhenItIsStopped(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var lost atomic.Bool
		p := resume.Within(30*time.Second, nil, func() { lost.Store(true) })
		for range 4 {
			time.Sleep(20 * time.Second)
			p.Reset()
		}
		require.False(t, lost.Load())
		p.Stop()
		p.Reset()
		time.Sleep(time.Hour)
		synctest.Wait()
		require.False(t, lost.Load())
	})
}
