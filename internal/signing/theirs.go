package signing

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"strings"

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

// Handles reports whether a method is one of these.
func Handles(method string) bool {
	return strings.HasPrefix(method, "signer.") || strings.HasPrefix(method, "delivery.")
}

// Call answers a peer.
func (s *Signing) Call(ctx context.Context, from store.Peer, method string, params json.RawMessage) (any, error) {
	if !from.Rights.Signs {
		return nil, problem.Errorf(problem.Refused, "this bench does not sign for you")
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
			s.signs.forget(requested(in).id(from.Key))
			return nil, nil
		}
		return s.sign(from, in)
	case core.MethodDeliver, core.MethodDeliverLeave:
		in, err := decode[core.Deliver](params)
		if err != nil {
			return nil, err
		}
		if method == core.MethodDeliverLeave {
			s.deliveries.forget(deliveryID(from.Key, in))
			return nil, nil
		}
		return s.deliver(ctx, from, in)
	}
	return nil, problem.Errorf(problem.Unsupported, "this bench does not know %.60q", method)
}

func decode[T any](params json.RawMessage) (v T, err error) {
	if err := strict.JSON(params, &v); err != nil {
		return v, problem.Errorf(problem.Invalid, "the request cannot be read: %w", err)
	}
	return v, nil
}

func (in request) id(key string) string { return key + "\n" + in.Identity + "\n" + in.digest }

// request is what is to be signed, and its digest.
type request struct {
	core.Sign
	digest string
	onto   string // where the app is put then, in words; "" for nowhere
}

func requested(in core.Sign) request {
	sum := sha256.Sum256(in.Manifest)
	return request{Sign: in, digest: hex.EncodeToString(sum[:])}
}

// sign begins to ask for a signature, or tells how that is.
func (s *Signing) sign(from store.Peer, in core.Sign) (core.Signed, error) {
	m, err := appfile.ParseManifest(in.Manifest)
	if err != nil {
		return core.Signed{}, problem.Errorf(problem.Invalid, "the manifest was refused: %w", err)
	}
	r := requested(in)
	id := r.id(from.Key)
	answer, err := s.signs.begin(s.ctx, &s.work, from, id, core.Signed{State: core.SignWaits}, func(ctx context.Context, _ func(core.Signed)) core.Signed {
		signature, err := s.signNow(ctx, from, m, r)
		if err != nil {
			return core.Signed{State: core.SignRefused, Reason: reason(err)}
		}
		return core.Signed{State: core.SignDone, Signature: signature}
	})
	if answer.State == core.SignRefused { // asked for again, it is asked about again
		s.signs.forget(id)
	}
	return answer, err
}

// reason is an error as it is reported to a peer: without its remedy, which is for the people here.
func reason(err error) string {
	text := err.Error()
	if p, is := errors.AsType[*problem.Problem](err); is {
		text = p.Text
	}
	return plain.Cut(plain.Line(text), 300)
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
	key, err := s.cfg.Signer(ctx, r.Identity, safe.Use{Actor: "peer/" + from.Name, App: m.ID, Document: m.ID + " " + m.Version + " of " + from.Name + r.onto, Digest: r.digest, Unattended: r.Unattended})
	if err != nil {
		return signature, err
	}
	if p, still := s.cfg.Peers.ByKey(from.Key); !still || !p.Rights.Signs {
		return signature, errors.New("the right was withdrawn")
	}
	if m.Developer == nil || *m.Developer != key.Public() {
		return signature, errors.New("the manifest does not name the key that should sign it")
	}
	return key.SignManifest(r.Manifest)
}
