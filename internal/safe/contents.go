package safe

import (
	"context"
	"crypto"
	"crypto/rsa"
	"crypto/x509"
	"fmt"
	"io"

	"earlybench.invalid/earlybench/core/problem"
	core "earlybench.invalid/earlybench/core/safe"
	"earlybench.invalid/earlybench/internal/safe/holder"
	"earlybench.invalid/earlybench/internal/store"
)

// This file is what is in the safe: keys, secrets, and how they come in and go out. Each is
// carried out by the holder.

// Item returns an item by its id.
func (s *Safe) Item(id string) (core.Item, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, i := range s.items {
		if i.ID == id {
			return i, true
		}
	}
	return core.Item{}, false
}

// MakeKey makes a private key in the safe.
func (s *Safe) MakeKey(ctx context.Context, name string) (core.Item, error) {
	return s.alter(ctx, holder.KeyMake, holder.Request{Name: name})
}

// TakeKey moves a private key from a file in PEM into the safe. The file stays.
func (s *Safe) TakeKey(ctx context.Context, name, file string) (core.Item, error) {
	return s.alter(ctx, holder.KeyTake, holder.Request{Name: name, File: file})
}

// Drop removes an item and the rules for it.
func (s *Safe) Drop(ctx context.Context, id string) error {
	// The record first: once the safe has let go of the item, nothing can be taken back.
	if err := s.cfg.Store.DropSafeRules(ctx, id); err != nil {
		return err
	}
	if _, err := s.call(ctx, holder.Drop, holder.Request{ID: id}); err != nil {
		return err
	}
	return s.refresh(ctx)
}

func (s *Safe) alter(ctx context.Context, method string, in holder.Request) (core.Item, error) {
	out, err := s.call(ctx, method, in)
	if err != nil {
		return core.Item{}, err
	}
	s.touch()
	return *out.Item, s.refresh(ctx)
}

// touch notes that somebody has used the safe. What the bench signs by itself does not count.
func (s *Safe) touch() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.used = s.cfg.Clock.Now()
}

// IsOpen reports whether the safe is open, without starting anything.
func (s *Safe) IsOpen() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.open
}

// Signer is a key of the safe. What it signs is not asked about: see [Safe.Allow].
func (s *Safe) Signer(ctx context.Context, id string) (crypto.Signer, error) {
	i, ok := s.Item(id)
	if !ok {
		return nil, problem.Errorf(problem.NotFound, "key %.40s is not in the safe", id)
	}
	public, err := x509.ParsePKIXPublicKey(i.Public)
	if err != nil {
		return nil, fmt.Errorf("key %s: %w", id, err)
	}
	return &signer{s, ctx, id, public}, nil
}

// signer is a key that signs in the holder's process.
type signer struct {
	safe   *Safe
	ctx    context.Context // a crypto.Signer takes none when it signs
	id     string
	public crypto.PublicKey
}

func (k *signer) Public() crypto.PublicKey { return k.public }

func (k *signer) Sign(_ io.Reader, digest []byte, opts crypto.SignerOpts) ([]byte, error) {
	in := holder.Request{ID: k.id, Data: digest, Hash: opts.HashFunc()}
	if pss, ok := opts.(*rsa.PSSOptions); ok {
		in.PSS = pss
	}
	out, err := k.safe.call(k.ctx, holder.KeySign, in)
	return out.Data, err
}

// Export is all that is in the safe, encrypted to the passphrase in an envelope.
func (s *Safe) Export(ctx context.Context, envelope []byte, actor string) ([]byte, error) {
	if err := s.recordExport(ctx, "", "export all", actor); err != nil {
		return nil, err
	}
	out, err := s.call(ctx, holder.Export, holder.Request{Opening: holder.Opening{Envelope: envelope}})
	return out.Data, err
}

// recordExport puts on record that keys leave the safe, before they do.
func (s *Safe) recordExport(ctx context.Context, id, purpose, actor string) error {
	err := s.cfg.Store.SaveSafeUse(ctx, store.SafeUse{At: s.cfg.Clock.Now(), Item: id, Actor: actor, Purpose: purpose, Consent: actor})
	if err != nil {
		return fmt.Errorf("record the export: %w", err)
	}
	return nil
}

// Import puts an export into the safe, and returns what was new.
func (s *Safe) Import(ctx context.Context, data, envelope []byte) ([]core.Item, error) {
	out, err := s.call(ctx, holder.Import, holder.Request{Opening: holder.Opening{Envelope: envelope}, Data: data})
	if err != nil {
		return nil, err
	}
	return out.Items, s.refresh(ctx)
}

// ImportPKCS12 puts the key of a PKCS #12 file into the safe, and returns its certificates in DER,
// the key's own first. Its password is in an envelope.
func (s *Safe) ImportPKCS12(ctx context.Context, name string, file, envelope []byte) (core.Item, [][]byte, error) {
	out, err := s.call(ctx, holder.PKCS12Import, holder.Request{Opening: holder.Opening{Envelope: envelope}, Name: name, Data: file})
	if err != nil {
		return core.Item{}, nil, err
	}
	return *out.Item, out.Chain, s.refresh(ctx)
}

// ExportPKCS12 makes a PKCS #12 file of a key and its certificates in DER, the key's own first.
func (s *Safe) ExportPKCS12(ctx context.Context, id string, chain [][]byte, o holder.Opening, actor string) ([]byte, error) {
	if err := s.recordExport(ctx, id, "export the key", actor); err != nil {
		return nil, err
	}
	out, err := s.call(ctx, holder.PKCS12Export, holder.Request{Opening: o, ID: id, Chain: chain})
	return out.Data, err
}

// PutSecret puts a text, which is in an envelope for the name, into the safe under that name,
// instead of one of the same name.
func (s *Safe) PutSecret(ctx context.Context, name string, envelope []byte) (core.Item, error) {
	former := s.secrets(name)
	item, err := s.alter(ctx, holder.SecretPut, holder.Request{Opening: holder.Opening{Envelope: envelope}, Purpose: name, Name: name})
	for _, i := range former {
		if err == nil {
			err = s.Drop(ctx, i.ID)
		}
	}
	return item, err
}

// secrets are the texts of a name.
func (s *Safe) secrets(name string) (out []core.Item) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, i := range s.items {
		if i.Kind == core.SecretKind && i.Name == name {
			out = append(out, i)
		}
	}
	return out
}

// Secret is the text of a name; false if there is none.
func (s *Safe) Secret(name string) (core.Item, bool) {
	all := s.secrets(name)
	if len(all) == 0 {
		return core.Item{}, false
	}
	return all[len(all)-1], true
}

// Fill writes a file from a template, in the process that holds the safe. secrets are ids by the
// names that the template uses.
func (s *Safe) Fill(ctx context.Context, template, to string, values, secrets map[string]string) error {
	_, err := s.call(ctx, holder.Fill, holder.Request{Template: template, File: to, Values: values, Secrets: secrets})
	return err
}
