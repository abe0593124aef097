package signing

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"earlybench.invalid/earlybench/core/appfile"
	"earlybench.invalid/earlybench/core/bundle"
	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/job"
	core "earlybench.invalid/earlybench/core/peer"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/peer"
	"earlybench.invalid/earlybench/internal/store"
)

// This file installs the apps of peers, signed by this bench, on its devices.

// deliveryID distinguishes a delivery from all others, including those of other benches.
func deliveryID(key string, in core.Deliver) string { return requested(in.Sign).id(key) + "\n" + in.ID }

// deliver begins to deliver an app, or tells how that is.
func (s *Signing) deliver(ctx context.Context, from store.Peer, in core.Deliver) (none core.Delivered, err error) {
	id := deliveryID(from.Key, in)
	if answer, ok := s.deliveries.known(id); ok {
		return answer, nil
	}
	m, err := appfile.ParseManifest(in.Manifest)
	if err != nil {
		return none, problem.Errorf(problem.Invalid, "the manifest was refused: %w", err)
	}
	if err := bounds(m, in); err != nil {
		return none, problem.Errorf(problem.Invalid, "the delivery was refused: %w", err)
	}
	k, may, err := s.cfg.Visible(from, in.Device)
	switch {
	case err != nil:
		return none, err
	case may != "use":
		return none, problem.Errorf(problem.Refused, "you may look at %s, but not use it", in.Device)
	}
	mark := "delivery/" + bundle.Digest([]byte(id))[:20]
	begun, err := s.cfg.Apps.Begun(ctx, mark) // before this service was started
	if err != nil {
		return none, err
	}
	if begun == "" {
		if err := s.cfg.Apps.CanTake(ctx, k, m, in.Identity != ""); err != nil {
			return none, err
		}
	}
	return s.deliveries.begin(s.ctx, &s.work, from, id, core.Delivered{State: core.DeliveryWaits}, func(ctx context.Context, say func(core.Delivered)) core.Delivered {
		return s.deliverNow(ctx, &errand{from: from, in: in, app: m, mark: mark, say: say}, begun)
	})
}

// bounds is an error if a request exceeds the limits.
func bounds(m *appfile.Manifest, in core.Deliver) error {
	if len(in.ID) < 8 || len(in.ID) > 64 {
		return errors.New("its id must have 8 to 64 characters")
	}
	if len(m.Files) > bundle.MaxFiles || m.Size() > bundle.MaxBytes {
		return bundle.ErrSize
	}
	for _, f := range m.Files {
		if err := f.Check(); err != nil {
			return err
		}
	}
	return appfile.Try{Log: in.Log, Within: in.Within}.Check()
}

// errand is a delivery for a peer.
type errand struct {
	from store.Peer
	in   core.Deliver
	app  *appfile.Manifest
	mark string
	say  func(core.Delivered)
}

// deliverNow delivers. begun is the job that was begun before, "" for none.
func (s *Signing) deliverNow(ctx context.Context, e *errand, begun string) (out core.Delivered) {
	failed := func(err error) { s.cfg.Log.Error("write the audit", "error", err) }
	line := s.cfg.Store.BeginAudit(store.AuditLine{At: s.cfg.Clock.Now(), Actor: "peer/" + e.from.Name, Operation: "deliver-app", Subject: e.app.ID + " " + e.app.Version + " " + e.in.Device}, failed)
	defer func() {
		outcome := map[string]int{core.DeliveryDone: 200, core.DeliveryRefused: 403}[out.State]
		if outcome == 0 {
			outcome = 500
		}
		s.cfg.Store.EndAudit(line, outcome, failed)
	}()
	if begun == "" {
		r := requested(e.in.Sign)
		r.onto = ", onto " + e.in.Device
		signature, err := s.signNow(ctx, e.from, e.app, r)
		if err != nil {
			return core.Delivered{State: core.DeliveryRefused, Reason: reason(err)}
		}
		root, err := s.get(ctx, e)
		if err != nil {
			return core.Delivered{State: core.DeliveryFailed, Reason: reason(err)}
		}
		e.say(core.Delivered{State: core.DeliveryPuts})
		file, err := s.cfg.Apps.Assemble(ctx, e.in.Manifest, signature, root)
		if err == nil {
			begun, err = s.cfg.Apps.Put(ctx, e.mark, file.Digest, e.in, "peer/"+e.from.Name)
		}
		if err != nil {
			return core.Delivered{State: core.DeliveryFailed, Reason: reason(err)}
		}
	}
	return s.follow(ctx, e, begun)
}

// follow reports the progress of installing an app on a device until that has ended.
func (s *Signing) follow(ctx context.Context, e *errand, id string) core.Delivered {
	for {
		now, err := s.cfg.Apps.HowIsIt(ctx, id)
		if err != nil && ctx.Err() == nil {
			return core.Delivered{State: core.DeliveryFailed, Reason: reason(err)}
		}
		if err == nil {
			if now.State != core.DeliveryPuts {
				return now
			}
			e.say(now)
		}
		if clock.Sleep(ctx, clock.System{}, 250*time.Millisecond) != nil {
			if s.ctx.Err() == nil { // nobody waits for it any more; otherwise it goes on with the next service
				s.cfg.Apps.Stop(id)
			}
			return core.Delivered{State: core.DeliveryFailed, Reason: job.ErrStopped.Error()}
		}
	}
}

// filesOf are the files that came from a peer. Only these count as being here for that peer: other files of this
// bench must not be revealed.
func (s *Signing) filesOf(key string) store.Files {
	return store.Files{Dir: filepath.Join(s.cfg.Dir, "in-"+bundle.Digest([]byte(key))[:20])}
}

// get gets the files that are not here, and returns where all are.
func (s *Signing) get(ctx context.Context, e *errand) (fs.FS, error) {
	s.mu.Lock()
	if s.getting[e.from.Key] == nil {
		s.getting[e.from.Key] = make(chan struct{}, 1)
	}
	turn := s.getting[e.from.Key]
	s.mu.Unlock()
	select {
	case turn <- struct{}{}:
		defer func() { <-turn }()
	case <-ctx.Done():
		return nil, context.Cause(ctx)
	}
	files, out := s.filesOf(e.from.Key), byDigest{}
	sizes := map[string]int64{}
	for _, f := range e.app.Files {
		path := files.Path(f.SHA256)
		out[f.Path] = path
		if _, err := os.Stat(path); err != nil {
			sizes[f.SHA256] = f.Size
			continue
		}
		now := s.cfg.Clock.Now()
		os.Chtimes(path, now, now) //nolint:errcheck // it would be dropped sooner
	}
	now := core.Delivered{State: core.DeliveryGets}
	for _, size := range sizes {
		now.Total += size
	}
	for digest, size := range sizes {
		before := now.Done
		e.say(now)
		if err := s.cfg.Peers.Fetch(ctx, e.from.Name, peer.File{Of: core.OfDelivery, Digest: digest, Size: size}, files, func(have int64) {
			now.Done = before + have
			e.say(now)
		}); err != nil {
			return nil, err
		}
		now.Done = before + size
	}
	return out, nil
}

// byDigest are files that lie under other names.
type byDigest map[string]string

// Open opens a file.
func (b byDigest) Open(name string) (fs.File, error) {
	path, ok := b[name]
	if !ok {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
	}
	return os.Open(path)
}
