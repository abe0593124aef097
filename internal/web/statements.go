package web

import (
	"context"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"earlybench.invalid/earlybench/client"
	eb "earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/core/statement"
	"earlybench.invalid/earlybench/internal/access"
	"earlybench.invalid/earlybench/internal/statements"
)

// OfStatement names a grant or a debug token on a device.
type OfStatement struct {
	Handle string `path:"handle" maxLength:"60"`
	ID     string `path:"id" maxLength:"80"`
}

func (s *Server) statementRoutes() {
	a := s.api
	huma.Register(a, operation(access.Look, "GET", "/statements", "statements", "The grants and debug tokens of the bench, earliest end first"), s.statements)
	huma.Register(a, operation(access.Use, "POST", "/statements", "add-statement", "Request a grant or a debug token from an authority, or add one from elsewhere"), s.addStatement)
	huma.Register(a, operation(access.Consent, "DELETE", "/statements/{id}", "drop-statement", "Forget a grant or a debug token"), func(ctx context.Context, in *struct {
		OfID
		Withdraw bool `query:"withdraw" doc:"have its authority withdraw it before, so that devices refuse it"`
	}) (*struct{}, error) {
		return nil, problem(s.Statements.Drop(ctx, in.ID, in.Withdraw))
	})
	huma.Register(a, work(access.Use, "/statements/{id}/put", "put-statement", "Put a grant or a debug token on devices"), func(ctx context.Context, in *struct {
		OfID
		Body client.PutStatement
	}) (*accepted, error) {
		j, err := s.Statements.Start(ctx, statements.PutAsk{ID: in.ID, Devices: in.Body.Devices, Replace: in.Body.Replace, Actor: access.From(ctx).String()})
		if err != nil {
			return nil, problem(err)
		}
		return &accepted{jobOf(j)}, nil
	})
	huma.Register(a, operation(access.Look, "GET", "/devices/{handle}/statements", "statements-on", "The grants and debug tokens that were seen on a device"), s.statementsOn)
	huma.Register(a, operation(access.Use, "DELETE", "/devices/{handle}/statements/{id}", "take-off", "Remove a grant or a debug token from a device"), func(ctx context.Context, in *OfStatement) (*struct{}, error) {
		return nil, problem(s.Statements.TakeOff(ctx, in.Handle, in.ID))
	})
	huma.Register(a, work(access.Use, "/devices/{handle}/allow", "allow", "Put what an app needs to run on a device"), func(ctx context.Context, in *struct {
		Handle string `path:"handle" maxLength:"60"`
		Body   client.Allow
	}) (*accepted, error) {
		if err := s.Outlook.CheckApp(in.Body.App); err != nil {
			return nil, problem(err)
		}
		build, err := s.buildOf(ctx, in.Body)
		if err != nil {
			return nil, problem(err)
		}
		j, err := s.Statements.Allow(ctx, in.Handle, in.Body.App, build, in.Body.Replace, access.From(ctx).String())
		if err != nil {
			return nil, problem(err)
		}
		return &accepted{jobOf(j)}, nil
	})
	huma.Register(a, operation(access.Look, "GET", "/devices/{handle}/explain", "explain", "Whether an app may run on a device, or which line of a statement rules it out"), s.explain)
	huma.Register(a, operation(access.Look, "GET", "/may-run", "may-run", "Which apps may run on which devices on the rack, and what is needed first"), s.mayRun)
}

// buildOf is how a build of an app is signed; nil if none was named.
func (s *Server) buildOf(ctx context.Context, a client.Allow) (*statements.Build, error) {
	if a.Build == "" {
		return nil, nil
	}
	p, err := s.Tryouts.Project(ctx, a.App, a.Build)
	if err != nil {
		return nil, err
	}
	as, err := s.Tryouts.SignedAs(ctx, p)
	return &statements.Build{Key: as.Developer, Signed: as.Signed, Any: p.Any, Debug: as.Debug, Features: as.Features}, err
}

func (s *Server) statements(_ context.Context, in *struct{ Select }) (*out[client.List[client.Statement]], error) {
	return statementList.of(in.Select, each(s.Statements.All(), s.statementOf))
}

func (s *Server) statementOf(st statements.Statement) client.Statement {
	out := client.Statement{ID: st.ID, Kind: st.Kind.Noun(), Authority: st.Authority, Crew: st.Crew(), Developer: st.Developer(), Key: st.Confirmation.Thumbprint, App: st.App,
		Mine: s.Statements.Mine(st.Confirmation.Thumbprint), Devices: append([]string{}, st.Devices...), Handles: []string{}, Debug: st.Debug, Features: append([]string{}, st.Features...),
		Begins: st.Begin(), Ends: st.End(), State: "good", Asked: st.Asked, Text: st.Text}
	for _, k := range s.Rack.All() {
		if d := k.Device(); d.Serial != "" && slices.Contains(st.Devices, d.Serial) {
			out.Handles = append(out.Handles, d.Handle)
		}
	}
	slices.Sort(out.Handles)
	switch now := s.Clock.Now(); {
	case st.Withdrawn:
		out.State = "withdrawn"
	case !now.Before(st.End()):
		out.State = "ended"
	case now.Before(st.Begin()):
		out.State = "not begun"
	}
	return out
}

func (s *Server) addStatement(ctx context.Context, in *out[client.NewStatement]) (*out[client.Statement], error) {
	n := in.Body
	if n.Text != "" {
		st, err := s.Statements.Add(ctx, n.Text)
		if err != nil {
			return nil, problem(err)
		}
		return &out[client.Statement]{s.statementOf(st)}, nil
	}
	ask := statements.Ask{App: n.App, Devices: n.Devices, Any: n.Any, Debug: n.Debug, Features: n.Features}
	switch n.Kind {
	case "grant":
		ask.Kind = statement.Grant
	case "debug token":
		ask.Kind = statement.DebugToken
	default:
		return nil, problem(eb.New(eb.Invalid, "give its kind: grant or debug token"))
	}
	if n.Identity != "" {
		i, err := s.Belong.Identity(ctx, n.Identity)
		if err != nil {
			return nil, problem(err)
		}
		ask.Key = i.Thumbprint()
	}
	st, err := s.Statements.Issue(ctx, ask)
	if err != nil {
		return nil, problem(err)
	}
	return &out[client.Statement]{s.statementOf(st)}, nil
}

func (s *Server) statementsOn(_ context.Context, in *struct {
	Handle string `path:"handle" maxLength:"60"`
	Select
}) (*out[client.List[client.Statement]], error) {
	all, err := s.Statements.On(in.Handle)
	if err != nil {
		return nil, problem(err)
	}
	return statementList.of(in.Select, each(all, s.statementOf))
}

func (s *Server) explain(ctx context.Context, in *struct {
	Handle string `path:"handle" maxLength:"60"`
	App    string `query:"app" required:"true" maxLength:"100"`
	Build  string `query:"build" maxLength:"40" doc:"which of the project's builds; empty for the project itself"`
}) (*out[client.Explanation], error) {
	k, err := s.Rack.Find(in.Handle)
	if err != nil {
		return nil, problem(err)
	}
	if err := s.Outlook.CheckApp(in.App); err != nil {
		return nil, problem(err)
	}
	build, err := s.buildOf(ctx, client.Allow{App: in.App, Build: in.Build})
	if err != nil {
		return nil, problem(err)
	}
	e := s.Statements.Explain(k, in.App, build)
	answer := client.Explanation{App: e.App, Device: e.Device, Allowed: e.Allowed(), State: string(e.State), Gate: e.Gate, Ends: when(e.Ends), Text: e.Text, Line: string(e.Line), Remedy: e.Remedy}
	if e.Statement != nil {
		st := s.statementOf(*e.Statement)
		answer.Statement = &st
	}
	return &out[client.Explanation]{answer}, nil
}
