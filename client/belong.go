package client

import (
	"context"
	"net/url"
)

// Authorities asks for the authorities.
func (c *Client) Authorities(ctx context.Context, sel ...Select) ([]Authority, error) {
	return list[Authority](ctx, c, api+"/authorities", nil, sel)
}

// LookAtAuthority has the bench ask an authority who it is.
func (c *Client) LookAtAuthority(ctx context.Context, address string) (FoundAuthority, error) {
	return call[FoundAuthority](ctx, c, "POST", api+"/authorities/look", map[string]string{"url": address})
}

// AddAuthority adds an authority that somebody has accepted.
func (c *Client) AddAuthority(ctx context.Context, a NewAuthority) (Authority, error) {
	return call[Authority](ctx, c, "POST", api+"/authorities", a)
}

// DropAuthority forgets an authority with the accounts there.
func (c *Client) DropAuthority(ctx context.Context, name string) error {
	_, err := call[struct{}](ctx, c, "DELETE", api+"/authorities/"+url.PathEscape(name), nil)
	return err
}

// Accounts asks for the accounts.
func (c *Client) Accounts(ctx context.Context, sel ...Select) ([]Account, error) {
	return list[Account](ctx, c, api+"/accounts", nil, sel)
}

// SignInAccount begins to sign in at an authority.
func (c *Client) SignInAccount(ctx context.Context, at SignInAt) (SignInCode, error) {
	return call[SignInCode](ctx, c, "POST", api+"/accounts", at)
}

func account(name string) string { return api + "/accounts/" + url.PathEscape(name) }

// UseAccount has the bench use an account, and one of its crews.
func (c *Client) UseAccount(ctx context.Context, name string, change AccountChange) (Account, error) {
	return call[Account](ctx, c, "PATCH", account(name), change)
}

// SignOutAccount signs an account out and forgets it; with force even if its authority does not
// answer.
func (c *Client) SignOutAccount(ctx context.Context, name string, force bool) error {
	path := account(name)
	if force {
		path += "?force=true"
	}
	_, err := call[struct{}](ctx, c, "DELETE", path, nil)
	return err
}

// Register asks for the register of the crew that is used.
func (c *Client) Register(ctx context.Context) (Register, error) {
	return call[Register](ctx, c, "GET", api+"/register", nil)
}

// RegisterDevices registers devices.
func (c *Client) RegisterDevices(ctx context.Context, n NewEntries) (Job, error) {
	return call[Job](ctx, c, "POST", api+"/register", n)
}

// LeaveRegister frees the place of a device, by its handle or serial.
func (c *Client) LeaveRegister(ctx context.Context, name string) error {
	_, err := call[struct{}](ctx, c, "DELETE", api+"/register/"+url.PathEscape(name), nil)
	return err
}

// AppIDs asks for the app ids of the crew that is used.
func (c *Client) AppIDs(ctx context.Context, sel ...Select) ([]AppID, error) {
	return list[AppID](ctx, c, api+"/app-ids", nil, sel)
}

// TakeApp takes an app id for the crew that is used.
func (c *Client) TakeApp(ctx context.Context, id string) error {
	_, err := call[struct{}](ctx, c, "POST", api+"/app-ids", map[string]string{"id": id})
	return err
}

// SetSecret puts a secret of an app into the safe. envelope is the secret, sealed for
// "secret.put APP NAME".
func (c *Client) SetSecret(ctx context.Context, app, name string, envelope []byte) error {
	_, err := call[struct{}](ctx, c, "POST", api+"/app-secrets", struct {
		App      string `json:"app"`
		Name     string `json:"name"`
		Envelope []byte `json:"envelope"`
	}{app, name, envelope})
	return err
}

// DropSecret removes a secret of an app from the safe.
func (c *Client) DropSecret(ctx context.Context, app, name string) error {
	_, err := call[struct{}](ctx, c, "DELETE", api+"/app-secrets?app="+url.QueryEscape(app)+"&name="+url.QueryEscape(name), nil)
	return err
}
