package web

import (
	"context"
	"path/filepath"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/core/appfile"
	"earlybench.invalid/earlybench/core/developer"
	eb "earlybench.invalid/earlybench/core/problem"
	core "earlybench.invalid/earlybench/core/safe"
	"earlybench.invalid/earlybench/internal/access"
	"earlybench.invalid/earlybench/internal/safe"
	"earlybench.invalid/earlybench/internal/safe/holder"
	"earlybench.invalid/earlybench/internal/store"
)

func (s *Server) safeRoutes() {
	a := s.api
	huma.Register(a, operation(access.Look, "GET", "/safe", "safe", "The safe, without its secrets"), s.safe)
	huma.Register(a, operation(access.Own, "POST", "/safe", "make-safe", "Make the safe"), s.makeSafe)
	huma.Register(a, operation(access.Own, "PATCH", "/safe", "change-safe", "Change how the safe is opened, or its idle time"), s.changeSafe)
	huma.Register(a, operation(access.Consent, "POST", "/safe/unlock", "unlock-safe", "Open the safe"), s.unlockSafe)
	huma.Register(a, silent(access.Consent, "/safe/lock", "lock-safe", "Lock the safe"), func(context.Context, *none) (*struct{}, error) {
		return nil, problem(s.Safe.Lock())
	})
	huma.Register(a, operation(access.Consent, "GET", "/safe/uses", "safe-uses", "Which items of the safe were used, by whom and for what"), s.safeUses)
	huma.Register(a, silent(access.Consent, "/safe/requests/{id}", "answer-safe", "Answer a request to use the safe"), s.answerSafe)
	huma.Register(a, silent(access.Own, "/safe/rules", "permit-safe", "Allow a use of the safe for a time"), s.permitSafe)
	huma.Register(a, operation(access.Consent, "DELETE", "/safe/rules/{id}", "withdraw-safe", "Stop allowing uses of an item without asking"), func(ctx context.Context, in *OfID) (*struct{}, error) {
		return nil, problem(s.Store.DropSafeRules(ctx, in.ID))
	})
	huma.Register(a, operation(access.Own, "POST", "/safe/export", "export-safe", "Everything in the safe, encrypted with another passphrase; only from a terminal"), s.exportSafe)
	huma.Register(a, operation(access.Own, "POST", "/safe/import", "import-safe", "Import the export of another safe"), s.importSafe)
	huma.Register(a, operation(access.Look, "GET", "/developer", "developer", "The public half of the development key"), s.developer)
	huma.Register(a, operation(access.Use, "POST", "/developer/signatures", "sign-app", "Sign the manifest of an app file by the development key, once a person has consented"), s.signApp)
}

func (s *Server) safe(ctx context.Context, _ *none) (*out[client.Safe], error) { return s.safeNow(ctx) }

func (s *Server) safeNow(ctx context.Context) (*out[client.Safe], error) {
	v, err := s.Safe.View(ctx)
	if err != nil {
		return nil, problem(err)
	}
	rules, err := s.Store.SafeRules(ctx, s.Clock.Now())
	if err != nil {
		return nil, problem(err)
	}
	c := client.Safe{State: v.State, ByPassphrase: v.ByPassphrase, Idle: int64(v.Idle.Seconds()), Locks: v.Locks, Public: v.Public}
	c.Contents = each(v.Items, s.safeItemOf)
	c.Requests = each(s.Safe.Requests(), requestOf)
	c.Rules = each(rules, func(r store.SafeRule) client.SafeRule {
		return client.SafeRule{Item: r.Item, Name: s.nameInSafe(r.Item), Actor: r.Actor, App: r.App, Purpose: r.Purpose, Ends: r.Ends.UTC(), By: r.By}
	})
	return &out[client.Safe]{c}, nil
}

func (s *Server) safeItemOf(i core.Item) client.SafeItem {
	c := client.SafeItem{ID: i.ID, Kind: i.Kind, Name: i.Name, Made: i.Made.UTC(), Thumbprint: i.Thumbprint()}
	if i.ID == s.Safe.Development() {
		c.For = "development"
	}
	return c
}

func (s *Server) nameInSafe(id string) string {
	i, _ := s.Safe.Item(id)
	return i.Name
}

func requestOf(r safe.Request) client.SafeRequest {
	u := r.Use
	return client.SafeRequest{ID: r.ID, Item: u.Item, Name: r.Name, Actor: u.Actor, App: u.App, Purpose: u.Purpose, Document: u.Document, Digest: u.Digest,
		Since: r.Since, Ends: r.Ends, Count: r.Count}
}

// opening is how a safe is opened, as somebody has sent it. A file is named by the owner only,
// and by its whole path.
func opening(ctx context.Context, o client.SafeOpening) (holder.Opening, error) {
	switch {
	case o.KeyFile == "" && len(o.Envelope) == 0:
		return holder.Opening{}, eb.Errorf(eb.Invalid, "give a sealed passphrase or an unlock key file to open the safe")
	case o.KeyFile == "":
	case !access.From(ctx).May(access.Own):
		return holder.Opening{}, refused(access.From(ctx), access.Own)
	case !filepath.IsAbs(o.KeyFile):
		return holder.Opening{}, eb.Errorf(eb.Invalid, "give the absolute path of the unlock key file")
	}
	return holder.Opening{Envelope: o.Envelope, KeyFile: o.KeyFile}, nil
}

func (s *Server) makeSafe(ctx context.Context, in *out[client.SafeOpening]) (*out[client.Safe], error) {
	o, err := opening(ctx, in.Body)
	if err == nil {
		err = s.Safe.Make(ctx, o)
	}
	if err != nil {
		return nil, problem(err)
	}
	return s.safeNow(ctx)
}

func (s *Server) unlockSafe(ctx context.Context, in *out[client.SafeOpening]) (*out[client.Safe], error) {
	o, err := opening(ctx, in.Body)
	if err == nil {
		err = s.Safe.Unlock(ctx, o)
	}
	if err != nil {
		return nil, problem(err)
	}
	return s.safeNow(ctx)
}

func (s *Server) changeSafe(ctx context.Context, in *out[client.SafeChange]) (*out[client.Safe], error) {
	if in.Body.New != nil {
		if err := s.prove(ctx, "change", in.Body.Proof); err != nil {
			return nil, problem(err)
		}
		o, err := opening(ctx, *in.Body.New)
		if err == nil {
			err = s.Safe.Change(ctx, o)
		}
		if err != nil {
			return nil, problem(err)
		}
	}
	if in.Body.Idle != 0 {
		if err := s.Safe.SetIdle(ctx, time.Duration(in.Body.Idle)*time.Second); err != nil {
			return nil, problem(err)
		}
	}
	return s.safeNow(ctx)
}

// prove is an error unless somebody has shown that they can open the safe.
func (s *Server) prove(ctx context.Context, purpose string, proof client.SafeOpening) error {
	o, err := opening(ctx, proof)
	if err != nil {
		return err
	}
	return s.Safe.Prove(ctx, purpose, o)
}

// answerSafe takes a person's answer: from a signed-in browser as it is, from anybody else with
// the proof that a person is there who can open the safe.
func (s *Server) answerSafe(ctx context.Context, in *struct {
	OfID
	Body client.SafeAnswer
}) (*struct{}, error) {
	a := access.From(ctx)
	if a.Kind != access.BrowserKind && in.Body.Yes {
		if err := s.prove(ctx, in.ID, in.Body.Proof); err != nil {
			return nil, problem(err)
		}
	}
	return nil, problem(s.Safe.Answer(ctx, in.ID, safe.Answer{Yes: in.Body.Yes, For: time.Duration(in.Body.For) * time.Second, By: a.String()}))
}

func (s *Server) permitSafe(ctx context.Context, in *out[client.SafePermit]) (*struct{}, error) {
	p := in.Body
	if err := s.prove(ctx, "permit", p.Proof); err != nil {
		return nil, problem(err)
	}
	if p.Item == "development" {
		p.Item = s.Safe.Development()
	}
	actors := []string{p.Actor}
	if p.Actor == "" {
		actors = []string{access.Owner(s.Owner).String(), access.Browser(s.Owner).String()}
	}
	for _, a := range actors {
		u := safe.Use{Item: p.Item, Actor: a, App: p.App, Purpose: p.Purpose}
		if err := s.Safe.Permit(ctx, u, time.Duration(p.For)*time.Second, access.From(ctx).String()); err != nil {
			return nil, problem(err)
		}
	}
	return nil, nil
}

func (s *Server) safeUses(ctx context.Context, in *struct{ Select }) (*out[client.List[client.SafeUse]], error) {
	all, err := s.Store.SafeUses(ctx)
	if err != nil {
		return nil, problem(err)
	}
	return useList.of(in.Select, each(all, func(u store.SafeUse) client.SafeUse {
		return client.SafeUse{ID: u.ID, At: u.At.UTC(), Item: u.Item, Name: s.nameInSafe(u.Item), Actor: u.Actor, App: u.App, Purpose: u.Purpose,
			Document: u.Document, Digest: u.Digest, Consent: u.Consent}
	}))
}

// exportSafe is for terminals: a page that somebody has taken over cannot carry keys away.
func (s *Server) exportSafe(ctx context.Context, in *struct {
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
	data, err := s.Safe.Export(ctx, in.Body.Envelope, access.From(ctx).String())
	if err != nil {
		return nil, problem(err)
	}
	return &out[client.SafeExport]{client.SafeExport{Data: data}}, nil
}

func (s *Server) importSafe(ctx context.Context, in *struct {
	Body struct {
		Data     []byte `json:"data"`
		Envelope []byte `json:"envelope"`
	}
}) (*out[client.List[client.SafeItem]], error) {
	items, err := s.Safe.Import(ctx, in.Body.Data, in.Body.Envelope)
	if err != nil {
		return nil, problem(err)
	}
	return list(each(items, s.safeItemOf)), nil
}

func (s *Server) developer(ctx context.Context, in *struct {
	Identity string `query:"identity" maxLength:"60" doc:"empty: the development key"`
}) (*out[client.Developer], error) {
	public := s.Safe.Developer()
	if _, peer := appfile.SplitIdentity(in.Identity); peer != "" {
		looked, err := s.Signing.Look(ctx, in.Identity)
		if err != nil {
			return nil, problem(err)
		}
		public = looked.Developer
	} else if in.Identity != "" {
		i, err := s.Belong.Identity(ctx, in.Identity)
		if err != nil {
			return nil, problem(err)
		}
		if public, err = developer.PublicOf(i.Leaf.PublicKey); err != nil {
			return nil, problem(eb.Errorf(eb.Unsupported, "identity %s cannot sign apps: its key is not a P-256 key", in.Identity))
		}
	}
	if public.X == "" {
		return nil, problem(safe.ErrMissing)
	}
	return &out[client.Developer]{client.Developer{Thumbprint: public.Thumbprint(), X: public.X, Y: public.Y}}, nil
}

func (s *Server) signApp(ctx context.Context, in *struct {
	Body struct {
		Manifest []byte `json:"manifest"`
		Identity string `json:"identity,omitempty" maxLength:"60" doc:"empty: the development key"`
	}
}) (*out[client.AppSignature], error) {
	m, err := appfile.ParseManifest(in.Body.Manifest)
	if err != nil {
		return nil, problem(eb.Errorf(eb.Invalid, "%w", err))
	}
	key, err := s.Tryouts.SignerFor(ctx, in.Body.Identity, safe.Use{Actor: access.From(ctx).String(), App: m.ID, Document: m.ID + " " + m.Version, Digest: digest(string(in.Body.Manifest))})
	if err != nil {
		return nil, problem(err)
	}
	if m.Developer == nil || *m.Developer != key.Public() {
		return nil, problem(eb.Errorf(eb.Invalid, "the manifest does not name the key that should sign it"))
	}
	signature, err := key.SignManifest(in.Body.Manifest)
	if err != nil {
		return nil, problem(err)
	}
	return &out[client.AppSignature]{client.AppSignature{Signature: signature.Bare, CMS: append([]byte{}, signature.CMS...)}}, nil
}
