package fence

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// apart has what holds a program end with this process; the returned function is called once it has ended.
func apart(cmd *exec.Cmd) func() {
	runtime.LockOSThread() // the death signal comes when the thread ends that has started it
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGTERM}
	return runtime.UnlockOSThread
}

func end(p *os.Process) {
	p.Signal(syscall.SIGTERM) //nolint:errcheck // it has ended
}

// Hold runs the program of cfg with this process's input and output until it ends, or this process is asked to
// end. Then it ends all that the program has started, also what has made itself apart: orphans become children
// of this process (PR_SET_CHILD_SUBREAPER).
func Hold(ctx context.Context, cfg Config, text string) error {
	if err := unix.Prctl(unix.PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0); err != nil {
		return fmt.Errorf("take orphans: %w", err)
	}
	ctx, stop := signal.NotifyContext(ctx, syscall.SIGTERM, syscall.SIGINT)
	defer stop()
	exe, err := os.Executable()
	if err != nil {
		return err
	}
	cmd := exec.Command(exe, "adapter", BecomeStep, "--", text)
	cmd.Env, cmd.Dir = cfg.Env, cfg.Dir
	cmd.Stdin, cmd.Stdout, cmd.Stderr = os.Stdin, os.Stdout, os.Stderr
	runtime.LockOSThread()
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGKILL}
	if err := cmd.Start(); err != nil {
		return err
	}
	done := make(chan error, 1)
	go func() { done <- cmd.Wait() }()
	select {
	case err = <-done:
	case <-ctx.Done():
		cmd.Process.Kill() //nolint:errcheck // it has ended
		<-done
		err = nil
	}
	endChildren()
	return err
}

// endAs ends this process in the way in which another one has ended.
func endAs(state *os.ProcessState) {
	if status, ok := state.Sys().(syscall.WaitStatus); ok && status.Signaled() {
		signal.Reset(status.Signal())
		syscall.Kill(os.Getpid(), status.Signal()) //nolint:errcheck // the exit below follows
		time.Sleep(time.Second)
	}
	os.Exit(state.ExitCode())
}

// endChildren ends every process below this one.
func endChildren() {
	for range 100 {
		children := childrenOf(os.Getpid())
		if len(children) == 0 {
			return
		}
		for _, pid := range children {
			syscall.Kill(pid, syscall.SIGKILL) //nolint:errcheck // it has ended
		}
		time.Sleep(10 * time.Millisecond)
		var status syscall.WaitStatus
		for { // whoever has ended
			if pid, err := syscall.Wait4(-1, &status, syscall.WNOHANG, nil); pid <= 0 || err != nil {
				break
			}
		}
	}
}

// childrenOf are the processes whose parent is pid.
func childrenOf(pid int) (out []int) {
	all, _ := filepath.Glob("/proc/[0-9]*/stat")
	for _, name := range all {
		raw, err := os.ReadFile(name)
		if err != nil {
			continue
		}
		_, rest, _ := strings.Cut(string(raw[max(0, strings.LastIndexByte(string(raw), ')')):]), " ")
		if f := strings.Fields(rest); len(f) > 1 && f[1] == strconv.Itoa(pid) {
			if child, err := strconv.Atoi(filepath.Base(filepath.Dir(name))); err == nil {
				out = append(out, child)
			}
		}
	}
	return out
}

// Become fences this process in and becomes the program of cfg.
func Become(cfg Config) error {
	if err := fenceIn(cfg); err != nil {
		return err
	}
	return fmt.Errorf("start %s: %w", cfg.Command[0], syscall.Exec(cfg.Command[0], cfg.Command, cfg.Env))
}
