package lend

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"sync"
	"time"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/core/usb"
	"earlybench.invalid/earlybench/core/usbip"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/store"
)

// This file holds exclusive loans: the USB of a device itself, as a USB/IP exporter on a loopback address of the
// borrower's, for the kernel and the tools of that computer. There is one importer at a time, and only the borrower's
// own user gets to it.

// USB is the USB of a device that was taken from this bench. Release gives it back.
type USB struct {
	usb.Device
	BusID   string
	Release func()
}

// BorrowUSB asks a peer for the USB of a device.
func (l *Lend) BorrowUSB(ctx context.Context, peer, handle string, long time.Duration) (store.Loan, error) {
	if !tellsUsers {
		return store.Loan{}, problem.Errorf(problem.Unsupported, "a device is not borrowed with its USB on this system, which does not tell which user connects to a loopback address")
	}
	return l.borrow(ctx, store.Loan{Peer: peer, Handle: handle, Rights: string(device.RightsUse), Exclusive: true}, long)
}

// lentUSB is the USB of a device that is lent, at the lender.
type lentUSB struct {
	USB
	info    usb.Info
	claimed sync.Mutex // by the importer
}

// takeUSB takes the USB of a device for its borrower, once.
func (l *Lend) takeUSB(ctx context.Context, k *keeper.Keeper, one *loan) error {
	l.mu.Lock()
	had := one.usb
	l.mu.Unlock()
	if had != nil {
		select {
		case <-had.Gone(): // it was unplugged; its borrower may import it again once it is back
			l.releaseUSB(one)
		default:
			return nil
		}
	}
	ctx, cancel := context.WithTimeout(ctx, openWithin)
	defer cancel()
	took, err := l.cfg.TakeUSB(ctx, k, one.of.Peer)
	if err != nil {
		return errors.Join(err, l.waits(ctx, one, "its lender does not get at its USB now: "+err.Error()))
	}
	info, err := usbip.Info(ctx, took, took.BusID, k.Device().Handle)
	if err != nil {
		took.Release()
		return errors.Join(err, l.waits(ctx, one, "its lender does not get at its USB now: "+err.Error()))
	}
	l.mu.Lock()
	active := one.State == store.LoanActive && l.ctx.Err() == nil
	if active {
		one.usb = &lentUSB{USB: took, info: info}
	}
	l.mu.Unlock()
	if !active {
		took.Release()
		return nil
	}
	l.tell() // its borrower waits for it
	return l.waits(ctx, one, "")
}

// releaseUSB gives the USB of a device back to this bench.
func (l *Lend) releaseUSB(one *loan) {
	l.mu.Lock()
	had := one.usb
	one.usb = nil
	l.mu.Unlock()
	if had != nil {
		had.Release()
	}
}

// exportUSB opens a stream to the exporter of a device's USB, once that was taken.
func (l *Lend) exportUSB(ctx context.Context, one *loan) (io.ReadWriteCloser, error) {
	ctx, cancel := context.WithTimeout(ctx, openWithin/2)
	defer cancel()
	for {
		changed := l.nextChange()
		l.mu.Lock()
		src := one.usb
		over := one.State != store.LoanActive || l.ctx.Err() != nil
		if src != nil && !over {
			near, far := net.Pipe()
			l.work.Go(func() { usbip.ServeConn(l.ctx, far, src) }) //nolint:errcheck // the borrower sees the end
			l.mu.Unlock()
			return near, nil
		}
		l.mu.Unlock()
		if over {
			return nil, errors.New("there is no such loan, or it has ended")
		}
		select {
		case <-ctx.Done():
			return nil, errors.New("the lender does not get at the device's USB now")
		case <-changed:
		}
	}
}

// List is the device.
func (u *lentUSB) List() []usb.Info { return []usb.Info{u.info} }

// Claim reserves it for one importer.
func (u *lentUSB) Claim(busID string, _ net.Addr) (context.Context, usbip.Target, func(), error) {
	if busID != u.info.BusID {
		return nil, nil, nil, usb.ErrNotFound
	}
	if !u.claimed.TryLock() {
		return nil, nil, nil, usb.ErrBusy
	}
	ctx, cancel := whileThere(u)
	return ctx, usbip.PassOn(u), func() { cancel(); u.claimed.Unlock() }, nil
}

// whileThere is a context that ends once a device has gone. Its cancel waits.
func whileThere(d usb.Device) (context.Context, context.CancelFunc) {
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		select {
		case <-d.Gone():
			cancel()
		case <-ctx.Done():
		}
	}()
	return ctx, func() { cancel(); <-ended }
}

// offeredUSB is the USB of a borrowed device, as it is offered on this computer.
type offeredUSB struct {
	lend    *Lend
	loan    *loan
	info    usb.Info
	claimed sync.Mutex
}

// usbPort is that of USB/IP, as IANA has registered it.
const usbPort = "3240"

// loopbacks are the loopback addresses at which the USB of borrowed devices is offered, each at one of its own, since
// tools that import devices look at the port of USB/IP.
var loopbacks = func() (out []string) {
	for i := 2; i < 42; i++ {
		out = append(out, fmt.Sprintf("127.0.2.%d", i))
	}
	return out
}()

func listenLoopback() (l net.Listener, err error) {
	for _, address := range loopbacks {
		if l, err = net.Listen("tcp", net.JoinHostPort(address, usbPort)); err == nil {
			return l, nil
		}
	}
	return nil, fmt.Errorf("no loopback address is free for its USB: %w", err)
}

// offer offers the USB of a borrowed device until the loan ends.
func (l *Lend) offer(one *loan, t *taken) {
	ctx, cancel := context.WithCancel(l.ctx)
	l.mu.Lock()
	wanted := l.borrowed[one.of.ID] == t
	if wanted {
		t.end = cancel
	}
	l.mu.Unlock()
	defer cancel()
	for wanted && ctx.Err() == nil {
		err := l.offerOnce(ctx, one)
		if ctx.Err() != nil {
			break
		}
		l.warn(one, errors.Join(err, l.waits(ctx, one, "its USB is not offered on this computer: "+err.Error())))
		clock.Sleep(ctx, clock.System{}, tryAgain) //nolint:errcheck // it ends then
	}
}

// offerOnce learns what the device is, and answers importers until ctx ends.
func (l *Lend) offerOnce(ctx context.Context, one *loan) error {
	o := &offeredUSB{lend: l, loan: one}
	asking, done := context.WithTimeout(ctx, openWithin)
	defer done()
	all, err := usbip.Over(o.open).List(asking)
	if err == nil && len(all) != 1 {
		err = fmt.Errorf("its lender lists %d devices", len(all))
	}
	if err != nil {
		return err
	}
	o.info = all[0]
	listener, err := listenLoopback()
	if err != nil {
		return err
	}
	l.at(ctx, one, listener.Addr().String(), o.info.BusID)
	defer l.at(ctx, one, "", "")
	return usbip.Serve(ctx, ownListener{listener, l.cfg.Log}, o)
}

// at keeps where the USB of a borrowed device is offered.
func (l *Lend) at(ctx context.Context, one *loan, address, busID string) {
	l.mu.Lock()
	one.usbAt, one.usbID = address, busID
	l.mu.Unlock()
	l.warn(one, l.waits(ctx, one, ""))
	l.tell()
}

// open opens a stream to the exporter of the lender.
func (o *offeredUSB) open(ctx context.Context) (io.ReadWriteCloser, error) {
	return o.lend.open(ctx, o.loan.of.Peer, o.lend.record(o.loan).Far)
}

// List is the device.
func (o *offeredUSB) List() []usb.Info { return []usb.Info{o.info} }

// Claim imports it from the lender for one importer.
func (o *offeredUSB) Claim(busID string, _ net.Addr) (context.Context, usbip.Target, func(), error) {
	if busID != o.info.BusID {
		return nil, nil, nil, usb.ErrNotFound
	}
	if !o.claimed.TryLock() {
		return nil, nil, nil, usb.ErrBusy
	}
	ctx, cancel := context.WithTimeout(o.lend.ctx, openWithin)
	defer cancel()
	dev, err := usbip.Over(o.open).Open(ctx, busID)
	if err != nil {
		o.claimed.Unlock()
		o.lend.warn(o.loan, err)
		return nil, nil, nil, err
	}
	there, end := whileThere(dev)
	return there, usbip.PassOn(dev), func() {
		end()
		dev.Close()
		o.claimed.Unlock()
	}, nil
}

// USBOf is where the USB of a borrowed device is offered on this computer, and under which bus id; "" while it is not.
func (l *Lend) USBOf(id string) (address, busID string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if one := l.loans[id]; one != nil {
		return one.usbAt, one.usbID
	}
	return "", ""
}

// ownListener takes connections of this program's own user only, and of the system's administrator, who has a kernel
// import a device.
type ownListener struct {
	net.Listener
	log interface{ Info(string, ...any) }
}

func (l ownListener) Accept() (net.Conn, error) {
	for {
		c, err := l.Listener.Accept()
		if err != nil {
			return nil, err
		}
		user, err := userOf(c)
		if err == nil && slices.Contains(ownUsers(), user) {
			return c, nil
		}
		l.log.Info("somebody else's connection to borrowed USB is refused", "user", user, "error", err)
		c.Close()
	}
}
