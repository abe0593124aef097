package client

import "context"

// Tidy asks what can go of what the bench keeps.
func (c *Client) Tidy(ctx context.Context) (Tidy, error) {
	return call[Tidy](ctx, c, "GET", api+"/tidy", nil)
}

// TidyNow drops what can go, and returns what went.
func (c *Client) TidyNow(ctx context.Context) (Tidy, error) {
	return call[Tidy](ctx, c, "POST", api+"/tidy", nil)
}

// SetTidy sets how long what is kept.
func (c *Client) SetTidy(ctx context.Context, r TidyRules) (Tidy, error) {
	return call[Tidy](ctx, c, "PUT", api+"/tidy", r)
}

// MakeBackup starts to write all that the bench keeps into a file, by its whole path on the bench's computer.
func (c *Client) MakeBackup(ctx context.Context, file string) (Job, error) {
	return call[Job](ctx, c, "POST", api+"/backups", map[string]string{"file": file})
}
