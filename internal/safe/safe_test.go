package safe_test

import (
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"encoding/pem"
	"io"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/developer"
	"earlybench.invalid/earlybench/core/problem"
	core "earlybench.invalid/earlybench/core/safe"
	"earlybench.invalid/earlybench/internal/safe"
	"earlybench.invalid/earlybench/internal/safe/holder"
	"earlybench.invalid/earlybench/internal/store"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

// desk is a safe with its holder in the test's process.
type desk struct {
	*safe.Safe
	t     *testing.T
	dir   string
	store *store.Store
	clock *clock.Moved
	end   func()

	mu   sync.Mutex
	pipe net.Conn // of the holder that runs
}

func newDesk(t *testing.T, dir string) *desk {
	t.Helper()
	st, err := store.Open(t.Context(), filepath.Join(dir, "bench.db"))
	require.NoError(t, err)
	d := &desk{t: t, dir: dir, store: st, clock: &clock.Moved{}}
	d.Safe = safe.New(safe.Config{Start: d.start, Store: st, OldKey: filepath.Join(dir, "development.key"), Opened: func() {}, Clock: d.clock, Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, d.Read(t.Context()))
	ctx, cancel := context.WithCancel(context.Background())
	var running sync.WaitGroup
	running.Go(func() { d.Run(ctx) })
	d.end = sync.OnceFunc(func() { cancel(); running.Wait(); require.NoError(t, st.Close()) })
	t.Cleanup(d.end)
	return d
}

func (d *desk) start() (io.ReadWriteCloser, error) {
	ours, its := net.Pipe()
	go holder.Serve(context.Background(), its, holder.Config{Dir: d.dir, Work: 10, Now: time.Now})
	d.mu.Lock()
	defer d.mu.Unlock()
	d.pipe = its
	return ours, nil
}

// sealed is a passphrase on its way to the holder.
func (d *desk) sealed(method, purpose, passphrase string) holder.Opening {
	d.t.Helper()
	v, err := d.View(d.t.Context())
	require.NoError(d.t, err)
	envelope, err := core.Envelope(v.Public, holder.EnvelopePurpose(method, purpose), []byte(passphrase))
	require.NoError(d.t, err)
	return holder.Opening{Envelope: envelope}
}

const passphrase = "fog over the fell"

// opened is a desk whose safe was made.
func opened(t *testing.T) *desk {
	t.Helper()
	d := newDesk(t, t.TempDir())
	require.NoError(t, d.Make(t.Context(), d.sealed(holder.Make, "", passphrase)))
	return d
}

func (d *desk) state() string {
	v, err := d.View(d.t.Context())
	require.NoError(d.t, err)
	return v.State
}

func TestASafeIsMadeLockedAndOpenedAgain(t *testing.T) {
	d := newDesk(t, t.TempDir())
	require.Equal(t, safe.Missing, d.state())
	_, err := d.DeveloperKey(t.Context(), safe.Use{Actor: "owner/ada", App: "fellgate/callout"})
	require.ErrorIs(t, err, safe.ErrMissing)
	require.NoError(t, d.Make(t.Context(), d.sealed(holder.Make, "", passphrase)))
	require.Error(t, d.Make(t.Context(), d.sealed(holder.Make, "", "another one")), "a second one is not made")
	require.Equal(t, safe.Open, d.state())
	mine := d.Thumbprint()
	require.NotEmpty(t, mine)

	require.NoError(t, d.Lock())
	require.Equal(t, safe.Locked, d.state())
	require.Equal(t, mine, d.Thumbprint(), "the public half is known while it is locked")
	_, err = d.DeveloperKey(t.Context(), safe.Use{Actor: "owner/ada", App: "fellgate/callout"})
	require.ErrorIs(t, err, safe.ErrLocked)
	require.Equal(t, problem.Person, problem.KindOf(err))
	_, err = d.MakeKey(t.Context(), "x")
	require.ErrorIs(t, err, safe.ErrLocked)

	err = d.Unlock(t.Context(), d.sealed(holder.Unlock, "", "another one"))
	require.ErrorIs(t, err, safe.ErrWrong)
	require.Equal(t, safe.Locked, d.state())
	old := d.sealed(holder.Unlock, "", passphrase)
	require.NoError(t, d.Unlock(t.Context(), old))
	require.NoError(t, d.Lock())
	require.Error(t, d.Unlock(t.Context(), old), "an envelope is for one holder")

	d.end()
	d = newDesk(t, d.dir)
	require.Equal(t, safe.Locked, d.state())
	require.Equal(t, mine, d.Thumbprint())
	require.NoError(t, d.Unlock(t.Context(), d.sealed(holder.Unlock, "", passphrase)))
}

func TestTheKeyThatWasKeptInAFileMovesIn(t *testing.T) {
	dir := t.TempDir()
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	der, err := x509.MarshalPKCS8PrivateKey(private)
	require.NoError(t, err)
	file := filepath.Join(dir, "development.key")
	require.NoError(t, os.WriteFile(file, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}), 0o600))
	d := newDesk(t, dir)
	require.NoError(t, d.Make(t.Context(), d.sealed(holder.Make, "", passphrase)))
	public, err := developer.PublicOf(private.Public())
	require.NoError(t, err)
	require.Equal(t, public.Thumbprint(), d.Thumbprint(), "devices that accept this developer go on doing so")
	require.NoFileExists(t, file)
}

func TestASafeLocksByItselfAndWhenItsHolderDies(t *testing.T) {
	d := opened(t)
	require.NoError(t, d.SetIdle(t.Context(), time.Minute))
	require.Error(t, d.SetIdle(t.Context(), time.Second))
	d.clock.Move(59 * time.Second)
	_, err := d.MakeKey(t.Context(), "another key")
	require.NoError(t, err)
	d.clock.Move(59 * time.Second)
	key, err := d.Signer(t.Context(), d.Development())
	require.NoError(t, err)
	_, err = key.Sign(nil, make([]byte, 32), crypto.SHA256)
	require.NoError(t, err, "it is open still")
	d.clock.Move(59 * time.Second) // what the bench signs by itself does not keep it open
	require.Eventually(t, func() bool { return d.state() == safe.Locked }, 10*time.Second, 10*time.Millisecond)

	require.NoError(t, d.Unlock(t.Context(), d.sealed(holder.Unlock, "", passphrase)))
	d.mu.Lock()
	d.pipe.Close()
	d.mu.Unlock()
	require.Eventually(t, func() bool { return d.state() == safe.Locked }, 5*time.Second, 10*time.Millisecond)
	require.NoError(t, d.Unlock(t.Context(), d.sealed(holder.Unlock, "", passphrase)))
}

// On a bench where nobody comes, what ends is renewed for weeks: its safe locks only when somebody locks it.
func TestASafeThatStaysOpenIsLockedByPeopleOnly(t *testing.T) {
	d := opened(t)
	require.NoError(t, d.SetIdle(t.Context(), time.Minute))
	d.StayOpen()
	d.clock.Move(30 * 24 * time.Hour)
	v, err := d.View(t.Context())
	require.NoError(t, err)
	require.True(t, v.Locks.IsZero())
	require.Never(t, func() bool { return d.state() == safe.Locked }, 3*time.Second, 100*time.Millisecond, "the look at idleness comes by")
	require.NoError(t, d.Lock())
	require.Equal(t, safe.Locked, d.state())
	require.NoError(t, d.Unlock(t.Context(), d.sealed(holder.Unlock, "", passphrase)))
	v, err = d.View(t.Context())
	require.NoError(t, err)
	require.False(t, v.Locks.IsZero(), "what a person opens locks by itself")
}

func TestAnotherPassphraseOpensItAndTheOldOneDoesNot(t *testing.T) {
	d := opened(t)
	require.ErrorIs(t, d.Prove(t.Context(), "change", d.sealed(holder.Prove, "change", "another one")), safe.ErrWrong)
	require.Error(t, d.Prove(t.Context(), "change", d.sealed(holder.Prove, "17", passphrase)), "proof of something else")
	require.NoError(t, d.Prove(t.Context(), "change", d.sealed(holder.Prove, "change", passphrase)))
	key := filepath.Join(d.dir, "elsewhere.key")
	require.NoError(t, d.Change(t.Context(), holder.Opening{KeyFile: key}))
	require.NoError(t, d.Lock())
	require.ErrorIs(t, d.Unlock(t.Context(), d.sealed(holder.Unlock, "", passphrase)), safe.ErrWrong)
	require.NoError(t, d.Unlock(t.Context(), holder.Opening{KeyFile: key}))
	v, err := d.View(t.Context())
	require.NoError(t, err)
	require.False(t, v.ByPassphrase)
}

var run = safe.Use{Actor: "access/nightly", App: "fellgate/callout", Document: "fellgate/callout 2.3"}

func (d *desk) waits() safe.Request {
	d.t.Helper()
	require.Eventually(d.t, func() bool { return len(d.Requests()) == 1 }, 5*time.Second, time.Millisecond)
	return d.Requests()[0]
}

func TestTenAtOnceAskOnce(t *testing.T) {
	d := opened(t)
	results := make(chan error, 10)
	for range 10 {
		go func() {
			_, err := d.DeveloperKey(context.Background(), run)
			results <- err
		}()
	}
	require.Eventually(t, func() bool { return len(d.Requests()) == 1 && d.Requests()[0].Count == 10 }, 5*time.Second, time.Millisecond)
	r := d.waits()
	require.Equal(t, safe.SignApp, r.Use.Purpose)
	require.Equal(t, "development key", r.Name)
	require.NoError(t, d.Answer(t.Context(), r.ID, safe.Answer{Yes: true, By: "browser/ada"}))
	for range 10 {
		require.NoError(t, <-results)
	}
	require.Error(t, d.Answer(t.Context(), r.ID, safe.Answer{Yes: false, By: "browser/bea"}), "it was answered")
	uses, err := d.store.SafeUses(t.Context())
	require.NoError(t, err)
	require.Len(t, uses, 10)
	require.Equal(t, "browser/ada", uses[0].Consent)
	require.Equal(t, "access/nightly", uses[0].Actor)
}

func TestAConsentForATimeIsBoundToCallerAppAndPurpose(t *testing.T) {
	d := opened(t)
	use := func(u safe.Use) error {
		ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
		defer cancel()
		_, err := d.DeveloperKey(ctx, u)
		return err
	}
	asked := make(chan error, 1)
	go func() { _, err := d.DeveloperKey(context.Background(), run); asked <- err }()
	require.NoError(t, d.Answer(t.Context(), d.waits().ID, safe.Answer{Yes: true, For: 8 * time.Hour, By: "browser/ada"}))
	require.NoError(t, <-asked)
	require.NoError(t, use(run), "nobody is asked again")
	other, elsewhere := run, run
	other.App, elsewhere.Actor = "fellgate/muster", "access/weekly"
	require.ErrorIs(t, use(other), context.DeadlineExceeded)
	require.ErrorIs(t, use(elsewhere), context.DeadlineExceeded)
	export := safe.Use{Item: d.Development(), Actor: run.Actor, App: run.App, Purpose: "export", Unattended: true}
	require.Equal(t, problem.Person, problem.KindOf(d.Allow(t.Context(), export)))
}

func TestARequestEndsByItsTimeOrItsRefusal(t *testing.T) {
	d := opened(t)
	d.AnswerWithin(30 * time.Millisecond)
	_, err := d.DeveloperKey(t.Context(), run)
	require.Equal(t, problem.Person, problem.KindOf(err))
	require.ErrorContains(t, err, "page Keys")
	require.Empty(t, d.Requests())
	d.AnswerWithin(time.Minute)
	asked := make(chan error, 1)
	go func() { _, err := d.DeveloperKey(context.Background(), run); asked <- err }()
	require.NoError(t, d.Answer(t.Context(), d.waits().ID, safe.Answer{By: "browser/ada"}))
	err = <-asked
	require.Equal(t, problem.Refused, problem.KindOf(err))
	require.ErrorContains(t, err, "browser/ada")
	alone := run
	alone.Unattended = true
	_, err = d.DeveloperKey(t.Context(), alone)
	require.Equal(t, problem.Person, problem.KindOf(err))
	require.Equal(t, problem.NotFound, problem.KindOf(d.Answer(t.Context(), "nothing", safe.Answer{Yes: true})))
}

func TestAClockThatStepsBackMakesNoConsentLonger(t *testing.T) {
	d := opened(t)
	u := run
	u.Item, u.Purpose = d.Development(), safe.SignApp
	require.NoError(t, d.Permit(t.Context(), u, safe.ConsentMost, "owner/ada"))
	require.Error(t, d.Permit(t.Context(), u, safe.ConsentMost+time.Hour, "owner/ada"))
	require.NoError(t, d.Allow(t.Context(), u))
	d.clock.Move(-48 * time.Hour)
	u.Unattended = true
	require.Equal(t, problem.Person, problem.KindOf(d.Allow(t.Context(), u)))
	d.clock.Move(80 * 24 * time.Hour)
	require.NoError(t, d.Unlock(t.Context(), d.sealed(holder.Unlock, "", passphrase)))
	require.Equal(t, problem.Person, problem.KindOf(d.Allow(t.Context(), u)), "it has ended")
}
