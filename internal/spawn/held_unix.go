//go:build unix

package spawn

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"os/signal"
	"strconv"
	"syscall"
	"time"
)

// alive is the descriptor on which the holder learns that whoever has started it has ended.
const alive = 3

func (h Held) run(ctx context.Context) error {
	exe, err := os.Executable()
	if err != nil {
		return err
	}
	r, w, err := os.Pipe()
	if err != nil {
		return err
	}
	defer w.Close()
	args := append(append([]string{}, h.Holder...), "--", h.Grace.String(), strconv.FormatBool(h.Terminal))
	cmd := exec.CommandContext(ctx, exe, append(args, h.Command...)...)
	cmd.Env = append(os.Environ(), h.Env...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = os.Stdin, os.Stdout, os.Stderr
	if h.Out != nil {
		cmd.Stdout = h.Out
	}
	cmd.ExtraFiles = []*os.File{r}
	cmd.Cancel = w.Close
	cmd.WaitDelay = h.Grace + 2*time.Second
	err = cmd.Start()
	r.Close()
	if err != nil {
		return err
	}
	return cmd.Wait()
}

// Hold is what the holder does. args are those that follow "--". It returns the exit code of the command; as shells do
// it, 128 plus the number of the signal that killed it.
func Hold(args []string) (code int, err error) {
	if len(args) < 3 {
		return 0, errors.New("a command is held by this program itself")
	}
	grace, err := time.ParseDuration(args[0])
	if err != nil {
		return 0, err
	}
	terminal := args[1] == "true"
	signal.Ignore(syscall.SIGINT, syscall.SIGTERM, syscall.SIGHUP) // what it is to do it learns by its descriptor
	starter := os.NewFile(alive, "starter")
	syscall.CloseOnExec(alive)
	cmd := exec.Command(args[2], args[3:]...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = os.Stdin, os.Stdout, os.Stderr
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: !terminal}
	if err := cmd.Start(); err != nil {
		return 0, fmt.Errorf("start %s: %w", args[2], err)
	}
	ended := make(chan struct{})
	go func() {
		io.Copy(io.Discard, starter) //nolint:errcheck // its end is what is waited for
		kill(cmd, terminal, syscall.SIGTERM)
		select {
		case <-ended:
		case <-time.After(grace):
			kill(cmd, terminal, syscall.SIGKILL)
		}
	}()
	err = cmd.Wait()
	close(ended)
	if !terminal {
		syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) //nolint:errcheck // nothing of it is left
	}
	var e *exec.ExitError
	if !errors.As(err, &e) {
		return 0, err
	}
	if s, ok := e.Sys().(syscall.WaitStatus); ok && s.Signaled() {
		return 128 + int(s.Signal()), nil
	}
	return e.ExitCode(), nil
}

// kill signals a command, with all of its group unless that is ours.
func kill(cmd *exec.Cmd, terminal bool, s syscall.Signal) {
	if terminal {
		cmd.Process.Signal(s) //nolint:errcheck // it has ended
		return
	}
	syscall.Kill(-cmd.Process.Pid, s) //nolint:errcheck // it has ended
}
