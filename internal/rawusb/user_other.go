//go:build !linux

package rawusb

import (
	"errors"
	"net"
)

// Supported says whether this system can tell which user a connection on this computer belongs to; otherwise nothing is offered.
const Supported = false

func ownUsers() []int { return nil }

func userOf(net.Conn) (int, error) { return 0, errors.ErrUnsupported }
