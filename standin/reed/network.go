package reed

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"sync"

	"earlybench.invalid/earlybench/core/dnssd"
)

// ServiceType is as what a board on the network announces itself.
const ServiceType = "_reed._tcp"

// Network is a board on the network. It is made by OnNetwork, and ends with Close.
type Network struct {
	listener  net.Listener
	responder *dnssd.Responder
	end       context.CancelFunc
	work      sync.WaitGroup
}

// OnNetwork has a board announce itself at a group, and serves whoever connects, one after the other. The zero
// group is the standard's.
func OnNetwork(cfg Config, group netip.AddrPort) (*Network, error) {
	l, err := net.Listen("tcp", ":0")
	if err != nil {
		return nil, fmt.Errorf("listen for adapters: %w", err)
	}
	wire, err := dnssd.Listen(group)
	if err != nil {
		return nil, errors.Join(fmt.Errorf("announce the board: %w", err), l.Close())
	}
	n := &Network{listener: l, responder: dnssd.Respond(wire)}
	if _, err := n.responder.Publish(dnssd.Service{Instance: "reed " + cfg.Serial, Type: ServiceType, Host: "reed-" + cfg.Serial, Port: uint16(n.Port()), Text: map[string]string{"model": cfg.Model}}); err != nil {
		return nil, errors.Join(err, n.responder.Close(), l.Close())
	}
	var ctx context.Context
	ctx, n.end = context.WithCancel(context.Background())
	n.work.Go(func() { n.serve(ctx, cfg) })
	return n, nil
}

// Port is the TCP port at which it is reached.
func (n *Network) Port() int { return n.listener.Addr().(*net.TCPAddr).Port }

func (n *Network) serve(ctx context.Context, cfg Config) {
	for {
		c, err := n.listener.Accept()
		if err != nil {
			return
		}
		end := context.AfterFunc(ctx, func() { c.Close() })
		Serve(ctx, c, cfg) //nolint:errcheck // whoever is connected sees it end
		end()
		c.Close()
	}
}

// Close takes the board away: it says goodbye, and ends its connection.
func (n *Network) Close() error {
	err := errors.Join(n.responder.Close(), n.listener.Close())
	n.end()
	n.work.Wait()
	return err
}
