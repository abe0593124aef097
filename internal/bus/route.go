package bus

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/jump"
	"earlybench.invalid/earlybench/internal/store"
)

// route is how a host's addresses are reached: directly, by a Unix socket, or inside one SSH
// connection (RFC 4254, 7.2) to a server whose key the owner has accepted.
type route struct {
	host store.Host
	key  ssh.Signer // the bench's, by which the server knows it

	watching sync.WaitGroup

	mu     sync.Mutex
	client *ssh.Client
	closed bool
}

const (
	dialWithin = 5 * time.Second
	aliveEvery = 15 * time.Second
)

// unixPrefix marks the address of a Unix socket.
const unixPrefix = "unix:"

// network splits an address.
func network(address string) (network, at string) {
	if path, ok := strings.CutPrefix(address, unixPrefix); ok {
		return "unix", path
	}
	return "tcp", address
}

// dial connects to one of the host's addresses.
func (r *route) dial(ctx context.Context, address string) (net.Conn, error) {
	kind, at := network(address)
	if r.host.SSH == "" {
		d := net.Dialer{Timeout: dialWithin}
		return d.DialContext(ctx, kind, at)
	}
	c, err := r.connected(ctx)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, dialWithin)
	defer cancel()
	conn, err := c.DialContext(ctx, kind, at)
	if err != nil {
		return nil, fmt.Errorf("reach %s over there: %w", address, err)
	}
	return &timed{Conn: conn}, nil
}

// connected returns the SSH connection, which is made where there is none.
func (r *route) connected(ctx context.Context) (*ssh.Client, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	switch {
	case r.closed:
		return nil, net.ErrClosed
	case r.client != nil:
		return r.client, nil
	}
	c, err := jump.Dial(ctx, r.host.SSH, r.key, func(fingerprint string) error {
		if fingerprint == r.host.SSHKey {
			return nil
		}
		return &problem.Problem{Kind: problem.Refused, Text: fmt.Sprintf("%s shows another key than the accepted one: %s, not %s.", r.host.SSH, fingerprint, r.host.SSHKey),
			Remedy: fmt.Sprintf("If it was set up anew, drop the host and add it again: earlybench host drop %s", r.host.Name)}
	})
	if err != nil {
		return nil, err
	}
	r.client = c
	r.watching.Go(func() { // ends with the connection, which close ends
		r.alive(c)
		c.Close()
		r.mu.Lock()
		if r.client == c {
			r.client = nil
		}
		r.mu.Unlock()
	})
	return c, nil
}

// close ends the SSH connection, and makes no other.
func (r *route) close() {
	r.mu.Lock()
	c := r.client
	r.client, r.closed = nil, true
	r.mu.Unlock()
	if c != nil {
		c.Close()
	}
	r.watching.Wait()
}

// private reports whether nobody else can be at the other end: the owner has accepted its
// key, or it is on this computer.
func (r *route) private() bool {
	if r.host.SSH != "" {
		return true
	}
	kind, at := network(r.host.USBIP)
	if kind == "unix" {
		return true
	}
	name, _, err := net.SplitHostPort(at)
	ip := net.ParseIP(name)
	return err == nil && (name == "localhost" || ip != nil && ip.IsLoopback())
}

// alive returns once the server does not answer any more.
func (r *route) alive(c *ssh.Client) {
	tick := time.NewTicker(aliveEvery)
	defer tick.Stop()
	ended := make(chan struct{})
	r.watching.Go(func() {
		c.Wait() //nolint:errcheck // what uses it says why it ended
		close(ended)
	})
	for {
		select {
		case <-ended:
			return
		case <-tick.C:
		}
		answered := make(chan error, 1)
		r.watching.Go(func() {
			_, _, err := c.SendRequest("keepalive@earlybench.invalid", true, nil)
			answered <- err
		})
		select {
		case <-ended:
			return
		case err := <-answered: // a refusal is an answer too
			if err != nil {
				return
			}
		case <-time.After(aliveEvery):
			return
		}
	}
}

// timed is a connection inside SSH, which has no deadlines of its own: it is closed when one
// has passed.
type timed struct {
	net.Conn
	mu          sync.Mutex
	read, write *time.Timer
}

func (c *timed) SetDeadline(t time.Time) error {
	return errors.Join(c.SetReadDeadline(t), c.SetWriteDeadline(t))
}

func (c *timed) SetReadDeadline(t time.Time) error  { return c.set(&c.read, t) }
func (c *timed) SetWriteDeadline(t time.Time) error { return c.set(&c.write, t) }

func (c *timed) set(timer **time.Timer, t time.Time) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if *timer != nil {
		(*timer).Stop()
		*timer = nil
	}
	if !t.IsZero() {
		*timer = time.AfterFunc(time.Until(t), func() { c.Conn.Close() })
	}
	return nil
}

func (c *timed) Close() error {
	c.SetDeadline(time.Time{}) //nolint:errcheck // it only stops timers
	return c.Conn.Close()
}

// LookSSH returns the fingerprint of an SSH server's key. The bench does not sign in.
func (h *Hosts) LookSSH(ctx context.Context, address string) (fingerprint string, err error) {
	return jump.Look(ctx, address, h.key)
}
