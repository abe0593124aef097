package lend

import (
	"context"
	"encoding/json"
	"errors"
	"reflect"
	"slices"
	"time"

	"earlybench.invalid/earlybench/core/clock"
	core "earlybench.invalid/earlybench/core/peer"
	"earlybench.invalid/earlybench/core/plain"
	"earlybench.invalid/earlybench/internal/store"
)

// This file handles what peers report to this bench.

// far is what a peer shows.
type far struct {
	devices   core.Devices
	loans     core.Loans
	sentBack  map[string]bool // loans that were not asked for, by their ids
	connected bool
	seen      time.Time // when it was told last
	end       context.CancelFunc
}

// taken is a borrowed device that is reached.
type taken struct{ end func() }

// Far is what a peer shows of its rack.
type Far struct {
	Peer      string
	Connected bool
	Devices   []core.Device
	Seen      time.Time // when it has told that; zero: not yet
}

// Far returns what the peers show, by name.
func (l *Lend) Far() (out []Far) {
	for _, p := range l.cfg.Peers.List() {
		f := Far{Peer: p.Name}
		l.mu.Lock()
		if have := l.far[p.Name]; have != nil {
			f.Connected, f.Devices, f.Seen = have.connected, slices.Clone(have.devices.Devices), have.seen
		}
		l.mu.Unlock()
		out = append(out, f)
	}
	return out
}

// followPeers follows what each peer shows, as long as it is one.
func (l *Lend) followPeers() {
	for {
		changed := l.nextChange()
		is := map[string]bool{}
		for _, p := range l.cfg.Peers.List() {
			is[p.Name] = true
			l.mu.Lock()
			if l.far[p.Name] == nil && l.ctx.Err() == nil {
				ctx, end := context.WithCancel(l.ctx)
				f := &far{end: end}
				l.far[p.Name] = f
				l.work.Go(func() { l.follow(ctx, p.Name, f) })
			}
			l.mu.Unlock()
		}
		l.mu.Lock()
		for name, f := range l.far {
			if !is[name] {
				f.end()
				delete(l.far, name)
			}
		}
		l.mu.Unlock()
		select {
		case <-l.ctx.Done():
			return
		case <-changed:
		}
		if clock.Sleep(l.ctx, clock.System{}, 50*time.Millisecond) != nil {
			return
		}
	}
}

// follow follows what a peer shows, over one link after the other.
func (l *Lend) follow(ctx context.Context, name string, f *far) {
	for ctx.Err() == nil {
		link, changed, err := l.cfg.Peers.Link(name)
		if err != nil {
			return
		}
		if link == nil {
			select {
			case <-ctx.Done():
			case <-changed:
			}
			continue
		}
		err = link.Follow(ctx, core.MethodDevices, struct{}{}, func(method string, params json.RawMessage) { l.take(name, f, method, params) })
		l.mu.Lock()
		f.connected = false
		l.mu.Unlock()
		l.tell()
		if err != nil && ctx.Err() == nil && !errors.Is(err, core.ErrEnded) {
			l.cfg.Log.Info("follow what a peer shows", "peer", name, "error", err)
		}
		if clock.Sleep(ctx, clock.System{}, 500*time.Millisecond) != nil {
			return
		}
	}
}

// What is taken of a peer.
const (
	mostOften   = 50 * time.Millisecond // between two lists of loans
	mostDevices = 500
	mostLoans   = 200
)

// take takes what a peer tells.
func (l *Lend) take(name string, f *far, method string, params json.RawMessage) {
	switch method {
	case core.MethodAll:
		d, err := decode[core.Devices](params)
		if err != nil || len(d.Devices) > mostDevices {
			return
		}
		for i := range d.Devices {
			one := &d.Devices[i]
			for _, text := range []*string{&one.Handle, &one.Family, &one.Maker, &one.Model, &one.Code, &one.Serial, &one.Release, &one.Key, &one.Rights, &one.Summary} {
				*text = plain.Cut(plain.Line(*text), 100)
			}
			one.State = core.State(plain.Cut(plain.Line(string(one.State)), 20))
		}
		l.mu.Lock()
		f.devices, f.connected, f.seen = d, true, l.cfg.Clock.Now()
		l.mu.Unlock()
	case core.MethodLoans:
		ls, err := decode[core.Loans](params)
		if err != nil || len(ls.Loans) > mostLoans {
			return
		}
		l.mu.Lock()
		f.loans = ls
		l.mu.Unlock()
		l.hear(name, ls)
		clock.Sleep(l.ctx, clock.System{}, mostOften) //nolint:errcheck // it ends then
	}
	l.tell()
}

// crossing is how long after the answer to a request an older list of loans may still arrive.
const crossing = 10 * time.Second

// hear handles what a lender reports about this bench's loans.
func (l *Lend) hear(peer string, told core.Loans) {
	p, err := l.cfg.Peers.Find(peer)
	if err != nil {
		return
	}
	is := map[string]bool{}
	for _, t := range told.Loans {
		is[t.ID] = true
		one := l.byFar(p.Key, t.ID)
		if one == nil && t.State != string(store.LoanEnded) {
			one = l.unanswered(p.Key, t)
		}
		if one != nil { // nobody puts a device on this rack that was not asked for
			l.warn(one, l.apply(one, t))
		}
	}
	l.mu.Lock()
	var gone []*loan
	for _, one := range l.loans {
		if !one.of.Lent && one.of.PeerKey == p.Key && one.Far != "" && !is[one.Far] && time.Since(one.answered) > crossing {
			gone = append(gone, one)
		}
	}
	l.mu.Unlock()
	for _, one := range gone {
		l.warn(one, l.apply(one, core.Loan{State: string(store.LoanEnded), Reason: "its lender no longer knows about it"}))
	}
}

// byFar is the loan with a lender's id; nil for none.
func (l *Lend) byFar(key, id string) *loan {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, one := range l.loans {
		if !one.of.Lent && one.of.PeerKey == key && one.Far == id {
			return one
		}
	}
	return nil
}

// unanswered is a loan that was asked for, and whose answer did not arrive because this bench stopped before; nil for none.
func (l *Lend) unanswered(key string, t core.Loan) *loan {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, one := range l.loans {
		if !one.of.Lent && one.of.PeerKey == key && one.Far == "" && one.of.Handle == t.Device && one.of.Rights == t.Rights && !one.asking {
			return one
		}
	}
	return nil
}

// apply changes a loan as its lender tells.
func (l *Lend) apply(one *loan, t core.Loan) error {
	now := l.cfg.Clock.Now().UTC()
	return l.change(context.Background(), one, func(r *store.Loan) bool {
		was := *r
		if r.Far == "" {
			r.Far = plain.Cut(plain.Line(t.ID), 60)
		}
		r.Reason = plain.Cut(plain.Line(t.Reason), 200)
		switch state := store.LoanState(t.State); {
		case state == store.LoanEnded:
			r.State, r.Ended = store.LoanEnded, now
		case r.State == store.LoanReturning: // it is given back here, and its lender does not know that yet
		case state == store.LoanActive:
			r.State, r.Place, r.Wait = store.LoanActive, 0, 0
			r.Key, r.Family, r.Code, r.Serial = plain.Cut(plain.Line(t.Key), 100), plain.Cut(plain.Line(t.Family), 60), plain.Cut(plain.Line(t.Code), 60), plain.Cut(plain.Line(t.Serial), 100)
			if r.Began.IsZero() {
				r.Began = now
			}
			r.Hands = heardHands(r.Hands, t.Hands, now)
			r.Away, r.Step = cleaned(t.Away, 300), cleaned(t.Step, 300)
			// Both clocks may differ: the end is a number of seconds from now, by this one.
			if ends := now.Add(time.Duration(t.Seconds) * time.Second); ends.Sub(r.Ends).Abs() > 2*time.Second {
				r.Ends = ends
			}
		default:
			r.State, r.Place, r.Wait = store.LoanWaiting, t.Place, t.Wait
		}
		return !reflect.DeepEqual(was, *r)
	})
}
