package web

import (
	"context"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/internal/access"
	"earlybench.invalid/earlybench/internal/tidy"
)

func (s *Server) tidyRoutes() {
	a := s.api
	huma.Register(a, operation(access.Look, "GET", "/tidy", "tidy", "What the bench no longer needs to keep"), func(ctx context.Context, _ *none) (*out[client.Tidy], error) {
		return tidyOf(s.Tidy.Look(ctx))
	})
	huma.Register(a, operation(access.Maintain, "POST", "/tidy", "tidy-now", "Remove what is no longer needed"), func(ctx context.Context, _ *none) (*out[client.Tidy], error) {
		return tidyOf(s.Tidy.Do(ctx))
	})
	huma.Register(a, operation(access.Own, "PUT", "/tidy", "set-tidy", "Set how long things are kept"), func(ctx context.Context, in *out[client.TidyRules]) (*out[client.Tidy], error) {
		if err := s.Tidy.SetRules(ctx, rulesOf(in.Body)); err != nil {
			return nil, problem(err)
		}
		return tidyOf(s.Tidy.Look(ctx))
	})
}

const day = 24 * time.Hour

func rulesOf(r client.TidyRules) tidy.Rules {
	span := func(days int) time.Duration { return time.Duration(days) * day }
	return tidy.Rules{Tryouts: span(r.Tryouts), Jobs: span(r.Jobs), Apps: span(r.Apps), Packs: span(r.Packs), Audit: span(r.Audit), Most: r.Most}
}

func tidyOf(p tidy.Plan, err error) (*out[client.Tidy], error) {
	if err != nil {
		return nil, problem(err)
	}
	days := func(d time.Duration) int { return int(d / day) }
	r := p.Rules
	c := client.Tidy{Rules: client.TidyRules{Tryouts: days(r.Tryouts), Jobs: days(r.Jobs), Apps: days(r.Apps), Packs: days(r.Packs), Audit: days(r.Audit), Most: r.Most},
		Bytes: p.Bytes, Files: p.Files, Records: p.Records}
	c.Rows = each(p.Rows, func(r tidy.Row) client.TidyRow {
		return client.TidyRow{Kind: r.Kind, Name: r.Name, Count: r.Count, Bytes: r.Bytes, Why: r.Why, Since: r.Since.UTC()}
	})
	return &out[client.Tidy]{c}, nil
}
