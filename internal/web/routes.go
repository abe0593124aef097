package web

import (
	"context"
	"encoding/json"
	"io"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/core/plain"
	eb "earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/core/strict"
	"earlybench.invalid/earlybench/internal/access"
	"earlybench.invalid/earlybench/internal/web/httpd"
)

type (
	out[T any] struct{ Body T }
	none       struct{}
	// OfDevice is exported so that huma reads it where it is embedded.
	OfDevice struct {
		Handle string `path:"handle" maxLength:"60"`
		App    string `query:"app" doc:"count the gates of this app too"`
	}
	// OnRevision is an action that was decided on a revision of a device. It is refused
	// (412) if the device has changed since (RFC 9110, section 13.1.1).
	OnRevision struct {
		IfMatch string `header:"If-Match" maxLength:"40" doc:"the device's revision that this decision is based on, in quotation marks"`
	}
	OfID struct {
		ID string `path:"id" maxLength:"60"`
	}
	accepted struct {
		Body client.Job
	}
)

// nobody is the right of operations that need none, such as signing in.
const nobody access.Right = ""

// operation describes an operation of the interface and the right that it needs.
func operation(right access.Right, method, path, id, summary string) huma.Operation {
	op := huma.Operation{Method: method, Path: "/api/v1" + path, OperationID: id, Summary: summary, Metadata: map[string]any{rightKey: right},
		Extensions: map[string]any{"x-right": string(right)}}
	if right == nobody {
		op.MaxBodyBytes = httpd.UnknownBody
	}
	if method == http.MethodPost {
		op.DefaultStatus = http.StatusOK
		op.Parameters = []*huma.Param{onceParam}
	}
	return op
}

// silent describes an operation that answers without content.
func silent(right access.Right, path, id, summary string) huma.Operation {
	op := operation(right, http.MethodPost, path, id, summary)
	op.DefaultStatus = http.StatusNoContent
	return op
}

func work(right access.Right, path, id, summary string) huma.Operation {
	op := operation(right, http.MethodPost, path, id, summary)
	op.DefaultStatus = http.StatusAccepted
	return op
}

func (s *Server) routes() {
	cfg := huma.DefaultConfig("Early Bench", Version)
	cfg.OpenAPIPath, cfg.DocsPath, cfg.SchemasPath = "/api/openapi", "", ""
	cfg.CreateHooks = nil // no $schema members in answers
	// Text from outside is cleaned here, in one place, before it reaches pages and programs.
	cfg.Formats = map[string]huma.Format{"application/json": cleaned, "json": cleaned}
	cfg.Info.Description = "What a bench knows and does. Errors are application/problem+json (RFC 9457). Events are at /api/v1/events, as server-sent events."
	s.api = huma.NewAPI(cfg, adapter{s})
	a := s.api

	huma.Register(a, operation(access.Look, "GET", "/bench", "bench", "The bench itself"), s.bench)
	huma.Register(a, operation(access.Own, "PATCH", "/bench", "rename-bench", "Give the bench another name"), s.rename)
	huma.Register(a, silent(nobody, "/sign-in", "sign-in", "Sign a browser in with a one-time secret"), s.signIn)
	huma.Register(a, silent(access.Look, "/sign-out", "sign-out", "Sign a browser out"), s.signOut)
	huma.Register(a, operation(access.Own, "POST", "/sign-in-addresses", "offer-sign-in", "Make a one-time sign-in address"),
		func(context.Context, *none) (*out[client.SignInAddress], error) {
			return &out[client.SignInAddress]{client.SignInAddress{URL: s.Offer()}}, nil
		})

	huma.Register(a, operation(access.Look, "GET", "/round", "round", "The devices, grouped by what they need next"), s.round)
	s.deviceRoutes()
	s.accessRoutes()
	s.confirmRoutes()
	s.retireRoutes()
	s.phoneRoutes()
	s.personalRoutes()
	s.whyRoutes()
	s.sheetRoutes()
	s.hostRoutes()
	s.networkRoutes()
	s.adapterRoutes()
	s.peerRoutes()
	s.reservationRoutes()
	s.handsRoutes()
	s.supplyRoutes()
	s.kitRoutes()
	s.safeRoutes()
	s.belongRoutes()
	s.identityRoutes()
	s.statementRoutes()
	s.endingRoutes()
	s.tidyRoutes()
	s.backupRoutes()
	s.appSecretRoutes()
	s.appRoutes()
	nullable(a.OpenAPI().Components.Schemas.Map())
}

// cleaned writes JSON without control characters for terminals or text direction.
var cleaned = huma.Format{
	Marshal: func(w io.Writer, v any) error {
		raw, err := json.Marshal(v)
		if err != nil {
			return err
		}
		_, err = w.Write(append(plain.JSON(raw), '\n'))
		return err
	},
	Unmarshal: strict.NewerJSON,
}

// nullable marks the members that are an object or null in the schema, which huma does not
// do for pointers to objects.
func nullable(schemas map[string]*huma.Schema) {
	for name, members := range map[string][]string{"Device": {"next"}, "Step": {"draw", "denied"}, "Prep": {"offer", "need"}, "Why": {"next"}, "Move": {"step"}, "Job": {"error", "result", "put"}, "DeviceResult": {"error"}, "Introduction": {"error"}, "Peering": {"meeting", "asking"}, "PutRow": {"error"}, "Explanation": {"statement"}} {
		for _, m := range members {
			was := schemas[name].Properties[m]
			schemas[name].Properties[m] = &huma.Schema{AnyOf: []*huma.Schema{{Ref: was.Ref}, {Type: "null"}}, Description: was.Description}
		}
	}
}

func list[T any](items []T) *out[client.List[T]] {
	if items == nil {
		items = []T{}
	}
	return &out[client.List[T]]{Body: client.List[T]{Items: items}}
}

// each applies a function to every item.
func each[A, B any](all []A, of func(A) B) []B {
	out := make([]B, len(all))
	for i, a := range all {
		out[i] = of(a)
	}
	return out
}

func (s *Server) bench(ctx context.Context, _ *none) (*out[client.Bench], error) {
	last, err := s.Store.Last(ctx)
	if err != nil {
		return nil, problem(err)
	}
	shown, actor := s.benchOf(last), access.From(ctx)
	shown.May, shown.MayUntil = each(actor.Rights, func(r access.Right) string { return string(r) }), when(actor.Ends)
	return &out[client.Bench]{shown}, nil
}

func (s *Server) rename(ctx context.Context, in *struct {
	Body struct {
		Name string `json:"name" maxLength:"60"`
	}
}) (*out[client.Bench], error) {
	if !hostName.MatchString(in.Body.Name) {
		return nil, problem(eb.Errorf(eb.Invalid, "bench name %.60q is invalid: start with a lower-case letter, then use up to 39 letters, digits or hyphens", in.Body.Name))
	}
	if err := s.Rename(ctx, in.Body.Name); err != nil {
		return nil, problem(err)
	}
	return s.bench(ctx, nil)
}
