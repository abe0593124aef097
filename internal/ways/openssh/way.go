package openssh

import (
	"context"
	"errors"
	"fmt"
	"time"

	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/shell"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/network"
	"earlybench.invalid/earlybench/internal/ways"
)

// Way is the way to one device by its SSH server, for as long as the address is on record.
type Way struct {
	servers *Servers
	keeper  *keeper.Keeper
	target  target
	scope   string
	ended   chan struct{} // closed by stop
}

func newWay(s *Servers, k *keeper.Keeper, t target, n int) *Way {
	return &Way{servers: s, keeper: k, target: t, scope: fmt.Sprintf("ssh:%s/%d", k.Device().ID, n), ended: make(chan struct{})}
}

// Kind is ssh.
func (w *Way) Kind() ways.Kind { return ways.SSH }

// Place is the address.
func (w *Way) Place() ways.Place { return ways.Place{Port: w.target.address} }

// Scope is that of the time for which the address is on record.
func (w *Way) Scope() string { return w.scope }

// Pins is false: a person confirms the device key.
func (w *Way) Pins() bool { return false }

// stop ends the way.
func (w *Way) stop() { close(w.ended) }

// Limits of connecting, and pauses between attempts. A server that lets nobody in is left alone
// for longer: it may lock out clients that try too often.
const (
	connectWithin = 5 * time.Second
	dialWithin    = 20 * time.Second
	firstPause    = 200 * time.Millisecond
	mostPause     = 10 * time.Second
	notLetInPause = time.Minute
	steady        = 5 * time.Second // a login that lasted this long was a good one
)

// Run logs in again and again.
func (w *Way) Run(ctx context.Context, to ways.Sink) error {
	defer w.servers.left(w)
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	go func() {
		select {
		case <-w.ended:
			cancel()
		case <-ctx.Done():
		}
	}()
	said := ""
	for pause := firstPause; ctx.Err() == nil; pause = min(2*pause, mostPause) {
		began := time.Now()
		err := w.login(ctx, to)
		if ctx.Err() != nil {
			break
		}
		if err != nil {
			if said != err.Error() {
				said = err.Error()
				w.servers.cfg.Log.Info("log in", "device", w.keeper.Device().Handle, "error", err)
			}
			w.failed(to, err)
		}
		if errors.Is(err, shell.ErrNotLetIn) && network.Retired(w.keeper.Device()) { // it has let go of us
			break
		}
		if time.Since(began) > steady {
			pause, said = firstPause, ""
		}
		if w.wait(ctx, to, err, pause) {
			pause = firstPause
		}
	}
	return nil
}

// failed reports why there is no session.
func (w *Way) failed(to ways.Sink, err error) {
	now := w.servers.cfg.Clock.Now()
	_, changed := errors.AsType[*device.KeyChanged](err)
	answers := changed || errors.Is(err, shell.ErrNotLetIn)
	elsewhere := w.keeper.Session() != nil // at another address, or as another user: then this says nothing of the device
	if !elsewhere {
		to.Observe(fact.Fact{Key: fact.AirSeen, Value: fact.Of(answers), Source: fact.Host, At: now})
	}
	if errors.Is(err, shell.ErrNotLetIn) && !elsewhere {
		to.Observe(fact.Fact{Key: fact.AdmitState, Value: fact.Of(string(device.AdmitNone)), Source: fact.Device, At: now},
			fact.Fact{Key: fact.LinkKey, Value: fact.Of("known"), Source: fact.Device, At: now})
	}
	to.Down(trouble(err))
}

// wait waits until it is tried again; true if that is worth as much as the first time.
func (w *Way) wait(ctx context.Context, to ways.Sink, err error, pause time.Duration) bool {
	if errors.Is(err, shell.ErrNotLetIn) {
		pause = notLetInPause
	}
	late := time.NewTimer(pause)
	defer late.Stop()
	timer := late.C
	if _, changed := errors.AsType[*device.KeyChanged](err); changed {
		timer = nil // nothing is tried again until somebody pins the new one
	}
	select {
	case <-ctx.Done():
	case <-to.Retry():
		return true
	case <-timer:
	}
	return false
}

// login logs in, and stays until the session ends.
func (w *Way) login(ctx context.Context, to ways.Sink) error {
	s, err := w.servers.dial(ctx, w.target, w.keeper.Device().Key, nil, func(key string) error {
		if err := pinnedBy(w.keeper)(key); err != nil {
			return err
		}
		return to.Proven(ctx, key)
	})
	if err != nil {
		return err
	}
	defer s.Close()
	w.servers.answers(w, s.Key())
	to.Observe(fact.Fact{Key: fact.AirSeen, Value: fact.Of(true), Source: fact.Host, At: w.servers.cfg.Clock.Now()})
	to.Up(s)
	watch(ctx, s)
	return nil
}

// A network that fails says nothing: a device is asked now and then whether it is there.
const (
	askEvery     = 5 * time.Second
	answerWithin = 10 * time.Second
)

// watch returns when a session has ended, or the device does not answer any more.
func watch(ctx context.Context, s *shell.Session) {
	t := time.NewTicker(askEvery)
	defer t.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-s.Done():
			return
		case <-t.C:
		}
		asking, answered := context.WithTimeout(ctx, answerWithin)
		err := s.Alive(asking)
		answered()
		if err != nil {
			return
		}
	}
}
