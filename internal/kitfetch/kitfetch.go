// Package kitfetch fetches kits that builds need from peers, file by file and by their digests, and shares those of this
// bench with the peers that may have them (docs/formats/peer.md, "Kits").
package kitfetch

import (
	"context"
	"log/slog"
	"os"
	"sync"
	"time"

	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/internal/kits"
	"earlybench.invalid/earlybench/internal/peer"
)

// Config is what it needs. All fields are needed.
type Config struct {
	Kits  *kits.Kits
	Peers *peer.Peers
	Jobs  *job.Runner
	Dir   string        // the bench's own directory of kits
	Work  string        // for what is coming; on the same file system
	Bench func() string // this bench's name
	Log   *slog.Logger
}

// Fetching is made by New, and ends with Close.
type Fetching struct {
	cfg  Config
	ctx  context.Context
	end  context.CancelFunc
	work sync.WaitGroup
	turn chan struct{} // one slot: one kit is fetched at a time

	mu      sync.Mutex
	listed  map[string]*listed // by the copy's directory
	reading map[string]chan struct{}
}

// leftFor is how long a partly fetched kit is kept without progress.
const leftFor = 30 * 24 * time.Hour

// New makes it.
func New(cfg Config) *Fetching {
	f := &Fetching{cfg: cfg, turn: make(chan struct{}, 1), listed: map[string]*listed{}, reading: map[string]chan struct{}{}}
	f.ctx, f.end = context.WithCancel(context.Background())
	if info, err := os.Stat(cfg.Work); err == nil && time.Since(info.ModTime()) > leftFor {
		os.RemoveAll(cfg.Work) //nolint:errcheck // it is tried again at the next start
	}
	return f
}

// Close ends what is being read.
func (f *Fetching) Close() {
	f.end()
	f.work.Wait()
}
