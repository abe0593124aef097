// Package belong is the use case of belonging somewhere: accounts at authorities, and the
// register of the crew's devices. What an authority says of a device is observed as facts of
// that device, so that its gates and causes follow.
package belong

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	core "earlybench.invalid/earlybench/core/authority"
	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/authority"
	"earlybench.invalid/earlybench/internal/facts"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/rack"
	"earlybench.invalid/earlybench/internal/safe"
	"earlybench.invalid/earlybench/internal/store"
)

// Config is what the use case needs. All fields are needed.
type Config struct {
	Store       *store.Store
	Authorities *authority.Authorities
	Safe        *safe.Safe
	Book        *facts.Book
	Rack        *rack.Rack
	Jobs        *job.Runner
	Clock       clock.Clock
	Log         *slog.Logger
	Changed     func() // called when an identity has changed
}

// Belong is the use case. It is made by New, filled by Read, and looks at authorities again while
// Run runs.
type Belong struct {
	cfg  Config
	wake chan struct{}

	naming  sync.Mutex // one identity is changed at a time; taken before the others
	signing sync.Mutex // one account is changed at a time
	looking sync.Mutex // one look at a register at a time, so that an older one is not kept over a newer; taken before signing

	mu           sync.Mutex
	accounts     []store.Account
	thumbprints  []string              // of the keys of the identities
	apps         []core.App            // of the used account's crew
	certificates []core.Certificate    // of the used account's crew
	entries      map[string]core.Entry // of the used account's crew, by serial; nil before it was asked for
}

// New makes the use case without an account.
func New(cfg Config) *Belong { return &Belong{cfg: cfg, wake: make(chan struct{}, 1)} }

// Kinds returns the kinds of jobs of this use case.
func (b *Belong) Kinds() []job.Kind {
	return []job.Kind{{Name: KindSignIn, Run: b.waitForCode}, {Name: KindRegister, Run: b.register}}
}

// Read reads the records.
func (b *Belong) Read(ctx context.Context) error {
	all, err := b.cfg.Store.Accounts(ctx)
	if err != nil {
		return fmt.Errorf("read the accounts: %w", err)
	}
	b.mu.Lock()
	b.accounts = all
	b.mu.Unlock()
	return b.readIdentities(ctx)
}

// Accounts lists the accounts.
func (b *Belong) Accounts() []store.Account {
	b.mu.Lock()
	defer b.mu.Unlock()
	return append([]store.Account{}, b.accounts...)
}

// ErrNoAccount is the error while no account is used.
var ErrNoAccount = &problem.Problem{Kind: problem.Person, Gate: "registered", Text: "No account at an authority is in use.", Remedy: "Sign in: earlybench account sign-in, or on the page Keys."}

// Used is the account that is in use.
func (b *Belong) Used() (store.Account, error) {
	for _, a := range b.Accounts() {
		switch {
		case a.Used && a.Out:
			return a, &problem.Problem{Kind: problem.Person, Gate: "registered", Text: fmt.Sprintf("Account %s is signed out at %s.", a.ID, a.Authority), Remedy: "Sign in again: earlybench account sign-in " + a.Authority}
		case a.Used:
			return a, nil
		}
	}
	return store.Account{}, ErrNoAccount
}

// find finds an account by its id, or by AUTHORITY/ID.
func (b *Belong) find(name string) (store.Account, error) {
	var found []store.Account
	for _, a := range b.Accounts() {
		if a.ID == name || a.Authority+"/"+a.ID == name {
			found = append(found, a)
		}
	}
	switch len(found) {
	case 0:
		return store.Account{}, fmt.Errorf("account %.80s: %w", name, store.ErrNotFound)
	case 1:
		return found[0], nil
	}
	return store.Account{}, problem.Errorf(problem.Invalid, "several accounts are called %s: write AUTHORITY/%[1]s", name)
}

// Use makes an account, and one of its crews, the one in use. crew may be "": the one before.
func (b *Belong) Use(ctx context.Context, name, crew string) (store.Account, error) {
	b.signing.Lock()
	defer b.signing.Unlock()
	a, err := b.find(name)
	if err != nil {
		return a, err
	}
	if crew != "" {
		if crewOf(a, crew) == nil {
			return a, problem.Errorf(problem.Invalid, "account %s does not belong to the crew %.60q", a.ID, crew)
		}
		a.Crew = crew
	}
	a.Used = true
	return a, b.save(ctx, a)
}

// crewOf is a crew of an account; nil if it does not belong to it.
func crewOf(a store.Account, name string) *core.Crew {
	for i := range a.Crews {
		if a.Crews[i].Name == name {
			return &a.Crews[i]
		}
	}
	return nil
}

// save saves an account, and asks the authority again.
func (b *Belong) save(ctx context.Context, a store.Account) error {
	if err := b.cfg.Store.SaveAccount(ctx, a); err != nil {
		return fmt.Errorf("keep the account: %w", err)
	}
	if err := b.Read(ctx); err != nil {
		return err
	}
	if a.Used {
		b.mu.Lock()
		b.entries, b.apps = nil, nil
		b.mu.Unlock()
	}
	b.Again()
	return nil
}

// SignOut signs an account out at its authority and forgets it. With force it is forgotten also
// if the authority does not answer, or the safe is locked.
func (b *Belong) SignOut(ctx context.Context, name string, force bool) error {
	b.signing.Lock()
	defer b.signing.Unlock()
	a, err := b.find(name)
	if err != nil {
		return err
	}
	if err := b.cfg.Authorities.SignOut(ctx, a); err != nil && !force && !errors.Is(err, authority.ErrSignedOut) {
		return fmt.Errorf("sign %s out at %s: %w", a.ID, a.Authority, err)
	}
	if err := b.cfg.Store.DropAccount(ctx, a.Authority, a.ID); err != nil {
		return err
	}
	if err := b.cfg.Safe.Drop(ctx, a.Key); err != nil && !force && problem.KindOf(err) != problem.NotFound {
		return fmt.Errorf("remove the account's key from the safe: %w", err)
	}
	return b.Read(ctx)
}

// Forget forgets an authority and the accounts there, without asking it.
func (b *Belong) Forget(ctx context.Context, name string) error {
	b.signing.Lock()
	defer b.signing.Unlock()
	if err := b.cfg.Authorities.Drop(ctx, name); err != nil {
		return err
	}
	return b.Read(ctx)
}

const (
	readEvery  = 5 * time.Minute
	retryEvery = 10 * time.Second // while an authority does not answer
	watchEvery = 5 * time.Second  // while a device of the rack is missing in the register, which may enter itself
	readWithin = time.Minute
)

// Again makes Run ask the authorities now.
func (b *Belong) Again() {
	select {
	case b.wake <- struct{}{}:
	default:
	}
}

// Run looks at the authorities from time to time, until ctx ends.
func (b *Belong) Run(ctx context.Context) {
	for {
		every := readEvery
		switch err := b.look(ctx); {
		case err != nil:
			every = retryEvery
		case b.misses():
			every = watchEvery
		}
		short, cancel := context.WithTimeout(ctx, every)
		select {
		case <-short.Done():
		case <-b.wake:
		}
		cancel()
		if ctx.Err() != nil {
			return
		}
	}
}

// misses reports whether a device of the rack belongs into the register and is not in it.
func (b *Belong) misses() bool {
	r, err := b.TheRegister()
	return err == nil && len(r.Missing) > 0
}

// look asks the authorities how they are, and the one of the used account for its register.
func (b *Belong) look(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, readWithin)
	defer cancel()
	var failed error
	for _, v := range b.cfg.Authorities.All() {
		failed = errors.Join(failed, b.cfg.Authorities.Refresh(ctx, v.Record.Name))
	}
	a, err := b.Used()
	if err == nil && b.cfg.Safe.IsOpen() { // while it is locked nothing can be asked
		err = b.lookAs(ctx, a)
	}
	if errors.Is(err, authority.ErrSignedOut) {
		err = b.signedOut(ctx, a)
	}
	b.observe(ctx)
	failed = errors.Join(failed, b.renewDue(ctx))
	if err != nil && problem.KindOf(err) != problem.Person { // a person is not waited for
		failed = errors.Join(failed, err)
	}
	return failed
}

// lookAs asks for what belongs to an account.
func (b *Belong) lookAs(ctx context.Context, a store.Account) error {
	b.looking.Lock()
	defer b.looking.Unlock()
	now, err := b.cfg.Authorities.Account(ctx, a)
	if err != nil {
		return err
	}
	if fmt.Sprint(now) != fmt.Sprint(a.Account) {
		err := b.update(ctx, a, func(a *store.Account) {
			a.Account = now
			if crewOf(*a, a.Crew) == nil && len(now.Crews) > 0 {
				a.Crew = now.Crews[0].Name
			}
		})
		if err != nil {
			return err
		}
	}
	all, err := b.cfg.Authorities.Devices(ctx, a)
	if err != nil {
		return err
	}
	certificates, err := b.cfg.Authorities.Certificates(ctx, a)
	if err != nil {
		return err
	}
	apps, err := b.cfg.Authorities.Apps(ctx, a)
	if err != nil {
		return err
	}
	entries := map[string]core.Entry{}
	for _, e := range all {
		entries[e.Serial] = e
	}
	if used, err := b.Used(); err != nil || used.Key != a.Key || used.Crew != a.Crew {
		return nil //nolint:nilerr // another account or crew is used meanwhile, or none: this is nobody's register
	}
	b.mu.Lock()
	changed := len(entries) != len(b.entries) || b.entries == nil
	b.entries, b.certificates, b.apps = entries, certificates, apps
	b.mu.Unlock()
	if changed {
		return b.cfg.Store.Tell(ctx, "register.changed", a.Crew)
	}
	return nil
}

// update changes the record of an account as it is now, unless somebody has signed it out or in
// again since a was read.
func (b *Belong) update(ctx context.Context, a store.Account, change func(*store.Account)) error {
	b.signing.Lock()
	defer b.signing.Unlock()
	for _, now := range b.Accounts() {
		if now.Authority == a.Authority && now.ID == a.ID && now.Key == a.Key {
			change(&now)
			return errors.Join(b.cfg.Store.SaveAccount(ctx, now), b.Read(ctx))
		}
	}
	return nil
}

// signedOut notes that an account was signed out by its authority.
func (b *Belong) signedOut(ctx context.Context, a store.Account) error {
	err := b.update(ctx, a, func(a *store.Account) { a.Out = true })
	b.mu.Lock()
	b.entries, b.apps = nil, nil
	b.mu.Unlock()
	return err
}

// failed is why something was not done for an account. If it was signed out, that is noted.
func (b *Belong) failed(ctx context.Context, a store.Account, err error) error {
	if !errors.Is(err, authority.ErrSignedOut) {
		return err
	}
	noted := b.signedOut(context.WithoutCancel(ctx), a)
	b.observe(context.WithoutCancel(ctx))
	_, why := b.Used()
	return errors.Join(noted, why)
}

// observe records what is known of the account and its register as facts of the devices.
func (b *Belong) observe(ctx context.Context) {
	a, err := b.Used()
	if a.ID == "" {
		return
	}
	state := "in"
	if err != nil {
		state = "out"
	}
	up := ""
	for _, v := range b.cfg.Authorities.All() {
		if v.Record.Name == a.Authority {
			up = string(v.State)
		}
	}
	for _, k := range b.cfg.Rack.All() {
		if !k.Series().Needs("registered") {
			continue
		}
		if err := b.observeOf(ctx, k, a, state, up); err != nil && ctx.Err() == nil {
			b.cfg.Log.Error("record what the authority says of a device", "device", k.Device().Handle, "error", err)
		}
	}
}

// observeOf records it for one device.
func (b *Belong) observeOf(ctx context.Context, k *keeper.Keeper, a store.Account, state, up string) error {
	d := k.Device()
	now := b.cfg.Clock.Now()
	seen := []fact.Fact{{Key: fact.AccountState, Value: fact.Of(state), Source: fact.Authority, At: now}}
	if c := crewOf(a, a.Crew); c != nil {
		seen = append(seen, fact.Fact{Key: fact.CrewNumber, Value: fact.Of(c.Number), Source: fact.Authority, At: now})
	}
	if up != "" {
		seen = append(seen, fact.Fact{Key: fact.AuthorityUp, Value: fact.Of(up), Source: fact.Host, At: now})
	}
	if r := b.registerState(a, d.Serial); r != "" {
		seen = append(seen, fact.Fact{Key: fact.RegisterState, Value: fact.Of(r), Source: fact.Authority, At: now})
	}
	return b.cfg.Book.Observe(ctx, facts.Subject{Kind: facts.Device, ID: d.ID}, seen...)
}

// registerState is how a device stands in the register: in, out, or full if it is not in it and
// there is no place; "" if that is not known.
func (b *Belong) registerState(a store.Account, serial string) string {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.entries == nil || serial == "" {
		return ""
	}
	if _, in := b.entries[serial]; in {
		return "in"
	}
	if c := crewOf(a, a.Crew); c != nil && len(b.entries) >= c.Standing.Places {
		return "full"
	}
	return "out"
}

// Means are what this use case has for the steps of a device: an account, if one is in use.
func (b *Belong) Means(*keeper.Keeper) []string {
	if _, err := b.Used(); err != nil {
		return nil
	}
	return []string{"account"}
}
