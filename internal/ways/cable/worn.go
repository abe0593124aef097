package cable

import (
	"context"
	"errors"

	"earlybench.invalid/earlybench/core/usb"
)

// counted is a device whose transfers that fail on the wire are counted.
type counted struct {
	usb.Device
	failed func()
}

func (d *counted) look(err error) {
	if errors.Is(err, usb.ErrWire) {
		d.failed()
	}
}

func (d *counted) Control(ctx context.Context, s usb.Setup, data []byte) ([]byte, error) {
	out, err := d.Device.Control(ctx, s, data)
	d.look(err)
	return out, err
}

func (d *counted) SubmitIn(endpoint uint8, p []byte) (usb.Transfer, error) {
	t, err := d.Device.SubmitIn(endpoint, p)
	return d.transfer(t, err)
}

func (d *counted) SubmitOut(endpoint uint8, data []byte) (usb.Transfer, error) {
	t, err := d.Device.SubmitOut(endpoint, data)
	return d.transfer(t, err)
}

func (d *counted) transfer(t usb.Transfer, err error) (usb.Transfer, error) {
	d.look(err)
	if err != nil {
		return nil, err
	}
	return &countedTransfer{t, d}, nil
}

type countedTransfer struct {
	usb.Transfer
	device *counted
}

func (t *countedTransfer) Wait(ctx context.Context) ([]byte, int, error) {
	data, n, err := t.Transfer.Wait(ctx)
	t.device.look(err)
	return data, n, err
}

// wireFailed notes that a transfer failed on the wire.
func (r *run) wireFailed() {
	r.cables.fail(r.id)
	select {
	case r.failed <- struct{}{}:
	default: // it is told already
	}
}
