package client

import (
	"context"
	"net/url"
	"strconv"
)

// Safe asks for the safe.
func (c *Client) Safe(ctx context.Context) (Safe, error) {
	return call[Safe](ctx, c, "GET", api+"/safe", nil)
}

// MakeSafe makes the safe. Its passphrase is sealed for "make".
func (c *Client) MakeSafe(ctx context.Context, o SafeOpening) (Safe, error) {
	return call[Safe](ctx, c, "POST", api+"/safe", o)
}

// UnlockSafe opens the safe. Its passphrase is sealed for "unlock".
func (c *Client) UnlockSafe(ctx context.Context, o SafeOpening) (Safe, error) {
	return call[Safe](ctx, c, "POST", api+"/safe/unlock", o)
}

// LockSafe locks the safe.
func (c *Client) LockSafe(ctx context.Context) error {
	_, err := call[struct{}](ctx, c, "POST", api+"/safe/lock", struct{}{})
	return err
}

// ChangeSafe changes how the safe is opened, or after how long it locks.
func (c *Client) ChangeSafe(ctx context.Context, s SafeChange) (Safe, error) {
	return call[Safe](ctx, c, "PATCH", api+"/safe", s)
}

// AnswerSafe answers a request to use the safe.
func (c *Client) AnswerSafe(ctx context.Context, request string, a SafeAnswer) error {
	_, err := call[struct{}](ctx, c, "POST", api+"/safe/requests/"+url.PathEscape(request), a)
	return err
}

// PermitSafe allows a use for a time without asking, as a consent to it would.
func (c *Client) PermitSafe(ctx context.Context, p SafePermit) error {
	_, err := call[struct{}](ctx, c, "POST", api+"/safe/rules", p)
	return err
}

// WithdrawSafe ends all that is allowed for an item without asking.
func (c *Client) WithdrawSafe(ctx context.Context, item string) error {
	_, err := call[struct{}](ctx, c, "DELETE", api+"/safe/rules/"+url.PathEscape(item), nil)
	return err
}

// SafeUses lists the uses of the safe, the newest first.
func (c *Client) SafeUses(ctx context.Context, sel ...Select) ([]SafeUse, error) {
	return list[SafeUse](ctx, c, api+"/safe/uses", nil, sel)
}

// ExportSafe exports all that is in the safe. envelope is the passphrase of the export, sealed
// for "export"; proof is how the safe is opened, sealed for the purpose "export".
func (c *Client) ExportSafe(ctx context.Context, envelope []byte, proof SafeOpening) (SafeExport, error) {
	return call[SafeExport](ctx, c, "POST", api+"/safe/export", struct {
		Envelope []byte      `json:"envelope"`
		Proof    SafeOpening `json:"proof"`
	}{envelope, proof})
}

// ImportSafe puts an export into the safe, and returns what was new. envelope is the export's
// passphrase, sealed for "import".
func (c *Client) ImportSafe(ctx context.Context, data, envelope []byte) ([]SafeItem, error) {
	out, err := call[List[SafeItem]](ctx, c, "POST", api+"/safe/import", struct {
		Data     []byte `json:"data"`
		Envelope []byte `json:"envelope"`
	}{data, envelope})
	return out.Items, err
}

// Developer asks for the public half of the key of an identity, or of the development key if that
// is "".
func (c *Client) Developer(ctx context.Context, identity string) (Developer, error) {
	return call[Developer](ctx, c, "GET", api+"/developer?identity="+url.QueryEscape(identity), nil)
}

// SignApp has an identity sign the manifest of an app file, or the development key if identity is
// "". It waits for a person's consent if need be.
func (c *Client) SignApp(ctx context.Context, manifest []byte, identity string) (AppSignature, error) {
	return call[AppSignature](ctx, c, "POST", api+"/developer/signatures", struct {
		Manifest []byte `json:"manifest"`
		Identity string `json:"identity,omitempty"`
	}{manifest, identity})
}

// SafePermit is a use that is allowed for a time. Only the owner permits, and proves that they
// can open the safe.
type SafePermit struct {
	Item    string      `json:"item" maxLength:"60" doc:"an id; development stands for the development key"`
	Actor   string      `json:"actor,omitempty" maxLength:"100" doc:"empty: the owner, at a terminal and in a browser"`
	App     string      `json:"app" maxLength:"100"`
	Purpose string      `json:"purpose" maxLength:"100"`
	For     int64       `json:"for_seconds"`
	Proof   SafeOpening `json:"proof" doc:"how the safe is opened, sealed for the purpose permit"`
}

// UseID is the id of a use, as lists have it.
func (u SafeUse) UseID() string { return strconv.FormatInt(u.ID, 10) }
