package rawusb

import (
	"bufio"
	"encoding/hex"
	"fmt"
	"net"
	"net/netip"
	"os"
	"slices"
	"strconv"
	"strings"
)

// Supported says whether this system can tell which user a connection on this computer belongs to; otherwise nothing is offered.
const Supported = true

// ownUsers are the users who may use what is borrowed: that of this program, and the administrator.
func ownUsers() []int { return []int{os.Geteuid(), 0} }

// userOf is the user whose program holds the other end of a TCP connection on this computer, as the kernel lists it
// (proc_net_tcp.rst).
func userOf(c net.Conn) (int, error) {
	far, err := netip.ParseAddrPort(c.RemoteAddr().String())
	if err != nil {
		return 0, err
	}
	near, err := netip.ParseAddrPort(c.LocalAddr().String())
	if err != nil {
		return 0, err
	}
	f, err := os.Open("/proc/self/net/tcp")
	if err != nil {
		return 0, err
	}
	defer f.Close()
	for lines := bufio.NewScanner(f); lines.Scan(); {
		parts := strings.Fields(lines.Text())
		if len(parts) > 7 && parts[1] == listed(far) && parts[2] == listed(near) {
			return strconv.Atoi(parts[7])
		}
	}
	return 0, fmt.Errorf("the system does not list the connection from %s", far)
}

// listed is an IPv4 address with its port as the kernel lists it, on a little-endian computer.
func listed(a netip.AddrPort) string {
	b := a.Addr().Unmap().As4()
	slices.Reverse(b[:])
	return strings.ToUpper(hex.EncodeToString(b[:])) + fmt.Sprintf(":%04X", a.Port())
}
