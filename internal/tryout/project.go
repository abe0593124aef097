package tryout

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"earlybench.invalid/earlybench/core/appfile"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/facts"
	"earlybench.invalid/earlybench/internal/safe"
	"earlybench.invalid/earlybench/internal/store"
)

// AddProject puts an app's directory on record, so that the bench may build from it.
func (t *Tryouts) AddProject(ctx context.Context, dir string) (*appfile.Project, error) {
	if !filepath.IsAbs(dir) {
		return nil, problem.Errorf(problem.Invalid, "%q: give the directory's absolute path", dir)
	}
	p, err := appfile.ReadProject(filepath.Clean(dir))
	if err != nil {
		return nil, problem.Errorf(problem.Invalid, "%w", err)
	}
	if err := t.Store.SaveProject(ctx, store.Project{App: p.ID, Dir: p.Dir}); err != nil {
		return nil, fmt.Errorf("keep the project: %w", err)
	}
	return p, t.Kits.Watch(ctx, p)
}

// here records what an app file says of its app.
func (t *Tryouts) here(ctx context.Context, f *appfile.File) error {
	a := f.App
	seen := func(k fact.Key, v fact.Value) fact.Fact {
		return fact.Fact{Key: k, Value: v, Source: fact.Host, At: t.Clock.Now()}
	}
	return t.Book.Renew(ctx, facts.Subject{Kind: facts.App, ID: a.ID}, seen(fact.AppVersion, fact.Of(a.Version)), seen(fact.AppDeveloper, fact.Of(a.By())), seen(fact.AppSigned, fact.Of(f.Signed())), seen(fact.AppDebug, fact.Of(a.Debug)), seen(fact.AppFeatures, fact.Of(append([]string{}, a.Features...))),
		seen(fact.AppName, fact.Of(a.Name)), seen(fact.AppFamilies, fact.Of(a.Families)))
}

// Project reads the project of an app, as one of its builds says; "" is the project itself.
func (t *Tryouts) Project(ctx context.Context, app, build string) (*appfile.Project, error) {
	w := &work{Tryouts: t}
	err := w.find(ctx, app, build, "")
	return w.project, err
}

// TakeIn checks an app file that was packed elsewhere, and stores it.
func (t *Tryouts) TakeIn(ctx context.Context, path string) (store.AppFile, error) {
	refused := func(err error) error {
		return problem.Errorf(problem.Invalid, "the app file is refused: %w", err)
	}
	f, err := os.Open(path)
	if err != nil {
		return store.AppFile{}, refused(err)
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return store.AppFile{}, err
	}
	opened, err := appfile.Open(f, info.Size())
	if err != nil {
		return store.AppFile{}, refused(err)
	}
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return store.AppFile{}, err
	}
	sum, size, err := t.Files.Put(f)
	if err != nil {
		return store.AppFile{}, err
	}
	return t.takeIn(ctx, opened, sum, size)
}

func (t *Tryouts) takeIn(ctx context.Context, f *appfile.File, sum string, size int64) (store.AppFile, error) {
	a := store.AppFile{Digest: f.Digest, App: f.App.ID, Version: f.App.Version, File: sum, Size: size, Created: t.Clock.Now()}
	if err := t.Store.SaveAppFile(ctx, a); err != nil {
		return a, err
	}
	return a, t.here(ctx, f)
}

// find finds what is to be run: the project on record, or the app file together with the
// tryout settings of the app's project, if there is one.
func (w *work) find(ctx context.Context, app, build, file string) error {
	if file != "" {
		a, err := w.Store.AppFile(ctx, file)
		if err != nil {
			return fmt.Errorf("app file %.80q: %w", file, err)
		}
		w.packed, w.packedAlready = a, true
		w.result.Digest = a.Digest
		app = a.App
	}
	known, err := w.Store.Project(ctx, app)
	switch {
	case errors.Is(err, store.ErrNotFound) && w.packedAlready:
		w.project = &appfile.Project{ID: app}
	case errors.Is(err, store.ErrNotFound):
		return fmt.Errorf("app %.80q: %w; add its directory once: earlybench project add DIR", app, store.ErrNotFound)
	case err != nil:
		return err
	default:
		if w.project, err = appfile.ReadProject(known.Dir); err != nil {
			return problem.Errorf(problem.Invalid, "the project of %s is broken: %w", app, err)
		}
		if w.project, err = w.project.Named(build); err != nil {
			return problem.Errorf(problem.Invalid, "%w", err)
		}
	}
	if w.packedAlready {
		w.project.Version = w.packed.Version
	}
	return nil
}

// pack makes the app file of what was built, and keeps it as the checkpoint.
func (w *work) pack(ctx context.Context) (string, error) {
	key, err := w.SignerFor(ctx, w.project.Identity, safe.Use{Actor: w.run.Job().Actor, App: w.project.ID, Document: w.project.ID + " " + w.project.Version,
		Unattended: w.unattended, Asking: w.run.Asks})
	if err != nil {
		return "", err
	}
	a, err := w.packFiles(ctx, w.project, key)
	if err != nil {
		return "", err
	}
	w.packed, w.result.Digest = a, a.Digest
	return fmt.Sprintf("%d bytes", a.Size), w.run.Keep(checkpoint{Packed: a})
}

// SignerFor is what signs the manifest of an app, once that is allowed: the identity of that name,
// or the development key if it is "". Item and purpose of the use are filled in.
func (t *Tryouts) SignerFor(ctx context.Context, identity string, use safe.Use) (appfile.Signer, error) {
	if _, peer := appfile.SplitIdentity(identity); peer != "" {
		return t.Far.Signer(ctx, identity, use)
	}
	return t.OwnSigner(ctx, identity, use)
}

// OwnSigner is SignerFor for what signs at this bench.
func (t *Tryouts) OwnSigner(ctx context.Context, identity string, use safe.Use) (appfile.Signer, error) {
	if identity == "" {
		return t.Safe.DeveloperKey(ctx, use)
	}
	certificate, item, err := t.Identity(ctx, identity)
	if err != nil {
		return nil, err
	}
	use.Item, use.Purpose = item, safe.SignApp
	if err := t.Safe.Allow(ctx, use); err != nil {
		return nil, err
	}
	key, err := t.Safe.Signer(ctx, item)
	if err != nil {
		return nil, err
	}
	return appfile.Identity{Certificate: certificate, Key: key}, nil
}

func (t *Tryouts) packFiles(ctx context.Context, p *appfile.Project, key appfile.Signer) (store.AppFile, error) {
	root, err := os.OpenRoot(filepath.Join(p.Dir, p.Root))
	if err != nil {
		return store.AppFile{}, fmt.Errorf("open the project's files: %w", err)
	}
	defer root.Close()
	var digest string
	sum, size, err := t.Files.Make(func(out io.Writer) error {
		var err error
		digest, err = appfile.Pack(out, p.Manifest(), root.FS(), p.Files, key)
		return err
	})
	if err != nil {
		return store.AppFile{}, fmt.Errorf("pack %s: %w", p.ID, err)
	}
	a := store.AppFile{Digest: digest, App: p.ID, Version: p.Version, File: sum, Size: size, Created: t.Clock.Now()}
	return a, t.Store.SaveAppFile(ctx, a)
}

// Identities are those by which the projects' apps are signed, by app.
func (t *Tryouts) Identities(ctx context.Context) (map[string]string, error) {
	all, err := t.Store.Projects(ctx)
	if err != nil {
		return nil, fmt.Errorf("read the projects: %w", err)
	}
	out := map[string]string{}
	for _, known := range all {
		if p, err := appfile.ReadProject(known.Dir); err == nil { // else it is said where projects are listed
			out[known.App] = p.Identity
		}
	}
	return out, nil
}
