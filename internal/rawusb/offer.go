package rawusb

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net"
	"slices"
	"time"

	"earlybench.invalid/earlybench/core/usbip"
)

// port is that of USB/IP, as IANA has registered it.
const port = "3240"

// loopbacks are the loopback addresses at which devices are offered, each at one of its own, since tools that import
// devices look at the port of USB/IP.
const (
	firstLoopback = 2 // 127.0.2.2
	lastLoopback  = 41
)

const openWithin = 20 * time.Second

// Offer offers a device whose exporter is reached over streams on a loopback address of this computer, to its own user
// and the administrator, until ctx ends. told hears where, and under which bus id.
func Offer(ctx context.Context, open func(context.Context) (io.ReadWriteCloser, error), log *slog.Logger, told func(address, busID string)) error {
	o := &offered{ctx: ctx, exporter: usbip.Over(open), log: log}
	asking, done := context.WithTimeout(ctx, openWithin)
	defer done()
	all, err := o.exporter.List(asking)
	if err == nil && len(all) != 1 {
		err = fmt.Errorf("its lender lists %d devices", len(all))
	}
	if err != nil {
		return err
	}
	o.info = all[0]
	l, err := listen()
	if err != nil {
		return err
	}
	told(l.Addr().String(), o.info.BusID)
	return usbip.Serve(ctx, ownListener{l, log}, o)
}

func listen() (l net.Listener, err error) {
	for n := firstLoopback; n <= lastLoopback; n++ {
		if l, err = net.Listen("tcp", net.JoinHostPort(fmt.Sprintf("127.0.2.%d", n), port)); err == nil {
			return l, nil
		}
	}
	return nil, fmt.Errorf("there is no free loopback address for its USB: %w", err)
}

// offered is a device that is offered on this computer.
type offered struct {
	ctx      context.Context
	exporter *usbip.Remote
	log      *slog.Logger
	only
}

// Claim imports it from where it is, for one importer here.
func (o *offered) Claim(busID string, _ net.Addr) (context.Context, usbip.Target, func(), error) {
	if err := o.claim(busID); err != nil {
		return nil, nil, nil, err
	}
	ctx, cancel := context.WithTimeout(o.ctx, openWithin)
	defer cancel()
	dev, err := o.exporter.Open(ctx, busID)
	if err != nil {
		o.claimed.Unlock()
		o.log.Warn("import borrowed USB", "device", busID, "error", err)
		return nil, nil, nil, err
	}
	there, end := whileThere(dev)
	return there, usbip.PassOn(dev), func() {
		end()
		dev.Close()
		o.claimed.Unlock()
	}, nil
}

// ownListener takes connections of this program's own user only, and of the system's administrator, who has a kernel
// import a device.
type ownListener struct {
	net.Listener
	log *slog.Logger
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
