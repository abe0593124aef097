package safe

import (
	"os/exec"
	"syscall"
)

// apart keeps a terminal's Ctrl-C from the holder: it ends when the service closes its input,
// also when the service dies.
func apart(cmd *exec.Cmd) { cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} }
