package web

import (
	"context"
	"crypto/x509"
	"encoding/pem"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/internal/access"
	"earlybench.invalid/earlybench/internal/belong"
)

func (s *Server) identityRoutes() {
	a := s.api
	huma.Register(a, operation(access.Look, "GET", "/identities", "identities", "The signing identities, and certificates of the crew whose keys are elsewhere"), s.identities)
	huma.Register(a, operation(access.Consent, "POST", "/identities", "make-identity", "Make a key in the safe and get its certificate"), s.makeIdentity)
	huma.Register(a, operation(access.Consent, "POST", "/identities/{id}/renew", "renew-identity", "Get a new certificate; the old one stays valid until it ends"), s.renewIdentity)
	huma.Register(a, silent(access.Consent, "/identities/{id}/revoke", "revoke-identity", "Revoke the certificates of an identity"), func(ctx context.Context, in *OfID) (*struct{}, error) {
		return nil, problem(s.Belong.RevokeIdentity(ctx, in.ID))
	})
	huma.Register(a, operation(access.Own, "DELETE", "/identities/{id}", "drop-identity", "Forget an identity and remove its key from the safe"), func(ctx context.Context, in *OfID) (*struct{}, error) {
		return nil, problem(s.Belong.DropIdentity(ctx, in.ID))
	})
	huma.Register(a, operation(access.Own, "POST", "/identities/import", "import-identity", "Import an identity from a PKCS #12 file"), s.importIdentity)
	huma.Register(a, operation(access.Own, "POST", "/identities/{id}/export", "export-identity", "A PKCS #12 file of an identity; only from a terminal"), s.exportIdentity)
}

// endsSoon is how long before its end an identity is said to end.
const endsSoon = 14 * 24 * time.Hour

func identityOf(i belong.Identity, now time.Time) client.Identity {
	c := client.Identity{Name: i.Name, Authority: i.Authority, Crew: i.Crew, State: "good", Serial: i.Serial, Ends: i.Ends.UTC(), Key: i.Key}
	switch {
	case i.Elsewhere:
		c.State = "elsewhere"
		return c
	case !i.Revoked.IsZero():
		c.State = "revoked"
	case now.After(i.Ends):
		c.State = "ended"
	case i.Ends.Sub(now) < endsSoon:
		c.State = "ending"
	}
	c.Issuer, c.Begins = i.Leaf.Issuer.String(), i.Leaf.NotBefore.UTC()
	c.PEM = string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: i.Certificate}))
	if former, err := x509.ParseCertificate(i.Former); err == nil && former.NotAfter.After(now) {
		c.Former = former.NotAfter.UTC()
	}
	return c
}

func (s *Server) identities(ctx context.Context, in *struct{ Select }) (*out[client.List[client.Identity]], error) {
	all, err := s.Belong.Identities(ctx)
	if err != nil {
		return nil, problem(err)
	}
	now := s.Clock.Now()
	return identityList.of(in.Select, each(all, func(i belong.Identity) client.Identity { return identityOf(i, now) }))
}

// answered answers with an identity, or why there is none.
func (s *Server) answered(i belong.Identity, err error) (*out[client.Identity], error) {
	if err != nil {
		return nil, problem(err)
	}
	return &out[client.Identity]{identityOf(i, s.Clock.Now())}, nil
}

func (s *Server) makeIdentity(ctx context.Context, in *out[client.NewIdentity]) (*out[client.Identity], error) {
	return s.answered(s.Belong.NewIdentity(ctx, in.Body.Name))
}

func (s *Server) renewIdentity(ctx context.Context, in *OfID) (*out[client.Identity], error) {
	return s.answered(s.Belong.RenewIdentity(ctx, in.ID, access.From(ctx).String()))
}

func (s *Server) importIdentity(ctx context.Context, in *struct {
	Body struct {
		Name     string `json:"name" maxLength:"60"`
		Data     []byte `json:"data"`
		Envelope []byte `json:"envelope"`
	}
}) (*out[client.Identity], error) {
	return s.answered(s.Belong.ImportIdentity(ctx, in.Body.Name, in.Body.Data, in.Body.Envelope))
}

// exportIdentity is for terminals, as exportSafe is.
func (s *Server) exportIdentity(ctx context.Context, in *struct {
	OfID
	Body struct {
		Envelope []byte             `json:"envelope"`
		Proof    client.SafeOpening `json:"proof"`
	}
}) (*out[client.SafeExport], error) {
	if a := access.From(ctx); a.Kind != access.OwnerKind {
		return nil, problem(refused(a, access.Own))
	}
	if err := s.prove(ctx, "export", in.Body.Proof); err != nil {
		return nil, problem(err)
	}
	data, err := s.Belong.ExportIdentity(ctx, in.ID, in.Body.Envelope, access.From(ctx).String())
	if err != nil {
		return nil, problem(err)
	}
	return &out[client.SafeExport]{client.SafeExport{Data: data}}, nil
}
