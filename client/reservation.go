package client

import (
	"context"
	"net/url"
)

// WithReservation makes a client whose work is done under a reservation.
func (c *Client) WithReservation(id string) *Client {
	next := *c
	next.reservation = id
	return &next
}

func reservation(id string) string { return api + "/reservations/" + url.PathEscape(id) }

// Reservations lists what is reserved for runs of commands.
func (c *Client) Reservations(ctx context.Context, sel ...Select) ([]Reservation, error) {
	return list[Reservation](ctx, c, api+"/reservations", nil, sel)
}

// Reserve asks for devices for a run of a command.
func (c *Client) Reserve(ctx context.Context, n NewReservation) (Reservation, error) {
	return call[Reservation](ctx, c, "POST", api+"/reservations", n)
}

// Heard renews the reservation of a run, and returns its state.
func (c *Client) Heard(ctx context.Context, id string) (Reservation, error) {
	return call[Reservation](ctx, c, "POST", reservation(id)+"/heard", nil)
}

// PutAside releases a device that is not suitable, so that another one is waited for.
func (c *Client) PutAside(ctx context.Context, id, handle, why string) (Reservation, error) {
	return call[Reservation](ctx, c, "DELETE", reservation(id)+"/devices/"+url.PathEscape(handle)+"?why="+url.QueryEscape(why), nil)
}

// EndReservation gives the devices back.
func (c *Client) EndReservation(ctx context.Context, id string) (Reservation, error) {
	return call[Reservation](ctx, c, "DELETE", reservation(id), nil)
}
