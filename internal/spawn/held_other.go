//go:build !unix

package spawn

import (
	"context"
	"errors"
	"os"
	"os/exec"
)

// run starts the command itself: on this system nothing ends it if this process is killed.
func (h Held) run(ctx context.Context) error {
	cmd := exec.CommandContext(ctx, h.Command[0], h.Command[1:]...)
	cmd.Env = append(os.Environ(), h.Env...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = os.Stdin, os.Stdout, os.Stderr
	if h.Out != nil {
		cmd.Stdout = h.Out
	}
	return cmd.Run()
}

// Hold does nothing here.
func Hold([]string) (int, error) { return 0, errors.ErrUnsupported }
