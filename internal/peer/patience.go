package peer

import (
	"context"
	"time"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/problem"
)

const (
	askEvery = time.Second
	// connectsWithin is how long a connection that was just lost may take to come again.
	connectsWithin = 6 * time.Second
	// Unreachable is how long a peer may be away before work in progress with it fails.
	Unreachable = 2 * time.Minute
)

// Patiently asks a peer again while there is no connection to it: for a little while, and for longer if the work continues after
// a restart.
func Patiently(ctx context.Context, again bool, ask func() error) error {
	patience := connectsWithin
	if again {
		patience = Unreachable
	}
	for began := time.Now(); ; {
		err := ask()
		if problem.KindOf(err) != problem.Unavailable || time.Since(began) > patience {
			return err
		}
		if clock.Sleep(ctx, clock.System{}, askEvery) != nil {
			return context.Cause(ctx)
		}
	}
}
