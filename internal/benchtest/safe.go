package benchtest

import (
	"context"
	"io"
	"net"
	"path/filepath"
	"time"

	"earlybench.invalid/earlybench/internal/safe"
	"earlybench.invalid/earlybench/internal/safe/holder"
)

// holding starts the holder of the safe in a directory within the test's process.
func holding(dir string) func() (io.ReadWriteCloser, error) {
	return func() (io.ReadWriteCloser, error) {
		ours, its := net.Pipe()
		go holder.Serve(context.Background(), its, holder.Config{Dir: dir, Work: 10, Now: time.Now}) //nolint:errcheck // it ends with the pipe
		return ours, nil
	}
}

// UnlockKey is the file of the unlock key of the bench's safe.
func (b *Bench) UnlockKey() string { return filepath.Join(filepath.Dir(b.Files.Dir), "unlock.key") }

// consent consents to every use of the safe, until ctx ends, unless AskMe is set.
func (b *Bench) consent(ctx context.Context) {
	for ctx.Err() == nil {
		changed := b.Store.Changed()
		if !b.AskMe.Load() {
			for _, r := range b.Safe.Requests() {
				b.Safe.Answer(ctx, r.ID, safe.Answer{Yes: true, By: "test/ada"}) //nolint:errcheck // it may be over already
			}
		}
		select {
		case <-changed:
		case <-ctx.Done():
		}
	}
}
