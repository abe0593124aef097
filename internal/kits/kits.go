// Package kits observes what this computer has for building apps: the projects on record,
// and the programs that their builds need. The file system notifies it of changes, which
// it records as facts about the apps.
package kits

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"time"

	"github.com/fsnotify/fsnotify"

	"earlybench.invalid/earlybench/core/appfile"
	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/internal/facts"
	"earlybench.invalid/earlybench/internal/store"
)

// Config is what kits need. All fields are needed.
type Config struct {
	Store     *store.Store
	Book      *facts.Book
	Developer string // thumbprint of the key by which what projects build is signed
	Clock     clock.Clock
	Log       *slog.Logger
}

// Kits is made by New, filled by Read, watches while Run runs, and ends with Close.
type Kits struct {
	cfg     Config
	watcher *fsnotify.Watcher

	mu       sync.Mutex
	projects map[string]string // directory by app
}

// elsewhere are places where kits are often installed without being on the search path.
var elsewhere = []string{"/opt/*/bin", "/usr/local/*/bin", "/usr/lib/*/bin"}

// New starts to watch the search path and the other places of kits.
func New(cfg Config) (*Kits, error) {
	w, err := fsnotify.NewWatcher()
	if err != nil {
		return nil, fmt.Errorf("watch for kits: %w", err)
	}
	k := &Kits{cfg: cfg, watcher: w, projects: map[string]string{}}
	dirs := filepath.SplitList(os.Getenv("PATH"))
	for _, pattern := range elsewhere {
		found, _ := filepath.Glob(pattern) // the patterns are well formed
		dirs = append(dirs, found...)
	}
	for _, d := range dirs {
		k.add(d)
	}
	return k, nil
}

// add watches a directory. One that does not exist is skipped.
func (k *Kits) add(dir string) {
	if err := k.watcher.Add(dir); err != nil && !errors.Is(err, fs.ErrNotExist) {
		k.cfg.Log.Warn("changes in a directory are not seen", "directory", dir, "error", err)
	}
}

// Close ends watching.
func (k *Kits) Close() error { return k.watcher.Close() }

// Read looks at the projects and app files on record.
func (k *Kits) Read(ctx context.Context) error {
	files, err := k.cfg.Store.AppFiles(ctx)
	if err != nil {
		return fmt.Errorf("read the app files: %w", err)
	}
	for i := len(files) - 1; i >= 0; i-- { // the newest last
		if err := k.cfg.Book.Renew(ctx, facts.Subject{Kind: facts.App, ID: files[i].App}, k.seen(fact.AppVersion, files[i].Version)); err != nil {
			return err
		}
	}
	all, err := k.cfg.Store.Projects(ctx)
	if err != nil {
		return fmt.Errorf("read the projects: %w", err)
	}
	for _, p := range all {
		k.mu.Lock()
		k.projects[p.App] = p.Dir
		k.mu.Unlock()
		k.add(p.Dir)
		if err := k.look(ctx, p.App, p.Dir); err != nil {
			return err
		}
	}
	return nil
}

// Watch inspects a project now, and again whenever it changes.
func (k *Kits) Watch(ctx context.Context, p *appfile.Project) error {
	k.mu.Lock()
	k.projects[p.ID] = p.Dir
	k.mu.Unlock()
	k.add(p.Dir)
	return k.look(ctx, p.ID, p.Dir)
}

// together is how long to wait for further changes that belong together.
const together = 100 * time.Millisecond

// Run inspects what has changed, until ctx ends.
func (k *Kits) Run(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case err, ok := <-k.watcher.Errors:
			if !ok {
				return
			}
			k.cfg.Log.Warn("watch for kits", "error", err)
		case _, ok := <-k.watcher.Events:
			if !ok {
				return
			}
		}
		k.drain(ctx)
		k.mu.Lock()
		projects := make(map[string]string, len(k.projects))
		for app, dir := range k.projects {
			projects[app] = dir
		}
		k.mu.Unlock()
		for app, dir := range projects {
			if err := k.look(ctx, app, dir); err != nil && ctx.Err() == nil {
				k.cfg.Log.Error("look at a project", "app", app, "error", err)
			}
		}
	}
}

// drain reads the changes that belong together.
func (k *Kits) drain(ctx context.Context) {
	over := time.After(together)
	for {
		select {
		case <-ctx.Done():
			return
		case <-over:
			return
		case <-k.watcher.Events:
		case <-k.watcher.Errors:
		}
	}
}

// look inspects a project: the least release that its app runs on, and whether the
// program that builds it is installed.
func (k *Kits) look(ctx context.Context, app, dir string) error {
	p, err := appfile.ReadProject(dir)
	if err != nil {
		return nil // said when somebody runs it, and in the list of projects
	}
	program := p.Build.Command[0]
	state := "here"
	if _, err := exec.LookPath(program); err != nil {
		if state = "missing"; isElsewhere(program) {
			state = "path"
		}
	}
	seen := []fact.Fact{k.seen(fact.KitState, state), k.seen(fact.KitName, program), k.seen(fact.AppVersion, p.Version), k.seen(fact.AppDeveloper, k.cfg.Developer),
		k.seen(fact.AppName, p.Name), {Key: fact.AppFamilies, Value: fact.Of(p.Families), Source: fact.Host, At: k.cfg.Clock.Now()}}
	if p.Minimum != "" {
		needs := k.seen(fact.AppNeeds, "")
		needs.Value = fact.Of(fact.Release(p.Minimum))
		seen = append(seen, needs)
	}
	return k.cfg.Book.Renew(ctx, facts.Subject{Kind: facts.App, ID: app}, seen...)
}

func (k *Kits) seen(key fact.Key, text string) fact.Fact {
	return fact.Fact{Key: key, Value: fact.Of(text), Source: fact.Host, At: k.cfg.Clock.Now()}
}

func isElsewhere(program string) bool {
	for _, pattern := range elsewhere {
		if found, _ := filepath.Glob(filepath.Join(pattern, program)); len(found) > 0 {
			return true
		}
	}
	return false
}
