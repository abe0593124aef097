package tryout

import (
	"context"
	"fmt"
	"io"
	"io/fs"
	"slices"

	"earlybench.invalid/earlybench/core/appfile"
	"earlybench.invalid/earlybench/core/developer"
	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/core/ready"
	"earlybench.invalid/earlybench/core/statement"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/store"
)

// This file has what a delivery needs: an app is built on one bench, and signed and installed by another one.

// BuildFor builds an app as a phase of another package's job.
func (t *Tryouts) BuildFor(ctx context.Context, run *job.Run, app, build string, unattended bool) (*appfile.Project, error) {
	w := &work{Tryouts: t, run: run, unattended: unattended}
	if err := w.find(ctx, app, build, ""); err != nil {
		return nil, err
	}
	_, err := w.build(ctx)
	return w.project, err
}

// CanTake returns the problem that stands in the way of an app on a device, before its files are here.
func (t *Tryouts) CanTake(ctx context.Context, k *keeper.Keeper, m *appfile.Manifest, certified bool) error {
	d := k.Device()
	if !slices.Contains(m.Families, d.Family) {
		return problem.Errorf(problem.Invalid, "%s is not made for %s, which is of the family %s", m.ID, d.Handle, d.Family)
	}
	now := t.Outlook.Glance(k, "")
	if now.Readiness.Gate("admitted").State == ready.Shut {
		return now.BlockedAt("admitted")
	}
	if err := t.Covered(k, statement.Start{App: m.ID, Developer: m.By(), Signed: certified, Debug: m.Debug, Features: m.Features}); err != nil {
		return err
	}
	if err := t.Outlook.Reachable(k); err != nil {
		return err
	}
	release, err := k.Lease(ctx, "look whether it is free", keeper.Exclusive)
	if err == nil {
		release()
	}
	return err
}

// Assemble makes the app file of a signed manifest from the files in root, and stores it.
func (t *Tryouts) Assemble(ctx context.Context, manifest []byte, s developer.Signature, root fs.FS) (store.AppFile, error) {
	sum, size, err := t.Files.Make(func(out io.Writer) error { return appfile.Assemble(out, manifest, s, root) })
	if err != nil {
		return store.AppFile{}, fmt.Errorf("pack the app: %w", err)
	}
	f, err := t.Files.Open(sum)
	if err != nil {
		return store.AppFile{}, err
	}
	defer f.Close()
	opened, err := appfile.Open(f, size)
	if err != nil {
		return store.AppFile{}, problem.Errorf(problem.Invalid, "the app file is refused: %w", err)
	}
	return t.takeIn(ctx, opened, sum, size)
}
