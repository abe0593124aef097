package adapter

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"earlybench.invalid/earlybench/core/adapter"
	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/plain"
	"earlybench.invalid/earlybench/internal/fence"
	"earlybench.invalid/earlybench/internal/keeper"
)

// part is an adapter's program for one candidate.
type part struct {
	runner    *runner
	candidate candidate
	end       context.CancelFunc
	ended     chan struct{}

	// Guarded by the runner's mu.
	keeper  *keeper.Keeper // of the device that is reached; nil for none
	trouble string         // why the program does not run
}

// Pauses before a program that has ended is run again.
const (
	firstPause = time.Second
	mostPause  = time.Minute
	steady     = 30 * time.Second // one that ran this long was a good one
	fitFrom    = 50               // a candidate that fits by this much is a device of the adapter's
)

// leave ends the part.
func (d *part) leave() {
	d.end()
	<-d.ended
}

// errNotOurs is the error for a candidate that is not one of the adapter's devices.
var errNotOurs = errors.New("it is not a device of this adapter")

// run runs the program again and again, unless it says that the candidate is not one of its devices.
func (d *part) run(ctx context.Context) {
	for pause := firstPause; ctx.Err() == nil; pause = min(2*pause, mostPause) {
		began := time.Now()
		err := d.once(ctx)
		switch {
		case ctx.Err() != nil:
			return
		case errors.Is(err, errNotOurs):
			d.now(nil, "")
			return
		case err == nil: // the device has gone, and the candidate is still there
			d.now(nil, "")
		default:
			d.now(nil, plain.Cut(plain.Line(err.Error()), 300))
			d.runner.adapters.cfg.Log.Warn("an adapter has ended", "adapter", d.runner.manifest.Adapter, "at", d.candidate.Device, "error", err)
		}
		if time.Since(began) > steady {
			pause = firstPause
		}
		if clock.Sleep(ctx, clock.System{}, pause) != nil {
			return
		}
	}
}

// now records how it is.
func (d *part) now(k *keeper.Keeper, trouble string) {
	d.runner.mu.Lock()
	d.keeper, d.trouble = k, trouble
	d.runner.mu.Unlock()
	d.runner.adapters.tell()
}

// once runs the program until it ends, the device has gone, or ctx ends.
func (d *part) once(ctx context.Context) error {
	r := d.runner
	cfg, hello, err := d.fence()
	if err != nil {
		return err
	}
	p, err := fence.Start(cfg, r.says)
	if err != nil {
		return err
	}
	defer p.Close()
	a, err := adapter.Begin(ctx, p, hello, func(text string) { r.says("wrong: " + text) })
	if err != nil {
		return howItEnded(p, err)
	}
	defer a.Close()
	r.mu.Lock()
	r.version = plain.Cut(plain.Line(a.Version), 40)
	r.mu.Unlock()
	fit, err := a.Look(ctx, d.candidate.Candidate)
	if err != nil {
		return howItEnded(p, err)
	}
	if fit.Fit < fitFrom {
		return errNotOurs
	}
	k, err := r.adapters.cfg.Present(ctx, r.family, fit.Model, fit.Serial, d.place())
	if err != nil {
		return err
	}
	w := newWay(d, a, k, r.adapters.number())
	d.now(k, "")
	k.Reach(w)
	select {
	case <-w.began:
	case <-time.After(firstPause):
		return errors.New("its device was just removed from the rack")
	}
	select {
	case <-ctx.Done():
	case <-w.done:
	}
	w.stop()
	<-w.done
	select {
	case <-a.Done():
		return howItEnded(p, a.Err())
	default:
		return nil
	}
}

// howItEnded is how an adapter's program ended, if that says more than err.
func howItEnded(p *fence.Process, err error) error {
	select {
	case <-p.Ended():
	case <-time.After(500 * time.Millisecond): // its output may end before it
	}
	if state := p.Err(); state != nil {
		return errors.Join(err, fmt.Errorf("its program has ended: %w", state))
	}
	if err == nil {
		err = errors.New("it exited by itself")
	}
	return err
}

// fence is how the program is run, and what it is greeted with.
func (d *part) fence() (fence.Config, adapter.Hello, error) {
	r := d.runner
	base := filepath.Join(r.adapters.cfg.Work, r.manifest.Adapter, d.directory())
	hello := adapter.Hello{Bench: r.adapters.cfg.Bench(), Work: filepath.Join(base, "own"), Given: filepath.Join(base, "given")}
	if err := errors.Join(os.MkdirAll(hello.Work, 0o700), os.MkdirAll(hello.Given, 0o700)); err != nil {
		return fence.Config{}, hello, fmt.Errorf("make the adapter's directory: %w", err)
	}
	return fence.Around(r.manifest.Command, r.dir, hello.Work, hello.Given, d.candidate.Files(), append(d.candidate.Ports(), r.manifest.Rights.Connect...)), hello, nil
}

// place is where the adapter reaches the device, for people.
func (d *part) place() string { return d.runner.manifest.Adapter + " " + d.candidate.Device }

// directory is the name of the adapter's directory for the candidate. Names on a network can be chosen by anybody.
func (d *part) directory() string {
	if d.candidate.Kind == adapter.KindNetwork {
		sum := sha256.Sum256([]byte(d.candidate.Device))
		return "network_" + hex.EncodeToString(sum[:8])
	}
	return strings.NewReplacer("/", "_", " ", "_").Replace(strings.TrimPrefix(d.candidate.Device, "/"))
}
