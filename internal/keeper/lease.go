package keeper

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"earlybench.invalid/earlybench/core/job"
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

// reservation keeps the device for the work of one run.
type reservation struct{ id, title string }

// Lease reserves the device for a piece of work until release is called. If other work has
// it, the error names that work. A device that is being retired takes no work that changes it, and
// one that is reserved only what is done under that reservation (see [job.Reserved]).
func (k *Keeper) Lease(ctx context.Context, title string, mode Mode) (release func(), err error) {
	if mode == Exclusive && k.Retiring() {
		handle := k.Device().Handle
		return nil, &problem.Problem{Kind: problem.Blocked, Text: fmt.Sprintf("%s is being retired.", handle), Remedy: fmt.Sprintf("Cancel that first: earlybench retire %s --call-off.", handle)}
	}
	return k.lease(ctx, title, mode)
}

// LeaseToRetire reserves the device for the work that retires it.
func (k *Keeper) LeaseToRetire(ctx context.Context, title string) (release func(), err error) {
	return k.lease(ctx, title, Exclusive)
}

func (k *Keeper) lease(ctx context.Context, title string, mode Mode) (release func(), err error) {
	k.mu.Lock()
	if err := k.taken(job.Reservation(ctx), mode); err != nil {
		k.mu.Unlock()
		return nil, err
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

// taken is why work under a reservation cannot have the device now; nil if it can. The lock is held.
func (k *Keeper) taken(under string, mode Mode) error {
	handle := k.device.Handle
	if r := k.reserved; r != nil && r.id != under && mode == Exclusive {
		return &problem.Problem{Kind: problem.Blocked, Text: fmt.Sprintf("%s is reserved: %s.", handle, r.title), Remedy: "Wait until it is returned, or use another device. See the reservations: earlybench reservation"}
	}
	for _, l := range k.leases {
		if l.mode == Exclusive || mode == Exclusive {
			return &problem.Problem{Kind: problem.Blocked, Text: fmt.Sprintf("%s is busy: %s.", handle, l.title), Remedy: "Wait until that ends, or stop it."}
		}
	}
	return nil
}

// Reserve keeps the device for the work under a reservation, until release is called. While other work has the
// device, or another reservation, it returns an error, unless it is taken up again after the bench has ended.
func (k *Keeper) Reserve(id, title string, again bool) (release func(), err error) {
	k.mu.Lock()
	if r := k.reserved; r != nil || !again {
		if err := k.taken(id, Exclusive); err != nil {
			k.mu.Unlock()
			return nil, err
		}
	}
	mine := &reservation{id, title}
	k.reserved = mine
	k.mu.Unlock()
	k.tell()
	return func() {
		k.mu.Lock()
		if k.reserved == mine {
			k.reserved = nil
		}
		k.mu.Unlock()
		k.tell()
	}, nil
}

// Reserved says for what the device is reserved; "" for nothing.
func (k *Keeper) Reserved() string {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.reserved == nil {
		return ""
	}
	return k.reserved.title
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
