// Package signing has the apps of this bench signed at peers, and signs those of peers here (docs/formats/peer.md,
// "Signing"). A manifest goes there whole; who signs, and whether a person is asked, is the matter of the bench that has
// the key.
package signing

import (
	"context"
	"crypto/x509"
	"log/slog"
	"sync"

	"earlybench.invalid/earlybench/core/appfile"
	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/developer"
	"earlybench.invalid/earlybench/internal/facts"
	"earlybench.invalid/earlybench/internal/peer"
	"earlybench.invalid/earlybench/internal/safe"
	"earlybench.invalid/earlybench/internal/store"
)

// Config is what signing needs. All fields are needed.
type Config struct {
	Store *store.Store
	Peers *peer.Peers
	// Signer is what signs at this bench, once that is allowed: the identity of that name, or the development key if it is "".
	Signer func(ctx context.Context, identity string, use safe.Use) (appfile.Signer, error)
	// Public is the key of that, and its certificate; nil for the development key.
	Public func(ctx context.Context, identity string) (developer.Public, *x509.Certificate, error)
	// Identities are those by which this bench's apps are signed, by app.
	Identities func(ctx context.Context) (map[string]string, error)
	Book       *facts.Book
	// Locked reports whether the safe is locked.
	Locked func() bool
	Bench  func() string // this bench's name
	Clock  clock.Clock
	Log    *slog.Logger
}

// Signing is made by New, and ends with Close.
type Signing struct {
	cfg  Config
	ctx  context.Context
	end  context.CancelFunc
	work sync.WaitGroup

	wake chan struct{}

	mu   sync.Mutex
	asks map[string]*ask // of peers, by who asks for what
}

// New makes it.
func New(cfg Config) *Signing {
	s := &Signing{cfg: cfg, wake: make(chan struct{}, 1), asks: map[string]*ask{}}
	s.ctx, s.end = context.WithCancel(context.Background())
	return s
}

// Close ends what is being asked here.
func (s *Signing) Close() {
	s.end()
	s.work.Wait()
}
