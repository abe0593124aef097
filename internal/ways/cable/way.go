package cable

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/hostlink"
	"earlybench.invalid/earlybench/core/link"
	"earlybench.invalid/earlybench/core/usb"
	"earlybench.invalid/earlybench/internal/ways"
)

// Way is one connection of a device, from plugging it in to unplugging it.
type Way struct {
	plugged // as it was plugged in
	cables  *Cables
	cfg     Config
	id      string // of the device on record

	gone  chan struct{} // closed when it was unplugged
	ended chan struct{} // closed when nothing of it runs any more
	once  sync.Once
	told  chan struct{} // there are news

	mu      sync.Mutex
	now     hostlink.Device         // as the host reported it last
	attempt context.CancelCauseFunc // ends the present attempt to link; nil between two
	wanted  []chan error            // restarts that somebody waits for
}

func newWay(c *Cables, p plugged, id string) *Way {
	return &Way{plugged: p, cables: c, cfg: c.cfg, id: id, gone: make(chan struct{}), ended: make(chan struct{}),
		told: make(chan struct{}, 1), now: p.device}
}

// Kind is cable.
func (w *Way) Kind() ways.Kind { return ways.Cable }

// Place is the port at which the device is connected.
func (w *Way) Place() ways.Place { return ways.Place{Host: w.host.Name, Port: w.device.Port} }

// Scope identifies the connection. The host's run is part of it, since hosts count
// connections from zero after a restart.
func (w *Way) Scope() string {
	return fmt.Sprintf("cable:%s/%s/%s/%d", w.host.Name, w.device.Run, w.device.BusID, w.device.Plugging)
}

// Pins reports whether the way to the device's host is private: whoever holds the cable is at
// the device, but over a network anybody may say so.
func (w *Way) Pins() bool { return w.cfg.Private(w.host.Name) }

// unplug ends the way.
func (w *Way) unplug() { w.once.Do(func() { close(w.gone) }) }

// news records what the host says of the device now; nil means no change.
func (w *Way) news(now *hostlink.Device) {
	if now != nil {
		w.mu.Lock()
		w.now = *now
		w.mu.Unlock()
	}
	select {
	case w.told <- struct{}{}:
	default:
	}
}

// driver is the driver that the host has bound to the device link.
func (w *Way) driver() (name string, has bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, i := range w.now.Interfaces {
		if i.Name == usb.LinkName {
			return i.Driver, true
		}
	}
	return "", false
}

// reported is the device as its host reported it last.
func (w *Way) reported() hostlink.Device {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.now
}

const (
	firstPause = 100 * time.Millisecond
	mostPause  = 5 * time.Second
	steady     = 5 * time.Second // a link that lasted this long was a good one
)

// Run keeps a link to the device for as long as it is plugged in.
func (w *Way) Run(ctx context.Context, to ways.Sink) (err error) {
	ctx, cancel := context.WithCancel(ctx)
	run := &run{Way: w, to: to, bound: make(chan struct{}, 1), failed: make(chan struct{}, 1)}
	var running sync.WaitGroup
	defer func() {
		cancel()
		running.Wait()
		if !errors.Is(err, ways.ErrMoved) { // then it goes on elsewhere
			close(w.ended)
		}
	}()
	running.Go(func() {
		select {
		case <-w.gone:
			to.Observe(run.seen(fact.USBLeft, fact.Of(run.cfg.Clock.Now()), fact.Bus))
			cancel()
		case <-ctx.Done():
		}
	})
	to.Observe(run.seen(fact.USBPresent, fact.Of(true), fact.Bus), run.seen(fact.USBBreaks, fact.Of(w.cables.breaks(w.id)), fact.Bus),
		run.seen(fact.USBErrors, fact.Of(w.cables.failures(w.id)), fact.Bus))
	run.observeDriver()
	running.Go(func() {
		for {
			select {
			case <-ctx.Done():
				return
			case <-run.failed:
				to.Observe(run.seen(fact.USBErrors, fact.Of(w.cables.failures(w.id)), fact.Bus))
			case <-w.told:
				run.observeDriver()
				select {
				case run.bound <- struct{}{}:
				default:
				}
			}
		}
	})
	return run.keepLinked(ctx)
}

// run is one call of Run.
type run struct {
	*Way
	to     ways.Sink
	bound  chan struct{} // a driver may be bound
	failed chan struct{} // transfers have failed on the wire
	freed  time.Time     // when the bench let go of the device last

	denied atomic.Bool // its host was not allowed to open it, and that was told

	telling sync.Mutex
	told    map[fact.Key]fact.Value // what was told of its driver
	worked  string                  // the driver over which the device has answered
}

func (r *run) seen(key fact.Key, v fact.Value, src fact.Source) fact.Fact {
	return fact.Fact{Key: key, Value: v, Source: src, At: r.cfg.Clock.Now()}
}

// driverWorks notes that the device has answered over its driver.
func (r *run) driverWorks() {
	name, _ := r.driver()
	r.telling.Lock()
	r.worked = name
	r.telling.Unlock()
	r.observeDriver()
}

// observeDriver tells what has changed of the device's driver.
func (r *run) observeDriver() {
	r.telling.Lock()
	defer r.telling.Unlock()
	now := r.reported()
	offered, state := r.cfg.Drivers(r.host.Name, &now)
	seen := []fact.Fact{r.seen(fact.DriverOffered, fact.Of(offered), fact.Host)}
	if state != "" {
		seen = append(seen, r.seen(fact.DriverState, fact.Of(state), fact.Host))
	}
	if name, has := r.driver(); has {
		works := state != "similar" || name == r.worked // a set for another model may be right all the same
		seen = append(seen, r.seen(fact.DriverBound, fact.Of(name != "" && works), fact.Host), r.seen(fact.DriverSet, fact.Of(name), fact.Host))
	}
	if now.Denied != "" { // it cannot be opened and asked: its host has read it
		r.denied.Store(true)
		var names []string
		hasLink := false
		for _, i := range now.Interfaces {
			names = append(names, interfaceName(i.Class, i.Name))
			hasLink = hasLink || i.Name == usb.LinkName
		}
		seen = append(seen, r.seen(fact.USBDenied, fact.Of(reason(now.Denied)), fact.Host), r.seen(fact.USBInterfaces, fact.Of(names), fact.Bus), r.seen(fact.USBLink, fact.Of(hasLink), fact.Bus))
	}
	if now.Denied == "" && r.denied.Swap(false) {
		seen = append(seen, r.seen(fact.USBDenied, fact.Of(""), fact.Host))
	}
	if r.told == nil {
		r.told = map[fact.Key]fact.Value{}
	}
	seen = slices.DeleteFunc(seen, func(f fact.Fact) bool {
		was, known := r.told[f.Key]
		r.told[f.Key] = f.Value
		return known && was == f.Value
	})
	if len(seen) > 0 {
		r.to.Observe(seen...)
	}
}

// errNoLink is the error for a device that has no device link among its interfaces. It
// will be connected again once it has one.
var errNoLink = errors.New("the device has no device link")

// keepLinked links again and again until ctx ends.
func (r *run) keepLinked(ctx context.Context) error {
	defer r.restarted(usb.ErrGone)
	said := "" // the last error: it is told once, however often it is tried
	for pause := firstPause; ctx.Err() == nil; pause = min(2*pause, mostPause) {
		attempt, end := r.begin(ctx)
		began := time.Now()
		err := r.link(attempt)
		switch {
		case ctx.Err() != nil:
			end()
			return nil
		case errors.Is(err, ways.ErrMoved):
			end()
			return err
		case attempt.Err() != nil, errors.Is(err, errNoLink):
		case !errors.Is(err, usb.ErrGone):
			if said != err.Error() {
				said = err.Error()
				r.cfg.Log.Info("link", "host", r.host.Name, "port", r.device.Port, "error", err)
			}
			r.to.Down(trouble(err))
		}
		again := r.untilAgain(attempt, err, pause)
		end()
		if again || time.Since(began) > steady {
			pause, said = firstPause, ""
		}
		if r.restartWanted() {
			pause, said = firstPause, ""
			r.restarted(r.reset(ctx))
		}
	}
	return nil
}

// untilAgain waits until it is worth while to link again; true if that is worth as much as
// the first time. It returns early when ctx ends.
func (r *run) untilAgain(ctx context.Context, err error, pause time.Duration) bool {
	if errors.Is(err, errNoLink) { // it will be connected again once it has one
		<-ctx.Done()
		return false
	}
	if _, changed := errors.AsType[*device.KeyChanged](err); changed {
		select { // nothing is tried again until somebody pins the new one
		case <-ctx.Done():
		case <-r.to.Retry():
		}
		return true
	}
	if held, ok := errors.AsType[*usb.HeldError](err); ok {
		select {
		case <-ctx.Done():
		case <-held.Free:
		}
		return true
	}
	clock.Sleep(ctx, clock.System{}, pause) //nolint:errcheck // the caller looks why
	return false
}

// trouble is an error in a few words for people.
func trouble(err error) error {
	if held, ok := errors.AsType[*usb.HeldError](err); ok {
		return held
	}
	switch {
	case errors.Is(err, usb.ErrBusy):
		return errors.New("another program holds the device (USB/IP: busy)")
	case errors.Is(err, context.DeadlineExceeded):
		return errors.New("the device did not answer in time")
	}
	return err
}

// link opens the device, waits until a driver is bound, and links once.
func (r *run) link(ctx context.Context) error {
	dev, d, err := r.open(ctx)
	if err != nil {
		return err
	}
	defer r.letGo(dev)
	if _, _, _, ok := d.Link(); !ok {
		return errNoLink
	}
	for name, _ := r.driver(); name == ""; name, _ = r.driver() {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-dev.Gone():
			return usb.ErrGone
		case <-r.bound:
		}
	}
	s, err := r.dial(ctx, dev, &d)
	if err != nil {
		return err
	}
	defer s.Close()
	r.driverWorks()
	r.to.Up(s)
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-s.Done():
		return usb.ErrGone
	}
}

// openWithin bounds importing a device and reading its descriptors; dialWithin bounds
// setting up the link.
const (
	openWithin = 10 * time.Second
	dialWithin = 20 * time.Second
)

// A device that the bench itself has just released is busy for a moment, which does not mean that there is
// another holder.
const (
	freeWithin = time.Second
	busyPause  = 20 * time.Millisecond
)

// take opens the device.
func (r *run) take(ctx context.Context) (usb.Device, error) {
	for {
		dev, err := r.cfg.Open(ctx, r.host.Name, r.device.BusID)
		if err == nil {
			return &counted{dev, r.wireFailed}, nil
		}
		_, held := errors.AsType[*usb.HeldError](err)
		if held || !errors.Is(err, usb.ErrBusy) || time.Since(r.freed) > freeWithin {
			return nil, err
		}
		if werr := clock.Sleep(ctx, clock.System{}, busyPause); werr != nil {
			return nil, werr
		}
	}
}

// letGo closes the device.
func (r *run) letGo(dev usb.Device) {
	dev.Close()
	r.freed = time.Now()
}

// open imports the device and reads its descriptors.
func (r *run) open(ctx context.Context) (usb.Device, usb.Descriptor, error) {
	ctx, cancel := context.WithTimeout(ctx, openWithin)
	defer cancel()
	dev, err := r.take(ctx)
	held, lent := errors.AsType[*usb.HeldError](err)
	switch {
	case lent:
		r.to.Observe(r.seen(fact.USBLent, fact.Of(held.By), fact.Bus))
	case errors.Is(err, usb.ErrBusy):
		r.to.Observe(r.seen(fact.USBHolder, fact.Of(cmp.Or(reason(r.reported().Holder), "another program, or a virtual machine")), fact.Bus))
	}
	if err != nil {
		return nil, usb.Descriptor{}, err
	}
	d, err := usb.Describe(ctx, dev)
	if err != nil {
		r.letGo(dev)
		return nil, d, err
	}
	_, _, _, hasLink := d.Link()
	var names []string
	for _, i := range d.Interfaces {
		names = append(names, interfaceName(i.Class.String(), i.Name))
	}
	release := fact.Of(fact.Release(usb.Release(d.Revision)))
	r.to.Observe(r.seen(fact.USBInterfaces, fact.Of(names), fact.Bus), r.seen(fact.USBHolder, fact.Of(""), fact.Bus), r.seen(fact.USBLent, fact.Of(""), fact.Bus),
		r.seen(fact.USBLink, fact.Of(hasLink), fact.Bus), r.seen(fact.USBRelease, release, fact.Bus))
	return dev, d, nil
}

// dial sets up the link over the device's bulk endpoints.
func (r *run) dial(ctx context.Context, dev usb.Device, d *usb.Descriptor) (*link.Session, error) {
	ctx, cancel := context.WithTimeout(ctx, dialWithin)
	defer cancel()
	i, in, out, _ := d.Link()
	pipe, err := link.Bulk(ctx, dev, i.Number, in, out)
	if err != nil {
		return nil, err
	}
	stop := context.AfterFunc(ctx, func() { pipe.Close() })
	stream, err := link.OpenStream(pipe, rand.Uint64())
	stop()
	if err != nil {
		pipe.Close()
		return nil, err
	}
	return link.Dial(ctx, stream, r.cfg.Key, func(key string) error { return r.to.Proven(ctx, key) })
}
