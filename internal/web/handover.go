package web

import (
	"context"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/core/authority"
	"earlybench.invalid/earlybench/core/plain"
	eb "earlybench.invalid/earlybench/core/problem"
)

// This file holds the page on which somebody without a bench names devices for a handover.

// mostHandover is how many devices a page of a handover takes.
const mostHandover = 50

// handover is what was named on the page of a handover; nil of another page. The lock is held.
func (p *phone) handover() *client.Handover {
	if p.app == "" {
		return nil
	}
	return &client.Handover{App: p.app, Devices: append([]client.HandoverDevice{}, p.devices...)}
}

// handed answers with what was named on the page of a handover that is served.
func (s *Server) handed(context.Context, *none) (*out[client.Handover], error) {
	p := s.phoneNow()
	if p == nil || p.app == "" {
		return nil, huma.Error404NotFound("No page of a handover is served.")
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	return &out[client.Handover]{*p.handover()}, nil
}

// hand takes a device on the page of a handover.
func (s *Server) hand(ctx context.Context, in *struct{ Body client.HandoverDevice }) (*out[client.Handover], error) {
	p := s.phoneNow()
	if p == nil || p.app == "" {
		return nil, huma.Error404NotFound("No page of a handover is served.")
	}
	d := client.HandoverDevice{Serial: strings.TrimSpace(in.Body.Serial), Model: plain.Line(strings.TrimSpace(in.Body.Model)), At: plain.Line(strings.TrimSpace(in.Body.At))}
	if err := authority.CheckSerial(d.Serial); err != nil {
		return nil, problem(eb.Errorf(eb.Invalid, "%w", err))
	}
	p.mu.Lock()
	known := slices.ContainsFunc(p.devices, func(o client.HandoverDevice) bool { return o.Serial == d.Serial })
	full := len(p.devices) >= mostHandover
	if !known && !full {
		p.devices = append(p.devices, d)
	}
	p.mu.Unlock()
	if full && !known {
		return nil, problem(eb.Errorf(eb.Refused, "%d devices are already named", mostHandover))
	}
	return s.handed(ctx, nil)
}
