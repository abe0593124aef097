// Package supply brings hosts what they need for an interface: it takes driver
// sets in, finds the one that fits a device, and installs it on the device's
// host, with consent only.
package supply

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"time"

	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/core/sets"
	"earlybench.invalid/earlybench/internal/host"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/store"
)

// bindWithin is how long a host may take until the driver is seen to be bound.
const bindWithin = 20 * time.Second

// Supply is the use case. All fields are needed.
type Supply struct {
	Store *store.Store
	Files store.Files
	Rack  *keeper.Rack
	Hosts *host.Hosts
	Jobs  *job.Runner
}

// ErrRefused is a driver set that cannot be taken in.
var ErrRefused = errors.New("the driver set is refused")

// Add takes a driver set's file in.
func (s *Supply) Add(ctx context.Context, raw []byte) (store.DriverSet, error) {
	set, err := sets.Open(bytes.NewReader(raw), int64(len(raw)))
	if err != nil {
		return store.DriverSet{}, fmt.Errorf("%w: %w", ErrRefused, err)
	}
	digest, _, err := s.Files.Put(bytes.NewReader(raw))
	if err != nil {
		return store.DriverSet{}, err
	}
	d := store.DriverSet{Digest: digest, Manifest: *set.About}
	if err := s.Store.SaveDriverSet(ctx, d); err != nil {
		return d, fmt.Errorf("keep the driver set: %w", err)
	}
	return d, s.Rack.SetsChanged(ctx)
}

// Install starts the job that installs the set that fits a device on the host
// on which it hangs. accept is the digest of the set to which the person has
// consented; it must be just that one.
func (s *Supply) Install(ctx context.Context, handle, accept string) (job.Job, error) {
	k, err := s.Rack.Find(handle)
	if err != nil {
		return job.Job{}, err
	}
	now := k.Look(ctx, "")
	switch {
	case now.At == nil:
		return job.Job{}, now.Blocked()
	case now.Offered == nil:
		return job.Job{}, &job.Problem{Kind: job.Blocked, Gate: "driver", Text: fmt.Sprintf("No driver set here fits %s.", handle),
			Remedy: "Add one: earlybench sets add FILE."}
	case accept == "":
		return job.Job{}, &job.Problem{Kind: job.Person, Gate: "driver",
			Text:   fmt.Sprintf("Driver set %s %s is to be installed on host %s, which needs your consent.", now.Offered.Manifest.Name, now.Offered.Manifest.Version, now.At.Host.Name),
			Remedy: "Consent with --accept " + now.Offered.Digest + "."}
	case accept != now.Offered.Digest:
		return job.Job{}, &job.Problem{Kind: job.Refused, Gate: "driver", Text: "What was consented to is not the driver set that fits now: its digest is " + now.Offered.Digest + ".",
			Remedy: "Look at it again, then consent to that one."}
	}
	title := fmt.Sprintf("Install %s on %s", now.Offered.Manifest.Name, now.At.Host.Name)
	release, err := k.Lease(title)
	if err != nil {
		return job.Job{}, err
	}
	j, err := s.Jobs.Start(ctx, "driver.install", title, handle, []string{"copy", "install", "bind"}, func(ctx context.Context, run *job.Run) (any, error) {
		defer release()
		return nil, s.install(ctx, run, k, *now.Offered, now.At.Host.Name)
	})
	if err != nil {
		release()
	}
	return j, err
}

func (s *Supply) install(ctx context.Context, run *job.Run, k *keeper.Keeper, d store.DriverSet, hostName string) error {
	path := s.Files.Path(d.Digest)
	info, err := os.Stat(path)
	if err != nil {
		return fmt.Errorf("the driver set's file is gone: %w", err)
	}
	run.Phase("copy", info.Size())
	if _, err := s.Hosts.Install(ctx, hostName, d.Digest, path, func(n int64) {
		if run.Progress(n); n == info.Size() {
			run.Phase("install", 0)
		}
	}); err != nil {
		return err
	}
	run.Phase("bind", 0)
	ctx, cancel := context.WithTimeout(ctx, bindWithin)
	defer cancel()
	for {
		changed := s.Store.Changed()
		now := k.Look(ctx, "")
		if f, ok := now.View.Get(fact.DriverBound, now.Now); ok && f.Value.IsTrue() {
			return nil
		}
		select {
		case <-ctx.Done():
			return &job.Problem{Kind: job.Other, Gate: "driver", Text: "The set is installed, but the host did not bind it to the interface.",
				Remedy: "Pull the cable and plug it in again."}
		case <-changed:
		}
	}
}
