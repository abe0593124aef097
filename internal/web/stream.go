package web

import (
	"bufio"
	"encoding/json"
	"fmt"
	"strconv"
	"time"

	"github.com/gofiber/fiber/v3"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/core/link"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/store"
)

const (
	heartbeat  = 10 * time.Second // so that a reader who has left is noticed
	eventBatch = 500
)

// stream answers with server-sent events; send writes until it returns an
// error.
func (s *Server) stream(c fiber.Ctx, send func(w *bufio.Writer) error) error {
	c.Set(fiber.HeaderContentType, "text/event-stream")
	c.Set(fiber.HeaderCacheControl, "no-cache")
	return c.SendStreamWriter(func(w *bufio.Writer) {
		fmt.Fprint(w, ": hello\n\n")
		if w.Flush() == nil {
			send(w) //nolint:errcheck // the reader has left
		}
	})
}

func write(w *bufio.Writer, id string, v any) error {
	raw, err := json.Marshal(v)
	if err != nil {
		return err
	}
	if id != "" {
		fmt.Fprintf(w, "id: %s\n", id)
	}
	_, err = fmt.Fprintf(w, "data: %s\n\n", raw)
	return err
}

func beat(w *bufio.Writer) error {
	fmt.Fprint(w, ": still here\n\n")
	return w.Flush()
}

// gather is how long events are waited for that come together with one.
const gather = 5 * time.Millisecond

// events sends the outbox from a sequence on. Events of one subject that have
// come together are merged into the last of them.
func (s *Server) events(c fiber.Ctx) error {
	after, err := s.Store.Last(c.Context())
	if err != nil {
		return err
	}
	for _, from := range []string{c.Query("after"), c.Get("Last-Event-ID")} {
		if n, err := strconv.ParseInt(from, 10, 64); err == nil && n >= 0 {
			after = n
		}
	}
	onPhone, _ := s.ofPhone(c)
	return s.stream(c, func(w *bufio.Writer) error {
		for {
			if onPhone != nil && !s.stillOn(onPhone) {
				return nil
			}
			changed := s.Store.Changed()
			batch, err := s.Store.Events(s.ctx, after, eventBatch)
			if err != nil {
				return err
			}
			for i, e := range batch {
				after = e.Sequence
				if later(batch[i+1:], e) || onPhone != nil && e.Subject != onPhone.handle {
					continue
				}
				id := strconv.FormatInt(e.Sequence, 10)
				if err := write(w, id, client.Event{SpecVersion: "1.0", ID: s.ID + "/" + id, Source: "earlybench:" + s.ID,
					Type: e.Type, Subject: e.Subject, Time: e.At}); err != nil {
					return err
				}
			}
			if err := w.Flush(); err != nil {
				return err
			}
			if len(batch) == eventBatch {
				continue
			}
			select {
			case <-s.ctx.Done():
				return s.ctx.Err()
			case <-changed:
				time.Sleep(gather)
			case <-time.After(heartbeat):
				if err := beat(w); err != nil {
					return err
				}
			}
		}
	})
}

func later(rest []store.Event, e store.Event) bool {
	for _, r := range rest {
		if r.Type == e.Type && r.Subject == e.Subject {
			return true
		}
	}
	return false
}

// linked is the link of the device that a request names.
func (s *Server) linked(c fiber.Ctx) (*keeper.Link, error) {
	k, err := s.Rack.Find(c.Params("handle"))
	if err != nil {
		return nil, err
	}
	return k.Linked(c.Context())
}

// log sends a device's log while it is linked, from a line on.
func (s *Server) log(c fiber.Ctx) error {
	l, err := s.linked(c)
	if err != nil {
		return asFiber(c, err)
	}
	after, _ := strconv.ParseUint(c.Query("after"), 10, 64)
	app := c.Query("app")
	return s.stream(c, func(w *bufio.Writer) error {
		lines := make(chan link.Line, 1024)
		end, err := l.FollowLog(link.LogFrom{App: app, After: after}, func(line link.Line) {
			select {
			case lines <- line:
			default: // more than is read here
			}
		})
		if err != nil {
			return err
		}
		defer end()
		for {
			select {
			case <-s.ctx.Done():
				return s.ctx.Err()
			case <-l.Done():
				return nil
			case line := <-lines:
				err = write(w, "", client.Line{Seq: line.Seq, At: line.At, App: line.App, Level: line.Level, Text: line.Text})
				if err == nil && len(lines) == 0 {
					err = w.Flush()
				}
			case <-time.After(heartbeat):
				err = beat(w)
			}
			if err != nil {
				return err
			}
		}
	})
}

func asFiber(c fiber.Ctx, err error) error {
	if p, ok := problem(err).(*client.Problem); ok {
		return answer(c, p)
	}
	return err
}
