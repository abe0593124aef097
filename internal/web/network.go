package web

import (
	"context"
	"errors"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/internal/access"
	"earlybench.invalid/earlybench/internal/network"
)

func (s *Server) networkRoutes() {
	a := s.api
	huma.Register(a, operation(access.Look, "GET", "/network", "network", "What is heard on the network, and the addresses that were given"), func(_ context.Context, in *struct{ Select }) (*out[client.List[client.NetworkEntry]], error) {
		return networkList.of(in.Select, each(s.Network.List(), entryOf))
	})
	huma.Register(a, operation(access.Maintain, "POST", "/network", "add-address", "Give the address of a device"), func(ctx context.Context, in *struct {
		Body struct {
			Address string `json:"address" maxLength:"255" doc:"host and port"`
		}
	}) (*out[client.NetworkEntry], error) {
		e, err := s.Network.Add(ctx, in.Body.Address)
		if err != nil {
			return nil, problem(err)
		}
		return &out[client.NetworkEntry]{entryOf(e)}, nil
	})
	huma.Register(a, operation(access.Maintain, "DELETE", "/network/{name}", "drop-address", "Forget an address"), func(ctx context.Context, in *struct {
		Name string `path:"name" maxLength:"255"`
	}) (*struct{}, error) {
		return nil, problem(s.Network.Drop(ctx, in.Name))
	})
	huma.Register(a, operation(access.Look, "GET", "/introduction", "introduction", "The introduction that goes on, or the last one"), func(context.Context, *none) (*out[client.Introduction], error) {
		return s.introductionOf(s.Network.Meeting())
	})
	huma.Register(a, operation(access.Use, "POST", "/introduction", "introduce", "Begin to introduce a device that is heard: it shows three words"), func(ctx context.Context, in *struct {
		Body struct {
			Name   string `json:"name" maxLength:"255" doc:"by which the device is listed"`
			Device string `json:"device,omitempty" maxLength:"60" doc:"handle of the record that it is; empty has it found, or made"`
		}
	}) (*out[client.Introduction], error) {
		return s.introductionOf(s.Network.Meet(ctx, in.Body.Name, in.Body.Device))
	})
	huma.Register(a, operation(access.Use, "POST", "/introduction/words", "type-words", "Take the three words that the device shows"), func(ctx context.Context, in *struct {
		Body struct {
			Words string `json:"words" maxLength:"200"`
		}
	}) (*out[client.Introduction], error) {
		return s.introductionOf(s.Network.Type(ctx, in.Body.Words))
	})
	stop := operation(access.Use, "DELETE", "/introduction", "stop-introduction", "Give the introduction up")
	stop.DefaultStatus = http.StatusNoContent
	huma.Register(a, stop, func(context.Context, *none) (*struct{}, error) { return nil, problem(s.Network.StopMeeting()) })
	huma.Register(a, operation(access.Use, "PUT", "/devices/{handle}/wireless", "set-wireless", "Switch on or off, over the link, that a device is reached without a cable"), func(ctx context.Context, in *struct {
		OfDevice
		Body struct {
			On bool `json:"on"`
		}
	}) (*struct{}, error) {
		return nil, problem(s.Prep.SetWireless(ctx, in.Handle, in.Body.On))
	})
}

func entryOf(e network.Entry) client.NetworkEntry {
	c := client.NetworkEntry{Name: e.Name, State: string(e.State), Device: e.Device, Family: e.Family, Addresses: append([]string{}, e.Addresses...), Given: e.Given, Trouble: e.Trouble}
	if !e.Since.IsZero() {
		since := e.Since.UTC()
		c.Since = &since
	}
	return c
}

func (s *Server) introductionOf(m network.Meeting, err error) (*out[client.Introduction], error) {
	if err != nil {
		return nil, problem(err)
	}
	bench, now := s.Bench(), s.Clock.Now()
	c := client.Introduction{State: string(m.State), Name: m.Name, Address: m.Address, Device: m.As, Bench: bench, Left: max(0, int64(m.Until.Sub(now).Seconds())),
		Says: client.Claims{Name: m.Claims.Name, Family: m.Claims.Family, Model: m.Claims.Model, Serial: m.Claims.Serial, Release: m.Claims.Release}}
	if m.Trouble != nil {
		shown, _ := errors.AsType[*client.Problem](problem(m.Trouble))
		c.Error = shown
	}
	return &out[client.Introduction]{c}, nil
}
