package web

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"earlybench.invalid/earlybench/internal/store"
)

// feed reads the outbox once for all who follow it. A reader that does not keep up loses events, and is told so.
type feed struct {
	store *store.Store
	log   *slog.Logger

	mu        sync.Mutex
	last      int64 // of what was passed on
	followers map[*following]struct{}
}

// following is a reader of the feed, from a sequence number on.
type following struct {
	from    int64
	batches chan []store.Event // not to be changed
	lost    chan struct{}      // closed once some did not fit
}

// mostBehind is how many batches a follower may lag behind.
const mostBehind = 64

// begin makes the feed pass on events from now on.
func (f *feed) begin(ctx context.Context) {
	last, err := f.store.Last(ctx)
	if err != nil {
		f.log.Error("read the number of the newest event", "error", err) // it begins with the oldest, then
	}
	f.last = last
}

// run passes on events until ctx ends.
func (f *feed) run(ctx context.Context) {
	for ctx.Err() == nil {
		changed := f.store.Changed()
		f.mu.Lock()
		after := f.last
		f.mu.Unlock()
		batch, err := f.store.Events(ctx, after, eventBatch)
		again := heartbeat
		if err != nil {
			if ctx.Err() == nil {
				f.log.Error("read the events", "error", err)
			}
			again = time.Second
		}
		f.pass(batch)
		if len(batch) == eventBatch {
			continue
		}
		select {
		case <-ctx.Done():
		case <-changed:
			time.Sleep(gather)
		case <-time.After(again):
		}
	}
}

// pass passes a batch on to all.
func (f *feed) pass(batch []store.Event) {
	if len(batch) == 0 {
		return
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	f.last = batch[len(batch)-1].Sequence
	for to := range f.followers {
		select {
		case to.batches <- batch:
		default:
			close(to.lost)
			delete(f.followers, to)
		}
	}
}

// follow begins to follow; end ends that.
func (f *feed) follow() (to *following, end func()) {
	f.mu.Lock()
	defer f.mu.Unlock()
	to = &following{from: f.last, batches: make(chan []store.Event, mostBehind), lost: make(chan struct{})}
	f.followers[to] = struct{}{}
	return to, func() {
		f.mu.Lock()
		delete(f.followers, to)
		f.mu.Unlock()
	}
}
