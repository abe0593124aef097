package keeper

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"time"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/core/link"
	"earlybench.invalid/earlybench/core/rpc"
	"earlybench.invalid/earlybench/core/usb"
	"earlybench.invalid/earlybench/core/usbip"
)

const linkName = usb.LinkName

// Link is an admitted bench's link to a device, for those who work on it.
type Link struct {
	*link.Session
	Control *rpc.Conn
}

// Attach takes that the device hangs on a bus. It may be told again at any time:
// the same plugging-in only brings news of drivers.
func (k *Keeper) Attach(a Attachment) {
	k.mu.Lock()
	if k.at != nil && k.at.scope() == a.scope() {
		before, _ := k.at.driver()
		k.at = &a
		k.mu.Unlock()
		if now, _ := a.driver(); now != before {
			k.observe(k.driverFacts(a)...)
			k.wake(k.rebound)
		}
		return
	}
	k.mu.Unlock()
	k.Detach()
	if k.rack.ctx.Err() != nil {
		return
	}
	ctx, cancel := context.WithCancel(k.rack.ctx)
	k.mu.Lock()
	k.at, k.stop, k.host = &a, cancel, a.Host.Name
	k.mu.Unlock()
	k.setLive(func([]string) []string { return []string{a.scope()} })
	k.observe(append(k.driverFacts(a), k.seen(fact.USBPresent, fact.Of(true), fact.Bus, a.scope()),
		k.seen(fact.USBBreaks, fact.Of(k.breaks()), fact.Bus, ""))...)
	if r := k.Device().Retirement; r != nil && !r.Ended.IsZero() { // it was put away, and is back
		if err := k.Retire(ctx, nil); err != nil {
			k.rack.cfg.Log.Error("take it back from being put away", "error", err)
		}
	}
	k.offer()
	k.held.Go(func() { k.hold(ctx, a) })
}

// Detach takes that the device left the bus, and waits until nothing of its
// link runs.
func (k *Keeper) Detach() {
	k.mu.Lock()
	stop, at := k.stop, k.at
	k.stop, k.at = nil, nil
	if at != nil {
		k.left = append(k.left, k.rack.cfg.Clock.Now())
	}
	k.mu.Unlock()
	if stop != nil {
		stop()
	}
	k.held.Wait()
	if at != nil {
		k.setLive(func([]string) []string { return nil })
	}
}

// breaksWithin is how long a break of the cable counts.
const breaksWithin = 10 * time.Minute

// breaks counts how often the device left the bus of late.
func (k *Keeper) breaks() int {
	k.mu.Lock()
	defer k.mu.Unlock()
	now := k.rack.cfg.Clock.Now()
	k.left = slices.DeleteFunc(k.left, func(t time.Time) bool { return now.Sub(t) > breaksWithin })
	return len(k.left)
}

func (k *Keeper) driverFacts(a Attachment) []fact.Fact {
	name, has := a.driver()
	if !has {
		return nil
	}
	return []fact.Fact{k.seen(fact.DriverBound, fact.Of(name != ""), fact.Host, a.scope()),
		k.seen(fact.DriverSet, fact.Of(name), fact.Host, a.scope())}
}

// hold looks at the plugged device and keeps a link to it for as long as it
// hangs there.
func (k *Keeper) hold(ctx context.Context, a Attachment) {
	log := k.rack.cfg.Log.With("device", k.Device().Handle)
	said := "" // the last error: it is told once, however often it is tried
	for pause := 100 * time.Millisecond; ctx.Err() == nil; pause = min(2*pause, 5*time.Second) {
		dev, d, err := k.open(ctx, a)
		if err == nil {
			if _, _, _, ok := d.Link(); !ok {
				dev.Close()
				return // it comes back as another plugging-in
			}
			err = k.keepLinked(ctx, a, dev, d)
			dev.Close()
		}
		if ctx.Err() != nil {
			return
		}
		if changed, ok := errors.AsType[*link.KeyChanged](err); ok {
			k.observe(k.seen(fact.LinkKey, fact.Of("changed"), fact.Device, a.scope()),
				k.seen(fact.LinkTrouble, fact.Of("Pinned is "+changed.Pinned+", it shows "+changed.Shown+"."), fact.Device, a.scope()))
			log.Error("another device key", "pinned", changed.Pinned, "shown", changed.Shown)
			select { // nothing is tried again until somebody pins the new one
			case <-ctx.Done():
			case <-k.rebound:
			}
			continue
		}
		if err != nil && !errors.Is(err, usb.ErrGone) {
			if said != err.Error() {
				said = err.Error()
				log.Info("link", "error", err)
			}
			k.observe(k.seen(fact.LinkTrouble, fact.Of(sentence(err)), fact.Device, a.scope()))
		}
		if clock.Sleep(ctx, clock.System{}, pause) != nil {
			return
		}
	}
}

// sentence makes a short sentence of an error.
func sentence(err error) string {
	switch {
	case errors.Is(err, usb.ErrBusy):
		return "another program holds the device (USB/IP: busy)"
	case errors.Is(err, context.DeadlineExceeded):
		return "the device did not answer in time"
	}
	s := err.Error()
	return s[:min(len(s), 200)]
}

// open imports the device and reads its descriptors.
func (k *Keeper) open(ctx context.Context, a Attachment) (usb.Device, usb.Descriptor, error) {
	short, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	dev, err := usbip.TCP(a.Host.USBIP).Open(short, a.BusID)
	if errors.Is(err, usb.ErrBusy) {
		k.observe(k.seen(fact.USBHolder, fact.Of("another program, or a virtual machine"), fact.Bus, a.scope()))
	}
	if err != nil {
		return nil, usb.Descriptor{}, err
	}
	d, err := usb.Describe(short, dev)
	if err != nil {
		dev.Close()
		return nil, d, err
	}
	_, _, _, hasLink := d.Link()
	var names []string
	for _, i := range d.Interfaces {
		names = append(names, printable(fmt.Sprintf("%s %s", i.Class, i.Name)))
	}
	seen := []fact.Fact{
		k.seen(fact.USBInterfaces, fact.Of(names), fact.Bus, a.scope()),
		k.seen(fact.USBHolder, fact.Of(""), fact.Bus, a.scope()),
		k.seen(fact.USBLink, fact.Of(hasLink), fact.Bus, a.scope()),
		k.seen(fact.USBRelease, fact.Of(fact.Release(usb.Release(d.Revision))), fact.Bus, a.scope()),
	}
	for _, f := range seen {
		if f.Key == k.released() { // the family states its OS release there
			seen = append(seen, k.seen(fact.OSRelease, f.Value, fact.Bus, ""))
		}
	}
	k.observe(seen...)
	return dev, d, nil
}

// released is the fact that states the release before any link.
func (k *Keeper) released() fact.Key {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.series.Released
}

// keepLinked waits for a driver, links, waits to be admitted, and follows the
// device until the link ends.
func (k *Keeper) keepLinked(ctx context.Context, a Attachment, dev usb.Device, d usb.Descriptor) error {
	for !k.bound() {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-dev.Gone():
			return usb.ErrGone
		case <-k.rebound:
		}
	}
	short, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	i, in, out, _ := d.Link()
	pipe, err := link.Bulk(short, dev, i.Number, in, out)
	if err != nil {
		return err
	}
	stop := context.AfterFunc(short, func() { pipe.Close() })
	stream, err := link.OpenStream(pipe, rand.Uint64())
	if err != nil {
		pipe.Close()
		return err
	}
	stop()
	s, err := link.Dial(short, stream, k.rack.cfg.Key, k.Device().Key)
	if err != nil {
		return err
	}
	defer s.Close()
	if err := k.pin(ctx, s.Key); err != nil {
		return err
	}
	adm, err := s.Admission(short)
	if err != nil {
		return err
	}
	k.mu.Lock()
	k.session = s
	k.mu.Unlock()
	defer func() {
		k.mu.Lock()
		k.session = nil
		k.mu.Unlock()
	}()
	known := append(k.admissionFacts(adm, a), k.seen(fact.LinkKey, fact.Of("known"), fact.Device, a.scope()))
	if f, ok := k.Look(ctx, "").View.Get(fact.AdmitState, k.rack.cfg.Clock.Now()); !ok || adm.State == link.Admitted || f.Value.Text() == "asking" {
		known = append(known, k.seen(fact.AdmitState, fact.Of(string(adm.State)), fact.Device, a.scope()))
	}
	k.observe(known...)
	if adm.State != link.Admitted {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-s.Done():
			return usb.ErrGone
		case <-k.admitted:
		}
	}
	return k.follow(ctx, a, s)
}

func (k *Keeper) bound() bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.at == nil {
		return false
	}
	name, _ := k.at.driver()
	return name != ""
}

// pin keeps the device key at the first meeting, which is over a cable here.
func (k *Keeper) pin(ctx context.Context, key string) error {
	k.mu.Lock()
	d := k.device
	k.mu.Unlock()
	if d.Key != "" {
		return nil
	}
	d.Key = key
	if err := k.rack.cfg.Store.SaveDevice(ctx, d); err != nil {
		return err
	}
	k.mu.Lock()
	k.device.Key = key
	k.mu.Unlock()
	return nil
}

// follow follows the facts of an admitted device until its link ends.
func (k *Keeper) follow(ctx context.Context, a Attachment, s *link.Session) error {
	scope := fmt.Sprintf("link:%d", rand.Uint64())
	told := make(chan link.Fact, 64)
	control, err := s.Control(func(method string, params json.RawMessage) {
		f, err := rpc.Decode[link.Fact](params)
		if err == nil && method == link.MethodFact {
			select {
			case told <- f:
			default: // a device that tells faster than it can be heard
			}
		}
	})
	if err != nil {
		return err
	}
	defer control.Close()
	k.setLive(func(l []string) []string { return append(slices.Clone(l), scope) })
	k.observe(k.seen(fact.LinkUp, fact.Of(true), fact.Device, scope), k.seen(fact.Met, fact.Of(true), fact.Device, ""))
	k.mu.Lock()
	k.linked = &Link{Session: s, Control: control}
	k.mu.Unlock()
	defer func() {
		k.mu.Lock()
		k.linked, k.apps = nil, nil
		k.mu.Unlock()
		k.setLive(func(l []string) []string {
			return slices.DeleteFunc(slices.Clone(l), func(s string) bool { return s == scope })
		})
	}()
	following := make(chan struct{})
	live, cancel := context.WithCancel(ctx)
	defer func() { cancel(); <-following }()
	go func() {
		defer close(following)
		control.Call(live, link.MethodFactsFollow, nil, nil) //nolint:errcheck // it lasts as long as the link
	}()
	for {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-s.Done():
			return usb.ErrGone
		case <-following:
			return errors.New("the device tells no more of itself")
		case f := <-told:
			k.told(f, scope)
		}
	}
}

// told takes one fact that the device tells of itself, if it may.
func (k *Keeper) told(f link.Fact, scope string) {
	if f.Key == link.FactClock { // what time it has; how far that is off is seen here
		var at time.Time
		if json.Unmarshal(f.Value, &at) == nil {
			off := at.Sub(k.rack.cfg.Clock.Now()).Round(time.Second)
			k.observe(k.seen(fact.DeviceClock, fact.Of(int64(off.Seconds())), fact.Device, scope))
		}
		return
	}
	if f.Key == "apps" {
		var text string
		var apps []link.App
		if json.Unmarshal(f.Value, &text) != nil || json.Unmarshal([]byte(text), &apps) != nil {
			return
		}
		k.mu.Lock()
		k.apps = apps
		handle := k.device.Handle
		k.mu.Unlock()
		k.touch(handle)
		return
	}
	registry := k.registry()
	spec, ok := registry.Lookup(fact.Key(f.Key))
	if !ok {
		return
	}
	v, err := fact.ParseValue(spec.Type, f.Value)
	if err != nil {
		return
	}
	if spec.Ends != fact.EndsLink {
		scope = ""
	}
	if made := k.seen(spec.Key, v, fact.Device, scope); registry.Check(made) == nil {
		k.observe(made)
	}
}

// Linked returns the link of an admitted bench, or the problem that stands in
// the way.
func (k *Keeper) Linked(ctx context.Context) (*Link, error) {
	k.mu.Lock()
	l := k.linked
	k.mu.Unlock()
	if l != nil {
		return l, nil
	}
	return nil, k.Look(ctx, "").Blocked()
}

// admissionFacts are what a device's word of an admission tells beside its state.
func (k *Keeper) admissionFacts(adm link.Admission, a Attachment) []fact.Fact {
	var out []fact.Fact
	if !adm.Until.IsZero() {
		out = append(out, k.seen(fact.AdmitEnds, fact.Of(adm.Until), fact.Device, a.scope()))
	}
	if adm.State != link.Admitted {
		out = append(out, k.seen(fact.Locked, fact.Of(adm.Locked), fact.Device, a.scope()))
	}
	return out
}

// Ask has the device ask its owner whether this bench may come in, and observes
// every state of the question.
func (k *Keeper) Ask(ctx context.Context) (link.AdmitState, error) {
	s, at := k.visitor(ctx)
	if s == nil || at == nil {
		return "", k.Look(ctx, "").Blocked()
	}
	a, err := s.Ask(ctx, link.Visitor{Name: k.rack.cfg.Bench, Shared: k.rack.shared(at.Host.Name)}, func(a link.Admission) {
		k.observe(append(k.admissionFacts(a, *at), k.seen(fact.AdmitState, fact.Of(string(a.State)), fact.Device, at.scope()))...)
	})
	if err != nil {
		if ctx.Err() != nil {
			k.observe(k.seen(fact.AdmitState, fact.Of(string(link.AdmitNone)), fact.Device, at.scope()))
			return "", ctx.Err()
		}
		return "", &job.Problem{Kind: job.Gone, Text: fmt.Sprintf("%s went away while it was asking.", k.Device().Handle), Remedy: "Plug it in again, then ask again."}
	}
	if a.State == link.Admitted {
		k.wake(k.admitted)
	}
	return a.State, nil
}

// Withdraw takes this bench's admission back on the device, and sees that it is.
func (k *Keeper) Withdraw(ctx context.Context) error {
	l, err := k.Linked(ctx)
	if err != nil {
		return err
	}
	_, at := k.visitor(ctx)
	if err := l.Control.Call(ctx, link.MethodAdmitWithdraw, nil, nil); err != nil {
		return fmt.Errorf("withdraw the admission: %w", err)
	}
	a, err := l.Admission(ctx)
	if err != nil {
		return fmt.Errorf("look whether the admission is withdrawn: %w", err)
	}
	if at != nil {
		k.observe(k.seen(fact.AdmitState, fact.Of(string(a.State)), fact.Device, at.scope()))
	}
	l.Close()
	return nil
}

// Show has the device show its handle on its screen.
func (k *Keeper) Show(ctx context.Context) error {
	l, err := k.Linked(ctx)
	if err != nil {
		return err
	}
	return l.Control.Call(ctx, link.MethodFind, link.Find{Handle: k.Device().Handle}, nil)
}

// visitWithin is how long a link may take to come up once its driver is bound.
const visitWithin = 10 * time.Second

// visitor returns the session of this bench, waiting for one that is coming up.
func (k *Keeper) visitor(ctx context.Context) (*link.Session, *Attachment) {
	ctx, cancel := context.WithTimeout(ctx, visitWithin)
	defer cancel()
	for {
		changed := k.rack.cfg.Store.Changed()
		k.mu.Lock()
		s, at := k.session, k.at
		k.mu.Unlock()
		if s != nil || at == nil || !k.bound() {
			return s, at
		}
		if st := k.Look(ctx, ""); st.Trouble() {
			return nil, at
		}
		select {
		case <-ctx.Done():
			return nil, at
		case <-changed:
		}
	}
}

// plain takes the marks for emphasis out of a sheet's text.
func plain(s string) string { return strings.NewReplacer("**", "", "*", "").Replace(s) }
