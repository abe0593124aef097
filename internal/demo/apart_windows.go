package demo

import (
	"syscall"

	"golang.org/x/sys/windows"
)

// apart is for a child that Ctrl-C in the terminal does not reach: the demo ends it.
func apart() *syscall.SysProcAttr {
	return &syscall.SysProcAttr{CreationFlags: windows.CREATE_NEW_PROCESS_GROUP}
}
