//go:build !linux

package safe

import "os/exec"

func apart(*exec.Cmd) {}
