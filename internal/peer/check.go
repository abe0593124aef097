package peer

import (
	"context"
	"errors"
	"fmt"
	"net"
	"time"

	"earlybench.invalid/earlybench/core/peer"
	"earlybench.invalid/earlybench/core/plain"
	"earlybench.invalid/earlybench/internal/store"
)

// Point is one layer between this bench and a peer, as it was found.
type Point struct {
	Name   string // name, route, jump, key, version, known, clock
	Wrong  string // what is wrong; "" if it holds
	Note   string // what was seen, where it holds
	Remedy string // what to do, where it does not
}

// mostSkew is how far the clocks of two benches may be apart. Loans do not depend on them; certificates and
// tokens do.
const mostSkew = 5 * time.Minute

// checkWithin bounds each layer.
const checkWithin = 15 * time.Second

// Check looks at each layer between this bench and a peer, from below, until one fails. A peer that connects to this
// bench is looked at by its connection alone.
func (p *Peers) Check(ctx context.Context, name string) ([]Point, error) {
	r, err := p.Find(name)
	if err != nil {
		return nil, err
	}
	c := &checked{peers: p, peer: r}
	if len(r.Addresses) > 0 {
		c.reach(ctx)
	}
	if c.wrong {
		return c.points, nil
	}
	return c.connection(ctx)
}

// checked is a check that goes on.
type checked struct {
	peers  *Peers
	peer   store.Peer
	points []Point
	wrong  bool
}

func (c *checked) holds(name, note string) {
	c.points = append(c.points, Point{Name: name, Note: note})
}

func (c *checked) fails(name, what, remedy string) {
	c.wrong = true
	c.points = append(c.points, Point{Name: name, Wrong: what, Remedy: remedy})
}

// reach looks whether the peer is reached at one of its addresses, and who is there.
func (c *checked) reach(ctx context.Context) {
	name := c.peer.Name
	if c.peer.Via == "" && !c.names(ctx) {
		return
	}
	connect, end, err := c.peers.route(ctx, c.peer.Via, c.peer.ViaKey)
	if err != nil {
		c.fails("jump", fmt.Sprintf("%s could not be passed: %s", c.peer.Via, line(err)), "Check that it is running, and lets this bench in.")
		return
	}
	defer end()
	if c.peer.Via != "" {
		c.holds("jump", c.peer.Via+" lets this bench through")
	}
	var last error
	for _, address := range c.peer.Addresses {
		connecting, cancel := context.WithTimeout(ctx, checkWithin)
		conn, err := connect(connecting, address)
		cancel()
		if err != nil {
			last = fmt.Errorf("%s: %w", address, err)
			continue
		}
		c.holds("route", address+" answers")
		c.who(ctx, conn)
		return
	}
	c.fails("route", "nobody answers: "+line(last), fmt.Sprintf("Check that the bench there runs with --peers, and that no firewall is in between. If its address has changed: earlybench peer set %s --at HOST:PORT", name))
}

// names looks whether the names of hosts are known.
func (c *checked) names(ctx context.Context) bool {
	for _, address := range c.peer.Addresses {
		host, _, err := net.SplitHostPort(address)
		if err != nil || net.ParseIP(host) != nil {
			continue
		}
		ctx, cancel := context.WithTimeout(ctx, checkWithin)
		all, err := net.DefaultResolver.LookupHost(ctx, host)
		cancel()
		if err != nil {
			c.fails("name", fmt.Sprintf("the name %s cannot be resolved: %s", host, line(err)), fmt.Sprintf("Use its IP address: earlybench peer set %s --at HOST:PORT", c.peer.Name))
			return false
		}
		c.holds("name", fmt.Sprintf("%s is %s", host, all[0]))
	}
	return true
}

// who looks at the one who answers: his key, his version, and whether he knows this bench.
func (c *checked) who(ctx context.Context, conn net.Conn) {
	l, err := peer.Dial(ctx, conn, c.peers.cfg.Key, func(key string) error {
		if key != c.peer.Key {
			return &OtherKey{Name: c.peer.Name, Known: c.peer.Key, Shown: key}
		}
		return nil
	}, c.peers)
	if other, is := errors.AsType[*OtherKey](err); is {
		c.fails("key", other.Error(), fmt.Sprintf("If that bench was set up again: earlybench peer drop %s, then add it again. If not, somebody else is answering there.", c.peer.Name))
		return
	}
	if err != nil {
		c.fails("key", "what answers there is not a bench: "+line(err), "Check that the address and port are those of --peers there.")
		return
	}
	defer l.Close()
	c.holds("key", "it has proven "+c.peer.Key)
	var h peer.Hello
	ctx, cancel := context.WithTimeout(ctx, checkWithin)
	defer cancel()
	switch err := l.Call(ctx, peer.MethodHello, c.peers.hello(), &h); {
	case err != nil:
		c.fails("version", "it does not identify itself: "+line(err), "See its log there.")
	case h.Version != peer.Version:
		c.fails("version", fmt.Sprintf("it speaks version %d of the protocol, and this bench version %d", h.Version, peer.Version), "Update the older of both.")
	default:
		c.holds("version", fmt.Sprintf("both speak version %d", peer.Version))
		if !h.Known {
			c.fails("known", "it no longer knows this bench", fmt.Sprintf("Ask its owner to invite this bench again; before that: earlybench peer drop %s", c.peer.Name))
			return
		}
		c.holds("known", "it knows this bench as a peer")
	}
}

// connection looks at the connection that there is.
func (c *checked) connection(ctx context.Context) ([]Point, error) {
	l, _, err := c.peers.Link(c.peer.Name)
	if err != nil {
		return nil, err
	}
	if l == nil {
		remedy := "The bench reconnects within half a minute."
		if len(c.peer.Addresses) == 0 {
			remedy = fmt.Sprintf("The other bench connects to this one: check that it is running. Or give its address: earlybench peer set %s --at HOST:PORT", c.peer.Name)
		}
		c.fails("connection", "there is none now", remedy)
		return c.points, nil
	}
	ctx, cancel := context.WithTimeout(ctx, checkWithin)
	defer cancel()
	began := time.Now()
	var h peer.Hello
	if err := l.Call(ctx, peer.MethodHello, c.peers.hello(), &h); err != nil {
		c.fails("connection", "no answer: "+line(err), "The bench reconnects within half a minute.")
		return c.points, nil
	}
	took := time.Since(began)
	by := "it has connected to this bench"
	if l.Began() {
		by = "this bench has connected to it"
	}
	c.holds("connection", fmt.Sprintf("%s; an answer takes %s", by, brief(took)))
	skew := h.At.Sub(c.peers.cfg.Clock.Now().Add(-took / 2))
	if skew.Abs() > mostSkew {
		c.fails("clock", fmt.Sprintf("its clock is %s %s", skew.Abs().Round(time.Second), map[bool]string{true: "ahead", false: "behind"}[skew > 0]), "Set the clock that is wrong. Loans are not affected, but certificates and tokens may be.")
		return c.points, nil
	}
	c.holds("clock", fmt.Sprintf("both clocks agree within %s", brief(max(skew.Abs(), took))))
	return c.points, nil
}

// brief is a short duration in milliseconds, with a tenth of one.
func brief(d time.Duration) string {
	return fmt.Sprintf("%.1f ms", float64(d)/float64(time.Millisecond))
}

func line(err error) string {
	if err == nil {
		return "no address is known"
	}
	return plain.Cut(plain.Line(err.Error()), 200)
}
