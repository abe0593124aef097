package statements

import (
	"context"
	"errors"
	"time"

	"golang.org/x/sync/errgroup"

	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/keeper"
)

const (
	listEvery  = 5 * time.Minute  // that authorities are asked what was withdrawn
	handEvery  = 2 * time.Second  // that devices are looked at which were not handed a list yet
	handWithin = 10 * time.Second // for one device
)

// Again makes Run ask now what was withdrawn.
func (s *Statements) Again() {
	select {
	case s.wake <- struct{}{}:
	default:
	}
}

// Run asks authorities from time to time what was withdrawn, and hands that to each device that is
// linked, until ctx ends.
func (s *Statements) Run(ctx context.Context) {
	due := time.Now()
	for {
		if !time.Now().Before(due) {
			s.ask(ctx)
			s.renewDue(ctx)
			s.forget(ctx)
			due = time.Now().Add(listEvery)
		}
		var group errgroup.Group
		group.SetLimit(putAtOnce)
		for _, k := range s.cfg.Rack.All() {
			group.Go(func() error { s.handOver(ctx, k); return nil })
		}
		group.Wait() //nolint:errcheck // it says what fails in the log
		select {
		case <-ctx.Done():
			return
		case <-s.wake:
			due = time.Now()
		case <-time.After(handEvery):
		}
	}
}

// ask asks all authorities what was withdrawn.
func (s *Statements) ask(ctx context.Context) {
	for _, v := range s.cfg.Authorities.All() {
		name := v.Record.Name
		list, err := s.cfg.Authorities.StatusList(ctx, name)
		if err != nil {
			if ctx.Err() == nil {
				s.cfg.Log.Info("ask what was withdrawn", "authority", name, "error", err)
			}
			continue
		}
		s.mu.Lock()
		old := s.lists[name]
		newer := old == nil || list.Made > old.Made
		if newer {
			s.lists[name] = list
		}
		s.mu.Unlock()
		if !newer {
			continue
		}
		if err := s.cfg.Store.SaveStatusList(ctx, name, list.Text); err != nil && ctx.Err() == nil {
			s.cfg.Log.Error("keep a status list", "authority", name, "error", err)
		}
		s.cfg.Outlook().Again()
	}
}

// handOver hands the newest lists to a device that is linked and takes statements, and those
// statements that have come in the place of others there.
func (s *Statements) handOver(ctx context.Context, k *keeper.Keeper) {
	s.putSuccessors(ctx, k)
	if _, takes := k.Facts().View().Get(fact.Statements, s.cfg.Clock.Now()); !takes {
		return
	}
	session := k.Session()
	if session == nil {
		return
	}
	s.mu.Lock()
	var texts []string
	newest, key := int64(0), session.Key()
	for _, l := range s.lists {
		if l.Made > s.handed[key] {
			texts = append(texts, l.Text)
		}
		newest = max(newest, l.Made)
	}
	s.mu.Unlock()
	if len(texts) == 0 {
		return
	}
	on, err := session.Statements()
	if err != nil {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, handWithin)
	defer cancel()
	for _, text := range texts {
		err = errors.Join(err, on.Withdrawn(ctx, text))
	}
	if err != nil && ctx.Err() == nil {
		s.cfg.Log.Info("hand a status list over", "device", k.Device().Handle, "error", err) // one of another authority is refused, and is not sent again
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if ctx.Err() == nil {
		s.handed[key] = newest
	}
}

// putSuccessors puts on a device what has come in the place of a statement there, and takes that off.
func (s *Statements) putSuccessors(ctx context.Context, k *keeper.Keeper) {
	held, _ := s.onDevice(k)
	for _, old := range held {
		next := s.successor(old.Statement)
		if next == nil || !next.Names(k.Device().Serial) || k.Session() == nil || !s.Mine(old.Confirmation.Thumbprint) || !s.turn(k.Device().ID+" "+next.ID) {
			continue
		}
		row := s.putOn(ctx, k.Device().ID, *next, false)
		if row.Failed() {
			s.cfg.Log.Info("put a renewed statement on a device", "device", row.Device, "error", row.Text)
			continue
		}
		if err := s.TakeOff(ctx, row.Device, old.ID); err != nil && problem.KindOf(err) != problem.NotFound && ctx.Err() == nil {
			s.cfg.Log.Info("take the former statement off a device", "device", row.Device, "error", err)
		}
	}
}

// putAgainEvery is how long after a failure a successor is put again.
const putAgainEvery = time.Minute

// turn reports whether something should be tried now, and notes when to try it again.
func (s *Statements) turn(what string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	now := s.cfg.Clock.Now()
	if left := s.waits[what].Sub(now); left > 0 && left <= putAgainEvery { // more is left where the clock was set back
		return false
	}
	s.waits[what] = now.Add(putAgainEvery)
	return true
}
