// Package endings collects what ends by itself, from all who know of something.
package endings

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/ending"
	"earlybench.invalid/earlybench/internal/store"
)

// Source knows of things that end.
type Source func(ctx context.Context) ([]ending.Term, error)

// Config is what endings need. All fields are needed.
type Config struct {
	Sources []Source
	Store   *store.Store
	Bench   func() string // the bench's name
	Clock   clock.Clock
	Log     *slog.Logger
}

// Endings is made by New, and tells of what ends soon while Run runs.
type Endings struct {
	cfg  Config
	wake chan struct{}

	mu      sync.Mutex
	trouble string // why a notice did not go out the last time
}

// New makes endings.
func New(cfg Config) *Endings { return &Endings{cfg: cfg, wake: make(chan struct{}, 1)} }

// All returns everything that ends, the soonest first, followed by what has no end.
func (e *Endings) All(ctx context.Context) ([]ending.Term, error) {
	var out []ending.Term
	for _, source := range e.cfg.Sources {
		terms, err := source(ctx)
		if err != nil {
			return nil, fmt.Errorf("collect what ends: %w", err)
		}
		out = append(out, terms...)
	}
	ending.Sort(out)
	return out, nil
}

// On tells what will not work at a time.
func (e *Endings) On(ctx context.Context, at time.Time) (ending.Forecast, error) {
	all, err := e.All(ctx)
	return ending.On(all, e.cfg.Clock.Now(), at), err
}

// keySetting is the secret in the calendar's address.
const keySetting = "calendar.key"

// CalendarKey is the secret in the address of the calendar; renew replaces it, so that the
// old address stops working.
func (e *Endings) CalendarKey(ctx context.Context, renew bool) (string, error) {
	key, err := e.cfg.Store.Setting(ctx, keySetting)
	if err != nil {
		return "", fmt.Errorf("read the calendar's key: %w", err)
	}
	if key != "" && !renew {
		return key, nil
	}
	key = rand.Text()
	return key, e.cfg.Store.SetSetting(ctx, keySetting, key)
}

// Calendar is the calendar, for who has the secret of its address.
func (e *Endings) Calendar(ctx context.Context, key string) ([]byte, error) {
	known, err := e.cfg.Store.Setting(ctx, keySetting)
	if err != nil || known == "" || subtle.ConstantTimeCompare([]byte(known), []byte(key)) != 1 {
		return nil, fmt.Errorf("calendar: %w", store.ErrNotFound)
	}
	id, err := e.cfg.Store.Setting(ctx, "bench.id") // so that two benches' ids are not the same
	if err != nil {
		return nil, fmt.Errorf("read the bench's id: %w", err)
	}
	all, err := e.All(ctx)
	if err != nil {
		return nil, err
	}
	return ending.Calendar(all, e.cfg.Bench(), "bench-"+id+".earlybench.invalid", e.cfg.Clock.Now()), nil
}
