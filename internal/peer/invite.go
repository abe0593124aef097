package peer

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strconv"
	"time"

	"earlybench.invalid/earlybench/core/peer"
	"earlybench.invalid/earlybench/core/plain"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/core/rpc"
	"earlybench.invalid/earlybench/internal/store"
)

// LongestInvitation is how long an invitation may be valid.
const LongestInvitation = 30 * 24 * time.Hour

// Invite makes an invitation by which one other bench becomes a peer with rights. addresses are those at which that
// reaches this bench; with none, those of this computer.
func (p *Peers) Invite(ctx context.Context, rights store.PeerRights, good time.Duration, addresses []string) (peer.Invitation, error) {
	if p.listener == nil {
		return peer.Invitation{}, notListening()
	}
	if good <= 0 || good > LongestInvitation {
		return peer.Invitation{}, problem.Errorf(problem.Invalid, "an invitation is good for up to %d days", LongestInvitation/(24*time.Hour))
	}
	if len(addresses) == 0 {
		addresses = reachable(p.listener.Addr().(*net.TCPAddr).AddrPort())
	}
	for _, a := range addresses {
		if err := peer.CheckAddress(a); err != nil {
			return peer.Invitation{}, problem.Errorf(problem.Invalid, "%w", err)
		}
	}
	now := p.cfg.Clock.Now().UTC().Truncate(time.Second)
	i := peer.Invitation{Version: peer.Version, Bench: p.cfg.Bench(), Key: p.fingerprint(), Addresses: addresses, Secret: peer.NewSecret(), Ends: now.Add(good)}
	return i, p.cfg.Records.Invite(ctx, store.Invitation{Digest: digest(i.Secret), Rights: rights, Made: now, Ends: i.Ends})
}

func notListening() error {
	return &problem.Problem{Kind: problem.Blocked, Text: "This bench does not accept connections from other benches.", Remedy: "Start it with an address where they can reach it: earlybench serve --peers HOST:PORT"}
}

func digest(secret []byte) string {
	sum := sha256.Sum256(secret)
	return hex.EncodeToString(sum[:])
}

// reachable are the addresses at which a listener on this computer is reached from others; loopback only where it
// listens there alone.
func reachable(at netip.AddrPort) []string {
	port := strconv.Itoa(int(at.Port()))
	if !at.Addr().IsUnspecified() {
		return []string{at.String()}
	}
	var out []string
	all, _ := net.InterfaceAddrs() // without one the person names an address
	for _, a := range all {
		n, ok := a.(*net.IPNet)
		if ok && !n.IP.IsLoopback() && !n.IP.IsLinkLocalUnicast() {
			out = append(out, net.JoinHostPort(n.IP.String(), port))
		}
	}
	if len(out) == 0 {
		out = []string{net.JoinHostPort("127.0.0.1", port)}
	}
	return out[:min(len(out), 8)]
}

// Add makes this bench a peer of another one with an invitation. as is the name of the peer here; "" for what it
// calls itself.
func (p *Peers) Add(ctx context.Context, i peer.Invitation, as string) (Shown, error) {
	if i.Key == p.fingerprint() {
		return Shown{}, problem.Errorf(problem.Invalid, "this invitation was made by this bench: give it to the owner of another one")
	}
	if now, is := p.ByKey(i.Key); is {
		return Shown{}, problem.Errorf(problem.Taken, "that bench is already a peer: %s", now.Name)
	}
	if err := p.mayCall(as); err != nil {
		return Shown{}, err
	}
	ctx, cancel := context.WithTimeout(ctx, callWithin)
	defer cancel()
	l, end, err := p.dial(ctx, i.Addresses, "", "", func(key string) error {
		if key != i.Key {
			return &OtherKey{Name: plain.Cut(plain.Line(i.Bench), 60), Known: i.Key, Shown: key}
		}
		return nil
	})
	if err != nil {
		return Shown{}, problem.Errorf(problem.Unavailable, "reach the bench that invites: %w", err)
	}
	defer end()
	defer l.Close()
	var h peer.Hello
	err = l.Call(ctx, peer.MethodInvitation, peer.UseInvitation{Secret: i.Secret, Name: p.cfg.Bench()}, &h)
	if e, ok := errors.AsType[*rpc.Error](err); ok {
		return Shown{}, &problem.Problem{Kind: problem.Refused, Text: "The other bench refuses: " + plain.Cut(plain.Line(e.Message), 300) + ".", Remedy: "Ask its owner for a new one: earlybench peer invite"}
	}
	if err != nil {
		return Shown{}, fmt.Errorf("use the invitation: %w", err)
	}
	return p.keep(ctx, h.Name, as, l.Key(), i.Addresses, "", "")
}

// mayCall reports whether a peer may have a name; "" leaves it open.
func (p *Peers) mayCall(as string) error {
	if as == "" {
		return nil
	}
	if p.free(as) != as {
		return problem.Errorf(problem.Invalid, "peer name %.60q is taken or invalid: start with a lower-case letter, then use up to 35 letters, digits or hyphens", as)
	}
	return nil
}

// keep puts a peer on record whom this bench has found.
func (p *Peers) keep(ctx context.Context, claimed, as, key string, addresses []string, via, viaKey string) (Shown, error) {
	if as == "" {
		as = p.free(claimed)
	}
	r := store.Peer{Name: as, Key: key, Addresses: slices.Clone(addresses), Via: via, ViaKey: viaKey, Added: p.cfg.Clock.Now().UTC()}
	if err := p.cfg.Records.AddPeer(ctx, r, ""); err != nil {
		return Shown{}, fmt.Errorf("keep the peer: %w", err)
	}
	k := p.begin(r)
	p.tell()
	p.mu.Lock()
	defer p.mu.Unlock()
	return k.shown(), nil
}

// visitor answers a bench that is not a peer.
func (p *Peers) visitor(ctx context.Context, l *peer.Link, method string, params json.RawMessage) (any, error) {
	switch method {
	case peer.MethodInvitation:
		return p.invited(ctx, l, params)
	case peer.MethodHello:
		return p.hello(), nil
	}
	return nil, rpc.Errorf(rpc.CodeRefused, "this bench does not know you: become its peer with an invitation or an introduction")
}

// invited accepts an invitation from a visitor, which is then a peer.
func (p *Peers) invited(ctx context.Context, l *peer.Link, params json.RawMessage) (any, error) {
	u, err := rpc.Decode[peer.UseInvitation](params)
	if err != nil {
		return nil, err
	}
	i, err := p.cfg.Records.Invitation(ctx, digest(u.Secret))
	if errors.Is(err, store.ErrNotFound) || err == nil && !p.cfg.Clock.Now().Before(i.Ends) {
		return nil, rpc.Errorf(rpc.CodeRefused, "the invitation was already used, or has expired")
	}
	if err != nil {
		return nil, rpc.Errorf(rpc.CodeFailed, "the invitation cannot be checked now")
	}
	if err := p.admit(ctx, l, u.Name, i.Rights, i.Digest); err != nil {
		p.cfg.Log.Error("keep a peer that was invited", "error", err)
		return nil, rpc.Errorf(rpc.CodeFailed, "the invitation cannot be used now")
	}
	return p.hello(), nil
}

// admit puts a bench on record that has connected to this one.
func (p *Peers) admit(ctx context.Context, l *peer.Link, claimed string, rights store.PeerRights, used string) error {
	if _, is := p.ByKey(l.Key()); is {
		return nil
	}
	r := store.Peer{Name: p.free(claimed), Key: l.Key(), Rights: rights, Added: p.cfg.Clock.Now().UTC()}
	if err := p.cfg.Records.AddPeer(ctx, r, used); err != nil {
		return err
	}
	p.begin(r)
	p.tell()
	return nil
}
