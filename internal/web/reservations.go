package web

import (
	"context"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/where"
	"earlybench.invalid/earlybench/internal/access"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/reserve"
	"earlybench.invalid/earlybench/internal/store"
)

const (
	// reservationHeader names the reservation under which a request is made.
	reservationHeader = "Reservation"
	heardOperation    = "reservation-heard"
)

// OfReservation names what a path does. It is exported so that huma reads it where it is embedded.
type OfReservation struct {
	Reservation string `path:"reservation" maxLength:"60"`
}

func (s *Server) reservationRoutes() {
	a := s.api
	huma.Register(a, operation(access.Look, "GET", "/reservations", "reservations", "What is reserved for runs of commands: current reservations first, in the order of asking, then ended ones, latest first"), func(ctx context.Context, in *struct{ Select }) (*out[client.List[client.Reservation]], error) {
		all, err := s.Reserve.List(ctx)
		if err != nil {
			return nil, problem(err)
		}
		return reservationList.of(in.Select, each(all, s.reservationOf))
	})
	huma.Register(a, operation(access.Use, "POST", "/reservations", "reserve", "Reserve devices for a run of a command; the reservation ends unless it is renewed every 30 seconds"), func(ctx context.Context, in *struct{ Body client.NewReservation }) (*out[client.Reservation], error) {
		b := in.Body
		return s.reservationOut(s.Reserve.Ask(ctx, reserve.Request{Actor: access.From(ctx).String(), Title: b.Title, Where: b.Where, Count: b.Count, Peers: b.Peers,
			Long: time.Duration(b.For) * time.Second, Within: time.Duration(b.Within) * time.Second}))
	})
	huma.Register(a, operation(access.Use, "POST", "/reservations/{reservation}/heard", heardOperation, "Renew a reservation, and get its state"), func(ctx context.Context, in *OfReservation) (*out[client.Reservation], error) {
		return s.reservationOut(s.Reserve.Heard(ctx, in.Reservation, access.From(ctx).String()))
	})
	huma.Register(a, operation(access.Use, "DELETE", "/reservations/{reservation}/devices/{handle}", "put-device-aside", "Release a device that is not suitable, and wait for another one"), func(ctx context.Context, in *struct {
		OfReservation
		Handle string `path:"handle" maxLength:"60"`
		Why    string `query:"why" maxLength:"500" doc:"why it is not suitable"`
	}) (*out[client.Reservation], error) {
		return s.reservationOut(s.Reserve.PutAside(ctx, in.Reservation, access.From(ctx).String(), in.Handle, in.Why))
	})
	huma.Register(a, operation(access.Use, "DELETE", "/reservations/{reservation}", "end-reservation", "End a reservation and return its devices; only a person can end those of others"), func(ctx context.Context, in *OfReservation) (*out[client.Reservation], error) {
		actor := access.From(ctx)
		r, err := s.Reserve.End(ctx, in.Reservation, actor.String(), "the devices were returned")
		if err != nil && actor.May(access.Consent) { // it may be somebody else's
			r, err = s.Reserve.End(ctx, in.Reservation, "", "it was ended by "+actor.String())
		}
		return s.reservationOut(r, err)
	})
}

func (s *Server) reservationOut(r store.Reservation, err error) (*out[client.Reservation], error) {
	if err != nil {
		return nil, problem(err)
	}
	return &out[client.Reservation]{s.reservationOf(r)}, nil
}

func (s *Server) reservationOf(r store.Reservation) client.Reservation {
	out := client.Reservation{ID: r.ID, State: string(r.State), By: r.Actor, Title: r.Title, Where: r.Where, Count: r.Count, Peers: r.Peers, For: int64(r.Seconds), Within: int64(r.Within),
		Asked: r.Asked.UTC(), Began: when(r.Began), Ends: when(r.Ends), Ended: when(r.Ended), Place: s.Reserve.Place(r.ID), Devices: []client.ReservedDevice{}}
	if r.Reason != "" {
		out.Why = sentence(r.Reason)
	}
	away := []string{}
	if !r.Over() {
		away = s.Reserve.Away(r)
	}
	for _, d := range r.Devices {
		one := client.ReservedDevice{Device: d.Handle, Peer: d.Peer, Away: slices.Contains(away, d.Handle)}
		if d.Lost != "" {
			one.Lost = sentence(d.Lost)
		}
		out.Devices = append(out.Devices, one)
	}
	return out
}

// Choose reads an expression over devices, as in all lists of devices. About a peer's device only what the peer
// reports is known; if an expression needs more, the device is not chosen.
func (s *Server) Choose(text string) (reserve.Choice, error) {
	all := reserve.Choice{Own: func(*keeper.Keeper) (bool, error) { return true, nil }, Far: func(reserve.Far) (bool, error) { return true, nil }}
	if text == "" {
		return all, nil
	}
	l, err := s.racks.language(s.Sheets.Current())
	if err != nil {
		return reserve.Choice{}, err
	}
	e, err := l.Compile(text)
	if err != nil {
		return reserve.Choice{}, badWhere(err)
	}
	return reserve.Choice{
		Own: func(k *keeper.Keeper) (bool, error) {
			r := &racked{Standing: s.Outlook.Glance(k, "")}
			return e.Holds(func(name string) (any, bool) { return s.racks.value(r, name) })
		},
		Far: func(f reserve.Far) (bool, error) {
			return e.Holds(func(name string) (any, bool) { return farValue(f, name) })
		},
	}, nil
}

// farValue is what is known of a peer's device.
func farValue(f reserve.Far, name string) (any, bool) {
	d := f.Device
	switch name {
	case "device.handle":
		return d.Handle, true
	case "device.family":
		return d.Family, true
	case "device.maker":
		return d.Maker, true
	case "device.model":
		return d.Model, true
	case "device.code":
		return d.Code, true
	case "device.serial":
		return d.Serial, true
	case "device.device_key":
		return d.Key, true
	case "device.summary":
		return d.Summary, true
	case "device.borrowed_from":
		return f.Peer, true
	case "device.release":
		return where.Release(fact.Release(d.Release)), d.Release != ""
	}
	return nil, false
}
