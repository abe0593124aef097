// Package library keeps the active prep sheets: those that ship with Early Bench, and
// those in a directory beside the bench, which replace shipped ones of the same name.
// Edits in that directory take effect while the bench runs. A broken edit is rejected and
// reported; the last good version stays active, also after a restart.
package library

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/sheet"
	"earlybench.invalid/earlybench/internal/replace"
	"earlybench.invalid/earlybench/internal/store"
)

// Config is what a library needs.
type Config struct {
	Shipped fs.FS
	Loaded  *sheet.Library // Shipped as it was loaded before, to save that; nil if it was not
	Dir     string         // of the sheets beside the bench; need not exist
	Store   *store.Store
	Clock   clock.Clock
	Log     *slog.Logger
}

// Library is the active sheets. It is made by Open and watches between Watch
// and the end of its context.
type Library struct {
	cfg Config

	mu      sync.Mutex
	now     *sheet.Library
	trouble sheet.Errors
	good    map[string]store.SheetFile // the active texts, by file
	stamps  map[string]stamp           // of the files as they were read last

	reading sync.Mutex // held while edits are applied
	took    func(context.Context, *sheet.Library) error
}

// stamp identifies a version of a file.
type stamp struct {
	at   time.Time
	size int64
}

// look is how often the directory is checked.
const look = 500 * time.Millisecond

// Open reads the sheets. Broken ones beside the bench are not an error: the last good
// version is active then.
func Open(ctx context.Context, cfg Config) (*Library, error) {
	l := &Library{cfg: cfg, good: map[string]store.SheetFile{}}
	last, err := cfg.Store.SheetFiles(ctx)
	if err != nil {
		return nil, fmt.Errorf("read the sheets that were good last: %w", err)
	}
	for _, f := range last {
		l.good[f.Name] = f
	}
	if _, err := l.read(ctx); err != nil {
		return nil, err
	}
	if l.now != nil {
		return l, nil
	}
	texts := map[string][]byte{}
	for name, f := range l.good {
		texts[name] = f.Text
	}
	if l.now, err = l.load(texts); err == nil {
		return l, nil
	}
	cfg.Log.Error("the last valid sheets no longer fit those that ship", "error", err)
	l.good = map[string]store.SheetFile{}
	if l.now, err = l.load(nil); err != nil {
		return nil, fmt.Errorf("the shipped prep sheets have errors:\n%w", err)
	}
	return l, nil
}

// load loads the sheets that ship with further ones.
func (l *Library) load(texts map[string][]byte) (*sheet.Library, error) {
	if len(texts) == 0 && l.cfg.Loaded != nil {
		return l.cfg.Loaded, nil
	}
	return sheet.LoadWith(l.cfg.Shipped, texts)
}

// Current returns the active sheets.
func (l *Library) Current() *sheet.Library {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.now
}

// Trouble returns the mistakes because of which the newest edit is not active; none if it
// is.
func (l *Library) Trouble() sheet.Errors {
	l.mu.Lock()
	defer l.mu.Unlock()
	return slices.Clone(l.trouble)
}

// Dir is the directory of the sheets beside the bench.
func (l *Library) Dir() string { return l.cfg.Dir }

// Taken returns since when the text of a file is active; the zero time if it is not.
func (l *Library) Taken(file string) time.Time {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.good[file].Taken
}

// Watch applies edits until ctx ends; took is called with every new library.
func (l *Library) Watch(ctx context.Context, took func(context.Context, *sheet.Library) error) {
	l.reading.Lock()
	l.took = took
	l.reading.Unlock()
	for clock.Sleep(ctx, clock.System{}, look) == nil {
		if err := l.Apply(ctx); err != nil && ctx.Err() == nil {
			l.cfg.Log.Error("take the sheets", "error", err)
		}
	}
}

// Apply applies edits now.
func (l *Library) Apply(ctx context.Context) error {
	l.reading.Lock()
	defer l.reading.Unlock()
	changed, err := l.read(ctx)
	if err == nil && changed && l.took != nil {
		err = l.took(ctx, l.Current())
	}
	return err
}

// read reads the directory if it has changed, and activates it if all of it is good.
func (l *Library) read(ctx context.Context) (changed bool, err error) {
	stamps, err := l.stampAll()
	if err != nil {
		return false, err
	}
	l.mu.Lock()
	same := l.stamps != nil && maps.Equal(stamps, l.stamps)
	l.mu.Unlock()
	if same {
		return false, nil
	}
	texts := map[string][]byte{}
	for name := range stamps {
		raw, err := os.ReadFile(name)
		if errors.Is(err, fs.ErrNotExist) {
			continue // the next look sees it gone
		}
		if err != nil {
			return false, fmt.Errorf("read the sheet %s: %w", name, err)
		}
		texts[name] = raw
	}
	lib, err := l.load(texts)
	if wrong, ok := errors.AsType[sheet.Errors](err); ok {
		l.refuse(stamps, wrong)
		return false, l.cfg.Store.Tell(ctx, "sheet.changed", "")
	} else if err != nil {
		return false, err
	}
	return true, l.take(ctx, lib, stamps, texts)
}

func (l *Library) stampAll() (map[string]stamp, error) {
	names, err := filepath.Glob(filepath.Join(l.cfg.Dir, "*.yaml"))
	if err != nil {
		return nil, err
	}
	out := map[string]stamp{}
	for _, n := range names {
		if info, err := os.Stat(n); err == nil && info.Mode().IsRegular() {
			out[n] = stamp{info.ModTime(), info.Size()}
		}
	}
	return out, nil
}

func (l *Library) refuse(stamps map[string]stamp, wrong sheet.Errors) {
	l.cfg.Log.Warn("an edit of the sheets was refused; the last valid ones stay active", "mistakes", wrong.Error())
	l.mu.Lock()
	defer l.mu.Unlock()
	l.stamps, l.trouble = stamps, wrong
}

// take activates a good library.
func (l *Library) take(ctx context.Context, lib *sheet.Library, stamps map[string]stamp, texts map[string][]byte) error {
	l.mu.Lock()
	good := map[string]store.SheetFile{}
	for name, text := range texts {
		f := store.SheetFile{Name: name, Text: text, Taken: l.cfg.Clock.Now()}
		if old, ok := l.good[name]; ok && bytes.Equal(old.Text, text) {
			f.Taken = old.Taken
		}
		good[name] = f
	}
	l.now, l.trouble, l.good, l.stamps = lib, nil, good, stamps
	l.mu.Unlock()
	files := slices.SortedFunc(maps.Values(good), func(a, b store.SheetFile) int { return strings.Compare(a.Name, b.Name) })
	return l.cfg.Store.SaveSheetFiles(ctx, files)
}

// ErrShipped is the error for a sheet that ships with Early Bench and cannot be dropped.
var ErrShipped = errors.New("it ships with Early Bench")

// Add checks a sheet and writes it to the directory, replacing one of its name. It is
// active once edits are applied. Mistakes are returned as [sheet.Errors], and then nothing
// is changed.
func (l *Library) Add(text []byte) (file string, err error) {
	name, wrong := sheet.NameOf(text)
	if len(wrong) > 0 {
		return "", wrong
	}
	file = l.fileOf(name)
	if file == "" {
		file = filepath.Join(l.cfg.Dir, strings.ReplaceAll(name, "/", "-")+".yaml")
	}
	texts := l.texts()
	if raw, err := os.ReadFile(file); err == nil && bytes.Equal(raw, text) && bytes.Equal(texts[file], text) { // it is active
		return file, nil
	}
	texts[file] = text
	if _, err := sheet.LoadWith(l.cfg.Shipped, texts); err != nil {
		return "", err
	}
	if err := os.MkdirAll(l.cfg.Dir, 0o700); err != nil {
		return "", fmt.Errorf("make the directory of the sheets: %w", err)
	}
	if err := replace.File(file, text, 0o600); err != nil {
		return "", fmt.Errorf("write the sheet: %w", err)
	}
	return file, nil
}

// Drop removes a sheet from the directory, by its name, if no other sheet needs it.
func (l *Library) Drop(name string) error {
	file := l.fileOf(name)
	if file == "" {
		if l.Current().File(name) != "" {
			return fmt.Errorf("sheet %s: %w", name, ErrShipped)
		}
		return fmt.Errorf("sheet %.60q: %w", name, store.ErrNotFound)
	}
	texts := l.texts()
	delete(texts, file)
	if _, err := sheet.LoadWith(l.cfg.Shipped, texts); err != nil {
		return fmt.Errorf("other sheets need it: %w", err)
	}
	return os.Remove(file)
}

func (l *Library) texts() map[string][]byte {
	l.mu.Lock()
	defer l.mu.Unlock()
	out := map[string][]byte{}
	for n, f := range l.good {
		out[n] = f.Text
	}
	return out
}

// fileOf returns the file in the directory that holds a sheet; "" for none.
func (l *Library) fileOf(name string) string {
	for file, text := range l.texts() {
		if n, _ := sheet.NameOf(text); n == name {
			return file
		}
	}
	return ""
}
