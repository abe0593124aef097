package tryout

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"earlybench.invalid/earlybench/core/appfile"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/replace"
	"earlybench.invalid/earlybench/internal/safe"
)

// SecretOf is the name under which the safe has a secret of an app.
func SecretOf(app, name string) string { return app + " " + name }

// purposeFill is what a secret is used for at a build.
const purposeFill = "fill in its configuration"

// fill makes the files of a project that are made of templates.
func (w *work) fill(ctx context.Context) error {
	for _, t := range w.project.Templates {
		if err := w.fillOne(ctx, t); err != nil {
			return err
		}
	}
	return nil
}

func (w *work) fillOne(ctx context.Context, t appfile.Template) error {
	from, to := filepath.Join(w.project.Dir, t.From), filepath.Join(w.project.Dir, t.To)
	info, err := os.Stat(from)
	if err != nil {
		return problem.Errorf(problem.Invalid, "the template of %s cannot be read: %w", t.To, err)
	}
	if !info.Mode().IsRegular() || info.Size() > appfile.MaxTemplate {
		return problem.Errorf(problem.Invalid, "template %s is not a file, or has more than %d bytes", t.From, appfile.MaxTemplate)
	}
	raw, err := os.ReadFile(from)
	if err != nil {
		return fmt.Errorf("read the template %s: %w", t.From, err)
	}
	names := appfile.SecretsIn(raw)
	if len(names) == 0 {
		text, err := appfile.Fill(raw, w.project.Values(), nil)
		if err != nil {
			return err
		}
		return replace.File(to, text, 0o600)
	}
	secrets := map[string]string{}
	for _, n := range names {
		item, ok := w.Safe.Secret(SecretOf(w.project.ID, n))
		if !ok {
			return &problem.Problem{Kind: problem.Person, Text: fmt.Sprintf("Template %s uses the secret %q, which is not in the safe.", t.From, n),
				Remedy: fmt.Sprintf("Add it: earlybench app secret set %s %s", w.project.ID, n)}
		}
		err := w.Safe.Allow(ctx, safe.Use{Item: item.ID, Actor: w.run.Job().Actor, App: w.project.ID, Purpose: purposeFill, Document: t.To, Unattended: w.unattended, Asking: w.run.Asks})
		if err != nil {
			return err
		}
		secrets[n] = item.ID
	}
	return w.Safe.Fill(ctx, from, to, w.project.Values(), secrets)
}
