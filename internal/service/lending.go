package service

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"time"

	"earlybench.invalid/earlybench/core/device"
	core "earlybench.invalid/earlybench/core/peer"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/kitfetch"
	"earlybench.invalid/earlybench/internal/lend"
	"earlybench.invalid/earlybench/internal/rawusb"
	"earlybench.invalid/earlybench/internal/reserve"
	"earlybench.invalid/earlybench/internal/signing"
	"earlybench.invalid/earlybench/internal/store"
)

// borrowers does for peers what they may have done: lending, signing, and giving kits. It is there before these are.
type borrowers struct{ in *Insides }

func (b borrowers) Call(ctx context.Context, from store.Peer, method string, params json.RawMessage, notify func(string, any) error) (any, error) {
	if signing.Handles(method) {
		return b.in.Signing.Call(ctx, from, method, params)
	}
	if kitfetch.Handles(method) {
		return b.in.KitFetch.Call(ctx, from, method, params)
	}
	return b.in.Lend.Call(ctx, from, method, params, notify)
}

func (b borrowers) Stream(ctx context.Context, from store.Peer, to json.RawMessage) (func(context.Context, io.ReadWriteCloser), error) {
	return b.in.Lend.Stream(ctx, from, to)
}

func (b borrowers) File(ctx context.Context, from store.Peer, ref core.FileRef) (io.ReadCloser, error) {
	if kitfetch.Is(ref) {
		return b.in.KitFetch.File(ctx, from, ref)
	}
	return b.in.Signing.File(ctx, from, ref)
}

// borrowing borrows devices of peers for reservations.
type borrowing struct{ lend *lend.Lend }

// Free are the devices that peers would lend for use.
func (b borrowing) Free() (out []reserve.Far) {
	for _, f := range b.lend.Far() {
		for _, d := range f.Devices {
			if f.Connected && d.State == core.Free && d.Rights == string(device.RightsUse) && d.Waiting == 0 {
				out = append(out, reserve.Far{Peer: f.Peer, Device: d})
			}
		}
	}
	return out
}

// Borrow asks a peer for a device.
func (b borrowing) Borrow(ctx context.Context, f reserve.Far, long, lapse time.Duration) (store.Loan, error) {
	return b.lend.Borrow(ctx, f.Peer, f.Device.Handle, string(device.RightsUse), long, lapse)
}

// Loan is a loan as it is now.
func (b borrowing) Loan(ctx context.Context, id string) (store.Loan, error) {
	return b.lend.Loan(ctx, id)
}

// Return gives a device back.
func (b borrowing) Return(ctx context.Context, id string) error {
	_, err := b.lend.Return(ctx, id)
	return err
}

// takeUSB takes the USB of a device from whoever has it here, for somebody to whom it is lent.
func (in *Insides) takeUSB(ctx context.Context, k *keeper.Keeper, by string) (rawusb.Taken, error) {
	for _, w := range k.Ways() {
		if !w.Cabled() {
			continue
		}
		bus, _ := in.Hosts.Bus(w.Place.Host)
		for _, d := range bus.Devices {
			if d.Port == w.Place.Port {
				dev, release, err := in.Hosts.Take(ctx, w.Place.Host, d.BusID, by)
				return rawusb.Taken{Device: dev, BusID: d.BusID, Release: release}, err
			}
		}
	}
	return rawusb.Taken{}, errors.New("it is not connected by a cable")
}
