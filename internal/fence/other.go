//go:build !linux

package fence

import (
	"context"
	"os"
	"os/exec"
)

// Version returns 0: there is no Landlock.
func Version() int { return 0 }

func apart(*exec.Cmd) func() { return func() {} }

func end(p *os.Process) {
	p.Kill() //nolint:errcheck // it has ended
}

func endAs(state *os.ProcessState) { os.Exit(state.ExitCode()) }

// Hold runs the program of cfg until it ends, or ctx does.
func Hold(ctx context.Context, cfg Config, _ string) error {
	cmd := exec.CommandContext(ctx, cfg.Command[0], cfg.Command[1:]...)
	cmd.Env, cmd.Dir = cfg.Env, cfg.Dir
	cmd.Stdin, cmd.Stdout, cmd.Stderr = os.Stdin, os.Stdout, os.Stderr
	return cmd.Run()
}

// Become runs the program of cfg.
func Become(cfg Config) error { return Hold(context.Background(), cfg, "") }
