package demo

import (
	"context"
	"fmt"
	"path/filepath"
	"time"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/internal/safe"
)

// safeKey is the file of the unlock key that opens the demo's safe, so that a first try needs
// no passphrase. It lies apart from the bench's own files.
func (d *demo) safeKey() string { return filepath.Join(d.cfg.State, "demo", "unlock.key") }

// permitted is for how long the demo's owner lets their own apps be signed without being asked.
const permitted = 30 * 24 * time.Hour

// permit lets the owner's own runs of the demo's apps be signed, as a first consent would.
func (d *demo) permit(ctx context.Context, apps ...string) error {
	for _, app := range apps {
		err := d.client.PermitSafe(ctx, client.SafePermit{Item: "development", App: app, Purpose: safe.SignApp, For: int64(permitted.Seconds()),
			Proof: client.SafeOpening{KeyFile: d.safeKey()}})
		if err != nil {
			return fmt.Errorf("let the development key sign %s: %w", app, err)
		}
	}
	return nil
}
