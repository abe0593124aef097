package safe

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/store"
)

// Use is one use of an item of the safe.
type Use struct {
	Item     string // id
	Actor    string // who asks, such as access/nightly
	App      string // for which app; "" for none
	Purpose  string // such as "sign an app"
	Document string // on what, in words
	Digest   string // SHA-256 of the document; may be ""
	// Alone says that it is a renewal of what a person has allowed before: nobody is asked.
	Alone bool
	// Unattended says that nobody is there to be asked: it fails at once where a person is
	// needed.
	Unattended bool
	// Asking is called when a person is asked, and with an empty text when that is over. It may
	// be nil.
	Asking func(text string)
}

// Request is a use about which a person is asked.
type Request struct {
	ID    string
	Use   Use
	Name  string // of the item
	Since time.Time
	Ends  time.Time
	Count int // how many wait for the answer
}

// Answer is what a person says to a request.
type Answer struct {
	Yes bool
	For time.Duration // for how long the same is allowed without asking; 0: this once
	By  string
}

// Limits of consent.
const (
	ConsentWithin = 2 * time.Minute
	ConsentMost   = 31 * 24 * time.Hour
	askedMost     = 50 // requests at once
)

// request is a Request with those who wait for it.
type request struct {
	Request
	done   chan struct{} // closed when it was answered
	answer Answer        // then
}

// requests are those that wait. The safe's mu guards them.
type requests struct{ all []*request }

// consent of a use that needs no person.
const byRule = "none needed: a renewal"

// Allow returns once a use is allowed: at once where a rule says so, otherwise when a person
// consents. The use is on record then. It is an error of kind [problem.Person] if the safe is
// locked or nobody answers, and of kind [problem.Refused] if a person refuses.
func (s *Safe) Allow(ctx context.Context, u Use) error {
	if err := s.mustBeOpen(ctx); err != nil {
		return err
	}
	consent, err := s.consent(ctx, u)
	if err != nil {
		return err
	}
	if !u.Alone {
		s.touch()
	}
	return s.cfg.Store.SaveSafeUse(ctx, store.SafeUse{At: s.cfg.Clock.Now(), Item: u.Item, Actor: u.Actor, App: u.App, Purpose: u.Purpose,
		Document: u.Document, Digest: u.Digest, Consent: consent})
}

func (s *Safe) mustBeOpen(ctx context.Context) error {
	v, err := s.View(ctx)
	if err != nil || v.State == Open {
		return err
	}
	return s.shut()
}

// consent returns who has consented to a use.
func (s *Safe) consent(ctx context.Context, u Use) (string, error) {
	if u.Alone {
		return byRule, nil
	}
	rule, err := s.cfg.Store.SafeRule(ctx, store.SafeRule{Item: u.Item, Actor: u.Actor, App: u.App, Purpose: u.Purpose})
	if err == nil && s.holds(rule) {
		return rule.By, nil
	}
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return "", fmt.Errorf("look whether the use is allowed: %w", err)
	}
	if u.Unattended {
		return "", &problem.Problem{Kind: problem.Person, Text: fmt.Sprintf("A person must consent before %s may use a key of the safe to %s.", u.Actor, u.Purpose),
			Remedy: "Run it without --unattended, and give consent for a time: on the page Keys, or with earlybench safe consent."}
	}
	r, err := s.ask(u)
	if err != nil {
		return "", err
	}
	defer s.leave(r)
	if u.Asking != nil {
		u.Asking(fmt.Sprintf("Consent needed: %s wants to use %q to %s. Answer on the page Keys, or with earlybench safe consent %s", u.Actor, r.Name, u.Purpose, r.ID))
		defer u.Asking("")
	}
	timer := time.NewTimer(s.within)
	defer timer.Stop()
	select {
	case <-r.done:
	case <-ctx.Done():
		return "", context.Cause(ctx)
	case <-timer.C:
		return "", &problem.Problem{Kind: problem.Person, Text: fmt.Sprintf("Nobody consented within %s that %s may use %q to %s.", s.within, u.Actor, r.Name, u.Purpose),
			Remedy: "Try again, and consent in time: on the page Keys, or with earlybench safe consent."}
	}
	if !r.answer.Yes {
		return "", problem.Errorf(problem.Refused, "%s refused that %s may use %q to %s", r.answer.By, u.Actor, r.Name, u.Purpose)
	}
	return r.answer.By, nil
}

// holds reports whether a rule is still good. A clock that stepped back does not make it last
// longer than it may.
func (s *Safe) holds(r store.SafeRule) bool {
	rest := r.Ends.Sub(s.cfg.Clock.Now())
	return rest > 0 && rest <= ConsentMost
}

// ask joins the request about the same use, or makes one.
func (s *Safe) ask(u Use) (*request, error) {
	item, ok := s.Item(u.Item)
	if !ok {
		return nil, problem.Errorf(problem.NotFound, "key %.40s is not in the safe", u.Item)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	same := func(r *request) bool {
		return r.Use.Item == u.Item && r.Use.Actor == u.Actor && r.Use.App == u.App && r.Use.Purpose == u.Purpose
	}
	if i := slices.IndexFunc(s.asking.all, same); i >= 0 {
		s.asking.all[i].Count++
		return s.asking.all[i], nil
	}
	if len(s.asking.all) >= askedMost {
		return nil, problem.Errorf(problem.Unavailable, "%d uses of the safe are already waiting for a person's consent", askedMost)
	}
	now := s.cfg.Clock.Now().UTC()
	r := &request{Request: Request{ID: store.NewID(), Use: u, Name: item.Name, Since: now, Ends: now.Add(s.within), Count: 1}, done: make(chan struct{})}
	s.asking.all = append(s.asking.all, r)
	go s.tell()
	return r, nil
}

// leave ends a wait. A request that nobody waits for is over.
func (s *Safe) leave(r *request) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if r.Count--; r.Count == 0 {
		s.asking.all = slices.DeleteFunc(s.asking.all, func(o *request) bool { return o == r })
		go s.tell()
	}
}

// Requests lists what waits for a person's consent, the oldest first.
func (s *Safe) Requests() []Request {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := []Request{}
	for _, r := range s.asking.all {
		select {
		case <-r.done:
		default:
			out = append(out, r.Request)
		}
	}
	return out
}

// Answer answers a request. Whoever calls it has made sure that a person is there.
func (s *Safe) Answer(ctx context.Context, id string, a Answer) error {
	s.mu.Lock()
	i := slices.IndexFunc(s.asking.all, func(r *request) bool { return r.ID == id })
	if i < 0 {
		s.mu.Unlock()
		return problem.Errorf(problem.NotFound, "request %.40s does not wait any more: it was answered, or its time is up", id)
	}
	r := s.asking.all[i]
	select {
	case <-r.done:
		s.mu.Unlock()
		return problem.Errorf(problem.Changed, "request %.40s was already answered by %s", id, r.answer.By)
	default:
	}
	s.mu.Unlock()
	if a.Yes && a.For > 0 {
		if err := s.Permit(ctx, r.Use, a.For, a.By); err != nil {
			return err
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	select {
	case <-r.done:
		return problem.Errorf(problem.Changed, "request %.40s was already answered by %s", id, r.answer.By)
	default:
	}
	r.answer = a
	close(r.done)
	return nil
}

// Permit allows a use for a time without asking. Only a person's own wish comes here.
func (s *Safe) Permit(ctx context.Context, u Use, within time.Duration, by string) error {
	switch _, ok := s.Item(u.Item); {
	case !ok:
		return problem.Errorf(problem.NotFound, "key %.40s is not in the safe", u.Item)
	case within <= 0 || within > ConsentMost:
		return problem.Errorf(problem.Invalid, "a use can be allowed for 31 days at most")
	case u.Actor == "" || u.Purpose == "" || strings.ContainsAny(u.Actor+u.App+u.Purpose, "*\n"):
		return problem.Errorf(problem.Invalid, "a rule is for one caller, app and purpose")
	}
	return s.cfg.Store.SaveSafeRule(ctx, store.SafeRule{Item: u.Item, Actor: u.Actor, App: u.App, Purpose: u.Purpose, Ends: s.cfg.Clock.Now().Add(within), By: by})
}
