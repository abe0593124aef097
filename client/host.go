package client

import (
	"context"
	"net/url"
)

// Links asks for the ways by which devices are reached now.
func (c *Client) Links(ctx context.Context, sel ...Select) ([]Link, error) {
	return list[Link](ctx, c, api+"/links", nil, sel)
}

// RestartLink restarts the link to a device.
func (c *Client) RestartLink(ctx context.Context, handle string) error {
	_, err := call[struct{}](ctx, c, "POST", device(handle)+"/link/restart", struct{}{})
	return err
}

// RestartLinks restarts every link that was tried and is not up.
func (c *Client) RestartLinks(ctx context.Context) ([]RestartedLink, error) {
	out, err := call[List[RestartedLink]](ctx, c, "POST", api+"/links/restart", struct{}{})
	return out.Items, err
}

// SetShared says whether several people use a host.
func (c *Client) SetShared(ctx context.Context, host string, shared bool) error {
	_, err := call[Host](ctx, c, "PATCH", api+"/hosts/"+url.PathEscape(host), map[string]bool{"shared": shared})
	return err
}

// Hosts lists the hosts.
func (c *Client) Hosts(ctx context.Context, sel ...Select) ([]Host, error) {
	return list[Host](ctx, c, api+"/hosts", nil, sel)
}

// HostTree returns the USB of a host, as it is connected.
func (c *Client) HostTree(ctx context.Context, host string) (HostTree, error) {
	return call[HostTree](ctx, c, "GET", api+"/hosts/"+url.PathEscape(host)+"/tree", nil)
}

// AddHost adds a host, or gives one its new addresses.
func (c *Client) AddHost(ctx context.Context, h Host) error {
	_, err := call[Host](ctx, c, "POST", api+"/hosts", h)
	return err
}

// LookAtSSH has the bench ask an SSH server for its key, and returns its fingerprint.
func (c *Client) LookAtSSH(ctx context.Context, address string) (string, error) {
	out, err := call[FoundSSH](ctx, c, "POST", api+"/hosts/look", map[string]string{"ssh": address})
	return out.Key, err
}

// DropHost forgets a host.
func (c *Client) DropHost(ctx context.Context, name string) error {
	_, err := call[struct{}](ctx, c, "DELETE", api+"/hosts/"+url.PathEscape(name), nil)
	return err
}

// GiveDevice has a device pass to a host, or back to the bench, by its name.
func (c *Client) GiveDevice(ctx context.Context, handle, to string) error {
	_, err := call[struct{}](ctx, c, "POST", device(handle)+"/host", map[string]string{"to": to})
	return err
}
