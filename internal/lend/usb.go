package lend

import (
	"context"
	"errors"
	"io"
	"time"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/rawusb"
	"earlybench.invalid/earlybench/internal/store"
)

// This file holds exclusive loans: of the USB of a device itself, for the kernel and tools of the borrower's
// computer.

// BorrowUSB asks a peer for the USB of a device.
func (l *Lend) BorrowUSB(ctx context.Context, peer, handle string, long time.Duration) (store.Loan, error) {
	if !rawusb.Supported {
		return store.Loan{}, problem.Errorf(problem.Unsupported, "this system cannot tell which user connects to a loopback address, so a device cannot be borrowed with its USB")
	}
	return l.borrow(ctx, store.Loan{Peer: peer, Handle: handle, Rights: string(device.RightsUse), Exclusive: true}, long)
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
	lent, err := l.lendUSB(ctx, k, one)
	if err != nil {
		return errors.Join(err, l.waits(ctx, one, "its lender cannot use its USB now: "+err.Error()))
	}
	l.mu.Lock()
	active := one.State == store.LoanActive && l.ctx.Err() == nil
	if active {
		one.usb = lent
	}
	l.mu.Unlock()
	if !active {
		lent.Release()
		return nil
	}
	l.tell() // its borrower waits for it
	return l.waits(ctx, one, "")
}

func (l *Lend) lendUSB(ctx context.Context, k *keeper.Keeper, one *loan) (*rawusb.Lent, error) {
	took, err := l.cfg.TakeUSB(ctx, k, one.of.Peer)
	if err != nil {
		return nil, err
	}
	lent, err := rawusb.Lend(ctx, took, k.Device().Handle)
	if err != nil {
		took.Release()
	}
	return lent, err
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
		lent := one.usb
		over := one.State != store.LoanActive || l.ctx.Err() != nil
		if lent != nil && !over {
			stream, serve := lent.Stream(l.ctx)
			l.work.Go(serve)
			l.mu.Unlock()
			return stream, nil
		}
		l.mu.Unlock()
		if over {
			return nil, errors.New("there is no such loan, or it has ended")
		}
		select {
		case <-ctx.Done():
			return nil, errors.New("the lender cannot use the device's USB now")
		case <-changed:
		}
	}
}

// offer offers the USB of a borrowed device on this computer until the loan ends.
func (l *Lend) offer(one *loan, t *taken) {
	ctx, cancel := context.WithCancel(l.ctx)
	defer cancel()
	l.mu.Lock()
	wanted := l.borrowed[one.of.ID] == t
	if wanted {
		t.end = cancel
	}
	l.mu.Unlock()
	open := func(ctx context.Context) (io.ReadWriteCloser, error) {
		return l.open(ctx, one.of.Peer, l.record(one).Far)
	}
	for wanted && ctx.Err() == nil {
		err := rawusb.Offer(ctx, open, l.cfg.Log, func(address, busID string) { l.at(ctx, one, address, busID) })
		l.at(ctx, one, "", "")
		if ctx.Err() != nil {
			return
		}
		l.warn(one, errors.Join(err, l.waits(ctx, one, "its USB is not offered on this computer: "+err.Error())))
		clock.Sleep(ctx, clock.System{}, tryAgain) //nolint:errcheck // it ends then
	}
}

// at keeps where the USB of a borrowed device is offered.
func (l *Lend) at(ctx context.Context, one *loan, address, busID string) {
	l.mu.Lock()
	one.usbAt, one.usbID = address, busID
	l.mu.Unlock()
	if address != "" {
		l.warn(one, l.waits(ctx, one, ""))
	}
	l.tell()
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
