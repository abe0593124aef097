package signing

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"strings"
	"time"

	"earlybench.invalid/earlybench/core/appfile"
	"earlybench.invalid/earlybench/core/developer"
	core "earlybench.invalid/earlybench/core/peer"
	"earlybench.invalid/earlybench/core/plain"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/core/strict"
	"earlybench.invalid/earlybench/internal/safe"
	"earlybench.invalid/earlybench/internal/store"
)

// This file signs the apps of peers.

const (
	mostAsks = 5                // that wait for a consent, of a peer
	keptFor  = 10 * time.Minute // for how long a signature is told again, should its answer have been lost
)

// ask is what a peer wants signed.
type ask struct {
	of     string // key of the peer
	leave  context.CancelFunc
	done   bool
	since  time.Time // when it was done
	answer core.Signed
}

// Handles reports whether a method is one of these.
func Handles(method string) bool { return strings.HasPrefix(method, "signer.") }

// Call answers a peer.
func (s *Signing) Call(ctx context.Context, from store.Peer, method string, params json.RawMessage) (any, error) {
	if !from.Rights.Signs {
		return nil, problem.Errorf(problem.Refused, "this bench signs nothing for you")
	}
	switch method {
	case core.MethodSignerLook:
		ref, err := decode[core.SignerRef](params)
		if err != nil {
			return nil, err
		}
		public, certificate, err := s.cfg.Public(ctx, ref.Identity)
		if err != nil {
			return nil, err
		}
		looked := core.SignerLooked{Developer: public, Locked: s.cfg.Locked()}
		if certificate != nil {
			looked.Certificate = certificate.Raw
		}
		return looked, nil
	case core.MethodSignerSign, core.MethodSignerLeave:
		in, err := decode[core.Sign](params)
		if err != nil {
			return nil, err
		}
		if method == core.MethodSignerLeave {
			s.left(from, in)
			return nil, nil
		}
		return s.sign(from, in)
	}
	return nil, problem.Errorf(problem.Unsupported, "this bench does not know %.60q", method)
}

func decode[T any](params json.RawMessage) (v T, err error) {
	if err := strict.JSON(params, &v); err != nil {
		return v, problem.Errorf(problem.Invalid, "what was asked for cannot be read: %w", err)
	}
	return v, nil
}

func (in request) id(key string) string { return key + "\n" + in.Identity + "\n" + in.digest }

// request is what is to be signed, and its digest.
type request struct {
	core.Sign
	digest string
}

func requested(in core.Sign) request {
	sum := sha256.Sum256(in.Manifest)
	return request{in, hex.EncodeToString(sum[:])}
}

// sign begins to ask for a signature, or tells how that is.
func (s *Signing) sign(from store.Peer, in core.Sign) (core.Signed, error) {
	m, err := appfile.ParseManifest(in.Manifest)
	if err != nil {
		return core.Signed{}, problem.Errorf(problem.Invalid, "the manifest is refused: %w", err)
	}
	r := requested(in)
	id := r.id(from.Key)
	s.mu.Lock()
	defer s.mu.Unlock()
	waiting := 0
	for other, a := range s.asks {
		if a.done && time.Since(a.since) > keptFor {
			delete(s.asks, other)
		} else if !a.done && a.of == from.Key {
			waiting++
		}
	}
	if a := s.asks[id]; a != nil {
		if a.done && a.answer.State == core.SignRefused { // asked again, it is asked about again
			delete(s.asks, id)
		}
		return a.answer, nil
	}
	switch {
	case s.ctx.Err() != nil:
		return core.Signed{}, problem.Errorf(problem.Unavailable, "this bench ends just now")
	case waiting >= mostAsks:
		return core.Signed{}, problem.Errorf(problem.Refused, "%d requests of yours wait for a consent already", waiting)
	}
	ctx, cancel := context.WithCancel(s.ctx)
	a := &ask{of: from.Key, leave: cancel, answer: core.Signed{State: core.SignWaits}}
	s.asks[id] = a
	s.work.Go(func() {
		defer cancel()
		signature, err := s.signNow(ctx, from, m, r)
		s.mu.Lock()
		defer s.mu.Unlock()
		a.done, a.since = true, time.Now()
		if a.answer = (core.Signed{State: core.SignDone, Signature: signature}); err != nil {
			a.answer = core.Signed{State: core.SignRefused, Reason: plain.Cut(plain.Line(err.Error()), 300)}
		}
	})
	return a.answer, nil
}

// signNow signs once that is allowed.
func (s *Signing) signNow(ctx context.Context, from store.Peer, m *appfile.Manifest, r request) (signature developer.Signature, err error) {
	outcome := 200
	defer func() {
		if err != nil {
			outcome = 403
		}
		failed := func(err error) { s.cfg.Log.Error("write the audit", "error", err) }
		id := s.cfg.Store.BeginAudit(store.AuditLine{At: s.cfg.Clock.Now(), Actor: "peer/" + from.Name, Operation: "sign-app", Subject: m.ID + " " + m.Version + " " + r.digest[:12]}, failed)
		s.cfg.Store.EndAudit(id, outcome, failed)
	}()
	key, err := s.cfg.Signer(ctx, r.Identity, safe.Use{Actor: "peer/" + from.Name, App: m.ID, Document: m.ID + " " + m.Version + " of " + from.Name, Digest: r.digest, Unattended: r.Unattended})
	if err != nil {
		return signature, err
	}
	if p, still := s.cfg.Peers.ByKey(from.Key); !still || !p.Rights.Signs {
		return signature, errors.New("the right to it was withdrawn")
	}
	if m.Developer == nil || *m.Developer != key.Public() {
		return signature, errors.New("the manifest does not name the key that is to sign it")
	}
	return key.SignManifest(r.Manifest)
}

// left ends asking for what a peer does not wait for any more.
func (s *Signing) left(from store.Peer, in core.Sign) {
	s.mu.Lock()
	defer s.mu.Unlock()
	id := requested(in).id(from.Key)
	if a := s.asks[id]; a != nil {
		a.leave()
		delete(s.asks, id)
	}
}
