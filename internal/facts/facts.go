// Package facts keeps what is known of every subject: devices, hosts, apps, and apps on
// devices. Observations are recorded with [Book.Observe]; a fact counts when it is on disk,
// in the order in which facts were written. Reading what is known uses memory only.
package facts

import (
	"context"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/internal/store"
)

// Kind is what sort of thing a subject is.
type Kind string

// The kinds of subjects.
const (
	Device Kind = "device"
	Host   Kind = "host"
	App    Kind = "app"
	Trial  Kind = "trial" // an app on a device
)

// Subject is what facts are about.
type Subject struct {
	Kind Kind
	ID   string
}

// OnDevice is the subject for an app on a device, by the device's id.
func OnDevice(id, app string) Subject { return Subject{Trial, id + "/" + app} }

// key is the subject in the records; for a device that is its id alone.
func (s Subject) key() string {
	if s.Kind == Device {
		return s.ID
	}
	return string(s.Kind) + "/" + s.ID
}

func subjectOf(key string) Subject {
	kind, id, ok := strings.Cut(key, "/")
	if !ok {
		return Subject{Device, key}
	}
	return Subject{Kind(kind), id}
}

// Store is where facts are kept; *store.Store is one.
type Store interface {
	Observe(ctx context.Context, o store.Observation) error
	AllFacts(ctx context.Context, take func(subject string, facts []fact.Fact)) error
}

// Book keeps the facts. It is made by New, and filled by Load.
type Book struct {
	store    Store
	clock    clock.Clock
	log      *slog.Logger
	registry *fact.Registry // of subjects that no sheet describes
	loaded   chan struct{}

	mu      sync.Mutex
	records map[Subject]*Record
	changed []func(Subject)
}

// New makes an empty book. The registry applies to subjects that have none of their own.
func New(s Store, c clock.Clock, registry *fact.Registry, log *slog.Logger) *Book {
	return &Book{store: s, clock: c, log: log, registry: registry, loaded: make(chan struct{}), records: map[Subject]*Record{}}
}

// OnChange makes the book call f with every subject whose facts or live scopes have
// changed. It must be called before anything is observed, and f must not block.
func (b *Book) OnChange(f func(Subject)) { b.changed = append(b.changed, f) }

// Load reads the records. It is called once; [Book.Loaded] is closed when it is done.
func (b *Book) Load(ctx context.Context) error {
	defer close(b.loaded)
	return b.store.AllFacts(ctx, func(subject string, all []fact.Fact) { b.Of(subjectOf(subject)).take(all) })
}

// Loaded returns a channel that is closed when the records were read.
func (b *Book) Loaded() <-chan struct{} { return b.loaded }

// Of returns the record of a subject, which is empty if nothing is known about it.
func (b *Book) Of(s Subject) *Record {
	b.mu.Lock()
	defer b.mu.Unlock()
	r := b.records[s]
	if r == nil {
		r = &Record{book: b, subject: s, view: fact.NewView(b.registry, nil)}
		b.records[s] = r
	}
	return r
}

// Known reports whether anything was observed of a subject.
func (b *Book) Known(s Subject) bool {
	b.mu.Lock()
	r := b.records[s]
	b.mu.Unlock()
	return r != nil && len(r.View().All()) > 0
}

// Observe records facts about a subject. When it returns nil they are on disk, and the
// subject's view has them. After an error of the kind unavailable a retry may help.
func (b *Book) Observe(ctx context.Context, s Subject, facts ...fact.Fact) error {
	return b.Of(s).Observe(ctx, facts...)
}

// Renew records the facts about a subject that differ from what is known of it.
func (b *Book) Renew(ctx context.Context, s Subject, seen ...fact.Fact) error {
	view := b.Of(s).View()
	var news []fact.Fact
	for _, f := range seen {
		if known, ok := view.Get(f.Key, f.At); !ok || known.Value != f.Value {
			news = append(news, f)
		}
	}
	return b.Observe(ctx, s, news...)
}

// Drop forgets a subject in memory, after its record was deleted or merged into another.
func (b *Book) Drop(s Subject) {
	b.mu.Lock()
	defer b.mu.Unlock()
	delete(b.records, s)
}

func (b *Book) tell(s Subject) {
	for _, f := range b.changed {
		f(s)
	}
}

// Record is what is known of one subject. Its methods may be called from any
// goroutine.
type Record struct {
	book    *Book
	subject Subject

	mu   sync.Mutex
	name string // by which events speak of it; "" for its id
	view fact.View
	live []string

	changed chan struct{} // for those who wait for a change; nil while nobody does
}

// Describe sets the registry of the subject and its name in events.
func (r *Record) Describe(name string, registry *fact.Registry) {
	r.mu.Lock()
	r.name = name
	if registry != nil && registry != r.view.Registry() {
		r.view = r.view.By(registry)
	}
	r.mu.Unlock()
}

// Changed is closed at the next change of the view.
func (r *Record) Changed() <-chan struct{} {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.changed == nil {
		r.changed = make(chan struct{})
	}
	return r.changed
}

// tell wakes those who wait for a change, and tells the book.
func (r *Record) tell() {
	r.mu.Lock()
	if r.changed != nil {
		close(r.changed)
		r.changed = nil
	}
	r.mu.Unlock()
	r.book.tell(r.subject)
}

// View returns what is known now.
func (r *Record) View() fact.View {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.view
}

// Observe records facts, as [Book.Observe] does. Facts that do not fit the registry are an
// error.
func (r *Record) Observe(ctx context.Context, facts ...fact.Fact) error {
	registry := r.View().Registry()
	for _, f := range facts {
		if err := registry.Check(f); err != nil {
			return err
		}
	}
	if len(facts) == 0 {
		return nil
	}
	return r.keep(ctx, store.Observation{Facts: facts, Kept: r.take})
}

// Forget drops a source's facts of some keys.
func (r *Record) Forget(ctx context.Context, from fact.Source, keys ...fact.Key) error {
	return r.keep(ctx, store.Observation{Forget: keys, From: from, Kept: func([]fact.Fact) {
		r.mu.Lock()
		r.view = r.view.Without(from, keys...)
		r.mu.Unlock()
		r.tell()
	}})
}

func (r *Record) keep(ctx context.Context, o store.Observation) error {
	r.mu.Lock()
	o.Subject, o.Event, o.Name = r.subject.key(), "fact.changed", r.name
	r.mu.Unlock()
	if r.subject.Kind != Device {
		o.Event = string(r.subject.Kind) + ".changed"
	}
	if o.Name == "" {
		o.Name = r.subject.ID
	}
	if err := r.book.store.Observe(ctx, o); err != nil {
		return fmt.Errorf("keep what is known of %s: %w", o.Name, err)
	}
	return nil
}

// take puts facts that are on disk into the view.
func (r *Record) take(facts []fact.Fact) {
	r.mu.Lock()
	r.view = r.view.With(facts...)
	r.mu.Unlock()
	r.tell()
}

// ObserveUntilKept is [Record.Observe] with retries until ctx ends.
func (r *Record) ObserveUntilKept(ctx context.Context, facts ...fact.Fact) {
	said := ""
	for pause := 50 * time.Millisecond; ctx.Err() == nil; pause = min(2*pause, 5*time.Second) {
		err := r.Observe(ctx, facts...)
		if err == nil || ctx.Err() != nil {
			return
		}
		if said != err.Error() {
			said = err.Error()
			r.book.log.Error("an observation waits to be kept", "subject", r.subject.ID, "error", err)
		}
		if clock.Sleep(ctx, clock.System{}, pause) != nil {
			return
		}
	}
}

// Begin makes the facts of a scope good; [Record.End] makes them not good any more.
func (r *Record) Begin(scope string) {
	r.scopes(func(l []string) []string { return append(slices.Clone(l), scope) })
}

// End ends every fact of the scopes.
func (r *Record) End(scopes ...string) {
	r.scopes(func(l []string) []string {
		return slices.DeleteFunc(slices.Clone(l), func(s string) bool { return slices.Contains(scopes, s) })
	})
}

func (r *Record) scopes(change func([]string) []string) {
	r.mu.Lock()
	r.live = change(r.live)
	r.view = r.view.Live(r.live...)
	r.mu.Unlock()
	r.tell()
}

// TakeOver copies what is known of another subject into this one's view, except for keys
// and sources that this one has.
func (r *Record) TakeOver(other *Record) {
	theirs := other.View()
	r.mu.Lock()
	mine := r.view
	for _, f := range theirs.All() {
		if !slices.ContainsFunc(mine.All(), func(m fact.Fact) bool { return m.Key == f.Key && m.Source == f.Source }) {
			r.view = r.view.With(f)
		}
	}
	r.mu.Unlock()
	r.tell()
}
