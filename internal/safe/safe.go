// Package safe is the bench's safe as the service uses it: whether it is locked, who may use
// what is in it, and for how long. The opened safe itself is held by another process
// (internal/safe/holder), which ends when the safe is locked.
package safe

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"sync"
	"time"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/core/rpc"
	core "earlybench.invalid/earlybench/core/safe"
	"earlybench.invalid/earlybench/internal/safe/holder"
	"earlybench.invalid/earlybench/internal/store"
)

// Config is what a safe needs. All fields are needed.
type Config struct {
	// Start starts a holder. Closing what it returns ends that.
	Start func() (io.ReadWriteCloser, error)
	Store *store.Store
	// OldKey is the file in which a bench without a safe kept its development key; the key
	// moves into the safe, and the file is removed.
	OldKey string
	// Opened is called when the safe was made or opened. It must not block.
	Opened func()
	Clock  clock.Clock
	Log    *slog.Logger
}

const (
	answerWithin = 30 * time.Second // a passphrase takes a second or so
	waitWithin   = 2 * time.Minute  // a holder that nobody has unlocked ends after it
	idleUsual    = 8 * time.Hour
)

// Safe is the bench's safe. Its methods may be called from any goroutine.
type Safe struct {
	cfg    Config
	within time.Duration // a request is answered: ConsentWithin

	changing sync.Mutex // held while the holder is started or ended, before mu

	mu         sync.Mutex
	conn       *rpc.Conn // the holder; nil for none
	hello      holder.Answer
	open       bool
	started    time.Time // when the holder was, by the computer's clock
	used       time.Time // when somebody used what is inside last, or opened the safe
	idle       time.Duration
	stays      bool // it does not lock by itself
	items      []core.Item
	unrecorded bool   // items are not on record yet
	mine       string // the id of the development key; "" before there is a safe

	asking requests
}

// New makes a safe, which is locked.
func New(cfg Config) *Safe { return &Safe{cfg: cfg, within: ConsentWithin, idle: idleUsual} }

// Read reads the records, and whether there is a safe.
func (s *Safe) Read(ctx context.Context) error {
	items, err := s.cfg.Store.SafeItems(ctx)
	if err != nil {
		return fmt.Errorf("read what is in the safe: %w", err)
	}
	set, err := s.cfg.Store.Setting(ctx, "safe.idle")
	if err != nil {
		return fmt.Errorf("read after how long the safe locks: %w", err)
	}
	mine, err := s.cfg.Store.Setting(ctx, developmentSetting)
	if err != nil {
		return fmt.Errorf("read which key is the development key: %w", err)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.items, s.mine = items, mine
	if d, err := time.ParseDuration(set); err == nil {
		s.idle = d
	}
	return nil
}

// States of a safe.
const (
	Missing = "missing"
	Locked  = "locked"
	Open    = "open"
)

// View is the safe as it is now.
type View struct {
	State        string
	ByPassphrase bool          // it opens with a passphrase; otherwise with an unlock key
	Public       []byte        // to which envelopes are sealed
	Idle         time.Duration // after which it locks by itself
	Locks        time.Time     // when it does, if nobody uses it; zero while it is locked, or if it does not
	Items        []core.Item
}

// View looks at the safe, and starts a holder, to which envelopes can be sealed.
func (s *Safe) View(ctx context.Context) (View, error) {
	if _, err := s.holder(ctx); err != nil {
		return View{}, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	v := View{State: Locked, ByPassphrase: s.hello.ByPassphrase, Public: s.hello.Public, Idle: s.idle, Items: s.items}
	switch {
	case s.open:
		v.State = Open
		if !s.stays {
			v.Locks = s.used.Add(s.idle)
		}
	case !s.hello.Exists:
		v.State = Missing
	}
	return v, nil
}

// holder returns the connection to the holder, which is started if there is none.
func (s *Safe) holder(ctx context.Context) (*rpc.Conn, error) {
	s.changing.Lock()
	defer s.changing.Unlock()
	s.mu.Lock()
	c := s.conn
	s.mu.Unlock()
	if c != nil {
		select {
		case <-c.Done():
			s.ended()
		default:
			return c, nil
		}
	}
	rw, err := s.cfg.Start()
	if err != nil {
		return nil, fmt.Errorf("start the process that holds the safe: %w", err)
	}
	c = rpc.New(rw, rpc.NoMethod)
	var hello holder.Answer
	ctx, cancel := context.WithTimeout(ctx, answerWithin)
	defer cancel()
	if err := c.Call(ctx, holder.Hello, holder.Request{}, &hello); err != nil {
		c.Close()
		return nil, fmt.Errorf("ask the process that holds the safe: %w", err)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.conn, s.hello, s.open, s.started = c, hello, false, time.Now()
	return c, nil
}

// ended forgets a holder and ends it. changing is held.
func (s *Safe) ended() {
	s.mu.Lock()
	c, was := s.conn, s.open
	s.conn, s.open = nil, false
	s.mu.Unlock()
	if c != nil {
		c.Close()
	}
	if was {
		s.tell()
	}
}

func (s *Safe) tell() {
	if err := s.cfg.Store.Tell(context.Background(), "safe.changed", ""); err != nil {
		s.cfg.Log.Error("tell of a change", "error", err)
	}
}

// Named refusals.
var (
	ErrLocked  = &problem.Problem{Kind: problem.Person, Text: "The safe is locked.", Remedy: "Unlock it: earlybench safe unlock, or on the page Keys."}
	ErrMissing = &problem.Problem{Kind: problem.Person, Text: "This bench has no safe for keys yet.", Remedy: "Make one: earlybench safe make, or on the page Keys."}
	ErrWrong   = problem.New(problem.Refused, "this does not open the safe of this computer")
)

// call asks the holder for something.
func (s *Safe) call(ctx context.Context, method string, in holder.Request) (out holder.Answer, err error) {
	c, err := s.holder(ctx)
	if err != nil {
		return out, err
	}
	short, cancel := context.WithTimeout(ctx, answerWithin)
	defer cancel()
	err = c.Call(short, method, in, &out)
	failed, ok := errors.AsType[*rpc.Error](err)
	switch {
	case err == nil:
	case ok && failed.Code == holder.CodeWrong:
		err = fmt.Errorf("%w: %s", ErrWrong, failed.Message)
	case ok && failed.Code == holder.CodeLocked:
		s.mu.Lock()
		s.open = false // it could not be written, and was locked
		s.mu.Unlock()
		err = s.shut()
	case ok && failed.Code == holder.CodeNotFound:
		err = problem.Errorf(problem.NotFound, "%s", failed.Message)
	case ok:
		err = problem.Errorf(problem.Invalid, "%s", failed.Message)
	case ctx.Err() != nil: // whoever asked has gone
	case short.Err() != nil: // it may be busy for ever with a file that somebody made for that
		s.Lock() //nolint:errcheck // it is told below
		err = problem.Errorf(problem.Failed, "the safe did not answer within %s, and was locked: %w", answerWithin, err)
	}
	return out, err
}

// shut says why nothing can be used.
func (s *Safe) shut() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if !s.hello.Exists {
		return ErrMissing
	}
	return ErrLocked
}

// Make makes the safe, with the bench's development key in it, and leaves it open.
func (s *Safe) Make(ctx context.Context, o holder.Opening) error {
	if _, err := s.call(ctx, holder.Make, holder.Request{Opening: o}); err != nil {
		return err
	}
	return s.opened(ctx, o)
}

// Unlock opens the safe.
func (s *Safe) Unlock(ctx context.Context, o holder.Opening) error {
	if v, err := s.View(ctx); err != nil || v.State == Missing {
		return errors.Join(err, s.shut())
	}
	if _, err := s.call(ctx, holder.Unlock, holder.Request{Opening: o}); err != nil {
		return err
	}
	return s.opened(ctx, o)
}

func (s *Safe) opened(ctx context.Context, o holder.Opening) error {
	s.mu.Lock()
	s.open, s.used = true, s.cfg.Clock.Now()
	s.hello.Exists = true
	if o.KeyFile == "" {
		s.hello.ByPassphrase = true
	}
	s.mu.Unlock()
	if err := errors.Join(s.haveDevelopmentKey(ctx), s.refresh(ctx)); err != nil {
		return err
	}
	s.cfg.Opened()
	return nil
}

// OpenAtStart opens the safe by the unlock key in a file. Without a safe, one is made, and the
// key too if there is none.
func (s *Safe) OpenAtStart(ctx context.Context, file string) error {
	v, err := s.View(ctx)
	if err != nil {
		return err
	}
	open := s.Unlock
	if v.State == Missing {
		open = s.Make
	}
	if err := open(ctx, holder.Opening{KeyFile: file}); err != nil {
		return fmt.Errorf("open the safe by the unlock key in %s: %w", file, err)
	}
	return nil
}

// refresh reads what is in the safe, and records it for the time when it is locked. What is in the safe is
// kept there: where the record cannot be written now, Run writes it later.
func (s *Safe) refresh(ctx context.Context) error {
	out, err := s.call(ctx, holder.Items, holder.Request{})
	if err != nil {
		return err
	}
	s.mu.Lock()
	s.items, s.unrecorded = out.Items, true
	s.mu.Unlock()
	if err := s.record(ctx); err != nil {
		s.cfg.Log.Warn("record what is in the safe: it is tried again", "error", err)
	}
	return nil
}

// record records what is in the safe, unless it was recorded.
func (s *Safe) record(ctx context.Context) error {
	s.mu.Lock()
	items, due := s.items, s.unrecorded
	s.unrecorded = false
	s.mu.Unlock()
	if !due {
		return nil
	}
	err := s.cfg.Store.SetSafeItems(ctx, items)
	if err != nil {
		s.mu.Lock()
		s.unrecorded = true
		s.mu.Unlock()
	}
	return err
}

// Lock locks the safe: the process that holds it ends.
func (s *Safe) Lock() error {
	s.changing.Lock()
	defer s.changing.Unlock()
	s.mu.Lock()
	s.stays = false
	s.mu.Unlock()
	s.ended()
	return nil
}

// StayOpen keeps the safe open until somebody locks it: on a bench where nobody comes for weeks, what
// ends is renewed only while it is open. Locking by itself protects nothing where the service can open
// the safe by an unlock key in a file.
func (s *Safe) StayOpen() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.stays = true
}

// Prove reports whether a passphrase or unlock key is the safe's. Its envelope is sealed for a
// purpose.
func (s *Safe) Prove(ctx context.Context, purpose string, o holder.Opening) error {
	_, err := s.call(ctx, holder.Prove, holder.Request{Opening: o, Purpose: purpose})
	return err
}

// Change gives the opened safe another passphrase or unlock key.
func (s *Safe) Change(ctx context.Context, o holder.Opening) error {
	if _, err := s.call(ctx, holder.Change, holder.Request{Opening: o}); err != nil {
		return err
	}
	s.mu.Lock()
	s.hello.ByPassphrase = o.KeyFile == ""
	s.mu.Unlock()
	s.tell()
	return nil
}

// SetIdle sets after how long without use the safe locks by itself: between a minute and a
// week.
func (s *Safe) SetIdle(ctx context.Context, d time.Duration) error {
	if d < time.Minute || d > 7*24*time.Hour {
		return problem.Errorf(problem.Invalid, "the idle time of the safe must be between a minute and a week")
	}
	if err := s.cfg.Store.SetSetting(ctx, "safe.idle", d.String()); err != nil {
		return err
	}
	s.mu.Lock()
	s.idle = d
	s.mu.Unlock()
	s.tell()
	return nil
}

// lookEvery is how often Run looks whether the safe has been idle for long enough.
const lookEvery = 2 * time.Second

// Run locks the safe once it was idle for long enough, until ctx ends; then it locks it.
func (s *Safe) Run(ctx context.Context) {
	for clock.Sleep(ctx, clock.System{}, lookEvery) == nil {
		s.record(ctx) //nolint:errcheck // it is tried again
		s.changing.Lock()
		s.mu.Lock()
		rest := s.cfg.Clock.Now().Sub(s.used)
		over := s.open && !s.stays && (rest > s.idle || rest < -time.Hour) || s.conn != nil && !s.open && time.Since(s.started) > waitWithin
		s.mu.Unlock()
		if over {
			s.ended()
		}
		s.changing.Unlock()
	}
	s.Lock() //nolint:errcheck // it cannot fail
}
