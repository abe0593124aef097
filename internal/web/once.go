package web

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"

	"earlybench.invalid/earlybench/core/plain"
	eb "earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/access"
	"earlybench.invalid/earlybench/internal/store"
	"earlybench.invalid/earlybench/internal/web/httpd"
)

// A POST with the header Idempotency-Key is handled once: the same request again gets the
// answer to the first one, even if the service was killed in between (docs/json.md). What a
// request creates is recorded in the transaction that creates it. Everything else that a
// POST does has the same result when it is done twice.

const (
	onceHeader = "Idempotency-Key"
	onceMost   = 100 // characters of a key
)

// secrets are the operations whose answer contains a secret, and is given only once.
var secrets = map[string]bool{"add-access": true, "offer-sign-in": true, "open-phone": true, "open-person-page": true, "invite-peer": true}

// unkept are the operations of whose requests nothing is recorded, not even a digest: a password could be guessed
// from that. They have the same result when they are done twice.
var unkept = map[string]bool{"log-in": true, "add-peer": true}

// onceParam describes the header.
var onceParam = &huma.Param{Name: onceHeader, In: "header", Description: "does the request once, however often it is sent",
	Schema: &huma.Schema{Type: "string", MaxLength: new(onceMost)}}

// once handles a request once if it has the header.
func (s *Server) once(c fiber.Ctx, a access.Actor, operation string, next fiber.Handler) error {
	key := strings.Clone(c.Get(onceHeader))
	if key == "" || c.Method() != fiber.MethodPost || unkept[operation] {
		return next(c)
	}
	if len(key) > onceMost || plain.Line(key) != key {
		return asFiber(c, eb.Errorf(eb.Invalid, "the header %s is not a text of up to %d printable characters", onceHeader, onceMost))
	}
	request, err := requestDigest(c)
	if err != nil {
		return err
	}
	o := store.Once{Actor: a.String(), Key: key, Request: request}
	end, err := s.alone(c.Context(), o)
	if err != nil {
		return asFiber(c, err)
	}
	defer end()
	before, had, err := s.Store.BeginOnce(c.Context(), o, s.Clock.Now())
	if err != nil {
		return asFiber(c, err)
	}
	if had && before.Request != o.Request {
		return asFiber(c, &eb.Problem{Kind: eb.Invalid, Text: "The " + onceHeader + " was used for another request.", Remedy: "Use a new key for every new request."})
	}
	if had && (before.Status != 0 || before.Made != "") {
		return s.again(c, before, operation)
	}
	c.SetContext(store.Making(c.Context(), o))
	if err := next(c); err != nil {
		return err
	}
	res := c.Response()
	o.Status, o.Kind, o.Body = res.StatusCode(), string(res.Header.ContentType()), res.Body()
	if secrets[operation] {
		o.Body = nil
	}
	if err := s.Store.EndOnce(context.WithoutCancel(c.Context()), o); err != nil {
		s.Log.Error("keep the answer of a request", "operation", operation, "error", err)
	}
	return nil
}

func requestDigest(c fiber.Ctx) (string, error) {
	body, err := httpd.WholeBody(c, httpd.MaxBody)
	if err != nil {
		return "", err
	}
	h := sha256.New()
	h.Write([]byte(c.Method() + " " + c.OriginalURL() + "\n"))
	h.Write(body)
	return hex.EncodeToString(h.Sum(nil)), nil
}

// alone waits until no other request of the same actor and key is being handled.
func (s *Server) alone(ctx context.Context, o store.Once) (end func(), err error) {
	name := o.Actor + "\n" + o.Key
	for {
		s.mu.Lock()
		done, busy := s.doing[name]
		if !busy {
			done = make(chan struct{})
			s.doing[name] = done
		}
		s.mu.Unlock()
		if !busy {
			return func() {
				s.mu.Lock()
				delete(s.doing, name)
				s.mu.Unlock()
				close(done)
			}, nil
		}
		select {
		case <-done:
		case <-ctx.Done():
			return nil, context.Cause(ctx)
		case <-s.ctx.Done():
			return nil, eb.New(eb.Unavailable, "the service is ending")
		}
	}
}

// again gives the answer that was given before, or would have been given if the service
// had not ended.
func (s *Server) again(c fiber.Ctx, before store.Once, operation string) error {
	if secrets[operation] {
		return asFiber(c, &eb.Problem{Kind: eb.Taken, Text: "This was done, and its secret was shown once.", Remedy: "Make a new one, with another " + onceHeader + "."})
	}
	c.Set("Idempotency-Replayed", "true")
	if before.Status != 0 {
		c.Status(before.Status)
		if before.Kind != "" {
			c.Set(fiber.HeaderContentType, before.Kind)
		}
		return c.Send(before.Body)
	}
	kind, id, _ := strings.Cut(before.Made, "/")
	status, told, err := http.StatusOK, any(nil), error(nil)
	switch kind {
	case "job":
		j, jerr := s.jobNow(c.Context(), id)
		status, told, err = http.StatusAccepted, jobOf(j), jerr
	case "device":
		k := s.Rack.ByID(id)
		if k == nil {
			err = store.ErrNotFound
			break
		}
		told = deviceOf(s.Outlook.Look(k, ""))
	}
	if err != nil || told == nil {
		return asFiber(c, &eb.Problem{Kind: eb.NotFound, Text: "What this request made no longer exists.", Remedy: "Send it again, with another " + onceHeader + "."})
	}
	raw, err := json.Marshal(told)
	if err != nil {
		return asFiber(c, err)
	}
	c.Status(status)
	c.Set(fiber.HeaderContentType, "application/json")
	return c.Send(plain.JSON(raw))
}
