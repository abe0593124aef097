package web

import (
	"context"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/core/appfile"
	core "earlybench.invalid/earlybench/core/authority"
	"earlybench.invalid/earlybench/core/clock"
	eb "earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/access"
	"earlybench.invalid/earlybench/internal/authority"
	"earlybench.invalid/earlybench/internal/belong"
	"earlybench.invalid/earlybench/internal/outside"
	"earlybench.invalid/earlybench/internal/store"
	"earlybench.invalid/earlybench/internal/tryout"
)

// OfAccount names an account. It is exported so that huma reads it where it is embedded.
type OfAccount struct {
	Account string `path:"account" maxLength:"100"`
}

func (s *Server) belongRoutes() {
	a := s.api
	huma.Register(a, operation(access.Look, "GET", "/authorities", "authorities", "The authorities"), s.authorities)
	huma.Register(a, operation(access.Own, "POST", "/authorities/look", "look-at-authority", "Ask an authority to identify itself, without adding it"), s.lookAtAuthority)
	huma.Register(a, operation(access.Own, "POST", "/authorities", "add-authority", "Add an authority whose TLS root is accepted"), s.addAuthority)
	huma.Register(a, operation(access.Own, "DELETE", "/authorities/{id}", "drop-authority", "Forget an authority and the accounts there"), func(ctx context.Context, in *OfID) (*struct{}, error) {
		return nil, problem(s.Belong.Forget(ctx, in.ID))
	})
	huma.Register(a, operation(access.Look, "GET", "/accounts", "accounts", "The accounts at authorities"), s.accounts)
	huma.Register(a, operation(access.Consent, "POST", "/accounts", "sign-in-account", "Begin to sign in at an authority: a person opens a page and types a code"), s.signInAccount)
	huma.Register(a, operation(access.Consent, "PATCH", "/accounts/{account}", "use-account", "Choose the account in use, and one of its crews"), s.useAccount)
	huma.Register(a, operation(access.Consent, "DELETE", "/accounts/{account}", "sign-out-account", "Sign an account out and forget it"), s.signOutAccount)
	huma.Register(a, operation(access.Look, "GET", "/register", "register", "The register of devices of the crew in use"), s.register)
	huma.Register(a, work(access.Use, "/register", "register-devices", "Register devices"), s.registerDevices)
	huma.Register(a, operation(access.Consent, "DELETE", "/register/{id}", "leave-register", "Free the place of a device, by its handle or serial"), func(ctx context.Context, in *OfID) (*struct{}, error) {
		return nil, problem(s.Belong.Leave(ctx, in.ID))
	})
}

func standingOf(n core.Standing) client.Standing {
	return client.Standing{Name: n.Name, Places: n.Places, GrantDays: n.GrantDays, CertificateDays: n.CertificateDays, Lacks: append([]string{}, n.Lacks...), Costs: n.Costs, Alone: n.Alone}
}

func (s *Server) authorityOf(v authority.View) client.Authority {
	a := client.Authority{Name: v.Record.Name, URL: v.Record.URL, Root: outside.FingerprintOf(v.Record.Root), State: string(v.State), ClockOff: int64(s.ahead(v.Clock).Seconds()), Standings: each(v.Record.About.Standings, standingOf)}
	if v.Trouble != nil {
		a.Trouble = sentence(v.Trouble.Error())
	}
	return a
}

// ahead is by how much this computer's clock is ahead of another's; 0 if that was not read.
func (s *Server) ahead(c clock.Other) time.Duration {
	if !c.Known() {
		return 0
	}
	return -c.Ahead(s.Clock.Now()).Truncate(time.Second)
}

func (s *Server) authorities(_ context.Context, in *struct{ Select }) (*out[client.List[client.Authority]], error) {
	return authorityList.of(in.Select, each(s.Authorities.All(), s.authorityOf))
}

func (s *Server) lookAtAuthority(ctx context.Context, in *struct {
	Body struct {
		URL string `json:"url" maxLength:"400"`
	}
}) (*out[client.FoundAuthority], error) {
	f, err := s.Authorities.Look(ctx, in.Body.URL)
	if err != nil {
		return nil, problem(err)
	}
	c := client.FoundAuthority{URL: f.URL, Name: f.About.Name, Root: f.Root.Fingerprint(), RootKnown: f.Root.Known, Standings: each(f.About.Standings, standingOf), Accept: f.Accept}
	if f.Root.Certificate != nil {
		c.RootName = f.Root.Certificate.Subject.String()
	}
	return &out[client.FoundAuthority]{c}, nil
}

func (s *Server) addAuthority(ctx context.Context, in *out[client.NewAuthority]) (*out[client.Authority], error) {
	v, err := s.Authorities.Add(ctx, in.Body.URL, in.Body.Accept)
	if err != nil {
		return nil, problem(err)
	}
	s.Belong.Again()
	return &out[client.Authority]{s.authorityOf(v)}, nil
}

func crewOf(c core.Crew) client.Crew {
	return client.Crew{Name: c.Name, Number: c.Number, Standing: standingOf(c.Standing), Used: c.Used}
}

func accountOf(a store.Account) client.Account {
	c := client.Account{ID: a.ID, Authority: a.Authority, Name: a.Name, Used: a.Used, State: "in", Since: a.Since.UTC(), Crew: a.Crew, Crews: each(a.Crews, crewOf)}
	if a.Out {
		c.State = "out"
	}
	return c
}

func (s *Server) accounts(_ context.Context, in *struct{ Select }) (*out[client.List[client.Account]], error) {
	return accountList.of(in.Select, each(s.Belong.Accounts(), accountOf))
}

func (s *Server) signInAccount(ctx context.Context, in *out[client.SignInAt]) (*out[client.SignInCode], error) {
	j, c, err := s.Belong.SignIn(ctx, in.Body.Authority, access.From(ctx).String())
	if err != nil {
		return nil, problem(err)
	}
	return &out[client.SignInCode]{client.SignInCode{Authority: c.Authority, Page: c.Code.Page, WholePage: c.Code.WholePage, Code: c.Code.UserCode, Ends: c.Ends.UTC(), Job: j.ID}}, nil
}

func (s *Server) useAccount(ctx context.Context, in *struct {
	OfAccount
	Body client.AccountChange
}) (*out[client.Account], error) {
	a, err := s.Belong.Use(ctx, in.Account, in.Body.Crew)
	if err != nil {
		return nil, problem(err)
	}
	return &out[client.Account]{accountOf(a)}, nil
}

func (s *Server) signOutAccount(ctx context.Context, in *struct {
	OfAccount
	Force bool `query:"force" doc:"forget it even if its authority does not answer"`
}) (*struct{}, error) {
	return nil, problem(s.Belong.SignOut(ctx, in.Account, in.Force))
}

func (s *Server) register(context.Context, *none) (*out[client.Register], error) {
	r, err := s.Belong.TheRegister()
	if err != nil {
		return nil, problem(err)
	}
	return &out[client.Register]{client.Register{Authority: r.Authority, Account: r.Account, Crew: crewOf(r.Crew), Missing: append([]string{}, r.Missing...), Read: r.Read, Full: r.Full(),
		Entries: each(r.Entries, func(e belong.Registered) client.Entry {
			return client.Entry{Serial: e.Serial, Model: e.Model, Handle: e.Handle, Since: e.Since.UTC(), Seen: e.Seen.UTC(), Self: e.Self}
		})}}, nil
}

func (s *Server) registerDevices(ctx context.Context, in *out[client.NewEntries]) (*accepted, error) {
	j, err := s.Belong.Start(ctx, belong.Ask{Devices: in.Body.Devices, All: in.Body.All, Actor: access.From(ctx).String(),
		Others: each(in.Body.Others, func(o client.OutOfReach) belong.Other { return belong.Other{Serial: o.Serial, Model: o.Model} })})
	if err != nil {
		return nil, problem(err)
	}
	return &accepted{jobOf(j)}, nil
}

// appSecretRoutes are about what apps need of the authority and the safe.
func (s *Server) appSecretRoutes() {
	a := s.api
	huma.Register(a, operation(access.Look, "GET", "/app-ids", "app-ids", "The app ids of the crew in use, as its authority has them"), s.appIDs)
	huma.Register(a, silent(access.Consent, "/app-ids", "take-app", "Take an app id for the crew in use"), func(ctx context.Context, in *struct {
		Body struct {
			ID string `json:"id" maxLength:"100"`
		}
	}) (*struct{}, error) {
		return nil, problem(s.Belong.TakeApp(ctx, in.Body.ID))
	})
	huma.Register(a, silent(access.Consent, "/app-secrets", "set-app-secret", "Put a secret of an app into the safe"), s.setSecret)
	huma.Register(a, operation(access.Consent, "DELETE", "/app-secrets", "drop-app-secret", "Remove a secret of an app from the safe"), func(ctx context.Context, in *struct {
		App  string `query:"app" maxLength:"100"`
		Name string `query:"name" maxLength:"60"`
	}) (*struct{}, error) {
		item, ok := s.Safe.Secret(tryout.SecretOf(in.App, in.Name))
		if !ok {
			return nil, problem(eb.Errorf(eb.NotFound, "the safe has no secret %.60s of %.80s", in.Name, in.App))
		}
		return nil, problem(s.Safe.Drop(ctx, item.ID))
	})
}

func (s *Server) appIDs(_ context.Context, in *struct{ Select }) (*out[client.List[client.AppID]], error) {
	return appIDList.of(in.Select, each(s.Belong.Apps(), func(a core.App) client.AppID { return client.AppID{ID: a.ID, Since: a.Since.UTC()} }))
}

func (s *Server) setSecret(ctx context.Context, in *struct {
	Body struct {
		App      string `json:"app" maxLength:"100"`
		Name     string `json:"name" maxLength:"60"`
		Envelope []byte `json:"envelope"`
	}
}) (*struct{}, error) {
	if err := appfile.CheckID(in.Body.App); err != nil {
		return nil, problem(eb.Errorf(eb.Invalid, "%w", err))
	}
	if !appfile.SecretName.MatchString(in.Body.Name) {
		return nil, problem(eb.Errorf(eb.Invalid, "name %.60q is invalid: start with a lower-case letter, then use up to 39 letters, digits or hyphens", in.Body.Name))
	}
	_, err := s.Safe.PutSecret(ctx, tryout.SecretOf(in.Body.App, in.Body.Name), in.Body.Envelope)
	return nil, problem(err)
}
