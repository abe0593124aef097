package board

import (
	"os/exec"
	"runtime"
	"syscall"
)

// run runs a command to its end. It is ended with this process, by the system: the thread that has started
// it stays for as long as it runs (PR_SET_PDEATHSIG).
func run(cmd *exec.Cmd, started chan<- error) {
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM}
	err := cmd.Start()
	started <- err
	if err == nil {
		cmd.Wait() //nolint:errcheck // it was ended, or says why it has ended
	}
}

// endGroup asks the processes of a group to end.
func endGroup(pid int) {
	syscall.Kill(-pid, syscall.SIGTERM) //nolint:errcheck // they may have ended
}
