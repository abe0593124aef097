package web

import (
	"context"
	"errors"
	"net/http"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/internal/access"
	"earlybench.invalid/earlybench/internal/network"
)

func (s *Server) networkRoutes() {
	a := s.api
	huma.Register(a, operation(access.Look, "GET", "/network", "network", "What is heard on the network, and the addresses that were added"), func(_ context.Context, in *struct{ Select }) (*out[client.List[client.NetworkEntry]], error) {
		return networkList.of(in.Select, each(slices.Concat(s.Network.List(), s.Companions.List(), s.Servers.List()), s.entryOf))
	})
	huma.Register(a, operation(access.Maintain, "POST", "/network", "add-address", "Add the address of a device"), func(ctx context.Context, in *struct {
		Body struct {
			Address string `json:"address" maxLength:"255" doc:"host and port of a device; or ssh://USER@HOST or ssh://USER@HOST:PORT of any SSH server"`
		}
	}) (*out[client.NetworkEntry], error) {
		add := s.Network.Add
		if isServer(in.Body.Address) {
			add = s.Servers.Add
		}
		e, err := add(ctx, in.Body.Address)
		if err != nil {
			return nil, problem(err)
		}
		return &out[client.NetworkEntry]{s.entryOf(e)}, nil
	})
	huma.Register(a, operation(access.Maintain, "DELETE", "/network/{name}", "drop-address", "Forget an address"), func(ctx context.Context, in *struct {
		Name string `path:"name" maxLength:"255"`
	}) (*struct{}, error) {
		drop := s.Network.Drop
		if s.given(in.Name) {
			drop = s.Servers.Drop
		}
		return nil, problem(drop(ctx, in.Name))
	})
	huma.Register(a, operation(access.Maintain, "POST", "/network/{name}/login", "log-in", "Log in to a device over SSH, and put it on the rack"), func(ctx context.Context, in *struct {
		Name string `path:"name" maxLength:"255" doc:"of the server, or the handle of its device"`
		Body struct {
			Accept   string `json:"accept,omitempty" maxLength:"100" doc:"fingerprint of the device key that you compared; without it, the error contains the key that the device shows"`
			Password string `json:"password,omitempty" maxLength:"1000" doc:"of the device's user, needed if the device does not know the bench's key yet; it is not stored"`
			Device   string `json:"device,omitempty" maxLength:"60" doc:"handle of the device, if it is on the rack; if empty, it is found by its key, or added"`
		}
	}) (*out[client.LoggedIn], error) {
		handle, err := s.Servers.Login(ctx, network.Login{Name: in.Name, Accept: in.Body.Accept, Password: in.Body.Password, As: in.Body.Device})
		if err != nil {
			return nil, problem(err)
		}
		return &out[client.LoggedIn]{client.LoggedIn{Device: handle}}, nil
	})
	huma.Register(a, operation(access.Look, "GET", "/introduction", "introduction", "The current introduction, or the last one"), func(context.Context, *none) (*out[client.Introduction], error) {
		return s.introductionOf(s.Introductions.Meeting())
	})
	huma.Register(a, operation(access.Use, "POST", "/introduction", "introduce", "Start to introduce a device that is heard: it shows three words"), func(ctx context.Context, in *struct {
		Body struct {
			Name   string `json:"name" maxLength:"255" doc:"by which the device is listed"`
			Device string `json:"device,omitempty" maxLength:"60" doc:"handle of the device, if it is on the rack; if empty, it is found or added"`
		}
	}) (*out[client.Introduction], error) {
		return s.introductionOf(s.Introductions.Meet(ctx, in.Body.Name, in.Body.Device))
	})
	huma.Register(a, operation(access.Use, "POST", "/introduction/words", "type-words", "Submit the three words that the device shows"), func(ctx context.Context, in *struct {
		Body struct {
			Words string `json:"words" maxLength:"200"`
		}
	}) (*out[client.Introduction], error) {
		return s.introductionOf(s.Introductions.Type(ctx, in.Body.Words))
	})
	stop := operation(access.Use, "DELETE", "/introduction", "stop-introduction", "Cancel the introduction")
	stop.DefaultStatus = http.StatusNoContent
	huma.Register(a, stop, func(context.Context, *none) (*struct{}, error) { return nil, problem(s.Introductions.StopMeeting()) })
	huma.Register(a, operation(access.Use, "PUT", "/devices/{handle}/wireless", "set-wireless", "Switch wireless access of a device on or off, over its link"), func(ctx context.Context, in *struct {
		OfDevice
		Body struct {
			On bool `json:"on"`
		}
	}) (*struct{}, error) {
		return nil, problem(s.Prep.SetWireless(ctx, in.Handle, in.Body.On))
	})
}

// isServer reports whether an address is that of an SSH server.
func isServer(address string) bool { return strings.Contains(address, "://") }

// given reports whether a name, an address or a handle is that of an SSH server.
func (s *Server) given(name string) bool {
	return isServer(name) || slices.ContainsFunc(s.Servers.List(), func(e network.Entry) bool { return e.Name == name || e.Device == name })
}

func (s *Server) entryOf(e network.Entry) client.NetworkEntry {
	c := client.NetworkEntry{Name: e.Name, State: string(e.State), Device: e.Device, Family: e.Family, Addresses: append([]string{}, e.Addresses...), MayBe: append([]string{}, s.Introductions.MayBe(e)...), Through: e.Through, Given: e.Given, Trouble: e.Trouble, Login: e.Login, DeviceKey: e.Key}
	c.Since, c.Asleep = when(e.Since.UTC()), when(e.Asleep.UTC())
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
