// Package kits observes what this computer has for building apps: the projects on record,
// and the kits and programs that their builds need. The file system notifies it of
// changes, which it records as facts about the apps.
package kits

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"maps"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/fsnotify/fsnotify"

	"earlybench.invalid/earlybench/core/appfile"
	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/kit"
	"earlybench.invalid/earlybench/internal/facts"
	"earlybench.invalid/earlybench/internal/store"
)

// Config is what kits need. All fields are needed.
type Config struct {
	Store *store.Store
	Book  *facts.Book
	// Developer is the thumbprint of the key of an identity, or of the development key if that is ""; ""
	// if there is none.
	Developer func(ctx context.Context, identity string) string
	Dir       string // the bench's own directory of kits, in which every kit is looked for
	Home      string // the user's own directory
	Clock     clock.Clock
	Log       *slog.Logger
}

// Kits is made by New, filled by Read, watches while Run runs, and ends with Close.
type Kits struct {
	cfg     Config
	watcher *fsnotify.Watcher
	wake    chan struct{} // has Run look again

	mu       sync.Mutex
	projects map[string]string           // directory by app
	known    map[string]*kit.Description // by name
	texts    map[string][]byte           // of the descriptions, by name
	places   map[string][]string         // directories that the owner has named, by kit
	found    map[string][]kit.Copy       // by kit, as the last look found them
	needs    map[string]map[string]Used  // by kit and app, as above

	looking sync.Mutex        // taken before mu: one look at a time, so that an older one is not recorded over a newer
	answers map[string]answer // of programs that were asked for their versions, by path and argument
}

// Used is what an app's build needs of a kit, and the copy that is used for it.
type Used struct {
	Need   kit.Need
	Choice kit.Choice
}

// elsewhere are places where programs are often installed without being on the search path.
var elsewhere = []string{"/opt/*/bin", "/usr/local/*/bin", "/usr/lib/*/bin"}

// New starts to watch the search path and the other places of kits.
func New(cfg Config) (*Kits, error) {
	known, texts, err := shipped()
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(cfg.Dir, 0o700); err != nil { // what is not there cannot be watched
		return nil, fmt.Errorf("make the directory of kits: %w", err)
	}
	w, err := fsnotify.NewWatcher()
	if err != nil {
		return nil, fmt.Errorf("watch for kits: %w", err)
	}
	k := &Kits{cfg: cfg, watcher: w, wake: make(chan struct{}, 1), projects: map[string]string{}, known: known, texts: texts, places: map[string][]string{},
		answers: map[string]answer{}, found: map[string][]kit.Copy{}, needs: map[string]map[string]Used{}}
	dirs := append(filepath.SplitList(os.Getenv("PATH")), cfg.Dir)
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

// Read reads what is on record: projects, app files, and the owner's kits. No program is
// started; that is left to Run.
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
	if err := k.readKits(ctx); err != nil {
		return err
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
		if err := k.lookAtProject(ctx, p.App, p.Dir); err != nil {
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
	if err := k.lookAtProject(ctx, p.ID, p.Dir); err != nil {
		return err
	}
	return k.look(ctx)
}

// together is how long to wait for further changes that belong together.
const together = 100 * time.Millisecond

// Run inspects what is there, and again what has changed, until ctx ends.
func (k *Kits) Run(ctx context.Context) {
	k.again(ctx)
	for {
		select {
		case <-ctx.Done():
			return
		case err, ok := <-k.watcher.Errors:
			if !ok {
				return
			}
			k.cfg.Log.Warn("watch for kits", "error", err)
		case e, ok := <-k.watcher.Events:
			if !ok {
				return
			}
			k.forget(e.Name)
		case <-k.wake:
		}
		k.drain(ctx)
		k.mu.Lock()
		projects := maps.Clone(k.projects)
		k.mu.Unlock()
		for app, dir := range projects {
			if err := k.lookAtProject(ctx, app, dir); err != nil && ctx.Err() == nil {
				k.cfg.Log.Error("look at a project", "app", app, "error", err)
			}
		}
		k.again(ctx)
	}
}

// Again has Run look at the projects again, since the key that signs what they build may be
// another one.
func (k *Kits) Again() {
	select {
	case k.wake <- struct{}{}:
	default:
	}
}

func (k *Kits) again(ctx context.Context) {
	if err := k.look(ctx); err != nil && ctx.Err() == nil {
		k.cfg.Log.Error("look at the kits", "error", err)
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
		case e := <-k.watcher.Events:
			k.forget(e.Name)
		case <-k.watcher.Errors:
		}
	}
}

// forget forgets what the programs of the copies have printed in which something changed.
func (k *Kits) forget(changed string) {
	k.looking.Lock()
	defer k.looking.Unlock()
	k.mu.Lock()
	found := k.found
	k.mu.Unlock()
	for _, copies := range found {
		for _, c := range copies {
			if changed != c.Path && !strings.HasPrefix(changed, c.Path+string(filepath.Separator)) {
				continue
			}
			for key := range k.answers {
				if strings.HasPrefix(key, c.Path) {
					delete(k.answers, key)
				}
			}
		}
	}
}

// lookAtProject records what a project says of its app.
func (k *Kits) lookAtProject(ctx context.Context, app, dir string) error {
	p, err := appfile.ReadProject(dir)
	if err != nil {
		return nil // said when somebody runs it, and in the list of projects
	}
	seen := []fact.Fact{k.seen(fact.AppVersion, p.Version),
		k.seen(fact.AppName, p.Name), {Key: fact.AppFamilies, Value: fact.Of(p.Families), Source: fact.Host, At: k.cfg.Clock.Now()}}
	if by := k.cfg.Developer(ctx, p.Identity); by != "" {
		seen = append(seen, k.seen(fact.AppDeveloper, by), fact.Fact{Key: fact.AppSigned, Value: fact.Of(appfile.Certified(p.Identity)), Source: fact.Host, At: k.cfg.Clock.Now()})
	}
	seen = append(seen, fact.Fact{Key: fact.AppDebug, Value: fact.Of(true), Source: fact.Host, At: k.cfg.Clock.Now()}, // as the project itself is built
		fact.Fact{Key: fact.AppFeatures, Value: fact.Of(append([]string{}, p.Features...)), Source: fact.Host, At: k.cfg.Clock.Now()})
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
