package signing

import (
	"context"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"earlybench.invalid/earlybench/core/appfile"
	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/cms"
	"earlybench.invalid/earlybench/core/developer"
	core "earlybench.invalid/earlybench/core/peer"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/peer"
	"earlybench.invalid/earlybench/internal/safe"
)

// This file lets peers sign the apps of this bench.

// setting is where the key of an identity is saved, so that readiness does not have to ask.
func setting(identity string) string { return "signer." + identity }

// Known is the last known key that signs as an identity of a peer; false if it is not known.
func (s *Signing) Known(ctx context.Context, identity string) (key developer.Public, ok bool) {
	text, err := s.cfg.Store.Setting(ctx, setting(identity))
	return key, err == nil && text != "" && json.Unmarshal([]byte(text), &key) == nil
}

// Look asks a peer for the key of one of its identities, and saves it.
func (s *Signing) Look(ctx context.Context, identity string) (core.SignerLooked, error) {
	name, at := appfile.SplitIdentity(identity)
	var out core.SignerLooked
	if _, err := s.cfg.Peers.Find(at); err != nil {
		return out, err
	}
	if err := s.cfg.Peers.Ask(ctx, at, core.MethodSignerLook, core.SignerRef{Identity: name}, &out); err != nil {
		return out, s.says(at, err)
	}
	if err := out.Developer.Check(); err != nil {
		return out, problem.Errorf(problem.Failed, "%s sent an invalid key: %w", at, err)
	}
	if name != "" {
		c, err := x509.ParseCertificate(out.Certificate)
		if err != nil {
			return out, problem.Errorf(problem.Failed, "%s sent an invalid certificate: %w", at, err)
		}
		if public, err := developer.PublicOf(c.PublicKey); err != nil || public != out.Developer {
			return out, problem.Errorf(problem.Failed, "%s sent a certificate for another key", at)
		}
	}
	raw, err := json.Marshal(out.Developer)
	if err != nil {
		return out, err
	}
	if before, err := s.cfg.Store.Setting(ctx, setting(identity)); err == nil && before == string(raw) {
		return out, nil
	}
	return out, s.cfg.Store.SetSetting(ctx, setting(identity), string(raw))
}

// says adds to a refusal which peer refused.
func (s *Signing) says(at string, err error) error {
	p, is := errors.AsType[*problem.Problem](err)
	if is && p.Remedy == "" {
		return &problem.Problem{Kind: p.Kind, Text: fmt.Sprintf("%s does not sign for this bench: %s.", at, strings.TrimSuffix(p.Text, ".")), Remedy: "Its owner can allow it there: earlybench peer set " + s.cfg.Bench() + " --sign"}
	}
	return err
}

// Signer signs as an identity of a peer. It asks the peer when it signs.
func (s *Signing) Signer(ctx context.Context, identity string, use safe.Use) (appfile.Signer, error) {
	looked, err := s.Look(ctx, identity)
	if err != nil {
		return nil, err
	}
	name, at := appfile.SplitIdentity(identity)
	if looked.Locked && use.Unattended {
		return nil, problem.Errorf(problem.Person, "the safe of %s is locked, and somebody must open it", at)
	}
	return &far{signing: s, ctx: ctx, peer: at, identity: name, use: use, looked: looked}, nil
}

// far signs at a peer.
type far struct {
	signing  *Signing
	ctx      context.Context // an appfile.Signer takes none when it signs
	peer     string
	identity string
	use      safe.Use
	looked   core.SignerLooked
}

// Public is its key.
func (f *far) Public() developer.Public { return f.looked.Developer }

const (
	askEvery   = time.Second
	signWithin = safe.ConsentWithin + 30*time.Second
)

// SignManifest lets a manifest be signed, and checks the result.
func (f *far) SignManifest(manifest []byte) (developer.Signature, error) {
	ctx, cancel := context.WithTimeoutCause(f.ctx, signWithin, fmt.Errorf("%s did not sign it within %s", f.peer, signWithin))
	defer cancel()
	in := core.Sign{Identity: f.identity, Manifest: manifest, Unattended: f.use.Unattended}
	out, err := f.wait(ctx, in)
	if err != nil {
		f.signing.leave(f.ctx, f.peer, core.MethodSignerLeave, in)
		return developer.Signature{}, err
	}
	m, err := appfile.ParseManifest(manifest)
	if err == nil {
		err = m.CheckSignature(manifest, out.Signature)
	}
	if err == nil && f.identity != "" {
		err = f.certified(manifest, out.Signature)
	}
	if err != nil {
		return developer.Signature{}, problem.Errorf(problem.Failed, "the signature of %s is not valid: %w", f.peer, err)
	}
	return out.Signature, nil
}

// wait asks until it is signed or refused, across interruptions of the connection.
func (f *far) wait(ctx context.Context, in core.Sign) (out core.Signed, err error) {
	said := false
	for {
		err := f.signing.cfg.Peers.Ask(ctx, f.peer, core.MethodSignerSign, in, &out)
		switch {
		case ctx.Err() != nil:
			return out, context.Cause(ctx)
		case err != nil && problem.KindOf(err) != problem.Unavailable:
			return out, f.signing.says(f.peer, err)
		case err == nil && out.State == core.SignDone:
			return out, nil
		case err == nil && out.State == core.SignRefused:
			return out, problem.Errorf(problem.Refused, "%s did not sign it: %s", f.peer, out.Reason)
		case err == nil && !said && f.use.Asking != nil:
			said = true
			f.use.Asking(fmt.Sprintf("Somebody at %s must consent to signing it", f.peer))
			defer f.use.Asking("")
		}
		if err := clock.Sleep(ctx, clock.System{}, askEvery); err != nil {
			return out, context.Cause(ctx)
		}
	}
}

// leave tells a peer that the request is cancelled.
func (s *Signing) leave(ctx context.Context, at, method string, in any) {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	s.cfg.Peers.Ask(ctx, at, method, in, nil) //nolint:errcheck // it ends by itself over there, too
}

// certified checks that it was signed by the known identity.
func (f *far) certified(manifest []byte, s developer.Signature) error {
	c, err := cms.Verify(manifest, s.CMS)
	if err != nil {
		return err
	}
	if string(c.Raw) != string(f.looked.Certificate) {
		return errors.New("it is signed with another identity")
	}
	return nil
}

// Check looks from end to end, but for a person's consent, whether a peer would sign the apps that are signed there.
func (s *Signing) Check(ctx context.Context, name string) (points []peer.Point, err error) {
	all, err := s.cfg.Identities(ctx)
	if err != nil {
		return nil, err
	}
	looked := map[string]bool{}
	for _, app := range slices.Sorted(maps.Keys(all)) {
		identity := all[app]
		if _, at := appfile.SplitIdentity(identity); at != name || looked[identity] {
			continue
		}
		looked[identity] = true
		points = append(points, s.check(ctx, identity))
	}
	return points, nil
}

func (s *Signing) check(ctx context.Context, identity string) peer.Point {
	name, at := appfile.SplitIdentity(identity)
	if name == "" {
		name = "its development key"
	}
	p := peer.Point{Name: "signer"}
	switch looked, err := s.Look(ctx, identity); {
	case err != nil:
		said := problem.Of(err)
		p.Wrong, p.Remedy = strings.TrimSuffix(said.Text, "."), said.Remedy
	case looked.Locked:
		p.Wrong, p.Remedy = fmt.Sprintf("%s would sign with %s, but its safe is locked", at, name), "Somebody there must open it: earlybench safe unlock"
	default:
		p.Note = fmt.Sprintf("it signs with %s, %s, once a person or a rule there consents", name, looked.Developer.Thumbprint())
	}
	return p
}
