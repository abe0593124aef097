package bus

import (
	"cmp"
	"errors"
	"os"
	"os/user"
	"runtime"
	"strconv"
	"strings"

	"earlybench.invalid/earlybench/core/driver"
	"earlybench.invalid/earlybench/internal/bus/udev"
)

// Local says how this computer's own USB is watched. The zero value watches it where Linux
// shows it.
type Local struct {
	// Sys, Dev, Proc and Run are where the system's files are, if not in /sys, /dev, /proc and /run.
	Sys, Dev, Proc, Run string
	// Rules is where udev's rules files of people are, if not in [udev.Dir]; Spare is a directory
	// of the bench's own, for a file that it may not put there.
	Rules, Spare string
	// MadeUpEvents takes plug events of other programs than the kernel. It is for tests.
	MadeUpEvents bool
}

// rules is the rules file of this computer; nil on a system without one.
func (o Local) rules() *udev.Rules {
	if runtime.GOOS != "linux" {
		return nil
	}
	r := &udev.Rules{Dir: cmp.Or(o.Rules, udev.Dir), Spare: o.Spare, Sys: cmp.Or(o.Sys, "/sys"), Access: driver.Access{Seat: true}}
	if g, err := user.LookupGroupId(strconv.Itoa(os.Getgid())); err == nil {
		r.Access.Group = g.Name
	}
	return r
}

// NameOf makes a host's name of the computer's: lower-case letters, digits and hyphens,
// without its domain.
func NameOf(hostname func() (string, error)) string {
	given, err := hostname()
	if err != nil {
		given = ""
	}
	given, _, _ = strings.Cut(strings.ToLower(given), ".")
	name := strings.Trim(strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || r == '-' {
			return r
		}
		return '-'
	}, given), "-0123456789")
	if name == "" || given != "" && (given[0] < 'a' || given[0] > 'z') {
		name = strings.Trim("computer-"+name, "-")
	}
	return name[:min(len(name), 40)]
}

// ErrNoAccess is the error for a system on which the bench has no way to USB yet.
var ErrNoAccess = errors.New("the bench has no way to this system's own USB yet: use a host that exports its devices by USB/IP")
