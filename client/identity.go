package client

import (
	"context"
	"net/url"
	"time"
)

// Identity is a signing identity: a private key with its certificate.
type Identity struct {
	Name      string    `json:"name"`
	Authority string    `json:"authority" doc:"empty for one that came from a file"`
	Crew      string    `json:"crew"`
	State     string    `json:"state" enum:"good,ending,ended,revoked,elsewhere" doc:"ending: it ends within 14 days; elsewhere: its key is not on this computer"`
	Serial    string    `json:"serial" doc:"of the certificate, hexadecimal"`
	Issuer    string    `json:"issuer"`
	Begins    time.Time `json:"begins,omitzero"`
	Ends      time.Time `json:"ends"`
	Key       string    `json:"key" doc:"id in the safe; empty: elsewhere"`
	PEM       string    `json:"pem" doc:"the certificate (RFC 7468); empty: elsewhere"`
	Former    time.Time `json:"former,omitzero" doc:"until when the certificate before is good as well"`
}

// NewIdentity is an identity to be made.
type NewIdentity struct {
	Name string `json:"name" maxLength:"60"`
}

// Identities asks for the signing identities.
func (c *Client) Identities(ctx context.Context, sel ...Select) ([]Identity, error) {
	return list[Identity](ctx, c, api+"/identities", nil, sel)
}

// MakeIdentity makes a key in the safe and gets its certificate.
func (c *Client) MakeIdentity(ctx context.Context, name string) (Identity, error) {
	return call[Identity](ctx, c, "POST", api+"/identities", NewIdentity{Name: name})
}

func identity(name string) string { return api + "/identities/" + url.PathEscape(name) }

// RenewIdentity gets a new certificate for an identity.
func (c *Client) RenewIdentity(ctx context.Context, name string) (Identity, error) {
	return call[Identity](ctx, c, "POST", identity(name)+"/renew", struct{}{})
}

// RevokeIdentity revokes the certificates of an identity.
func (c *Client) RevokeIdentity(ctx context.Context, name string) error {
	_, err := call[struct{}](ctx, c, "POST", identity(name)+"/revoke", struct{}{})
	return err
}

// DropIdentity forgets an identity and removes its key from the safe.
func (c *Client) DropIdentity(ctx context.Context, name string) error {
	_, err := call[struct{}](ctx, c, "DELETE", identity(name), nil)
	return err
}

// ImportIdentity takes in an identity from a PKCS #12 file. envelope is its password, sealed for
// "pkcs12.import".
func (c *Client) ImportIdentity(ctx context.Context, name string, file, envelope []byte) (Identity, error) {
	return call[Identity](ctx, c, "POST", api+"/identities/import", struct {
		Name     string `json:"name"`
		Data     []byte `json:"data"`
		Envelope []byte `json:"envelope"`
	}{name, file, envelope})
}

// ExportIdentity makes a PKCS #12 file of an identity. envelope is its password, sealed for
// "pkcs12.export"; proof is how the safe is opened, sealed for the purpose "export".
func (c *Client) ExportIdentity(ctx context.Context, name string, envelope []byte, proof SafeOpening) (SafeExport, error) {
	return call[SafeExport](ctx, c, "POST", identity(name)+"/export", struct {
		Envelope []byte      `json:"envelope"`
		Proof    SafeOpening `json:"proof"`
	}{envelope, proof})
}
