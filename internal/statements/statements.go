// Package statements is the use case of being allowed to run: the grants and debug tokens that the
// bench has, those that it asks authorities for, and those on devices. Whether one covers an app on
// a device is computed from what is known; nothing is asked for that.
package statements

import (
	"cmp"
	"context"
	"crypto/rand"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	core "earlybench.invalid/earlybench/core/authority"
	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/core/statement"
	"earlybench.invalid/earlybench/internal/authority"
	"earlybench.invalid/earlybench/internal/facts"
	"earlybench.invalid/earlybench/internal/outlook"
	"earlybench.invalid/earlybench/internal/rack"
	"earlybench.invalid/earlybench/internal/store"
)

// Config is what the use case needs. All fields are needed.
type Config struct {
	Store       *store.Store
	Authorities *authority.Authorities
	Account     func() (store.Account, error) // the one that is used
	Developer   func() string                 // thumbprint of the bench's development key; "" for none
	Identities  func() []string               // thumbprints of the keys of its identities
	Registered  func() map[string]bool        // serials in the register of the used account's crew; nil if that is not known
	Rack        *rack.Rack
	Book        *facts.Book
	Outlook     func() *outlook.Outlook
	Jobs        *job.Runner
	Clock       clock.Clock
	Log         *slog.Logger
}

// Statements is the use case. It is made by New and filled by Read.
type Statements struct {
	cfg  Config
	wake chan struct{}

	mu     sync.Mutex
	all    []Statement
	lists  map[string]*statement.Status // by authority
	handed map[string]int64             // by device key: when the list was made that it was handed last
	waits  map[string]time.Time         // by device and statement: when a successor that did not go there is put again
}

// Statement is a grant or a debug token that the bench has.
type Statement struct {
	*statement.Statement
	Authority string
	Asked     bool // this bench has asked for it; else it came to it
	Withdrawn bool
	Since     time.Time
}

// New makes the use case without a statement.
func New(cfg Config) *Statements {
	return &Statements{cfg: cfg, wake: make(chan struct{}, 1), lists: map[string]*statement.Status{}, handed: map[string]int64{}, waits: map[string]time.Time{}}
}

// Kinds returns the kinds of jobs of this use case.
func (s *Statements) Kinds() []job.Kind {
	return []job.Kind{{Name: KindPut, Run: s.put}, {Name: KindAllow, Run: s.allow}}
}

// Read reads the records. The authorities are read before.
func (s *Statements) Read(ctx context.Context) error {
	lists, err := s.cfg.Store.StatusLists(ctx)
	if err != nil {
		return fmt.Errorf("read the status lists: %w", err)
	}
	records, err := s.cfg.Store.Statements(ctx)
	if err != nil {
		return fmt.Errorf("read the grants and debug tokens: %w", err)
	}
	checkers := s.cfg.Authorities.Checkers()
	s.mu.Lock()
	defer s.mu.Unlock()
	for name, text := range lists {
		list, err := checkers[name].ReadStatus(text)
		if err != nil {
			s.cfg.Log.Warn("leave out a status list", "authority", name, "error", err)
			continue
		}
		s.lists[name] = list
	}
	s.all = nil
	for _, r := range records {
		st, err := checkers[r.Authority].Read(r.Text)
		if err != nil { // its authority was dropped, or signs by other keys
			s.cfg.Log.Warn("leave out a statement", "id", r.ID, "authority", r.Authority, "error", err)
			continue
		}
		s.all = append(s.all, Statement{Statement: st, Authority: r.Authority, Asked: r.Asked, Since: r.Since})
	}
	return nil
}

// All returns the grants and debug tokens of the bench, those that end first first.
func (s *Statements) All() []Statement {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := slices.Clone(s.all)
	for i := range out {
		list := s.lists[out[i].Authority]
		out[i].Withdrawn = list != nil && slices.Contains(list.Withdrawn, out[i].ID)
	}
	slices.SortStableFunc(out, func(x, y Statement) int { return cmp.Compare(x.Ends, y.Ends) })
	return out
}

// withdrawn are the ids that all lists name.
func (s *Statements) withdrawn() (out []string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, l := range s.lists {
		out = append(out, l.Withdrawn...)
	}
	return out
}

// Find finds one by its id, or by the beginning of it if that is only one's.
func (s *Statements) Find(id string) (Statement, error) {
	var found []Statement
	for _, st := range s.All() {
		if st.ID == id {
			return st, nil
		}
		if id != "" && strings.HasPrefix(st.ID, id) {
			found = append(found, st)
		}
	}
	if len(found) == 1 {
		return found[0], nil
	}
	if len(found) > 1 {
		return Statement{}, problem.Errorf(problem.Invalid, "%d statements begin with %.60q: give more of the id", len(found), id)
	}
	return Statement{}, fmt.Errorf("grant or debug token %.60s: %w", id, store.ErrNotFound)
}

// check checks a statement by the keys of the authorities on record.
func (s *Statements) check(text string) (Statement, error) {
	text = strings.TrimSpace(text)
	checkers := s.cfg.Authorities.Checkers()
	var last error
	for name, c := range checkers {
		st, err := c.Read(text)
		if err == nil {
			return Statement{Statement: st, Authority: name, Since: s.cfg.Clock.Now()}, nil
		}
		if r, ok := err.(*statement.Refused); !ok || r.Rule != 3 || last == nil { //nolint:errorlint // Read returns no other; another authority's key says least
			last = err
		}
	}
	if last == nil {
		return Statement{}, &problem.Problem{Kind: problem.Refused, Text: "No authority has been added, so it is not known who may sign grants and debug tokens.", Remedy: "Add it: earlybench authority add URL"}
	}
	return Statement{}, problem.Errorf(problem.Refused, "it was refused: %w", last)
}

// Add keeps a grant or a debug token that somebody has handed over. It is checked offline.
func (s *Statements) Add(ctx context.Context, text string) (Statement, error) {
	st, err := s.check(text)
	if err != nil {
		return st, err
	}
	return st, s.keep(ctx, st)
}

func (s *Statements) keep(ctx context.Context, st Statement) error {
	if err := s.cfg.Store.SaveStatement(ctx, store.Statement{ID: st.ID, Authority: st.Authority, Text: st.Text, Asked: st.Asked, Since: st.Since}); err != nil {
		return fmt.Errorf("keep the %s: %w", st.Kind.Noun(), err)
	}
	return s.again(ctx)
}

// again reads the records again, and checks the devices against them.
func (s *Statements) again(ctx context.Context) error {
	if err := s.Read(ctx); err != nil {
		return err
	}
	s.cfg.Outlook().Again()
	return nil
}

// Ask is what to request from an authority.
type Ask struct {
	Kind     statement.Kind
	Key      string   // thumbprint of the developer's key; "" for the bench's development key
	App      string   // CREW/APP; "" for every app of the developer
	Devices  []string // handles or serials
	Any      bool     // any device
	Debug    bool
	Features []string
}

// Issue asks the used account's authority for a grant or a debug token, and keeps it.
func (s *Statements) Issue(ctx context.Context, ask Ask) (Statement, error) {
	acc, err := s.cfg.Account()
	if err != nil {
		return Statement{}, err
	}
	w := core.Wanted{Kind: core.KindGrant, Key: cmp.Or(ask.Key, s.cfg.Developer()), App: cmp.Or(ask.App, statement.Any), Debug: ask.Debug, Features: append([]string{}, ask.Features...)}
	if ask.Kind == statement.DebugToken {
		w.Kind = core.KindToken
	}
	if w.Key == "" {
		return Statement{}, &problem.Problem{Kind: problem.Person, Text: "There is no development key yet that a debug token could be issued for.", Remedy: "Make a safe: earlybench safe make"}
	}
	if w.Devices, err = s.serials(ask); err != nil {
		return Statement{}, err
	}
	issued, err := s.cfg.Authorities.Issue(ctx, acc, rand.Text(), w)
	if err != nil {
		return Statement{}, refused(err)
	}
	st, err := s.check(issued.Text)
	if err != nil {
		return st, fmt.Errorf("the statement issued by %s: %w", acc.Authority, err)
	}
	if st.ID != issued.ID || st.Kind != ask.Kind || st.Confirmation.Thumbprint != w.Key {
		return st, problem.Errorf(problem.Refused, "%s issued something other than requested; it was not saved", acc.Authority)
	}
	st.Asked = true
	return st, s.keep(context.WithoutCancel(ctx), st)
}

// serials are those of the devices of an ask.
func (s *Statements) serials(ask Ask) ([]string, error) {
	if ask.Any {
		return []string{statement.Any}, nil
	}
	var out []string
	for _, name := range ask.Devices {
		serial := name
		if k, err := s.cfg.Rack.Find(name); err == nil {
			if serial = k.Device().Serial; serial == "" {
				return nil, problem.Errorf(problem.Invalid, "the serial of %s is not known yet: connect it first", name)
			}
		} else if core.CheckSerial(name) != nil || !strings.ContainsAny(name, " ABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789") {
			return nil, err
		}
		if !slices.Contains(out, serial) {
			out = append(out, serial)
		}
	}
	if len(out) == 0 {
		return nil, problem.New(problem.Invalid, "name the devices that it is for, or choose any")
	}
	return out, nil
}

// refused gives an authority's refusal a remedy.
func refused(err error) error {
	r, ok := authority.AsRefusal(err)
	if !ok {
		return err
	}
	p := &problem.Problem{Kind: problem.Refused, Text: fmt.Sprintf("The authority did not issue it: %s.", r.Error())}
	switch r.Type {
	case core.ProblemUnlisted:
		p.Remedy = "Register them first: earlybench register add"
	case core.ProblemStanding:
		p.Remedy = "See what each standing gives: earlybench authority"
	case core.ProblemKey:
		p.Remedy = "Use a valid identity of this crew: earlybench identity"
	}
	return p
}

// Drop forgets a grant or a debug token here; with withdraw it is withdrawn at its authority before,
// so that no device takes it any more once it has learned of that.
func (s *Statements) Drop(ctx context.Context, id string, withdraw bool) error {
	st, err := s.Find(id)
	if err != nil {
		return err
	}
	if withdraw {
		acc, err := s.cfg.Account()
		if err != nil {
			return err
		}
		if acc.Authority != st.Authority || acc.Crew != st.Crew() {
			return problem.Errorf(problem.Refused, "it is one of the crew %s at %s, and the account in use acts for %s at %s", st.Crew(), st.Authority, acc.Crew, acc.Authority)
		}
		if err := s.cfg.Authorities.Withdraw(ctx, acc, st.ID); err != nil {
			return fmt.Errorf("withdraw it: %w", refused(err))
		}
		s.Again()
	}
	if err := s.cfg.Store.DropStatement(ctx, st.ID); err != nil {
		return err
	}
	return s.again(ctx)
}
