// Package signing lets peers sign the apps of this bench, and signs those of peers here (docs/formats/peer.md,
// "Signing"). The complete manifest is sent; who signs, and whether a person is asked, is decided by the bench that has
// the key. Either the signature is returned, or the bench that signed installs the app on one of its devices
// ("Delivery").
package signing

import (
	"context"
	"crypto/x509"
	"io/fs"
	"log/slog"
	"sync"

	"earlybench.invalid/earlybench/core/appfile"
	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/developer"
	"earlybench.invalid/earlybench/core/job"
	core "earlybench.invalid/earlybench/core/peer"
	"earlybench.invalid/earlybench/internal/facts"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/peer"
	"earlybench.invalid/earlybench/internal/safe"
	"earlybench.invalid/earlybench/internal/store"
)

// Config is what signing needs. All fields are needed.
type Config struct {
	Store *store.Store
	Peers *peer.Peers
	// Signer signs at this bench, once that is allowed: with the identity of that name, or the development key if it is "".
	Signer func(ctx context.Context, identity string, use safe.Use) (appfile.Signer, error)
	// Public is the key of that, and its certificate; nil for the development key.
	Public func(ctx context.Context, identity string) (developer.Public, *x509.Certificate, error)
	// Identities are those by which this bench's apps are signed, by app.
	Identities func(ctx context.Context) (map[string]string, error)
	Book       *facts.Book
	Jobs       *job.Runner
	Apps       Apps
	// Visible is the device with a handle, if a peer may see it, and what it may do with it.
	Visible func(from store.Peer, handle string) (*keeper.Keeper, string, error)
	Dir     string // of the files that go to peers and come from them
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

	signs      asks[core.Signed]    // of peers
	deliveries asks[core.Delivered] // of peers

	mu      sync.Mutex
	offers  map[string]*offer        // what goes to peers, by id of the job
	getting map[string]chan struct{} // one slot each: whoever gets files of a peer, by its key
}

// Apps builds apps, and puts them onto devices of this bench.
type Apps interface {
	// Project reads the project of an app, as one of its builds says.
	Project(ctx context.Context, app, build string) (*appfile.Project, error)
	// BuildFor builds an app as a phase of a job.
	BuildFor(ctx context.Context, run *job.Run, app, build string, unattended bool) (*appfile.Project, error)
	// CanTake returns the problem that stands in the way of an app on a device.
	CanTake(ctx context.Context, k *keeper.Keeper, m *appfile.Manifest, certified bool) error
	// Assemble makes the app file of a manifest that was signed, and takes it in.
	Assemble(ctx context.Context, manifest []byte, s developer.Signature, root fs.FS) (store.AppFile, error)
	// Put starts to install an app file on a device, and returns the id of the job. A job that was started under the mark before, and
	// is running or has just ended, is not started again.
	Put(ctx context.Context, mark, file string, in core.Deliver, actor string) (job string, err error)
	// Begun is the job that was started under a mark; "" for none.
	Begun(ctx context.Context, mark string) (job string, err error)
	// HowIsIt returns the progress of a job of Put.
	HowIsIt(ctx context.Context, job string) (core.Delivered, error)
	// Stop stops it.
	Stop(job string)
}

// New makes it.
func New(cfg Config) *Signing {
	s := &Signing{cfg: cfg, wake: make(chan struct{}, 1), offers: map[string]*offer{}, getting: map[string]chan struct{}{}}
	s.ctx, s.end = context.WithCancel(context.Background())
	return s
}

// Close ends the requests in progress.
func (s *Signing) Close() {
	s.end()
	s.work.Wait()
}
