package demo

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"

	"golang.org/x/crypto/ssh"

	"earlybench.invalid/earlybench/internal/state"
	"earlybench.invalid/earlybench/standin/board"
)

// boardName is the handle of the board.
const boardName = "board-1"

// startBoard starts OpenSSH's server as a board, into which somebody has let the bench's key, and puts it on
// the rack. Where it is not installed the demo goes without.
func (d *demo) startBoard(ctx context.Context) error {
	keys, err := state.ReadKeys(d.cfg.State)
	if err != nil {
		return err
	}
	dir := filepath.Join(d.cfg.State, "standins", "board")
	d.board, err = board.Start(ctx, board.Config{Dir: dir, Keys: []ssh.PublicKey{keys.Link.PublicKey()}, SFTP: true, Port: d.ports[7]})
	if errors.Is(err, board.ErrNone) {
		fmt.Fprintln(d.cfg.Err, "No OpenSSH server is installed on this computer, so that "+boardName+" is left out.")
		return nil
	}
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, readyWithin)
	defer cancel()
	e, err := d.client.AddAddress(ctx, fmt.Sprintf("ssh://%s@%s", d.board.User, d.board.Address))
	if err == nil && e.Device == "" {
		_, err = d.client.LogIn(ctx, e.Name, ssh.FingerprintSHA256(d.board.Key), "", "")
	}
	if err != nil {
		return fmt.Errorf("put %s on the rack: %w", boardName, err)
	}
	return nil
}
