package client

import (
	"context"
	"net/url"
)

// Adapters lists the adapters.
func (c *Client) Adapters(ctx context.Context, s ...Select) ([]Adapter, error) {
	return list[Adapter](ctx, c, api+"/adapters", nil, s)
}

// LookAdapter reads an adapter in a directory, without running it.
func (c *Client) LookAdapter(ctx context.Context, dir string) (Adapter, error) {
	return call[Adapter](ctx, c, "POST", api+"/adapters/look", map[string]string{"dir": dir})
}

// AddAdapter has the bench take a copy of an adapter and run it. accept is the digest of what was looked at.
func (c *Client) AddAdapter(ctx context.Context, dir, accept string) (Adapter, error) {
	return call[Adapter](ctx, c, "POST", api+"/adapters", map[string]string{"dir": dir, "accept": accept})
}

// Actions lists what an adapter can do with a device, of its own.
func (c *Client) Actions(ctx context.Context, handle string) ([]Action, error) {
	all, err := call[Actions](ctx, c, "GET", device(handle)+"/actions", nil)
	return all.Actions, err
}

// Act has an adapter do something of its own with a device.
func (c *Client) Act(ctx context.Context, handle, action string, args map[string]any) (Job, error) {
	return call[Job](ctx, c, "POST", device(handle)+"/actions", map[string]any{"action": action, "args": args})
}

// DropAdapter has the bench end an adapter and delete it.
func (c *Client) DropAdapter(ctx context.Context, name string) error {
	_, err := call[struct{}](ctx, c, "DELETE", api+"/adapters/"+url.PathEscape(name), nil)
	return err
}
