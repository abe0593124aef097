package belong

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	core "earlybench.invalid/earlybench/core/authority"
	"earlybench.invalid/earlybench/core/plain"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/authority"
)

// Apps are the app ids of the crew of the account that is used, as they were read last.
func (b *Belong) Apps() []core.App {
	b.mu.Lock()
	defer b.mu.Unlock()
	return slices.Clone(b.apps)
}

// TakeApp takes an app id for the crew of the account that is used. A placeholder or an id that
// somebody else has is refused, with ids that are free. An id that the crew has already is kept.
func (b *Belong) TakeApp(ctx context.Context, id string) error {
	if err := core.CheckAppID(id); err != nil && !errors.Is(err, core.ErrPlaceholder) {
		return problem.Errorf(problem.Invalid, "%w", err)
	}
	a, err := b.Used()
	if err != nil {
		return err
	}
	crew, app, _ := strings.Cut(id, "/")
	if crew != a.Crew {
		return &problem.Problem{Kind: problem.Refused, Text: fmt.Sprintf("%s starts with the crew %s, but the account in use acts for the crew %s.", id, crew, a.Crew),
			Remedy: fmt.Sprintf("Use %s/%s, or an account of %s: earlybench account set.", a.Crew, app, crew)}
	}
	taken, err := b.cfg.Authorities.TakeApp(ctx, a, app)
	if err == nil {
		b.mu.Lock()
		if !slices.ContainsFunc(b.apps, func(known core.App) bool { return known.ID == taken.ID }) {
			b.apps = append(b.apps, taken)
		}
		b.mu.Unlock()
		return nil
	}
	r, refused := errors.AsType[*authority.Refusal](err)
	if !refused {
		return b.failed(ctx, a, err)
	}
	p := &problem.Problem{Kind: problem.Taken, Text: plain.Capital(r.Error()) + "."}
	if r.Type == core.ProblemPlaceholder {
		p.Kind = problem.Invalid
	}
	if len(r.Suggestions) > 0 {
		p.Remedy = "Available: " + strings.Join(r.Suggestions, ", ") + "."
	}
	return p
}
