//go:build !linux

package reed

import (
	"errors"
	"os"
)

// Line is a serial line.
type Line struct {
	*os.File
	Path string // of the other end
}

// OpenLine opens none: a stand-in's line needs Linux.
func OpenLine() (*Line, error) {
	return nil, errors.New("a stand-in's serial line needs Linux")
}
