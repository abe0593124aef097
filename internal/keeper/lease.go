package keeper

import (
	"fmt"
	"slices"
	"strings"

	"earlybench.invalid/earlybench/core/problem"
)

// Mode is how a piece of work has the device.
type Mode int

// The modes. Work that changes the device, or whose outcome others would disturb,
// has it alone; work that others may do beside it shares it.
const (
	Exclusive Mode = iota
	Shared
)

type lease struct {
	title string
	mode  Mode
}

// Lease gives a piece of work the device; release gives it back, once. A device
// that is leased otherwise is a problem that says by what.
func (k *Keeper) Lease(title string, mode Mode) (release func(), err error) {
	k.mu.Lock()
	for _, l := range k.leases {
		if l.mode == Exclusive || mode == Exclusive {
			handle := k.device.Handle
			k.mu.Unlock()
			return nil, &problem.Problem{Kind: problem.Blocked, Text: fmt.Sprintf("%s is busy: %s.", handle, l.title), Remedy: "Wait for that to end, or stop it."}
		}
	}
	mine := &lease{title, mode}
	k.leases = append(k.leases, mine)
	k.mu.Unlock()
	k.tell()
	return func() {
		k.mu.Lock()
		k.leases = slices.DeleteFunc(k.leases, func(l *lease) bool { return l == mine })
		k.mu.Unlock()
		k.tell()
	}, nil
}

// Working is the titles of the work that has the device; "" if none has.
func (k *Keeper) Working() string {
	k.mu.Lock()
	defer k.mu.Unlock()
	var titles []string
	for _, l := range k.leases {
		titles = append(titles, l.title)
	}
	return strings.Join(titles, "; ")
}
