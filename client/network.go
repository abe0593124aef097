package client

import (
	"context"
	"net/url"
)

// Network returns what is heard on the network, and the addresses that were given.
func (c *Client) Network(ctx context.Context, s ...Select) ([]NetworkEntry, error) {
	return list[NetworkEntry](ctx, c, api+"/network", nil, s)
}

// AddAddress gives the bench the address of a device, with its port.
func (c *Client) AddAddress(ctx context.Context, address string) (NetworkEntry, error) {
	return call[NetworkEntry](ctx, c, "POST", api+"/network", map[string]string{"address": address})
}

// DropAddress has the bench forget an address, by its name in the list or by itself.
func (c *Client) DropAddress(ctx context.Context, name string) error {
	_, err := call[struct{}](ctx, c, "DELETE", api+"/network/"+url.PathEscape(name), nil)
	return err
}

// LogIn makes the bench log in to a device over SSH, and put it on the rack. accept is the fingerprint of its
// key that a person has compared; password lets the bench's key in where it is not yet, and is kept nowhere; as is
// the handle of the record that it is, or "".
func (c *Client) LogIn(ctx context.Context, name, accept, password, as string) (LoggedIn, error) {
	return call[LoggedIn](ctx, c, "POST", api+"/network/"+url.PathEscape(name)+"/login", map[string]string{"accept": accept, "password": password, "device": as})
}

// Introduction returns the current introduction, or the last one.
func (c *Client) Introduction(ctx context.Context) (Introduction, error) {
	return call[Introduction](ctx, c, "GET", api+"/introduction", nil)
}

// Introduce begins to introduce a device that is heard. device is the handle of the record that it
// is, or "".
func (c *Client) Introduce(ctx context.Context, name, device string) (Introduction, error) {
	return call[Introduction](ctx, c, "POST", api+"/introduction", map[string]string{"name": name, "device": device})
}

// TypeWords takes the words that the device shows, as a person has typed them.
func (c *Client) TypeWords(ctx context.Context, words string) (Introduction, error) {
	return call[Introduction](ctx, c, "POST", api+"/introduction/words", map[string]string{"words": words})
}

// StopIntroduction cancels the current introduction.
func (c *Client) StopIntroduction(ctx context.Context) error {
	_, err := call[struct{}](ctx, c, "DELETE", api+"/introduction", nil)
	return err
}

// SetWireless switches on or off, over the link, that a device is reached without a cable.
func (c *Client) SetWireless(ctx context.Context, handle string, on bool) error {
	_, err := call[struct{}](ctx, c, "PUT", device(handle)+"/wireless", map[string]bool{"on": on})
	return err
}
