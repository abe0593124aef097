package web

import (
	"context"
	"crypto/rand"
	"fmt"
	"math/big"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"earlybench.invalid/earlybench/client"
	eb "earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/access"
	"earlybench.invalid/earlybench/internal/store"
)

const (
	askGood       = 5 * time.Minute  // how long a browser's request for a confirmation waits
	confirmedGood = 15 * time.Minute // how long a browser stays confirmed
	askMost       = 100              // requests that wait at most
)

// request is a browser's wish to be confirmed.
type request struct {
	session string // digest of its secret
	ends    time.Time
}

// confirmRoutes let a browser do what only the owner may, for a short time: the browser
// shows a code, and the owner, who reaches the socket, types it. A stolen cookie alone is
// not enough, since nobody types a code that they do not see on their own page.
func (s *Server) confirmRoutes() {
	huma.Register(s.api, operation(access.Consent, "POST", "/confirmations", "ask-confirmation", "Ask the owner to confirm this browser"), s.askConfirmation)
	huma.Register(s.api, operation(access.Own, "POST", "/confirmations/{code}", "confirm", "Confirm the browser that shows a code; over the socket only"), s.confirm)
	end := silent(access.Consent, "/confirmation", "end-confirmation", "End this browser's confirmation")
	end.Method = http.MethodDelete
	huma.Register(s.api, end, s.endConfirmation)
}

// confirmed reports whether a session may do at now what only the owner may. A clock that
// stepped back does not make it longer.
func confirmed(n store.Session, now time.Time) bool {
	rest := n.Confirmed.Sub(now)
	return rest > 0 && rest <= confirmedGood
}

func (s *Server) askConfirmation(_ context.Context, in *struct {
	Cookie string `header:"Cookie"`
}) (*out[client.Confirmation], error) {
	mine := s.cookieDigest(in.Cookie)
	if mine == "" {
		return nil, problem(eb.Errorf(eb.Invalid, "only a signed-in browser can ask for a confirmation"))
	}
	n, err := rand.Int(rand.Reader, big.NewInt(1_000_000))
	if err != nil {
		return nil, problem(err)
	}
	code := fmt.Sprintf("%06d", n)
	s.mu.Lock()
	defer s.mu.Unlock()
	now := s.Clock.Now()
	for c, r := range s.asking {
		if r.session == mine || !now.Before(r.ends) {
			delete(s.asking, c)
		}
	}
	if _, taken := s.asking[code]; taken || len(s.asking) >= askMost {
		return nil, problem(eb.Errorf(eb.Unavailable, "too many browsers are asking for a confirmation: try again in a moment"))
	}
	s.asking[code] = request{mine, now.Add(askGood)}
	return &out[client.Confirmation]{client.Confirmation{Code: code, Seconds: int(askGood.Seconds())}}, nil
}

func (s *Server) confirm(ctx context.Context, in *struct {
	Code string `path:"code" maxLength:"20"`
}) (*out[client.Session], error) {
	if a := access.From(ctx); a.Kind != access.OwnerKind {
		return nil, problem(refused(a, access.Own))
	}
	s.mu.Lock()
	code := strings.ReplaceAll(in.Code, " ", "")
	r, ok := s.asking[code]
	delete(s.asking, code)
	s.mu.Unlock()
	now := s.Clock.Now()
	if !ok || !now.Before(r.ends) {
		return nil, problem(&eb.Problem{Kind: eb.NotFound, Text: fmt.Sprintf("No browser is waiting with the code %.20q.", in.Code),
			Remedy: "A code can be used once, within five minutes: let the page show a new one."})
	}
	n, err := s.Store.SessionBy(ctx, r.session, now)
	if err == nil {
		n.Confirmed = now.Add(confirmedGood)
		err = s.Store.ConfirmSession(ctx, r.session, n.Confirmed)
	}
	if err != nil {
		return nil, problem(fmt.Errorf("confirm the browser: %w", err))
	}
	return &out[client.Session]{sessionOf(n, "", now)}, nil
}

func (s *Server) endConfirmation(ctx context.Context, in *struct {
	Cookie string `header:"Cookie"`
}) (*struct{}, error) {
	return nil, problem(s.Store.ConfirmSession(ctx, s.cookieDigest(in.Cookie), time.Time{}))
}
