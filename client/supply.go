package client

import (
	"context"
	"net/url"
)

// Depots asks for the depots.
func (c *Client) Depots(ctx context.Context, sel ...Select) ([]Depot, error) {
	return list[Depot](ctx, c, api+"/depots", nil, sel)
}

// LookAtDepot has the bench ask a depot who it is.
func (c *Client) LookAtDepot(ctx context.Context, address string) (FoundDepot, error) {
	return call[FoundDepot](ctx, c, "POST", api+"/depots/look", map[string]string{"url": address})
}

// AddDepot adds a depot that somebody has accepted.
func (c *Client) AddDepot(ctx context.Context, d NewDepot) (Depot, error) {
	return call[Depot](ctx, c, "POST", api+"/depots", d)
}

// DropDepot forgets a depot.
func (c *Client) DropDepot(ctx context.Context, name string) error {
	_, err := call[struct{}](ctx, c, "DELETE", api+"/depots/"+url.PathEscape(name), nil)
	return err
}

// Needs asks what the devices on the rack lack.
func (c *Client) Needs(ctx context.Context) (Needs, error) {
	return call[Needs](ctx, c, "GET", api+"/needs", nil)
}

// FetchNeeds fetches what somebody has accepted.
func (c *Client) FetchNeeds(ctx context.Context, accept string) ([]Job, error) {
	out, err := call[List[Job]](ctx, c, "POST", api+"/needs", map[string]string{"accept": accept})
	return out.Items, err
}

// Licence asks for the text of a licence, by its digest.
func (c *Client) Licence(ctx context.Context, digest string) (Licence, error) {
	return call[Licence](ctx, c, "GET", api+"/licences/"+url.PathEscape(digest), nil)
}

// SupportPacks asks for the support packs that are here, or come.
func (c *Client) SupportPacks(ctx context.Context, sel ...Select) ([]SupportPack, error) {
	return list[SupportPack](ctx, c, api+"/support", nil, sel)
}

// AddSupportPack takes in the file of a support pack on the bench's computer.
func (c *Client) AddSupportPack(ctx context.Context, file string) (SupportPack, error) {
	return call[SupportPack](ctx, c, "POST", api+"/support", map[string]string{"file": file})
}

// DropSupportPack removes a support pack, by the digest of its file.
func (c *Client) DropSupportPack(ctx context.Context, digest string) error {
	_, err := call[struct{}](ctx, c, "DELETE", api+"/support/"+url.PathEscape(digest), nil)
	return err
}

// Kits asks for the kits that are known or that an app needs.
func (c *Client) Kits(ctx context.Context, sel ...Select) ([]Kit, error) {
	return list[Kit](ctx, c, api+"/kits", nil, sel)
}

// AddKit names the directory of a kit.
func (c *Client) AddKit(ctx context.Context, k NewKit) (KitCopy, error) {
	return call[KitCopy](ctx, c, "POST", api+"/kits", k)
}

// FetchKit begins to fetch a kit from a peer.
func (c *Client) FetchKit(ctx context.Context, name string, f FetchKit) (Job, error) {
	return call[Job](ctx, c, "POST", api+"/kits/"+url.PathEscape(name)+"/fetch", f)
}

// DropKit forgets a directory of a kit.
func (c *Client) DropKit(ctx context.Context, name, path string) error {
	_, err := call[struct{}](ctx, c, "DELETE", api+"/kits/"+url.PathEscape(name)+"?path="+url.QueryEscape(path), nil)
	return err
}

// KitEnvironment asks what a process needs in order to use a kit. Without a version it is
// the copy that a build without a range takes.
func (c *Client) KitEnvironment(ctx context.Context, name, version string) (KitEnvironment, error) {
	return call[KitEnvironment](ctx, c, "GET", api+"/kits/"+url.PathEscape(name)+"/environment?version="+url.QueryEscape(version), nil)
}
