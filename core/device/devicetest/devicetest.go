// Package devicetest tests the contract of [device.Session]. The test of an implementation
// calls [Test] with a device that is reached by it.
package devicetest

import (
	"context"
	"errors"
	"io"
	"strings"
	"testing"
	"time"
	"unicode"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/developer"
	"earlybench.invalid/earlybench/core/device"
)

// Rig is a device under test.
type Rig struct {
	// Session is a session on which the bench is admitted.
	Session device.Session
	// Silence makes the device stop answering while the way stays up; nil if that is not
	// possible.
	Silence func()
}

// soon is how long a method may take once its context has ended.
const soon = 5 * time.Second

// Test checks the contract. start is called for each part of it.
func Test(t *testing.T, start func(t *testing.T) Rig) {
	t.Run("what it lacks it says in a sentence", func(t *testing.T) { lacking(t, start(t).Session) })
	t.Run("what it has works", func(t *testing.T) { working(t, start(t).Session) })
	t.Run("every method ends with its context while the device is silent", func(t *testing.T) { silent(t, start(t)) })
	t.Run("after its end everything fails soon", func(t *testing.T) { ended(t, start(t).Session) })
}

// use is one use of a session; lasts says that it runs until its context ends.
type use struct {
	name  string
	lasts bool
	do    func(context.Context, device.Session) error
}

var uses = []use{
	{"companions", true, func(ctx context.Context, s device.Session) error {
		c, err := s.Companions()
		if err != nil {
			return err
		}
		return c.Follow(ctx, func([]device.Companion) {})
	}},
	{"a companion", false, func(ctx context.Context, s device.Session) error {
		c, err := s.Companions()
		if err != nil {
			return err
		}
		stream, err := c.Open(ctx, "nobody")
		if err == nil {
			stream.Close()
		}
		return err
	}},
	{"admission", false, func(ctx context.Context, s device.Session) error {
		a, err := s.Admission()
		if err != nil {
			return err
		}
		_, err = a.State(ctx)
		return err
	}},
	{"facts", true, func(ctx context.Context, s device.Session) error {
		f, err := s.Facts()
		if err != nil {
			return err
		}
		return f.Follow(ctx, func([]device.Fact) {})
	}},
	{"apps", false, func(ctx context.Context, s device.Session) error {
		a, err := s.Apps()
		if err != nil {
			return err
		}
		_, err = a.List(ctx)
		return err
	}},
	{"files", false, func(ctx context.Context, s device.Session) error {
		f, err := s.Files()
		if err != nil {
			return err
		}
		return f.Put(ctx, "/nowhere", "file", strings.NewReader(strings.Repeat("x", 1<<20)), 0, 1<<20, func(int64) {})
	}},
	{"log", true, func(ctx context.Context, s device.Session) error {
		l, err := s.Log()
		if err != nil {
			return err
		}
		return l.Follow(ctx, device.LogFrom{}, func(device.Line) bool { return true })
	}},
	{"screen", false, func(ctx context.Context, s device.Session) error {
		sc, err := s.Screen()
		if err != nil {
			return err
		}
		c, err := sc.Open(ctx)
		if err != nil {
			return err
		}
		defer c.Close()
		if ctx.Err() != nil {
			return ctx.Err()
		}
		defer context.AfterFunc(ctx, func() { c.Close() })()
		_, err = io.ReadFull(c, make([]byte, 12)) // RFC 6143, section 7.1.1
		return err
	}},
	{"ports", false, func(ctx context.Context, s device.Session) error {
		p, err := s.Ports()
		if err != nil {
			return err
		}
		_, err = p.Dial(ctx, "no such port")
		return err
	}},
	{"statements", false, func(ctx context.Context, s device.Session) error {
		st, err := s.Statements()
		if err != nil {
			return err
		}
		_, err = st.List(ctx)
		return err
	}},
	{"actions", false, func(ctx context.Context, s device.Session) error {
		a, err := s.Actions()
		if err != nil {
			return err
		}
		_, err = a.Do(ctx, "no such action", nil)
		return err
	}},
	{"find", false, func(ctx context.Context, s device.Session) error { return s.Find(ctx, "heron-2") }},
	{"restart", false, func(ctx context.Context, s device.Session) error { return s.Restart(ctx) }},
}

// within runs f and fails the test if f takes too long.
func within(t *testing.T, long time.Duration, what string, f func() error) error {
	t.Helper()
	done := make(chan error, 1)
	go func() { done <- f() }()
	select {
	case err := <-done:
		return err
	case <-time.After(long):
		require.Fail(t, "it does not return", what)
		return nil
	}
}

func lacking(t *testing.T, s device.Session) {
	defer s.Close()
	for _, u := range uses {
		if u.name == "restart" { // it would end the session
			continue
		}
		ctx, cancel := context.WithTimeout(t.Context(), time.Second)
		err := within(t, soon, u.name, func() error { return u.do(ctx, s) })
		cancel()
		if !errors.Is(err, errors.ErrUnsupported) {
			continue
		}
		text := err.Error()
		require.True(t, strings.HasSuffix(text, ".") && unicode.IsUpper([]rune(text)[0]), "%s: a sentence for people: %q", u.name, text)
	}
}

func working(t *testing.T, s device.Session) {
	defer s.Close()
	if a, err := s.Admission(); err == nil {
		state, err := a.State(t.Context())
		require.NoError(t, err)
		require.Equal(t, device.Admitted, state.State)
	}
	if f, err := s.Facts(); err == nil {
		ctx, cancel := context.WithTimeout(t.Context(), soon)
		defer cancel()
		told := map[string]bool{}
		err := f.Follow(ctx, func(all []device.Fact) {
			for _, one := range all {
				told[one.Key] = true
			}
			cancel()
		})
		require.Error(t, err, "it lasts until its context ends")
		require.NotEmpty(t, told, "first all is told")
	}
	if a, err := s.Apps(); err == nil {
		_, err := a.List(t.Context())
		require.NoError(t, err)
		_, err = a.Offer(t.Context(), []byte("no manifest"), developer.Signature{})
		require.Error(t, err)
		require.Error(t, a.Install(t.Context(), strings.Repeat("0", 64)), "an app that was not offered")
		_, err = a.Start(t.Context(), "nobody/nothing")
		require.Error(t, err)
	}
	if l, err := s.Log(); err == nil {
		ctx, cancel := context.WithTimeout(t.Context(), time.Second)
		defer cancel()
		var last uint64
		l.Follow(ctx, device.LogFrom{}, func(line device.Line) bool { //nolint:errcheck // it ends with the time or the lines
			require.GreaterOrEqual(t, line.Seq, last, "in order")
			last = line.Seq
			return true
		})
	}
	select {
	case <-s.Done():
		require.Fail(t, "the session has ended by itself")
	default:
	}
}

func silent(t *testing.T, r Rig) {
	if r.Silence == nil {
		t.Log("the device of this way cannot be made silent")
		r.Session.Close()
		return
	}
	r.Silence()
	for _, u := range uses {
		ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
		err := within(t, soon, u.name, func() error { return u.do(ctx, r.Session) })
		cancel()
		require.Error(t, err, u.name)
	}
	within(t, soon, "close", r.Session.Close) //nolint:errcheck // that it ends is what counts
}

func ended(t *testing.T, s device.Session) {
	within(t, soon, "close", s.Close) //nolint:errcheck // as above
	select {
	case <-s.Done():
	case <-time.After(soon):
		require.Fail(t, "done is not closed")
	}
	for _, u := range uses {
		require.Error(t, within(t, soon, u.name, func() error { return u.do(context.WithoutCancel(t.Context()), s) }), u.name)
	}
	within(t, soon, "close again", s.Close) //nolint:errcheck // as above
}
