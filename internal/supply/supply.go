// Package supply provides what devices need of the computer's side: driver sets, which are
// installed on hosts, and support packs, which are fetched from depots. Both with consent only.
package supply

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"sync"

	"earlybench.invalid/earlybench/core/bundle"
	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/driver"
	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/internal/bus"
	"earlybench.invalid/earlybench/internal/depot"
	"earlybench.invalid/earlybench/internal/facts"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/outlook"
	"earlybench.invalid/earlybench/internal/rack"
	"earlybench.invalid/earlybench/internal/store"
)

// Config is what the use case needs. All fields are needed.
type Config struct {
	Store   *store.Store
	Files   store.Files
	Book    *facts.Book
	Rack    *rack.Rack
	Outlook *outlook.Outlook
	Hosts   *bus.Hosts
	Depots  *depot.Depots
	Shelf   *driver.Shelf
	Jobs    *job.Runner
	Clock   clock.Clock
	Log     *slog.Logger
	// Changed is called when the driver sets on the shelf have changed.
	Changed func(context.Context)
}

// Supply is the use case. It is made by New, filled by Read, and observes which support
// packs are here while Run runs.
type Supply struct {
	Config
	wake        chan struct{}
	fetchingSet sync.Mutex // held while a driver set is fetched
	ruling      sync.Mutex // held while the rules file of this computer is changed

	mu       sync.Mutex
	packs    []store.SupportPack
	fetching map[string]string // id of the job by the digest of the file that it fetches
	dirty    map[*keeper.Keeper]bool
	all      bool // every device is dirty
}

// New makes the use case.
func New(cfg Config) *Supply {
	return &Supply{Config: cfg, wake: make(chan struct{}, 1), fetching: map[string]string{}, dirty: map[*keeper.Keeper]bool{}, all: true}
}

// Kinds returns the kinds of jobs of this use case.
func (s *Supply) Kinds() []job.Kind {
	return []job.Kind{{Name: KindInstall, Hold: s.hold, Run: s.install}, {Name: KindFetch, Hold: s.holdFetch, Run: s.fetch}}
}

// Read reads the driver sets and support packs on record. It is called before jobs go on.
func (s *Supply) Read(ctx context.Context) error {
	if err := s.readSets(ctx); err != nil {
		return err
	}
	return s.readPacks(ctx)
}

// readSets puts the driver sets on record on the shelf.
func (s *Supply) readSets(ctx context.Context) error {
	held, err := s.Store.DriverSets(ctx)
	if err != nil {
		return fmt.Errorf("read the driver sets: %w", err)
	}
	s.Shelf.Set(held)
	return nil
}

// argsOf reads a job's arguments.
func argsOf[T any](j job.Job) (a T, err error) {
	if err = json.Unmarshal(j.Args, &a); err != nil {
		err = fmt.Errorf("read the job's arguments: %w", err)
	}
	return a, err
}

// digestOf is the SHA-256 of a text in hexadecimal; "" for none.
func digestOf(text string) string {
	if text == "" {
		return ""
	}
	return bundle.Digest([]byte(text))
}
