package client

import (
	"context"
	"net/url"
)

// Statements asks for the grants and debug tokens of the bench, those that end first first.
func (c *Client) Statements(ctx context.Context, sel ...Select) ([]Statement, error) {
	return list[Statement](ctx, c, api+"/statements", nil, sel)
}

// StatementsOn asks for the grants and debug tokens on a device.
func (c *Client) StatementsOn(ctx context.Context, handle string, sel ...Select) ([]Statement, error) {
	return list[Statement](ctx, c, api+"/devices/"+url.PathEscape(handle)+"/statements", nil, sel)
}

// AddStatement asks an authority for a grant or a debug token, or keeps one that came from
// elsewhere.
func (c *Client) AddStatement(ctx context.Context, n NewStatement) (Statement, error) {
	return call[Statement](ctx, c, "POST", api+"/statements", n)
}

// DropStatement forgets a grant or a debug token; with withdraw it is withdrawn at its authority
// before.
func (c *Client) DropStatement(ctx context.Context, id string, withdraw bool) error {
	path := api + "/statements/" + url.PathEscape(id)
	if withdraw {
		path += "?withdraw=true"
	}
	_, err := call[struct{}](ctx, c, "DELETE", path, nil)
	return err
}

// PutStatement puts a grant or a debug token on devices. The job's result is a [PutResult].
func (c *Client) PutStatement(ctx context.Context, id string, p PutStatement) (Job, error) {
	return call[Job](ctx, c, "POST", api+"/statements/"+url.PathEscape(id)+"/put", p)
}

// TakeOff takes a grant or a debug token off a device.
func (c *Client) TakeOff(ctx context.Context, handle, id string) error {
	_, err := call[struct{}](ctx, c, "DELETE", api+"/devices/"+url.PathEscape(handle)+"/statements/"+url.PathEscape(id), nil)
	return err
}

// Allow puts on a device what an app needs to run there: a grant or a debug token that the bench
// has, or one that the authority is asked for.
func (c *Client) Allow(ctx context.Context, handle string, a Allow) (Job, error) {
	return call[Job](ctx, c, "POST", api+"/devices/"+url.PathEscape(handle)+"/allow", a)
}

// Explain asks whether an app may run on a device, or which line of a statement stands against it;
// with a build, of its project, as that is signed.
func (c *Client) Explain(ctx context.Context, app, handle, build string) (Explanation, error) {
	q := url.Values{"app": {app}}
	if build != "" {
		q.Set("build", build)
	}
	return call[Explanation](ctx, c, "GET", api+"/devices/"+url.PathEscape(handle)+"/explain?"+q.Encode(), nil)
}

// MayRun asks on which devices of the rack the apps may run; with an app, for that one only.
func (c *Client) MayRun(ctx context.Context, app string) (MayRun, error) {
	path := api + "/may-run"
	if app != "" {
		path += "?app=" + url.QueryEscape(app)
	}
	return call[MayRun](ctx, c, "GET", path, nil)
}
