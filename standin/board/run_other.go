//go:build !linux

package board

import (
	"errors"
	"os/exec"
)

// run runs nothing: a board needs Linux.
func run(_ *exec.Cmd, started chan<- error) {
	started <- errors.New("a board runs on Linux only")
}

func endGroup(int) {}
