package network

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"strings"
	"syscall"
	"time"

	"earlybench.invalid/earlybench/core/introduction"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/store"
)

// Records is where the ways over a network keep addresses; *store.Store is one.
type Records interface {
	Addresses(ctx context.Context) ([]store.Address, error)
	GiveAddress(ctx context.Context, address string, at time.Time) error
	DropAddress(ctx context.Context, address string) error
	Answered(ctx context.Context, address, device string, at time.Time) error
	Tell(ctx context.Context, event string, subjects ...string) error
}

// Rack is the devices on record, as these ways know it; *rack.Rack is one.
type Rack interface {
	All() []*keeper.Keeper
	CheckIntroduction(key string, d introduction.Description, as string) error
	Introduced(ctx context.Context, key string, d introduction.Description, as string) (*keeper.Keeper, error)
}

// Handles are the handles of the devices on a rack, by id.
func Handles(r Rack) map[string]string {
	out := map[string]string{}
	for _, k := range r.All() {
		d := k.Device()
		out[d.ID] = d.Handle
	}
	return out
}

// Sort puts entries in the order of their names, heard-9 before heard-10.
func Sort(all []Entry) {
	slices.SortFunc(all, func(x, y Entry) int {
		return cmp.Or(cmp.Compare(len(x.Name), len(y.Name)), strings.Compare(x.Name, y.Name))
	})
}

// Retired reports whether a device was retired. It does not come back by itself, but is introduced again, or
// plugged in.
func Retired(d store.Device) bool { return d.Retirement != nil && !d.Retirement.Ended.IsZero() }

// Trouble is an error of connecting in a few words for people.
func Trouble(err error) error {
	switch {
	case errors.Is(err, context.DeadlineExceeded):
		return errors.New("nobody answered in time")
	case errors.Is(err, syscall.ECONNREFUSED):
		return errors.New("nothing is listening there")
	case errors.Is(err, syscall.EHOSTUNREACH), errors.Is(err, syscall.ENETUNREACH):
		return errors.New("there is no route to it from this computer")
	}
	return err
}
