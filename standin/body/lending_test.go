package body

import (
	"context"
	"crypto/ed25519"
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/developer"
	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/link"
	"earlybench.invalid/earlybench/core/rpc"
	"earlybench.invalid/earlybench/core/tcptest"
)

func newSigner(t *testing.T) (key ssh.Signer, fingerprint string) {
	t.Helper()
	_, private, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	key, err = ssh.NewSignerFromKey(private)
	require.NoError(t, err)
	return key, ssh.FingerprintSHA256(key.PublicKey())
}

// lent is a handset that a bench lends to another one.
type lent struct {
	t        *testing.T
	body     *Body
	clock    *clock.Moved
	lender   device.Lending
	owner    string // fingerprint of the lender's key
	borrower ssh.Signer
	key      string // the borrower's fingerprint
}

func lend(t *testing.T) *lent {
	t.Helper()
	b, c := handset(t, t.TempDir())
	key, owner := newSigner(t)
	b.mu.Lock()
	b.st.Opened, b.st.Settings["computers"] = true, "debug and install"
	b.st.Admissions[owner] = admission{Name: "harbour-desk", For: "until withdrawn", Since: c.Now()}
	b.mu.Unlock()
	here, there := tcptest.Pair(t)
	served := make(chan error, 1)
	go func() { served <- link.Serve(t.Context(), there, b.signer, b) }()
	s, err := link.Dial(t.Context(), here, key, func(string) error { return nil })
	require.NoError(t, err)
	t.Cleanup(func() { s.Close(); <-served })
	l, err := s.Lending()
	require.NoError(t, err)
	borrower, fingerprint := newSigner(t)
	return &lent{t, b, c, l, owner, borrower, fingerprint}
}

func (l *lent) to(r device.Rights, seconds int) {
	l.t.Helper()
	require.NoError(l.t, l.lender.Add(l.t.Context(), device.Added{Key: l.key, Name: "moor-desk", Rights: r, Seconds: seconds, Epoch: 1}))
}

// dial is the borrower's link, through the lender's.
func (l *lent) dial() *link.Session {
	l.t.Helper()
	stream, err := l.lender.Open(l.t.Context())
	require.NoError(l.t, err)
	s, err := link.Dial(l.t.Context(), link.Conn(stream), l.borrower, func(key string) error {
		if key != l.body.Fingerprint() {
			return errors.New("another device")
		}
		return nil
	})
	require.NoError(l.t, err)
	l.t.Cleanup(func() { s.Close() })
	return s
}

// things are what can be done on a device, and which rights of a loan include it.
var things = []struct {
	name      string
	look, use bool
	do        func(context.Context, *link.Session) error
}{
	{"describe", true, true, func(ctx context.Context, s *link.Session) error { _, err := s.Describe(ctx); return err }},
	{"list apps", true, true, func(ctx context.Context, s *link.Session) error { a, _ := s.Apps(); _, err := a.List(ctx); return err }},
	{"list statements", true, true, func(ctx context.Context, s *link.Session) error {
		a, _ := s.Statements()
		_, err := a.List(ctx)
		return err
	}},
	{"follow facts", true, true, func(ctx context.Context, s *link.Session) error {
		f, _ := s.Facts()
		ctx, cancel := context.WithCancel(ctx)
		return untilTaken(f.Follow(ctx, func([]device.Fact) { cancel() }))
	}},
	{"see the screen", true, true, func(ctx context.Context, s *link.Session) error {
		a, _ := s.Screen()
		c, err := a.Open(ctx)
		if err == nil {
			c.Close()
		}
		return err
	}},
	{"offer an app", false, true, func(ctx context.Context, s *link.Session) error {
		a, _ := s.Apps()
		_, err := a.Offer(ctx, nil, developer.Signature{})
		return err
	}},
	{"install an app", false, true, func(ctx context.Context, s *link.Session) error { a, _ := s.Apps(); return a.Install(ctx, "x") }},
	{"start an app", false, true, func(ctx context.Context, s *link.Session) error {
		a, _ := s.Apps()
		_, err := a.Start(ctx, "x")
		return err
	}},
	{"stop an app", false, true, func(ctx context.Context, s *link.Session) error { a, _ := s.Apps(); return a.Stop(ctx, "x") }},
	{"remove an app", false, true, func(ctx context.Context, s *link.Session) error { a, _ := s.Apps(); return a.Remove(ctx, "x") }},
	{"copy files", false, true, func(ctx context.Context, s *link.Session) error {
		f, _ := s.Files()
		return f.Put(ctx, "/nowhere", "x", strings.NewReader("x"), 0, 1, func(int64) {})
	}},
	{"connect to a port of an app", false, true, func(ctx context.Context, s *link.Session) error {
		p, _ := s.Ports()
		_, err := p.Dial(ctx, "debug")
		return err
	}},
	{"put a statement", false, true, func(ctx context.Context, s *link.Session) error { a, _ := s.Statements(); return a.Put(ctx, "x") }},
	{"drop a statement", false, true, func(ctx context.Context, s *link.Session) error { a, _ := s.Statements(); return a.Drop(ctx, "x") }},
	{"hand over a status list", false, true, func(ctx context.Context, s *link.Session) error { a, _ := s.Statements(); return a.Withdrawn(ctx, "x") }},
	{"show its handle", false, true, func(ctx context.Context, s *link.Session) error { return s.Find(ctx, "heron-2") }},
	{"make it wireless", false, false, func(ctx context.Context, s *link.Session) error { w, _ := s.Wireless(); return w.Set(ctx, true) }},
	{"hear its companions", false, false, func(ctx context.Context, s *link.Session) error {
		c, _ := s.Companions()
		ctx, cancel := context.WithCancel(ctx)
		return untilTaken(c.Follow(ctx, func([]device.Companion) { cancel() }))
	}},
	{"reach a companion", false, false, func(ctx context.Context, s *link.Session) error {
		c, _ := s.Companions()
		_, err := c.Open(ctx, "x")
		return err
	}},
	{"let others in", false, false, func(ctx context.Context, s *link.Session) error {
		l, _ := s.Lending()
		return l.Add(ctx, device.Added{Key: "SHA256:y", Rights: device.RightsUse, Seconds: 60})
	}},
	{"send others away", false, false, func(ctx context.Context, s *link.Session) error { l, _ := s.Lending(); return l.Drop(ctx, "SHA256:y") }},
	{"list who is let in", false, false, func(ctx context.Context, s *link.Session) error {
		l, _ := s.Lending()
		_, err := l.List(ctx, 1)
		return err
	}},
	{"see what others do", false, false, func(ctx context.Context, s *link.Session) error {
		l, _ := s.Lending()
		ctx, cancel := context.WithTimeout(ctx, 100*time.Millisecond)
		defer cancel()
		return untilTaken(l.Uses(ctx, 0, func(device.Use) {}))
	}},
	{"begin another stream", false, false, func(ctx context.Context, s *link.Session) error {
		l, _ := s.Lending()
		_, err := l.Open(ctx)
		return err
	}},
}

// untilTaken is the outcome of following something until it has told something.
func untilTaken(err error) error {
	if errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded) {
		return nil
	}
	return err
}

// refused reports whether something was refused because a loan does not include it.
func refused(err error) bool {
	e, isAnswer := errors.AsType[*rpc.Error](err)
	return isAnswer && e.Code == rpc.CodeNotLent || err != nil && strings.Contains(err.Error(), "which does not include")
}

func TestADeviceHoldsABorrowerToTheRightsOfHisLoan(t *testing.T) {
	for _, r := range []device.Rights{device.RightsLook, device.RightsUse} {
		t.Run(string(r), func(t *testing.T) {
			l := lend(t)
			l.to(r, 60)
			s := l.dial()
			for _, thing := range things {
				may := thing.use
				if r == device.RightsLook {
					may = thing.look
				}
				err := thing.do(t.Context(), s)
				require.Equal(t, !may, refused(err), "%s: %v", thing.name, err)
			}
			a, err := s.Admission()
			require.NoError(t, err)
			state, err := a.State(t.Context())
			require.NoError(t, err)
			require.Equal(t, r, state.Rights, "it knows its rights")
		})
	}
}

func TestWhatABorrowerDoesIsToldToTheLender(t *testing.T) {
	l := lend(t)
	l.to(device.RightsLook, 60)
	s := l.dial()
	apps, err := s.Apps()
	require.NoError(t, err)
	_, err = apps.Start(t.Context(), "fellgate/callout")
	require.Error(t, err)
	_, err = apps.List(t.Context())
	require.NoError(t, err)
	ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
	defer cancel()
	var told []device.Use
	l.lender.Uses(ctx, 0, func(u device.Use) {
		if told = append(told, u); len(told) == 2 {
			cancel()
		}
	})
	require.Len(t, told, 2)
	require.Equal(t, device.Use{Seq: told[0].Seq, At: told[0].At, Key: l.key, What: link.MethodAppStart, About: "fellgate/callout"}, told[0])
	require.Equal(t, device.Use{Seq: told[1].Seq, At: told[1].At, Key: l.key, What: link.MethodApps, Done: true}, told[1])
}

func TestALoanEndsOnTheDeviceWhateverTheBorrowerDoes(t *testing.T) {
	for name, end := range map[string]func(*lent){
		"when the lender ends it":                  func(l *lent) { require.NoError(l.t, l.lender.Drop(l.t.Context(), l.key)) },
		"when its time is up":                      func(l *lent) { l.clock.Move(61 * time.Second) },
		"when the lender's records are others now": func(l *lent) { _, err := l.lender.List(l.t.Context(), 2); require.NoError(l.t, err) },
		"when the lender is sent away": func(l *lent) {
			l.body.mu.Lock()
			delete(l.body.st.Admissions, l.owner)
			l.body.mu.Unlock()
		},
	} {
		t.Run(name, func(t *testing.T) {
			l := lend(t)
			l.to(device.RightsUse, 60)
			s := l.dial()
			list, err := l.lender.List(t.Context(), 1)
			require.NoError(t, err)
			require.Equal(t, []device.Added{{Key: l.key, Name: "moor-desk", Rights: device.RightsUse, Seconds: 60, Epoch: 1}}, list)
			end(l)
			began := time.Now()
			select {
			case <-s.Done():
			case <-time.After(5 * time.Second):
			}
			require.Less(t, time.Since(began), time.Second)
			require.Equal(t, device.AdmitNone, l.body.Admission(l.key).State)
		})
	}
}

func TestABenchThatTheOwnerHasAdmittedHasTheRightsOfTheLoanOverTheLender(t *testing.T) {
	l := lend(t)
	l.body.mu.Lock()
	l.body.st.Admissions[l.key] = admission{Name: "moor-desk", For: "until withdrawn", Since: l.clock.Now()}
	l.body.mu.Unlock()
	l.to(device.RightsLook, 60)
	over := l.dial()
	here, there := tcptest.Pair(t)
	served := make(chan error, 1)
	go func() { served <- link.Serve(t.Context(), there, l.body.signer, l.body) }()
	own, err := link.Dial(t.Context(), here, l.borrower, func(string) error { return nil })
	require.NoError(t, err)
	t.Cleanup(func() { own.Close(); <-served })
	offers := func(s *link.Session) error {
		apps, err := s.Apps()
		require.NoError(t, err)
		_, err = apps.Offer(t.Context(), []byte("{}"), developer.Signature{})
		return err
	}
	require.True(t, refused(offers(over)), "the loan is to look")
	require.False(t, refused(offers(own)), "the owner lets it do all")
	adm, err := over.Admission()
	require.NoError(t, err)
	now, err := adm.State(t.Context())
	require.NoError(t, err)
	require.Equal(t, device.RightsLook, now.Rights)
	uses, _ := l.body.Uses(l.owner, 0)
	require.NotEmpty(t, uses, "what it does for the loan is noted for the lender")

	l.clock.Move(61 * time.Second)
	select {
	case <-over.Done():
	case <-time.After(2 * time.Second):
		t.Fatal("the loan has not ended")
	}
	require.False(t, refused(offers(own)))
	require.Equal(t, device.Admitted, l.body.Admission(l.key).State, "what the owner said stays")
	// A stream of the lender's is for loans alone.
	late := l.dial()
	adm, err = late.Admission()
	require.NoError(t, err)
	now, err = adm.State(t.Context())
	require.NoError(t, err)
	require.Equal(t, device.AdmitNone, now.State)
}

func TestWhatIsNoLoanIsNotAdded(t *testing.T) {
	l := lend(t)
	for name, a := range map[string]device.Added{
		"all rights":         {Key: l.key, Seconds: 60},
		"no time":            {Key: l.key, Rights: device.RightsUse},
		"a year":             {Key: l.key, Rights: device.RightsUse, Seconds: 365 * 24 * 3600},
		"to the lender":      {Key: l.owner, Rights: device.RightsLook, Seconds: 60},
		"rights nobody has":  {Key: l.key, Rights: "own", Seconds: 60},
		"a key without end":  {Key: string(make([]byte, 1000)), Rights: device.RightsUse, Seconds: 60},
		"more than it fits":  {Key: l.key, Rights: device.RightsUse, Seconds: 1 << 62},
		"less than a second": {Key: l.key, Rights: device.RightsUse, Seconds: -1},
	} {
		require.Error(t, l.lender.Add(t.Context(), a), name)
	}
	require.Equal(t, device.RightsAll, l.body.Admission(l.owner).Rights)
	require.Equal(t, device.Admitted, l.body.Admission(l.owner).State)
}
