package tryout

import (
	"os/exec"
	"syscall"
)

// killWhole puts a program into a process group of its own, so that all of it can be killed;
// and it dies with us.
func killWhole(cmd *exec.Cmd) {
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGKILL}
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
}
