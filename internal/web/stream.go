package web

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/fasthttp/websocket"
	"github.com/gofiber/fiber/v3"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/core/defect"
	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/plain"
	"earlybench.invalid/earlybench/internal/access"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/store"
)

const (
	heartbeat  = 10 * time.Second // so that a reader who has left is noticed
	eventBatch = 500
)

// sink receives the messages of a stream, one after the other.
type sink interface {
	// put adds one message; id is where a reader that lost the stream can resume.
	put(id string, v any) error
	// flush sends the messages; at most one batch is put before it.
	flush() error
	// beat sends an empty message, so that the end of a connection is noticed.
	beat() error
}

// stream answers with the messages of send until that returns an error: as server-sent
// events, or over a WebSocket (RFC 6455) if the request asks for one. Pages do, since a
// browser opens only six HTTP/1.1 connections to a server for all its windows together.
func (s *Server) stream(c fiber.Ctx, send func(ctx context.Context, to sink) error) error {
	actor := actorOf(c)
	if websocket.FastHTTPIsWebSocketUpgrade(c.RequestCtx()) {
		s.upgrade(c, websocket.FastHTTPUpgrader{}, func(conn *socket) { //nolint:errcheck // the upgrader has answered
			ctx, cancel := s.whileGood(actor)
			defer cancel()
			var reading sync.WaitGroup
			defer reading.Wait()
			defer conn.cut()
			reading.Go(func() { // a reader says nothing, but that it has left
				defer cancel()
				conn.SetReadLimit(1 << 10)
				s.hears(conn)
				for {
					if _, _, err := conn.ReadMessage(); err != nil {
						return
					}
				}
			})
			reading.Go(func() { s.beat(conn, ctx.Done()) })
			defect.Contain("a stream", func() error { return send(ctx, &messages{conn: conn}) }) //nolint:errcheck // the reader has left
		})
		return nil
	}
	conn := c.RequestCtx().Conn()
	c.Set(fiber.HeaderContentType, "text/event-stream")
	c.Set(fiber.HeaderCacheControl, "no-cache")
	return c.SendStreamWriter(func(w *bufio.Writer) {
		fmt.Fprint(w, ": hello\n\n")
		if w.Flush() == nil {
			ctx, cancel := s.whileGood(actor)
			defer cancel()
			defect.Contain("a stream", func() error { return send(ctx, events{w, conn}) }) //nolint:errcheck // the reader has left
		}
	})
}

// events are server-sent events, as the HTML standard (9.2) says.
type events struct {
	w    *bufio.Writer
	conn net.Conn // which takes each message within a time
}

func (e events) put(id string, v any) error {
	raw, err := json.Marshal(v)
	if err != nil {
		return err
	}
	if id != "" {
		fmt.Fprintf(e.w, "id: %s\n", id)
	}
	_, err = fmt.Fprintf(e.w, "data: %s\n\n", plain.JSON(raw))
	return err
}

func (e events) flush() error {
	e.conn.SetWriteDeadline(time.Now().Add(takeWithin)) //nolint:errcheck // a failed write tells
	return e.w.Flush()
}

func (e events) beat() error {
	fmt.Fprint(e.w, ": still here\n\n")
	return e.flush()
}

// messages writes to a WebSocket: messages that were put together are sent as one, a JSON
// text on each line.
type messages struct {
	conn  *socket
	lines bytes.Buffer
}

func (m *messages) put(_ string, v any) error {
	raw, err := json.Marshal(v)
	m.lines.Write(plain.JSON(raw))
	m.lines.WriteByte('\n')
	return err
}

func (m *messages) flush() error {
	if m.lines.Len() == 0 {
		return nil
	}
	defer m.lines.Reset()
	m.conn.SetWriteDeadline(time.Now().Add(takeWithin)) //nolint:errcheck // a failed write tells
	return m.conn.WriteMessage(websocket.TextMessage, bytes.TrimSuffix(m.lines.Bytes(), []byte("\n")))
}

func (m *messages) beat() error { return nil } // pings are sent beside

// gather is how long to wait for further events after one.
const gather = 5 * time.Millisecond

// events sends the outbox from a sequence on. Equal events that arrive together are merged
// into the last one. A reader that does not keep up gets an event reset, and the stream ends.
func (s *Server) events(c fiber.Ctx) error {
	after, reset, err := s.resumeFrom(c)
	if err != nil {
		return asFiber(c, err)
	}
	actor := actorOf(c)
	var onPhone *phone
	if actor.Kind == access.PhoneKind {
		onPhone, _ = s.ofPhone(c)
	}
	sees := func(subject string) bool {
		return s.seesEvent(actor, subject) && (onPhone == nil || subject == onPhone.handle)
	}
	return s.stream(c, func(ctx context.Context, to sink) error {
		following, end := s.feed.follow()
		defer end()
		if reset {
			if err := s.reset(to, after); err != nil {
				return err
			}
		}
		r := reader{server: s, to: to, after: after, sees: sees}
		for r.after < following.from { // what was told before it followed
			batch, err := s.Store.Events(ctx, r.after, eventBatch)
			if err != nil || len(batch) == 0 {
				return err
			}
			if err := r.pass(batch); err != nil {
				return err
			}
		}
		for {
			if onPhone != nil && !s.stillOn(onPhone) {
				return nil
			}
			select {
			case <-ctx.Done():
				return ctx.Err()
			case <-following.lost:
				last, err := s.Store.Last(ctx)
				if err != nil {
					return err
				}
				return s.reset(to, last)
			case batch := <-following.batches:
				err = r.pass(batch)
			case <-time.After(heartbeat):
				err = to.beat()
			}
			if err != nil {
				return err
			}
		}
	})
}

// reader reads events from a sequence number on.
type reader struct {
	server *Server
	to     sink
	after  int64
	sees   func(subject string) bool
}

// pass sends those of a batch that it has not had.
func (r *reader) pass(batch []store.Event) error {
	for i, e := range batch {
		if e.Sequence <= r.after {
			continue
		}
		r.after = e.Sequence
		if later(batch[i+1:], e) || !r.sees(e.Subject) {
			continue
		}
		if err := r.server.event(r.to, e); err != nil {
			return err
		}
	}
	return r.to.flush()
}

// reset tells a reader that it has to read everything again.
func (s *Server) reset(to sink, after int64) error {
	if err := s.event(to, store.Event{Sequence: after, Type: "reset", At: s.Clock.Now()}); err != nil {
		return err
	}
	return to.flush()
}

// resumeFrom returns the sequence after which a reader wants the events. If the events
// cannot be resumed from there, because they are no longer kept or never existed, the reader
// gets an event reset and must read everything again.
func (s *Server) resumeFrom(c fiber.Ctx) (after int64, reset bool, err error) {
	last, err := s.Store.Last(c.Context())
	if err != nil {
		return 0, false, err
	}
	after = last
	for _, from := range []string{c.Query("after"), c.Get("Last-Event-ID")} {
		if n, err := strconv.ParseInt(from, 10, 64); err == nil && n >= 0 {
			after = n
		}
	}
	oldest, err := s.Store.Oldest(c.Context())
	if after > last || after+1 < oldest {
		return last, true, err
	}
	return after, false, err
}

// event writes one event, as CloudEvents 1.0 in JSON.
func (s *Server) event(to sink, e store.Event) error {
	id := strconv.FormatInt(e.Sequence, 10)
	return to.put(id, client.Event{SpecVersion: "1.0", ID: s.ID + "/" + id, Source: "earlybench:" + s.ID, Type: e.Type, Subject: e.Subject, Time: e.At})
}

func later(rest []store.Event, e store.Event) bool {
	for _, r := range rest {
		if r.Type == e.Type && r.Subject == e.Subject {
			return true
		}
	}
	return false
}

// session returns the keeper and the session of the device that a request names.
func (s *Server) session(c fiber.Ctx) (*keeper.Keeper, device.Session, error) {
	k, err := s.Rack.Find(c.Params("handle"))
	if err != nil {
		return nil, nil, err
	}
	session, err := s.Outlook.Session(c.Context(), k)
	return k, session, err
}

// log sends a device's log while it is linked, from a line on. With wake=no a device that sleeps is
// left alone: its log ends when it falls asleep.
func (s *Server) log(c fiber.Ctx) error {
	reached, elsewhere := s.Outlook.Session, (*keeper.Keeper).Elsewhere
	if c.Query("wake") == "no" {
		reached = func(_ context.Context, k *keeper.Keeper) (device.Session, error) { return s.Outlook.SessionNow(k) }
		elsewhere = (*keeper.Keeper).Other
	}
	k, err := s.Rack.Find(c.Params("handle"))
	var session device.Session
	if err == nil {
		session, err = reached(c.Context(), k)
	}
	if err == nil {
		_, err = session.Log()
	}
	if err != nil {
		return asFiber(c, err)
	}
	after, _ := strconv.ParseUint(c.Query("after"), 10, 64)
	from := device.LogFrom{App: strings.Clone(c.Query("app")), After: after}
	return s.stream(c, func(ctx context.Context, to sink) error {
		ctx, cancel := context.WithCancel(ctx)
		f := follower{lines: make(chan device.Line, maxAhead)}
		var following sync.WaitGroup
		defer following.Wait()
		defer cancel()
		following.Go(func() {
			defer close(f.lines)
			s.followLog(ctx, k, session, from, elsewhere, f.take)
		})
		return f.write(ctx, to)
	})
}

// lostWithin is how long the end of a session may take to show after its log has ended.
const lostWithin = time.Second

// followLog passes the lines of a device's log on. If the link is lost and the device is reached by
// another way, too, it continues there after the last line, and one line says so.
func (s *Server) followLog(ctx context.Context, k *keeper.Keeper, session device.Session, from device.LogFrom, elsewhere func(*keeper.Keeper, context.Context, string) device.Session, take func(device.Line) bool) {
	for session != nil {
		way := k.WayOf(session)
		log, err := session.Log()
		if err != nil {
			return
		}
		log.Follow(ctx, from, func(l device.Line) bool { //nolint:errcheck // its end is the stream's, unless it goes on elsewhere
			from.After = l.Seq
			return take(l)
		})
		select { // its channels may end a moment before it
		case <-session.Done():
		case <-ctx.Done():
			return
		case <-time.After(lostWithin):
			return
		}
		if session = elsewhere(k, ctx, way); session != nil {
			take(device.Line{Seq: from.After, At: s.Clock.Now(), Level: "info", Text: "(" + keeper.WentOn(way, k.WayOf(session), "the log continues") + ")"})
		}
	}
}

// maxAhead is how many lines a reader may lag behind. Lines beyond that are left out, and
// the reader is told how many.
const maxAhead = 1024

// follower passes the lines of a log to one reader. A slow reader does not hold back the
// device.
type follower struct {
	lines  chan device.Line
	missed int
}

func (f *follower) take(l device.Line) bool {
	if f.missed > 0 {
		select {
		case f.lines <- device.Line{Seq: l.Seq, At: l.At, Level: "error", Text: fmt.Sprintf("(%d lines are missing here: they came faster than they were read)", f.missed)}:
			f.missed = 0
		default:
		}
	}
	select {
	case f.lines <- l:
	default:
		f.missed++
	}
	return true
}

func (f *follower) write(ctx context.Context, to sink) error {
	for {
		var err error
		select {
		case l, more := <-f.lines:
			if !more {
				return nil
			}
			line := client.Line{Seq: l.Seq, At: l.At, App: l.App, Level: l.Level, Text: l.Text}
			if l.Ended != nil {
				line.Ended = &client.Ended{Code: l.Ended.Code, Reason: l.Ended.Reason}
			}
			err = to.put("", line)
			if err == nil && len(f.lines) == 0 {
				err = to.flush()
			}
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(heartbeat):
			err = to.beat()
		}
		if err != nil {
			return err
		}
	}
}

func asFiber(c fiber.Ctx, err error) error {
	if p, ok := problem(err).(*client.Problem); ok {
		return answer(c, p)
	}
	return err
}
