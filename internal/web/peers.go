package web

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"earlybench.invalid/earlybench/client"
	core "earlybench.invalid/earlybench/core/peer"
	eb "earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/access"
	"earlybench.invalid/earlybench/internal/kits"
	"earlybench.invalid/earlybench/internal/peer"
	"earlybench.invalid/earlybench/internal/store"
)

// OfPeer names a peer. It is exported so that huma reads it where it is embedded.
type OfPeer struct {
	Name string `path:"name" maxLength:"60"`
}

func (s *Server) peerRoutes() {
	a := s.api
	huma.Register(a, operation(access.Look, "GET", "/peers", "peers", "The benches that this one knows"), func(_ context.Context, in *struct{ Select }) (*out[client.List[client.Peer]], error) {
		return peerList.of(in.Select, each(s.Peers.List(), s.peerOf))
	})
	huma.Register(a, operation(access.Maintain, "POST", "/peers", "add-peer", "Become a peer of the bench that invites"), s.addPeer)
	huma.Register(a, operation(access.Maintain, "PATCH", "/peers/{name}", "set-peer", "Change what a peer may do here, and its addresses"), s.setPeer)
	drop := operation(access.Maintain, "DELETE", "/peers/{name}", "drop-peer", "Forget a peer; its loans end")
	drop.DefaultStatus = http.StatusNoContent
	huma.Register(a, drop, func(ctx context.Context, in *OfPeer) (*struct{}, error) {
		return nil, problem(s.Peers.Drop(ctx, in.Name))
	})
	huma.Register(a, operation(access.Look, "GET", "/peers/{name}/check", "check-peer", "Check each layer between this bench and a peer"), s.checkPeer)
	huma.Register(a, operation(access.Maintain, "POST", "/invitations", "invite-peer", "Make an invitation that lets one other bench become a peer"), s.invite)
	huma.Register(a, operation(access.Look, "GET", "/peering", "peering", "The current introductions of benches"), func(context.Context, *none) (*out[client.Peering], error) {
		return s.peering(nil)
	})
	huma.Register(a, operation(access.Maintain, "POST", "/peering", "meet-peer", "Start an introduction to the bench at an address: it shows three words"), s.meetPeer)
	huma.Register(a, operation(access.Maintain, "POST", "/peering/words", "type-peer-words", "Submit the three words that the other bench shows"), func(_ context.Context, in *struct {
		Body struct {
			Words string `json:"words" maxLength:"200"`
		}
	}) (*out[client.Peering], error) {
		_, err := s.Peers.Type(in.Body.Words)
		return s.peering(err)
	})
	stop := operation(access.Maintain, "DELETE", "/peering", "stop-peering", "Cancel the introduction to another bench")
	stop.DefaultStatus = http.StatusNoContent
	huma.Register(a, stop, func(context.Context, *none) (*struct{}, error) { return nil, problem(s.Peers.StopMeeting()) })
	huma.Register(a, operation(access.Maintain, "POST", "/peering/answer", "answer-peer", "Answer a bench that wants to become a peer"), func(_ context.Context, in *struct{ Body client.PeerAnswer }) (*out[client.Peering], error) {
		return s.peering(s.Peers.Answer(in.Body.Key, in.Body.Accept))
	})
	huma.Register(a, operation(access.Look, "GET", "/far-devices", "far-devices", "The devices that peers offer"), func(_ context.Context, in *struct{ Select }) (*out[client.List[client.FarDevice]], error) {
		return farList.of(in.Select, s.farDevices())
	})
	s.loanRoutes()
}

func (s *Server) peerOf(p peer.Shown) client.Peer {
	out := client.Peer{Name: p.Name, Key: p.Key, Connected: p.Connected, Addresses: append([]string{}, p.Addresses...), Via: p.Via, May: p.Rights.All, Signs: p.Rights.Signs, Kits: append([]string{}, p.Rights.Kits...), Devices: map[string]string{},
		Skew: p.Skew.Milliseconds(), Added: p.Added.UTC()}
	for id, right := range p.Rights.Devices {
		if k := s.Rack.ByID(id); k != nil {
			out.Devices[k.Device().Handle] = right
		}
	}
	if p.Trouble != nil {
		out.Trouble = sentence(p.Trouble.Error())
	}
	return out
}

func (s *Server) peerOut(p peer.Shown, err error) (*out[client.Peer], error) {
	if err != nil {
		return nil, problem(err)
	}
	return &out[client.Peer]{s.peerOf(p)}, nil
}

func (s *Server) addPeer(ctx context.Context, in *struct{ Body client.NewPeer }) (*out[client.Peer], error) {
	i := in.Body.Invitation
	return s.peerOut(s.Peers.Add(ctx, core.Invitation{Version: i.Version, Bench: i.Bench, Key: i.Key, Addresses: i.Addresses, Secret: i.Secret, Ends: i.Ends}, in.Body.As))
}

func (s *Server) invite(ctx context.Context, in *struct{ Body client.NewInvitation }) (*out[client.Invitation], error) {
	i, err := s.Peers.Invite(ctx, store.PeerRights{All: in.Body.May}, time.Duration(in.Body.For)*time.Second, in.Body.Addresses)
	if err != nil {
		return nil, problem(err)
	}
	return &out[client.Invitation]{client.Invitation{Version: i.Version, Bench: i.Bench, Key: i.Key, Addresses: i.Addresses, Secret: i.Secret, Ends: i.Ends}}, nil
}

// setPeer changes a peer. Devices that are named must be there.
func (s *Server) setPeer(ctx context.Context, in *struct {
	OfPeer
	Body client.PeerChange
}) (*out[client.Peer], error) {
	rights := map[string]string{}
	for handle, right := range in.Body.Devices {
		k, err := s.Rack.Find(handle)
		if err != nil {
			return nil, problem(err)
		}
		if right != "look" && right != "use" && right != store.RightHands && right != "nothing" && right != "as the others" {
			return nil, problem(eb.Errorf(eb.Invalid, "right %.20q is invalid: use look, use, hands, nothing, or as the others", right))
		}
		rights[k.Device().ID] = right
	}
	kits, err := s.kitsFor(in.Body.Kits)
	if err != nil {
		return nil, problem(err)
	}
	if in.Body.Addresses != nil {
		if _, err := s.Peers.Move(ctx, in.Name, in.Body.Addresses); err != nil {
			return nil, problem(err)
		}
	}
	return s.peerOut(s.Peers.Set(ctx, in.Name, func(r *store.PeerRights) {
		if in.Body.May != nil {
			r.All = *in.Body.May
			if r.All == "nothing" {
				r.All = ""
			}
		}
		if in.Body.Signs != nil {
			r.Signs = *in.Body.Signs
		}
		if in.Body.Kits != nil {
			r.Kits = kits
		}
		for id, right := range rights {
			if r.Devices == nil {
				r.Devices = map[string]string{}
			}
			if r.Devices[id] = right; right == "as the others" {
				delete(r.Devices, id)
			}
		}
	}))
}

// kitsFor are the kits that a peer may have, of which each must be known here; nil for no change.
func (s *Server) kitsFor(names *[]string) ([]string, error) {
	if names == nil {
		return nil, nil
	}
	all := s.Kits.All()
	for _, n := range *names {
		if !slices.ContainsFunc(all, func(k kits.Kit) bool { return k.Name == n && k.Description != nil }) {
			return nil, &eb.Problem{Kind: eb.NotFound, Text: fmt.Sprintf("No kit %.60q is described here.", n), Remedy: "See which are: earlybench kit"}
		}
	}
	return slices.Compact(slices.Sorted(slices.Values(*names))), nil
}

func (s *Server) checkPeer(ctx context.Context, in *OfPeer) (*out[client.PeerCheck], error) {
	all, err := s.Peers.Check(ctx, in.Name)
	if err != nil {
		return nil, problem(err)
	}
	if all[len(all)-1].Wrong == "" { // the layers below hold
		signers, err := s.Signing.Check(ctx, in.Name)
		if err != nil {
			return nil, problem(err)
		}
		all = append(append(all, signers...), s.KitFetch.Check(ctx, in.Name)...)
	}
	return &out[client.PeerCheck]{client.PeerCheck{Points: each(all, func(p peer.Point) client.PeerPoint { return client.PeerPoint(p) })}}, nil
}

func (s *Server) meetPeer(ctx context.Context, in *struct{ Body client.NewMeeting }) (*out[client.Peering], error) {
	m := in.Body
	if m.Via != "" && m.ViaKey == "" {
		key, err := s.Peers.Look(ctx, m.Via)
		if err != nil {
			return nil, problem(err)
		}
		return nil, problem(&eb.Problem{Kind: eb.Person, Text: "The SSH server " + m.Via + " shows the key " + key + ". Compare it with the one that its owner states.", Remedy: "If it matches, accept it: --via-key " + key})
	}
	_, err := s.Peers.Meet(ctx, m.Address, m.Via, m.ViaKey, m.As)
	return s.peering(err)
}

// peering is how the introductions are, unless something went wrong.
func (s *Server) peering(err error) (*out[client.Peering], error) {
	if err != nil {
		return nil, problem(err)
	}
	p := client.Peering{Listens: s.Peers.Address()}
	if m, err := s.Peers.Meeting(); err == nil {
		p.Meeting = &client.PeerMeeting{Name: m.Name, Key: m.Key, State: string(m.State), Until: m.Until.UTC()}
		if m.Trouble != nil {
			p.Meeting.Why = sentence(m.Trouble.Error())
		}
	}
	if a, ok := s.Peers.Asking(); ok {
		p.Asking = &client.AskingBench{Name: a.Name, Key: a.Key, Words: a.Words, Typed: a.Typed, Until: a.Until.UTC()}
	}
	return &out[client.Peering]{p}, nil
}

func (s *Server) farDevices() []client.FarDevice {
	out := []client.FarDevice{}
	for _, f := range s.Lend.Far() {
		passed := int64(s.Clock.Now().Sub(f.Seen) / time.Second)
		for _, d := range f.Devices {
			out = append(out, client.FarDevice{Peer: f.Peer, Connected: f.Connected, Handle: d.Handle, Family: d.Family, Maker: d.Maker, Model: d.Model, Release: d.Release, May: d.Rights, Hands: d.Hands, Summary: d.Summary,
				State: string(d.State), Left: max(0, int64(d.Seconds)-passed), Waiting: d.Waiting})
		}
	}
	return out
}
