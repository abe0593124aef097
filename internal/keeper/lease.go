package keeper

import (
	"fmt"
	"slices"
	"strings"

	"earlybench.invalid/earlybench/core/problem"
)

// Mode says how a piece of work uses the device.
type Mode int

// The modes. Work that changes the device, or that other work would disturb, uses it
// alone; other work shares it.
const (
	Exclusive Mode = iota
	Shared
)

type lease struct {
	title string
	mode  Mode
}

// Lease reserves the device for a piece of work until release is called. If other work has
// it, the error names that work. A device that is being retired takes no work that changes it.
func (k *Keeper) Lease(title string, mode Mode) (release func(), err error) {
	if mode == Exclusive && k.Retiring() {
		handle := k.Device().Handle
		return nil, &problem.Problem{Kind: problem.Blocked, Text: fmt.Sprintf("%s is being retired.", handle), Remedy: fmt.Sprintf("Call that off first: earlybench retire %s --call-off.", handle)}
	}
	return k.lease(title, mode)
}

// LeaseToRetire reserves the device for the work that retires it.
func (k *Keeper) LeaseToRetire(title string) (release func(), err error) {
	return k.lease(title, Exclusive)
}

func (k *Keeper) lease(title string, mode Mode) (release func(), err error) {
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

// Working returns the titles of the work that uses the device; "" for none.
func (k *Keeper) Working() string {
	k.mu.Lock()
	defer k.mu.Unlock()
	var titles []string
	for _, l := range k.leases {
		titles = append(titles, l.title)
	}
	return strings.Join(titles, "; ")
}
