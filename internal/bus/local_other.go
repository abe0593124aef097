//go:build !linux || !(amd64 || arm64)

package bus

import (
	"context"

	"earlybench.invalid/earlybench/core/hostlink"
	"earlybench.invalid/earlybench/core/usb"
)

// local is this computer's USB, of which nothing is seen on this system.
type local struct{}

func newLocal(Local) *local { return &local{} }

func (*local) follow(ctx context.Context, _ func(hostlink.Bus), trouble func(error)) {
	trouble(ErrNoAccess)
	<-ctx.Done()
}

func (*local) Open(context.Context, string) (usb.Device, error) { return nil, ErrNoAccess }
