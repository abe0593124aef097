//go:build !linux

package rawusb

import (
	"errors"
	"net"
)

// Supported says that this system tells which user a connection on this computer is of, without which nothing is offered.
const Supported = false

func ownUsers() []int { return nil }

func userOf(net.Conn) (int, error) { return 0, errors.ErrUnsupported }
