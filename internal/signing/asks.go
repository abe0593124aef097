package signing

import (
	"context"
	"sync"
	"time"

	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/store"
)

const (
	mostAsks = 5                // that go on, of a peer
	mostDone = 100              // whose answers are kept, of a peer
	keptFor  = 10 * time.Minute // for how long an answer is told again, should it have been lost
)

// ask is a long-running request of a peer. A is the type of its current answer.
type ask[A any] struct {
	of     string // key of the peer
	leave  context.CancelFunc
	done   bool
	since  time.Time // when it was done
	answer A
}

// asks are the requests of peers, by peer and request.
type asks[A any] struct {
	mu  sync.Mutex
	all map[string]*ask[A]
}

// known returns the state of an earlier request.
func (s *asks[A]) known(id string) (answer A, ok bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if a := s.all[id]; a != nil {
		return a.answer, true
	}
	return answer, false
}

// begin starts a peer's request, as part of work, and returns the first answer; a request in progress is not started again.
// do reports the progress, and returns the last answer.
func (s *asks[A]) begin(ctx context.Context, work *sync.WaitGroup, from store.Peer, id string, first A, do func(ctx context.Context, say func(A)) A) (A, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	going := s.tidy(from.Key)
	var none A
	switch {
	case s.all[id] != nil:
		return s.all[id].answer, nil
	case ctx.Err() != nil:
		return none, problem.Errorf(problem.Unavailable, "this bench is stopping")
	case going >= mostAsks:
		return none, problem.Errorf(problem.Refused, "%d of your requests are already waiting for consent", going)
	}
	ctx, cancel := context.WithCancel(ctx)
	a := &ask[A]{of: from.Key, leave: cancel, answer: first}
	if s.all == nil {
		s.all = map[string]*ask[A]{}
	}
	s.all[id] = a
	say := func(answer A, done bool) {
		s.mu.Lock()
		defer s.mu.Unlock()
		a.answer, a.done, a.since = answer, done, time.Now()
	}
	work.Go(func() {
		defer cancel()
		say(do(ctx, func(answer A) { say(answer, false) }), true)
	})
	return first, nil
}

// tidy forgets answers that are too old, or too many of one peer, and returns how many of that peer are in progress. The
// lock is held.
func (s *asks[A]) tidy(key string) (going int) {
	oldest, done := "", 0
	for id, a := range s.all {
		switch {
		case a.done && time.Since(a.since) > keptFor:
			delete(s.all, id)
		case a.of != key:
		case !a.done:
			going++
		default:
			if done++; oldest == "" || a.since.Before(s.all[oldest].since) {
				oldest = id
			}
		}
	}
	if done >= mostDone {
		delete(s.all, oldest)
	}
	return going
}

// forget ends what is in progress, and makes the next request start over.
func (s *asks[A]) forget(id string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if a := s.all[id]; a != nil {
		a.leave()
		delete(s.all, id)
	}
}
