package spawn

import (
	"os/exec"
	"syscall"
)

// whole puts a program into its own process group, so that all of it can be killed,
// and makes it die with us.
func whole(cmd *exec.Cmd) {
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGKILL}
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
}
