package web

import (
	"context"
	"net/http"
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
	huma.Register(a, operation(access.Own, "POST", "/access", "add-access", "Make an access key; its secret is told once"), s.addAccess)
	drop := silent(access.Own, "/access/{id}", "drop-access", "End an access key")
	drop.Method = http.MethodDelete
	huma.Register(a, drop, func(ctx context.Context, in *OfID) (*struct{}, error) {
		return nil, problem(s.Store.DropAccess(ctx, in.ID))
	})
	huma.Register(a, operation(access.Consent, "GET", "/audit", "audit", "Who did what, the newest first"), s.audit)
}

func accessOf(a store.Access, now time.Time) client.Access {
	return client.Access{Name: a.Name, Rights: a.Rights, Created: a.Created, Ends: a.Ends, Used: when(a.Used), Over: !now.Before(a.Ends)}
}

func (s *Server) accesses(ctx context.Context, _ *none) (*out[client.List[client.Access]], error) {
	all, err := s.Store.Accesses(ctx)
	if err != nil {
		return nil, problem(err)
	}
	var items []client.Access
	for _, a := range all {
		items = append(items, accessOf(a, s.Clock.Now()))
	}
	return list(items), nil
}

func (s *Server) addAccess(ctx context.Context, in *struct{ Body client.NewAccess }) (*out[client.MadeAccess], error) {
	good, err := time.ParseDuration(in.Body.For)
	if err != nil {
		return nil, problem(eb.Errorf(eb.Invalid, "for %.40q is not a time: write it as 720h", in.Body.For))
	}
	secret, a, err := s.Access.Make(ctx, in.Body.Name, in.Body.Rights, good)
	if err != nil {
		return nil, problem(err)
	}
	return &out[client.MadeAccess]{client.MadeAccess{Access: accessOf(a, s.Clock.Now()), Secret: secret}}, nil
}

// auditMost is how many lines of the audit are told at once.
const auditMost = 500

func (s *Server) audit(ctx context.Context, in *struct {
	Before int64 `query:"before" minimum:"0" doc:"only lines before this number"`
	Limit  int   `query:"limit" minimum:"1" maximum:"500" default:"100"`
}) (*out[client.List[client.AuditLine]], error) {
	all, err := s.Store.Audit(ctx, in.Before, min(in.Limit, auditMost))
	if err != nil {
		return nil, problem(err)
	}
	var items []client.AuditLine
	for _, l := range all {
		items = append(items, client.AuditLine(l))
	}
	return list(items), nil
}
