//go:build unix && !linux

package spawn

import (
	"os/exec"
	"syscall"
)

// whole puts a program into a process group of its own, so that all of it can be killed.
func whole(cmd *exec.Cmd) {
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
}
