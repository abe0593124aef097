//go:build unix

package demo

import "syscall"

// apart is for a child that Ctrl-C in the terminal does not reach: the demo ends it.
func apart() *syscall.SysProcAttr { return &syscall.SysProcAttr{Setpgid: true} }
