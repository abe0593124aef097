package belong

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"time"

	core "earlybench.invalid/earlybench/core/authority"
	"earlybench.invalid/earlybench/core/developer"
	"earlybench.invalid/earlybench/core/ending"
	"earlybench.invalid/earlybench/core/est"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/authority"
	"earlybench.invalid/earlybench/internal/safe"
	"earlybench.invalid/earlybench/internal/safe/holder"
	"earlybench.invalid/earlybench/internal/store"
)

// Identity is a signing identity as it is now.
type Identity struct {
	store.Identity
	Leaf *x509.Certificate
	// Elsewhere says that the certificate is known and its key is not here.
	Elsewhere bool
	Serial    string // hexadecimal
	Ends      time.Time
}

// Identities lists this bench's identities, followed by the certificates of the used
// account's crew whose keys are on other computers.
func (b *Belong) Identities(ctx context.Context) ([]Identity, error) {
	records, err := b.cfg.Store.Identities(ctx)
	if err != nil {
		return nil, fmt.Errorf("read the identities: %w", err)
	}
	var out []Identity
	known := map[string]bool{}
	for _, r := range records {
		i, err := identityOf(r)
		if err != nil {
			return nil, err
		}
		if at := b.revoked(i.Serial); i.Revoked.IsZero() {
			i.Revoked = at // elsewhere, by somebody of the crew
		}
		out = append(out, i)
		known[i.Serial] = true
		if former, err := x509.ParseCertificate(r.Former); err == nil {
			known[est.Serial(former)] = true
		}
	}
	a, err := b.Used()
	if err != nil {
		return out, nil //nolint:nilerr // without an account there are no others
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, c := range b.certificates {
		if !known[c.Serial] && c.Revoked.IsZero() && c.Ends.After(b.cfg.Clock.Now()) {
			out = append(out, Identity{Identity: store.Identity{Name: c.Subject, Authority: a.Authority, Crew: a.Crew}, Elsewhere: true, Serial: c.Serial, Ends: c.Ends})
		}
	}
	return out, nil
}

// revoked is when a certificate of the used account's crew was revoked; zero if it was not.
func (b *Belong) revoked(serial string) time.Time {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, c := range b.certificates {
		if c.Serial == serial {
			return c.Revoked
		}
	}
	return time.Time{}
}

func identityOf(r store.Identity) (Identity, error) {
	leaf, err := x509.ParseCertificate(r.Certificate)
	if err != nil {
		return Identity{}, fmt.Errorf("the certificate of identity %s: %w", r.Name, err)
	}
	return Identity{Identity: r, Leaf: leaf, Serial: est.Serial(leaf), Ends: leaf.NotAfter.UTC()}, nil
}

// Identity returns one of this bench's identities by its name.
func (b *Belong) Identity(ctx context.Context, name string) (Identity, error) {
	all, err := b.Identities(ctx)
	if err != nil {
		return Identity{}, err
	}
	for _, i := range all {
		if i.Name == name && i.Elsewhere {
			return i, &problem.Problem{Kind: problem.Refused, Text: fmt.Sprintf("The key of %s is not on this computer, only its certificate.", name),
				Remedy: "Use it on the computer where the key was made, or export it there and import it here: earlybench identity import."}
		}
		if i.Name == name {
			return i, nil
		}
	}
	return Identity{}, fmt.Errorf("identity %.80s: %w", name, store.ErrNotFound)
}

// Thumbprint names the key of its certificate; "" for a key that is not on P-256.
func (i Identity) Thumbprint() string {
	public, err := developer.PublicOf(i.Leaf.PublicKey)
	if err != nil {
		return ""
	}
	return public.Thumbprint()
}

// Thumbprints names the keys of this bench's identities.
func (b *Belong) Thumbprints() (out []string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return slices.Clone(b.thumbprints)
}

// readIdentities reads which keys the identities have.
func (b *Belong) readIdentities(ctx context.Context) error {
	all, err := b.cfg.Store.Identities(ctx)
	if err != nil {
		return fmt.Errorf("read the identities: %w", err)
	}
	var names []string
	for _, r := range all {
		if i, err := identityOf(r); err == nil {
			names = append(names, i.Thumbprint())
		}
	}
	b.mu.Lock()
	changed := !slices.Equal(b.thumbprints, names)
	b.thumbprints = names
	b.mu.Unlock()
	if changed {
		b.cfg.Changed()
	}
	return nil
}

var nameShape = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9 ._-]{0,59}$`)

func (b *Belong) freeName(ctx context.Context, name string) error {
	if !nameShape.MatchString(name) {
		return problem.Errorf(problem.Invalid, "name %.80q is invalid: up to 60 letters, digits, spaces, dots and hyphens", name)
	}
	all, err := b.cfg.Store.Identities(ctx)
	if err == nil && slices.ContainsFunc(all, func(i store.Identity) bool { return i.Name == name }) {
		err = problem.Errorf(problem.Taken, "there is already an identity %s: renew it, or choose another name", name)
	}
	return err
}

// NewIdentity makes a key in the safe and enrols its certificate with the used account's crew.
func (b *Belong) NewIdentity(ctx context.Context, name string) (Identity, error) {
	b.naming.Lock()
	defer b.naming.Unlock()
	if err := b.freeName(ctx, name); err != nil {
		return Identity{}, err
	}
	a, err := b.Used()
	if err != nil {
		return Identity{}, err
	}
	item, err := b.cfg.Safe.MakeKey(ctx, "identity "+name)
	if err != nil {
		return Identity{}, err
	}
	got, err := b.cfg.Authorities.Enroll(ctx, a, name, item.ID)
	if err != nil {
		return Identity{}, errors.Join(fmt.Errorf("get a certificate for %s: %w", name, err), b.cfg.Safe.Drop(context.WithoutCancel(ctx), item.ID))
	}
	r := store.Identity{Name: name, Authority: a.Authority, Crew: a.Crew, Key: item.ID}
	return b.keepIdentity(context.WithoutCancel(ctx), r, got)
}

func (b *Belong) keepIdentity(ctx context.Context, r store.Identity, got authority.Enrolled) (Identity, error) {
	r.Certificate, r.Roots = got.Certificate.Raw, nil
	for _, c := range got.Roots {
		r.Roots = append(r.Roots, c.Raw...)
	}
	if err := b.cfg.Store.SaveIdentity(ctx, r); err != nil {
		return Identity{}, fmt.Errorf("keep the identity: %w", err)
	}
	if err := b.readIdentities(ctx); err != nil {
		return Identity{}, err
	}
	b.Again()
	return identityOf(r)
}

// renewBefore is how long before its end a certificate is renewed automatically.
const renewBefore = 14 * 24 * time.Hour

// purposeRenew is what the key is used for when its certificate is renewed.
const purposeRenew = "renew its certificate"

// RenewIdentity gets a new certificate for an identity by the one that ends. The former one stays
// good until its end. It renews what a person has allowed before, so that nobody is asked.
func (b *Belong) RenewIdentity(ctx context.Context, name, actor string) (Identity, error) {
	b.naming.Lock()
	defer b.naming.Unlock()
	i, err := b.Identity(ctx, name)
	if err != nil {
		return i, err
	}
	switch now := b.cfg.Clock.Now(); {
	case i.Authority == "":
		return i, problem.Errorf(problem.Invalid, "identity %s came from a file, so this bench does not know an authority that could renew it", name)
	case !i.Revoked.IsZero():
		return i, problem.Errorf(problem.Refused, "identity %s was revoked: make a new one", name)
	case now.After(i.Ends):
		return i, &problem.Problem{Kind: problem.Refused, Text: fmt.Sprintf("The certificate of %s ended on %s, so it can no longer be renewed.", name, i.Ends.Local().Format("2 January 2006")),
			Remedy: "Make a new identity: earlybench identity new NAME."}
	}
	use := safe.Use{Item: i.Key, Actor: actor, Purpose: purposeRenew, Document: name, Alone: true}
	if err := b.cfg.Safe.Allow(ctx, use); err != nil {
		return i, err
	}
	got, err := b.cfg.Authorities.Renew(ctx, i.Authority, i.Leaf, i.Key)
	if err != nil {
		return i, fmt.Errorf("renew %s: %w", name, err)
	}
	r := i.Identity
	r.Former = r.Certificate
	return b.keepIdentity(context.WithoutCancel(ctx), r, got)
}

// renewDue renews what ends soon.
func (b *Belong) renewDue(ctx context.Context) error {
	all, err := b.cfg.Store.Identities(ctx)
	if err != nil {
		return err
	}
	now := b.cfg.Clock.Now()
	var failed error
	for _, r := range all {
		i, err := identityOf(r)
		if err != nil || r.Authority == "" || !r.Revoked.IsZero() || now.After(i.Ends) || i.Ends.Sub(now) > renewBefore {
			continue
		}
		if _, err := b.RenewIdentity(ctx, r.Name, "bench/renewal"); err != nil && problem.KindOf(err) != problem.Person {
			failed = errors.Join(failed, err)
		}
	}
	return failed
}

// RevokeIdentity revokes the certificates of an identity at its authority. Its key stays in the
// safe, since what it has signed may still be looked at.
func (b *Belong) RevokeIdentity(ctx context.Context, name string) error {
	b.naming.Lock()
	defer b.naming.Unlock()
	i, err := b.Identity(ctx, name)
	if err != nil && !i.Elsewhere {
		return err
	}
	a, err := b.Used()
	if err != nil {
		return err
	}
	if i.Authority != a.Authority || i.Crew != a.Crew {
		return problem.Errorf(problem.Invalid, "identity %s belongs to the crew %s at %s: use an account of it first", name, i.Crew, i.Authority)
	}
	serials := []string{i.Serial}
	if former, err := x509.ParseCertificate(i.Former); err == nil && former.NotAfter.After(b.cfg.Clock.Now()) {
		serials = append(serials, est.Serial(former))
	}
	for _, serial := range serials {
		if _, err := b.cfg.Authorities.Revoke(ctx, a, serial); err != nil {
			return b.failed(ctx, a, fmt.Errorf("revoke %s: %w", name, err))
		}
	}
	b.Again()
	if i.Elsewhere {
		return nil
	}
	r := i.Identity
	r.Revoked = b.cfg.Clock.Now()
	return b.cfg.Store.SaveIdentity(context.WithoutCancel(ctx), r)
}

// ImportIdentity takes in an identity from a PKCS #12 file, whose password is in an envelope.
func (b *Belong) ImportIdentity(ctx context.Context, name string, file, envelope []byte) (Identity, error) {
	b.naming.Lock()
	defer b.naming.Unlock()
	if err := b.freeName(ctx, name); err != nil {
		return Identity{}, err
	}
	item, chain, err := b.cfg.Safe.ImportPKCS12(ctx, "identity "+name, file, envelope)
	if err != nil {
		return Identity{}, err
	}
	r := store.Identity{Name: name, Key: item.ID, Certificate: chain[0]}
	for _, c := range chain[1:] {
		r.Roots = append(r.Roots, c...)
	}
	b.mu.Lock()
	for _, a := range b.accounts { // it may be one of a crew of ours
		if leaf, err := x509.ParseCertificate(chain[0]); err == nil && a.Used && slices.ContainsFunc(b.certificates, func(c core.Certificate) bool { return c.Serial == est.Serial(leaf) }) {
			r.Authority, r.Crew = a.Authority, a.Crew
		}
	}
	b.mu.Unlock()
	if err := b.cfg.Store.SaveIdentity(ctx, r); err != nil {
		return Identity{}, fmt.Errorf("keep the identity: %w", err)
	}
	return identityOf(r)
}

// ExportIdentity makes a PKCS #12 file of an identity, whose password is in an envelope.
// actor is who asks for it.
func (b *Belong) ExportIdentity(ctx context.Context, name string, envelope []byte, actor string) ([]byte, error) {
	i, err := b.Identity(ctx, name)
	if err != nil {
		return nil, err
	}
	chain := [][]byte{i.Certificate}
	roots, err := x509.ParseCertificates(i.Roots)
	if err != nil {
		return nil, fmt.Errorf("the certificates of the authority of %s: %w", name, err)
	}
	for _, c := range roots {
		chain = append(chain, c.Raw)
	}
	return b.cfg.Safe.ExportPKCS12(ctx, i.Key, chain, holder.Opening{Envelope: envelope}, actor)
}

// DropIdentity forgets an identity and removes its key from the safe.
func (b *Belong) DropIdentity(ctx context.Context, name string) error {
	b.naming.Lock()
	defer b.naming.Unlock()
	i, err := b.Identity(ctx, name)
	if err != nil {
		return err
	}
	// A key without a record can be removed again; a record without its key would be of no use.
	if err := b.cfg.Store.DropIdentity(ctx, name); err != nil {
		return err
	}
	if err := b.cfg.Safe.Drop(ctx, i.Key); err != nil && problem.KindOf(err) != problem.NotFound {
		return fmt.Errorf("%s was forgotten, but its key is still in the safe: %w", name, err)
	}
	return nil
}

// noticeOf is how long before its end an identity is told of, if it was not renewed by then.
const noticeOf = 7 * 24 * time.Hour

// Terms are the identities as things that end.
func (b *Belong) Terms(ctx context.Context) ([]ending.Term, error) {
	all, err := b.Identities(ctx)
	if err != nil {
		return nil, err
	}
	var out []ending.Term
	for _, i := range all {
		if !i.Revoked.IsZero() {
			continue
		}
		t := ending.Term{ID: "identity-" + i.Serial, Kind: ending.Identity, Name: i.Name, Holder: i.Crew, Ends: i.Ends, Notice: noticeOf, Mine: !i.Elsewhere, Alone: !i.Elsewhere && i.Authority != "",
			Stops: "Apps can no longer be signed with " + i.Name + " any more."}
		if i.Leaf != nil {
			t.Begins = i.Leaf.NotBefore.UTC()
		}
		switch {
		case i.Elsewhere:
			t.Stops = "Its key is on another computer."
		case !t.Alone:
			t.Step, t.Command = "Get a new one from its source.", "earlybench identity import"
		}
		out = append(out, t)
	}
	return append(out, b.standingTerms()...), nil
}

// standingNotice is how long before its end a standing is told of.
const standingNotice = 30 * 24 * time.Hour

// standingTerms are the standings of the crews of all accounts, each once.
func (b *Belong) standingTerms() (out []ending.Term) {
	seen := map[string]bool{}
	for _, a := range b.Accounts() {
		for _, c := range a.Crews {
			id := "standing-" + a.Authority + "-" + c.Name
			if seen[id] {
				continue
			}
			seen[id] = true
			t := ending.Term{ID: id, Kind: ending.Standing, Name: c.Standing.Name, Holder: c.Name, Ends: c.StandingEnds.UTC(), Notice: standingNotice, Mine: true}
			if !t.Ends.IsZero() {
				t.ID += "-" + t.Ends.Format("20060102")
				t.Stops = fmt.Sprintf("The crew %s loses what the standing %s gives it at %s.", c.Name, c.Standing.Name, a.Authority)
				t.Step = "Have it extended at the authority."
			}
			out = append(out, t)
		}
	}
	return out
}
