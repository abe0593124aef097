package client

import (
	"context"
	"net/url"
	"time"
)

// Endings asks what ends, and what will not work at a time; the zero time is now.
func (c *Client) Endings(ctx context.Context, at time.Time) (Endings, error) {
	path := api + "/endings"
	if !at.IsZero() {
		path += "?at=" + url.QueryEscape(at.UTC().Format(time.RFC3339))
	}
	return call[Endings](ctx, c, "GET", path, nil)
}

// CalendarAddress asks for the address of the calendar of what ends, in iCalendar (RFC 5545). renew
// replaces the secret in it, so that the old address stops working.
func (c *Client) CalendarAddress(ctx context.Context, renew bool) (string, error) {
	out, err := call[struct {
		URL string `json:"url"`
	}](ctx, c, "POST", api+"/endings/calendar", struct {
		Renew bool `json:"renew,omitempty"`
	}{renew})
	return out.URL, err
}

// Notify asks where notices of endings go.
func (c *Client) Notify(ctx context.Context) (Notify, error) {
	return call[Notify](ctx, c, "GET", api+"/endings/notify", nil)
}

// SetNotify sets where notices of endings go.
func (c *Client) SetNotify(ctx context.Context, n Notify) (Notify, error) {
	return call[Notify](ctx, c, "PUT", api+"/endings/notify", n)
}
