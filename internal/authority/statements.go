package authority

import (
	"context"
	"net/http"

	"earlybench.invalid/earlybench/core/authority"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/core/statement"
	"earlybench.invalid/earlybench/internal/outside"
	"earlybench.invalid/earlybench/internal/store"
)

// Checkers are how statements of the authorities on record are checked, by the names of the
// authorities. Nothing is asked for it.
func (a *Authorities) Checkers() map[string]statement.Authority {
	a.mu.Lock()
	defer a.mu.Unlock()
	out := map[string]statement.Authority{}
	for name, o := range a.all {
		out[name] = statement.Authority{Name: o.record.About.Name, Keys: o.record.About.Keys}
	}
	return out
}

// Issue asks for a grant or a debug token for an account's crew, under an id that the caller has
// chosen; twice is once.
func (a *Authorities) Issue(ctx context.Context, acc store.Account, id string, w authority.Wanted) (authority.Issued, error) {
	var out authority.Issued
	err := a.ask(ctx, acc, http.MethodPut, crewPath(acc, "statements", id), w, &out)
	if err == nil && (out.ID != id || out.Kind != w.Kind) {
		err = errNonsense
	}
	return out, err
}

// Withdraw withdraws a grant or a debug token; twice is once.
func (a *Authorities) Withdraw(ctx context.Context, acc store.Account, id string) error {
	return a.ask(ctx, acc, http.MethodDelete, crewPath(acc, "statements", id), nil, nil)
}

// Statements lists the grants and debug tokens of an account's crew.
func (a *Authorities) Statements(ctx context.Context, acc store.Account) ([]authority.Issued, error) {
	var out authority.List[authority.Issued]
	err := a.ask(ctx, acc, http.MethodGet, crewPath(acc, "statements"), nil, &out)
	return out.Items, err
}

// StatusList asks an authority what it has withdrawn. Its signature is checked.
func (a *Authorities) StatusList(ctx context.Context, name string) (*statement.Status, error) {
	o, err := a.find(name)
	if err != nil {
		return nil, err
	}
	answer, err := o.client.Do(ctx, outside.Request{Method: http.MethodGet, Path: authority.StatusPath, Limit: authority.MaxAnswer, Within: askWithin})
	if err != nil {
		return nil, err
	}
	var list authority.StatusList
	if answer.Status != http.StatusOK || authority.Read(answer.Body, &list) != nil {
		return nil, errNonsense
	}
	checked, err := a.Checkers()[name].ReadStatus(list.Text)
	if err != nil {
		return nil, problem.Errorf(problem.Refused, "the status list of %s: %w", name, err)
	}
	return checked, nil
}
