package cable

import (
	"context"
	"errors"
	"time"

	"earlybench.invalid/earlybench/core/usb"
)

// resetWithin bounds resetting a port.
const resetWithin = 5 * time.Second

// errRestart ends an attempt to link for the sake of a restart.
var errRestart = errors.New("the link is restarted")

// RestartLink ends the link and resets the port of the device. Nothing else on the bus
// notices.
func (w *Way) RestartLink(ctx context.Context) error {
	done := make(chan error, 1)
	w.mu.Lock()
	w.wanted = append(w.wanted, done)
	if w.attempt != nil {
		w.attempt(errRestart)
	}
	w.mu.Unlock()
	select {
	case err := <-done:
		return err
	case <-w.ended:
		return usb.ErrGone
	case <-ctx.Done():
		return context.Cause(ctx)
	}
}

// begin makes the context of an attempt to link, which a restart ends.
func (w *Way) begin(ctx context.Context) (context.Context, func()) {
	ctx, cancel := context.WithCancelCause(ctx)
	w.mu.Lock()
	defer w.mu.Unlock()
	w.attempt = cancel
	if len(w.wanted) > 0 {
		cancel(errRestart)
	}
	return ctx, func() {
		w.mu.Lock()
		w.attempt = nil
		w.mu.Unlock()
		cancel(nil)
	}
}

func (w *Way) restartWanted() bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	return len(w.wanted) > 0
}

// restarted tells all who wait for a restart how it went.
func (w *Way) restarted(err error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, done := range w.wanted {
		done <- err
	}
	w.wanted = nil
}

// reset resets the device's port.
func (r *run) reset(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, resetWithin)
	defer cancel()
	dev, err := r.take(ctx)
	if err != nil {
		return trouble(err)
	}
	defer r.letGo(dev)
	return usb.Reset(ctx, dev)
}
