package client

import (
	"context"
	"net/url"
)

// Accesses lists the access keys.
func (c *Client) Accesses(ctx context.Context, sel ...Select) ([]Access, error) {
	return list[Access](ctx, c, api+"/access", nil, sel)
}

// AddAccess makes an access key.
func (c *Client) AddAccess(ctx context.Context, n NewAccess) (MadeAccess, error) {
	return call[MadeAccess](ctx, c, "POST", api+"/access", n)
}

// OpenPersonPage has the bench serve devices to the browser of a person who has no bench.
func (c *Client) OpenPersonPage(ctx context.Context, ask PersonPageAsk) (PersonPage, error) {
	return call[PersonPage](ctx, c, "POST", api+"/person-pages", ask)
}

// DropAccess ends an access key.
func (c *Client) DropAccess(ctx context.Context, name string) error {
	_, err := call[struct{}](ctx, c, "DELETE", api+"/access/"+url.PathEscape(name), nil)
	return err
}

// Sessions lists the browsers that are signed in.
func (c *Client) Sessions(ctx context.Context, sel ...Select) ([]Session, error) {
	return list[Session](ctx, c, api+"/sessions", nil, sel)
}

// SignOut signs all browsers out, and lets no address that was printed before sign one in.
func (c *Client) SignOut(ctx context.Context) (SignedOut, error) {
	return call[SignedOut](ctx, c, "DELETE", api+"/sessions", nil)
}

// EndSession signs a browser out.
func (c *Client) EndSession(ctx context.Context, id string) error {
	_, err := call[struct{}](ctx, c, "DELETE", api+"/sessions/"+url.PathEscape(id), nil)
	return err
}

// Audit tells who did what, the newest first.
func (c *Client) Audit(ctx context.Context, sel ...Select) ([]AuditLine, error) {
	return list[AuditLine](ctx, c, api+"/audit", nil, sel)
}

// Confirm lets the browser that shows a code do what only the owner may, for a quarter of
// an hour.
func (c *Client) Confirm(ctx context.Context, code string) (Session, error) {
	return call[Session](ctx, c, "POST", api+"/confirmations/"+url.PathEscape(code), nil)
}
