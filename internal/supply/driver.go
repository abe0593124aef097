package supply

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"time"

	"earlybench.invalid/earlybench/core/driver"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/store"
)

// bindWithin is how long a host may take to bind the driver; hostWithin is how long a
// resumed job waits for the host.
const (
	bindWithin = 20 * time.Second
	hostWithin = 2 * time.Minute
)

// KindInstall is the kind of job that installs a driver set.
const KindInstall = "driver.install"

// Add stores the file of a driver set.
func (s *Supply) Add(ctx context.Context, raw []byte) (store.DriverSet, error) {
	set, err := driver.Open(bytes.NewReader(raw), int64(len(raw)))
	if err != nil {
		return store.DriverSet{}, problem.Errorf(problem.Invalid, "the driver set is refused: %w", err)
	}
	digest, _, err := s.Files.Put(bytes.NewReader(raw))
	if err != nil {
		return store.DriverSet{}, err
	}
	d := store.DriverSet{Digest: digest, Manifest: *set.About}
	if err := s.Store.SaveDriverSet(ctx, d); err != nil {
		return d, fmt.Errorf("keep the driver set: %w", err)
	}
	if err := s.readSets(ctx); err != nil {
		return d, err
	}
	s.Changed(ctx)
	return d, nil
}

// Consent is a person's consent to a driver set for a device.
type Consent struct {
	Device   string // handle
	Accept   string // digest of the set
	Revision int64  // of the device on which it was decided; 0: on none
	Actor    string
}

// args are the arguments of the job.
type args struct {
	Device string `json:"device"` // id
	Host   string `json:"host"`
	Digest string `json:"digest"`
}

// Install starts the job that installs the driver set that fits a device on the host by
// which the device is reached. The digest in the consent must be that of this set.
func (s *Supply) Install(ctx context.Context, c Consent) (job.Job, error) {
	k, err := s.Rack.Find(c.Device)
	if err != nil {
		return job.Job{}, err
	}
	now := s.Outlook.Look(k, "")
	switch {
	case !now.Reached():
		return job.Job{}, now.Blocked()
	case now.Offered == nil:
		return job.Job{}, &problem.Problem{Kind: problem.Blocked, Gate: "driver", Text: fmt.Sprintf("No driver set here fits %s.", c.Device),
			Remedy: "Add one: earlybench driver add FILE."}
	case c.Accept == "":
		return job.Job{}, &problem.Problem{Kind: problem.Person, Gate: "driver",
			Text:   fmt.Sprintf("Driver set %s %s is to be installed on host %s, which needs your consent.", now.Offered.Manifest.Name, now.Offered.Manifest.Version, now.Host()),
			Remedy: "Consent with --accept " + now.Offered.Digest + "."}
	case c.Accept != now.Offered.Digest:
		return job.Job{}, &problem.Problem{Kind: problem.Refused, Gate: "driver", Text: "What was consented to is not the driver set that fits now: its digest is " + now.Offered.Digest + ".",
			Remedy: "Look at it again, then consent to that one."}
	}
	if err := s.Outlook.Check(k, c.Revision); err != nil {
		return job.Job{}, err
	}
	return s.Jobs.Start(ctx, job.New{Kind: KindInstall, Title: fmt.Sprintf("Install %s on %s", now.Offered.Manifest.Name, now.Host()), Device: c.Device,
		Subjects: []string{"device/" + now.Device.ID, "host/" + now.Host()}, Actor: c.Actor,
		Args: args{Device: now.Device.ID, Host: now.Host(), Digest: c.Accept}, Phases: []string{"copy", "install", "bind"}})
}

func (s *Supply) hold(_ context.Context, j job.Job) (func(), error) {
	a, err := argsOf[args](j)
	if err != nil {
		return nil, err
	}
	k := s.Rack.ByID(a.Device)
	if k == nil {
		return nil, fmt.Errorf("device %s: %w", j.Device, store.ErrNotFound)
	}
	return k.Lease(j.Title, keeper.Exclusive)
}

func (s *Supply) install(ctx context.Context, run *job.Run) (any, error) {
	var a args
	if err := run.Args(&a); err != nil {
		return nil, err
	}
	k := s.Rack.ByID(a.Device)
	path := s.Files.Path(a.Digest)
	info, err := os.Stat(path)
	if err != nil {
		return nil, fmt.Errorf("the driver set's file is gone: %w", err)
	}
	if run.Job().Begun > 1 {
		run.Note("waiting for " + a.Host)
		if err := s.Hosts.Await(ctx, a.Host, hostWithin); err != nil {
			return nil, err
		}
	}
	run.Phase("copy", info.Size())
	if _, err := s.Hosts.Install(ctx, a.Host, a.Digest, path, func(n int64) {
		if run.Progress(n); n == info.Size() {
			run.Phase("install", 0)
		}
	}); err != nil {
		return nil, err
	}
	run.Phase("bind", 0)
	return nil, s.bound(ctx, k)
}

// bound waits until the host has bound the driver.
func (s *Supply) bound(ctx context.Context, k *keeper.Keeper) error {
	ctx, cancel := context.WithTimeout(ctx, bindWithin)
	defer cancel()
	for {
		changed := s.Store.Changed()
		now := s.Outlook.Glance(k, "")
		if f, ok := now.View.Get(fact.DriverBound, now.Now); ok && f.Value.IsTrue() {
			return nil
		}
		select {
		case <-ctx.Done():
			if context.Cause(ctx) != context.DeadlineExceeded {
				return context.Cause(ctx)
			}
			return &problem.Problem{Kind: problem.Failed, Gate: "driver", Text: "The set is installed, but the host did not bind it to the interface.",
				Remedy: "Pull the cable and plug it in again."}
		case <-changed:
		}
	}
}
