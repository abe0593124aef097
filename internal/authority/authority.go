// Package authority reaches the authorities that the owner has accepted: who they are, whether
// they answer, and what an account may do there. What is asked for an account is signed by a key
// of the safe, so that nothing can be asked while the safe is locked.
package authority

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"earlybench.invalid/earlybench/core/authority"
	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/outside"
	"earlybench.invalid/earlybench/internal/safe"
	"earlybench.invalid/earlybench/internal/store"
)

// Config is what authorities need. All fields are needed.
type Config struct {
	Store *store.Store
	Safe  *safe.Safe
	Clock clock.Clock
	Log   *slog.Logger
}

// Authorities are the authorities on record. They are made by New and filled by Read.
type Authorities struct {
	cfg Config

	keeping sync.Mutex // held while a record is changed, before mu

	mu  sync.Mutex
	all map[string]*one
}

// one is one authority.
type one struct {
	record   store.Authority
	client   *outside.Client
	metadata *authority.Metadata // nil before it was asked for
	up       State
	trouble  error
	clock    clock.Other // as its last answer showed
	tokens   map[string]token
}

// token is an access token of an account.
type token struct {
	text string
	ends time.Time
}

// State is how an authority answers.
type State string

// The states.
const (
	Unknown State = ""
	Up      State = "up"
	Slow    State = "slow"
	Down    State = "down"
)

// slowAfter is how long an answer takes of an authority that is slow.
const slowAfter = 2 * time.Second

// View is an authority as it is now.
type View struct {
	Record  store.Authority
	State   State
	Trouble error
	Clock   clock.Other // as its last answer showed
}

// New makes authorities without any.
func New(cfg Config) *Authorities { return &Authorities{cfg: cfg, all: map[string]*one{}} }

// Read reads the records.
func (a *Authorities) Read(ctx context.Context) error {
	records, err := a.cfg.Store.Authorities(ctx)
	if err != nil {
		return fmt.Errorf("read the authorities: %w", err)
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, r := range records {
		if a.all[r.Name], err = made(r); err != nil {
			return fmt.Errorf("authority %s: %w", r.Name, err)
		}
	}
	return nil
}

func made(r store.Authority) (*one, error) {
	c, err := outside.NewPinned(r.URL, r.Root)
	return &one{record: r, client: c, tokens: map[string]token{}}, err
}

// All returns the authorities, by name.
func (a *Authorities) All() []View {
	a.mu.Lock()
	defer a.mu.Unlock()
	var out []View
	for _, o := range a.all {
		out = append(out, View{o.record, o.up, o.trouble, o.clock})
	}
	slices.SortFunc(out, func(x, y View) int { return strings.Compare(x.Record.Name, y.Record.Name) })
	return out
}

// Found is an authority as it introduces itself, before anybody has accepted it.
type Found struct {
	URL    string
	About  authority.About
	Root   outside.Root
	Accept string // identifies address and root: what is accepted
}

// Look asks an authority who it is. Nothing of it is trusted or kept.
func (a *Authorities) Look(ctx context.Context, address string) (*Found, error) {
	u, err := outside.Address(address)
	if err != nil {
		return nil, err
	}
	if u.Scheme != "https" {
		return nil, problem.Errorf(problem.Invalid, "an authority must be reached over TLS: write https://%s", u.Host)
	}
	f := &Found{URL: u.String()}
	if f.Root, err = outside.RootOf(ctx, f.URL); err != nil {
		return nil, fmt.Errorf("authority %s: %w", u.Host, err)
	}
	c, err := outside.NewPinned(f.URL, f.Root.Pinned())
	if err != nil {
		return nil, err
	}
	defer c.Close()
	if f.About, _, err = about(ctx, c); err != nil {
		return nil, fmt.Errorf("authority %s: %w", u.Host, err)
	}
	sum := sha256.Sum256([]byte(f.URL + "\n" + f.Root.Fingerprint()))
	f.Accept = hex.EncodeToString(sum[:])
	return f, nil
}

// askWithin is how long a question to an authority is tried.
const askWithin = 10 * time.Second

// errNonsense is the error for an answer that is not what was asked for.
var errNonsense = problem.New(problem.Failed, "its answer does not match the request, and is not used")

func about(ctx context.Context, c *outside.Client) (about authority.About, date time.Time, err error) {
	answer, err := c.Do(ctx, outside.Request{Method: http.MethodGet, Path: authority.AboutPath, Limit: authority.MaxAnswer, Within: askWithin})
	if err != nil {
		return about, date, err
	}
	if answer.Status != http.StatusOK || authority.Read(answer.Body, &about) != nil {
		return about, date, errNonsense
	}
	date, _ = http.ParseTime(answer.Header.Get("Date")) // zero without one
	return about, date, nil
}

// Add puts an authority on record if accept is what [Authorities.Look] finds.
func (a *Authorities) Add(ctx context.Context, address, accept string) (View, error) {
	f, err := a.Look(ctx, address)
	if err != nil {
		return View{}, err
	}
	if accept != f.Accept {
		return View{}, &problem.Problem{Kind: problem.Refused, Text: "The authority that was accepted is not the one that now answers at " + f.URL + ".", Remedy: "Look at it again, and accept what you see then."}
	}
	r := store.Authority{Name: outside.Name(f.About.Name, "authority"), URL: f.URL, About: f.About, Read: a.cfg.Clock.Now()}
	r.Root = f.Root.Pinned()
	o, err := made(r)
	if err != nil {
		return View{}, err
	}
	a.keeping.Lock()
	defer a.keeping.Unlock()
	a.mu.Lock()
	for _, known := range a.all {
		if (known.record.Name == r.Name) != (known.record.URL == r.URL) {
			a.mu.Unlock()
			return View{}, problem.Errorf(problem.Taken, "authority %s at %s was already added: drop it first", known.record.Name, known.record.URL)
		}
	}
	a.mu.Unlock()
	if err := a.cfg.Store.SaveAuthority(ctx, r); err != nil {
		return View{}, fmt.Errorf("keep the authority: %w", err)
	}
	o.up = Up
	a.mu.Lock()
	defer a.mu.Unlock()
	a.all[r.Name] = o
	return View{o.record, o.up, nil, o.clock}, nil
}

// Drop forgets an authority with the accounts there.
func (a *Authorities) Drop(ctx context.Context, name string) error {
	a.keeping.Lock()
	defer a.keeping.Unlock()
	if err := a.cfg.Store.DropAuthority(ctx, name); err != nil {
		return fmt.Errorf("authority %.60s: %w", name, err)
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if o := a.all[name]; o != nil {
		o.client.Close()
	}
	delete(a.all, name)
	return nil
}

func (a *Authorities) find(name string) (*one, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if o := a.all[name]; o != nil {
		return o, nil
	}
	return nil, fmt.Errorf("authority %.60s: %w", name, store.ErrNotFound)
}

// Refresh asks an authority who it is now, and notes how it answers.
func (a *Authorities) Refresh(ctx context.Context, name string) error {
	o, err := a.find(name)
	if err != nil {
		return err
	}
	began := time.Now()
	now, date, err := about(ctx, o.client)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	a.note(ctx, o, err, time.Since(began))
	if err != nil {
		return err
	}
	a.keeping.Lock()
	defer a.keeping.Unlock()
	a.mu.Lock()
	if !date.IsZero() {
		o.clock = clock.Read(date)
	}
	changed := fmt.Sprint(o.record.About) != fmt.Sprint(now)
	o.record.About = now
	record, here := o.record, a.all[name] == o
	a.mu.Unlock()
	if changed && here {
		return a.cfg.Store.SaveAuthority(ctx, record)
	}
	return nil
}

// note notes how an authority has answered, and tells of a change.
func (a *Authorities) note(ctx context.Context, o *one, err error, took time.Duration) {
	state := Up
	switch {
	case problem.KindOf(err) == problem.Unavailable, errors.Is(err, errNonsense):
		state = Down
	case errors.As(err, new(*outside.StatusError)):
		state = Down
	case took > slowAfter:
		state = Slow
	}
	a.mu.Lock()
	changed := o.up != state || (o.trouble == nil) != (err == nil)
	o.up, o.trouble = state, err
	name := o.record.Name
	a.mu.Unlock()
	if changed {
		if err := a.cfg.Store.Tell(context.WithoutCancel(ctx), "authority.changed", name); err != nil {
			a.cfg.Log.Error("tell of a change", "authority", name, "error", err)
		}
	}
}
