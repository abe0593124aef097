package web

import (
	"cmp"
	"context"
	"net/http"
	"slices"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"earlybench.invalid/earlybench/client"
	eb "earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/access"
	"earlybench.invalid/earlybench/internal/store"
)

// accessRoutes are keys for programs, and who did what.
func (s *Server) accessRoutes() {
	a := s.api
	huma.Register(a, operation(access.Own, "GET", "/access", "access", "The access keys"), s.accesses)
	huma.Register(a, operation(access.Own, "POST", "/access", "add-access", "Make an access key; its secret is shown only once"), s.addAccess)
	drop := silent(access.Own, "/access/{id}", "drop-access", "End an access key")
	drop.Method = http.MethodDelete
	huma.Register(a, drop, func(ctx context.Context, in *OfID) (*struct{}, error) {
		if err := s.Store.DropAccess(ctx, in.ID); err != nil {
			return nil, problem(err)
		}
		s.endPersonalOf(in.ID)
		return nil, nil
	})
	huma.Register(a, operation(access.Consent, "GET", "/sessions", "sessions", "The browsers that are signed in, the newest first"), s.sessions)
	huma.Register(a, operation(access.Consent, "DELETE", "/sessions", "end-sessions", "Sign all browsers out, and invalidate addresses printed before"), s.endSessions)
	end := silent(access.Consent, "/sessions/{id}", "end-session", "Sign out a browser")
	end.Method = http.MethodDelete
	huma.Register(a, end, func(ctx context.Context, in *OfID) (*struct{}, error) {
		return nil, problem(s.Store.DropSession(ctx, in.ID))
	})
	huma.Register(a, operation(access.Consent, "GET", "/audit", "audit", "Who did what, the newest first"), s.audit)
}

func (s *Server) accessOf(a store.Access) client.Access {
	out := client.Access{Name: a.Name, Rights: a.Rights, Created: a.Created, Ends: a.Ends, Used: when(a.Used), Over: !s.Clock.Now().Before(a.Ends), Devices: []string{}}
	for _, k := range s.Rack.All() {
		if d := k.Device(); slices.Contains(a.Devices, d.ID) {
			out.Devices = append(out.Devices, d.Handle)
		}
	}
	if a.Page == nil {
		return out
	}
	out.Page, out.Entered = "https://"+a.Page.Address, a.Page.Ticket == ""
	s.mu.Lock()
	defer s.mu.Unlock()
	if i := slices.IndexFunc(s.personals, func(p *personal) bool { return p.key.ID == a.ID }); i >= 0 {
		out.Trouble = s.personals[i].trouble
	}
	return out
}

func (s *Server) accesses(ctx context.Context, in *struct{ Select }) (*out[client.List[client.Access]], error) {
	all, err := s.Store.Accesses(ctx)
	if err != nil {
		return nil, problem(err)
	}
	return accessList.of(in.Select, each(all, s.accessOf))
}

func (s *Server) addAccess(ctx context.Context, in *struct{ Body client.NewAccess }) (*out[client.MadeAccess], error) {
	good, err := time.ParseDuration(in.Body.For)
	if err != nil {
		return nil, problem(eb.Errorf(eb.Invalid, "for %.40q is not a duration: write it as 720h", in.Body.For))
	}
	secret, a, err := s.Access.Make(ctx, in.Body.Name, in.Body.Rights, good)
	if err != nil {
		return nil, problem(err)
	}
	return &out[client.MadeAccess]{client.MadeAccess{Access: s.accessOf(a), Secret: secret}}, nil
}

func (s *Server) audit(ctx context.Context, in *struct{ Select }) (*out[client.List[client.AuditLine]], error) {
	if _, err := strconv.ParseInt(cmp.Or(in.After, "0"), 10, 64); err != nil {
		return nil, problem(noSuch(in.After))
	}
	return auditList.from(in.Select, paged(ctx, in.After, auditList.id, func(ctx context.Context, after string, n int) ([]client.AuditLine, error) {
		before, _ := strconv.ParseInt(cmp.Or(after, "0"), 10, 64)
		all, err := s.Store.Audit(ctx, before, n)
		return each(all, func(l store.AuditLine) client.AuditLine { return client.AuditLine(l) }), err
	}))
}

func (s *Server) sessions(ctx context.Context, in *struct {
	Select
	Cookie string `header:"Cookie"`
}) (*out[client.List[client.Session]], error) {
	all, err := s.Store.Sessions(ctx, s.Clock.Now())
	if err != nil {
		return nil, problem(err)
	}
	mine, now := s.cookieDigest(in.Cookie), s.Clock.Now()
	return sessionList.of(in.Select, each(all, func(n store.Session) client.Session { return sessionOf(n, mine, now) }))
}

// endSessions signs all browsers out.
func (s *Server) endSessions(ctx context.Context, _ *none) (*out[client.SignedOut], error) {
	s.mu.Lock()
	s.offered, s.asking = map[string]time.Time{}, map[string]request{}
	s.mu.Unlock()
	n, err := s.Store.DropSessions(ctx)
	if err != nil {
		return nil, problem(err)
	}
	return &out[client.SignedOut]{client.SignedOut{Browsers: n}}, nil
}

// sessionOf shapes a session; mine is the digest of the secret of the one that asks.
func sessionOf(n store.Session, mine string, now time.Time) client.Session {
	c := client.Session{ID: n.ID(), Agent: n.Agent, Created: n.Created, Ends: n.Ends, Used: n.Used, This: n.Secret == mine}
	if confirmed(n, now) {
		c.Confirmed = when(n.Confirmed.UTC())
	}
	return c
}
