package cli

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"earlybench.invalid/earlybench/internal/spawn"
	"earlybench.invalid/earlybench/internal/state"
)

// work runs the command with the devices that were reserved, and tells how it has ended.
func (w *with) work(ctx context.Context) error {
	w.mu.Lock()
	devices := handles(w.now)
	w.mu.Unlock()
	kept, stop := context.WithCancel(ctx)
	defer stop()
	go w.keep(kept)
	env, err := w.environment(kept, devices)
	if err != nil {
		return err
	}
	e := w.collect(kept, devices)
	running, end := context.WithCancel(ctx)
	defer end()
	go w.endWhenLost(running, end)
	began := time.Now()
	failed := w.through(running, env)
	took := time.Since(began)
	w.heard(context.WithoutCancel(ctx)) //nolint:errcheck // then what was heard last counts
	code, lost := codeOfCommand(failed), w.lost()
	if lost == "" && code != 0 {
		lost = w.away()
	}
	e.end(context.WithoutCancel(ctx), outcome{Code: code, Lost: lost, Took: took})
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case lost != "" && (code != 0 || w.over()):
		return &exitError{exitGone, lost}
	case code != 0:
		return &exitError{code, fmt.Sprintf("The command has ended with %d.", code)}
	}
	return nil
}

// over reports whether the devices were taken away from the run, so that what the command says is of no use.
func (w *with) over() bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.now.State == "ended" || time.Since(w.seen) > unheardMost
}

// endWhenLost ends the command once a device was lost.
func (w *with) endWhenLost(ctx context.Context, end func()) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(waitEvery):
		}
		if lost := w.lost(); lost != "" {
			fmt.Fprintln(w.err, safe(lost), "The command is ended.")
			end()
			return
		}
	}
}

// through runs the command with the streams of this program. With --json, standard output is for the outcome alone.
func (w *with) through(ctx context.Context, env []string) error {
	h := spawn.Held{Holder: []string{holdName}, Command: w.command, Env: env, Terminal: w.terminal, Grace: endWithin}
	if w.json {
		h.Out = os.Stderr
	}
	return h.Run(ctx)
}

// holdName is the command with which this program holds another one.
const holdName = "hold-command"

func holdCommand() *cobra.Command {
	return &cobra.Command{Use: holdName + " -- GRACE TERMINAL COMMAND [ARG...]", Hidden: true, Args: cobra.MinimumNArgs(3), RunE: func(_ *cobra.Command, args []string) error {
		code, err := spawn.Hold(args)
		if err == nil && code != 0 {
			os.Exit(code)
		}
		return err
	}}
}

// codeOfCommand is the exit code of a command.
func codeOfCommand(err error) int {
	var e *exec.ExitError
	switch {
	case err == nil:
		return 0
	case !errors.As(err, &e):
		return exitFailed
	}
	return max(e.ExitCode(), exitFailed)
}

// environment is what a command finds of its devices. Their ports are open until ctx ends.
func (w *with) environment(ctx context.Context, devices []string) ([]string, error) {
	dir, err := state.Dir(w.state)
	if err != nil {
		return nil, err
	}
	env := []string{"EARLYBENCH_STATE=" + dir, "EARLYBENCH_RESERVATION=" + w.id, "EARLYBENCH_DEVICES=" + strings.Join(devices, " ")}
	if w.dir != "" {
		env = append(env, "EARLYBENCH_OUT="+w.dir)
	}
	for i, handle := range devices {
		n := i + 1
		env = append(env, fmt.Sprintf("EARLYBENCH_DEVICE_%d=%s", n, handle))
		if address := w.address(ctx, handle); address != "" {
			env = append(env, fmt.Sprintf("EARLYBENCH_ADDRESS_%d=%s", n, address))
		}
		for _, port := range w.ports {
			at, err := w.openPort(ctx, handle, port)
			if err != nil {
				return nil, err
			}
			env = append(env, fmt.Sprintf("EARLYBENCH_PORT_%d_%s=%s", n, variable(port), at))
		}
	}
	return env, nil
}

// variable is the name of a port as it stands in a variable's.
func variable(port string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z':
			return r - 'a' + 'A'
		case r >= 'A' && r <= 'Z', r >= '0' && r <= '9':
			return r
		}
		return '_'
	}, port)
}

// address is the network address of a device that is reached at one.
func (w *with) address(ctx context.Context, handle string) string {
	links, err := w.bench.Links(ctx)
	if err != nil {
		return ""
	}
	for _, way := range links {
		if way.Device != handle {
			continue
		}
		if _, _, err := net.SplitHostPort(way.Port); err == nil && (way.Way == "ssh" || way.Way == "wireless") {
			return way.Port
		}
	}
	return ""
}

// openPort opens a port of a device on this computer until ctx ends.
func (w *with) openPort(ctx context.Context, handle, port string) (address string, err error) {
	open := opener(w.bench, handle, port)
	first, err := open(ctx)
	if err != nil {
		return "", fmt.Errorf("open port %s of %s: %w", port, handle, err)
	}
	first.Close()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", fmt.Errorf("open a port here: %w", err)
	}
	go w.forward(ctx, l, open) //nolint:errcheck // whoever is connected sees the end
	return l.Addr().String(), nil
}
