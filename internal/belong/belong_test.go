package belong_test

import (
	"context"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/belong"
	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/internal/benchtest/leaks"
	"earlybench.invalid/earlybench/internal/safe"
	standin "earlybench.invalid/earlybench/standin/authority"
)

func TestMain(m *testing.M) { leaks.None(m) }

// desk is a bench that is signed in at a stand-in authority.
type desk struct {
	*benchtest.Bench
	at    *standin.Authority
	clock *clock.Moved // the authority's
}

func newDesk(t *testing.T, standing string) *desk {
	t.Helper()
	d := &desk{Bench: benchtest.New(t), clock: &clock.Moved{}}
	d.at = benchtest.Authority(t, d.clock)
	d.SignedIn(d.at, standing)
	return d
}

// others are so many devices out of reach.
func others(n int) (out []belong.Other) {
	for i := range n {
		out = append(out, belong.Other{Serial: fmt.Sprintf("KS %04d", i), Model: "KS"})
	}
	return out
}

func (d *desk) registers(all []belong.Other) job.Job {
	d.T.Helper()
	j, err := d.Belong.Start(context.Background(), belong.Ask{Others: all, Actor: "owner/ada"})
	require.NoError(d.T, err)
	return d.Ended(j)
}

func TestSomebodySignsInMakesAnAccountAndSignsOut(t *testing.T) {
	d := newDesk(t, "starter")
	all := d.Belong.Accounts()
	require.Len(t, all, 1)
	require.Equal(t, "thwaite", all[0].ID)
	require.Equal(t, "fellgate", all[0].Crew)
	require.True(t, all[0].Used)
	require.Equal(t, "starter", all[0].Crews[0].Standing.Name)

	// A second account, of the same authority, is not used by itself.
	j, code, err := d.Belong.SignIn(t.Context(), "fell-authority", "owner/ada")
	require.NoError(t, err)
	require.Contains(t, benchtest.Types(t, code.Code.Page, url.Values{"code": {"BBBB-BBBB"}, "account": {"thwaite"}, "password": {"fog-and-fell"}, "do": {"enter"}}), "No bench waits with this code")
	require.Contains(t, benchtest.Types(t, code.Code.Page, url.Values{"code": {code.Code.UserCode}, "account": {"thwaite"}, "password": {"wrong"}, "do": {"enter"}}), "no such account, or the password is another")
	made := url.Values{"code": {code.Code.UserCode}, "account": {"bea"}, "password": {"harbour-light"}, "crew": {"example"}, "standing": {"full"}, "do": {"make"}}
	require.Contains(t, benchtest.Types(t, code.Code.Page, made), "placeholder")
	made.Set("crew", "harbour")
	require.Contains(t, benchtest.Types(t, code.Code.Page, made), "is signed in")
	require.Equal(t, job.Done, d.Ended(j).State)
	require.Len(t, d.Belong.Accounts(), 2)
	used, err := d.Belong.Used()
	require.NoError(t, err)
	require.Equal(t, "thwaite", used.ID)
	_, err = d.Belong.Use(t.Context(), "bea", "fellgate")
	require.ErrorContains(t, err, "does not belong to the crew")
	_, err = d.Belong.Use(t.Context(), "bea", "")
	require.NoError(t, err)
	used, err = d.Belong.Used()
	require.NoError(t, err)
	require.Equal(t, "bea", used.ID)

	keys := len(benchView(t, d).Items)
	require.NoError(t, d.Belong.SignOut(t.Context(), "bea", false))
	require.Len(t, benchView(t, d).Items, keys-1, "its key is gone")
	_, err = d.Belong.Used()
	require.ErrorIs(t, err, belong.ErrNoAccount)
}

func TestASignInThatIsRefusedOrNotTypedEndsAndLeavesNoKey(t *testing.T) {
	d := newDesk(t, "starter")
	keys := len(benchView(t, d).Items)
	j, code, err := d.Belong.SignIn(t.Context(), "", "owner/ada")
	require.NoError(t, err)
	require.Contains(t, benchtest.Types(t, code.Code.Page, url.Values{"code": {code.Code.UserCode}, "do": {"refuse"}}), "was not let in")
	j = d.Ended(j)
	require.Equal(t, problem.Refused, j.Error.Kind)
	j, _, err = d.Belong.SignIn(t.Context(), "", "owner/ada")
	require.NoError(t, err)
	d.clock.Move(11 * time.Minute)
	d.Clock.Move(11 * time.Minute)
	j = d.Ended(j)
	require.Equal(t, problem.Person, j.Error.Kind)
	require.Len(t, benchView(t, d).Items, keys)
	require.Len(t, d.Belong.Accounts(), 1)
}

func TestADeviceIsRegisteredOnceAndLeaves(t *testing.T) {
	d := newDesk(t, "starter")
	rig := d.Tablet()
	k := d.Watch(rig)
	d.Eventually("it is not in the register", func() bool {
		v, ok := d.Look(k).View.Get(fact.RegisterState, d.Clock.Now())
		if ok {
			return v.Value == fact.Of("out")
		}
		d.Belong.Again()
		return false
	})
	j, err := d.Belong.Start(t.Context(), belong.Ask{All: true, Actor: "owner/ada"})
	require.NoError(t, err)
	require.Equal(t, job.Done, d.Ended(j).State)
	require.Equal(t, "open", string(d.Look(k).Readiness.Gate("registered").State))
	_, err = d.Belong.Start(t.Context(), belong.Ask{All: true})
	require.ErrorContains(t, err, "nothing to register")
	j, err = d.Belong.Start(t.Context(), belong.Ask{Devices: []string{"whimbrel-1"}})
	require.NoError(t, err)
	require.Equal(t, job.Done, d.Ended(j).State, "once more is no error")
	r, err := d.Belong.TheRegister()
	require.NoError(t, err)
	require.Len(t, r.Entries, 1)
	require.Equal(t, "whimbrel-1", r.Entries[0].Handle)
	require.NoError(t, d.Belong.Leave(t.Context(), "whimbrel-1"))
	require.Equal(t, "shut", string(d.Look(k).Readiness.Gate("registered").State))
	require.ErrorContains(t, d.Belong.Leave(t.Context(), "whimbrel-1"), "is not in the register")

	// Retiring a device frees its place.
	j, err = d.Belong.Start(t.Context(), belong.Ask{Devices: []string{"whimbrel-1"}})
	require.NoError(t, err)
	require.Equal(t, job.Done, d.Ended(j).State)
	require.Regexp(t, `^\d{4} \d{4}$`, d.Look(k).Words["crew"], "the step that wants the crew's number shows it")
	_, err = d.Retire.Begin(t.Context(), "whimbrel-1")
	require.NoError(t, err)
	d.Eventually("its place is free", func() bool { r, err := d.Belong.TheRegister(); return err == nil && len(r.Entries) == 0 })
}

func TestAFullRegisterSaysWhoIsInItLongestUnseen(t *testing.T) {
	d := newDesk(t, "starter")
	require.Equal(t, job.Done, d.registers(others(1)).State)
	d.clock.Move(time.Hour)
	d.Clock.Move(time.Hour)
	j := d.registers(others(7))
	require.Equal(t, job.Failed, j.State)
	require.Equal(t, "registered", j.Error.Gate)
	require.Contains(t, j.Error.Text, "there was no place for 2")
	require.Contains(t, j.Error.Remedy, "earlybench register drop")
	r, err := d.Belong.TheRegister()
	require.NoError(t, err)
	require.Len(t, r.Entries, 5)
}

// Every fault of an authority is a clear sentence, nothing is half done, and it goes on by itself.
func TestEveryFaultOfAnAuthorityIsSaidAndPasses(t *testing.T) {
	for name, c := range map[string]struct {
		begin, end func(d *desk)
		text       string
		kind       problem.Kind
		do         func(d *desk) error // nil for freeing the place of a device
	}{
		"it answers 503":     {func(d *desk) { d.at.Set(standin.Down) }, func(d *desk) { d.at.Set(standin.Well) }, "503", problem.Failed, nil},
		"it answers nothing": {func(d *desk) { d.at.Set(standin.Dead) }, func(d *desk) { d.at.Set(standin.Well) }, "does not answer", problem.Unavailable, nil},
		"it answers nonsense": {func(d *desk) { d.at.Set(standin.Nonsense) }, func(d *desk) { d.at.Set(standin.Well) },
			"does not match the request", problem.Failed, nil},
		"its clock is a day behind": {func(d *desk) { d.clock.Move(-24 * time.Hour) }, func(d *desk) { d.clock.Move(24 * time.Hour) },
			"The clock of this computer is 24h0m0s ahead of that of fell-authority", problem.Failed, nil},
		"it has signed the account out": {func(d *desk) { require.NoError(d.T, d.at.SignOutEverywhere("thwaite")) }, nil, "is signed out at fell-authority", problem.Person, nil},
		"the safe is locked": {func(d *desk) { require.NoError(d.T, d.Safe.Lock()) }, func(d *desk) { require.NoError(d.T, d.Safe.OpenAtStart(context.Background(), d.UnlockKey())) },
			"The safe is locked.", problem.Person, nil},
		"a certificate of another root is shown at its address": {func(d *desk) { d.replaced() }, nil, "is not the one that was accepted", problem.Refused, nil},
		"its register is full": {func(d *desk) { require.Equal(d.T, job.Done, d.registers(others(5)).State) }, func(d *desk) { require.NoError(d.T, d.Belong.Leave(context.Background(), "KS 0004")) },
			"The register of fellgate is full; there was no place for 1.", problem.Blocked, func(d *desk) error {
				if j := d.registers([]belong.Other{{Serial: "KS 0099", Model: "KS"}}); j.Error != nil {
					return j.Error
				}
				return nil
			}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			d := newDesk(t, "starter")
			require.Equal(t, job.Done, d.registers(others(1)).State)
			d.Eventually("the register was read", func() bool { r, err := d.Belong.TheRegister(); return err == nil && len(r.Entries) == 1 })
			if c.do == nil {
				c.do = func(d *desk) error { return d.Belong.Leave(context.Background(), "KS 0000") }
			}
			c.begin(d)
			err := c.do(d)
			require.ErrorContains(t, err, c.text)
			require.Equal(t, c.kind, problem.KindOf(err), err)
			if c.end == nil {
				return
			}
			c.end(d)
			require.NoError(t, c.do(d))
		})
	}
}

// replaced puts a service with another root in the place of the authority.
func (d *desk) replaced() {
	address := strings.TrimSuffix(strings.TrimPrefix(d.at.URL(), "https://"), "/")
	require.NoError(d.T, d.at.Close())
	l, err := net.Listen("tcp", address)
	require.NoError(d.T, err)
	s := httptest.NewUnstartedServer(http.NotFoundHandler())
	require.NoError(d.T, s.Listener.Close())
	s.Listener = l
	s.Config.ErrorLog = log.New(io.Discard, "", 0)
	s.StartTLS()
	d.T.Cleanup(s.Close)
}

func TestAnAuthorityOfAnotherRootOrNameIsNotTrusted(t *testing.T) {
	d := newDesk(t, "starter")
	other := benchtest.Authority(t, &clock.Moved{})
	found, err := d.Authorities.Look(t.Context(), other.URL())
	require.NoError(t, err)
	mine, err := d.Authorities.Look(t.Context(), d.at.URL())
	require.NoError(t, err)
	require.NotEqual(t, found.Accept, mine.Accept)
	_, err = d.Authorities.Add(t.Context(), other.URL(), mine.Accept)
	require.Equal(t, problem.Refused, problem.KindOf(err))
	_, err = d.Authorities.Add(t.Context(), other.URL(), found.Accept)
	require.Equal(t, problem.Taken, problem.KindOf(err), "another one of the same name")
	_, err = d.Authorities.Look(t.Context(), "http://127.0.0.1:1/")
	require.ErrorContains(t, err, "TLS")
	_, err = d.Authorities.Look(t.Context(), "https://127.0.0.1:1/")
	require.ErrorContains(t, err, "nothing listens")
}

func TestFiveHundredDevicesAreRegisteredWithinItsLimits(t *testing.T) {
	d := newDesk(t, "full")
	d.at.Set(standin.Busy) // 25 requests a second, 429 beyond
	began := time.Now()
	j := d.registers(others(100))
	require.Equal(t, job.Done, j.State, "%v", j.Error)
	t.Logf("100 at 25 a second: %s", time.Since(began).Round(time.Millisecond))
	d.at.Set(standin.Well)
	began = time.Now()
	j = d.registers(others(500))
	require.Equal(t, job.Done, j.State, "%v", j.Error)
	require.Less(t, time.Since(began), 30*time.Second)
	t.Logf("500: %s", time.Since(began).Round(time.Millisecond))
	r, err := d.Belong.TheRegister()
	require.NoError(t, err)
	require.Len(t, r.Entries, 500, "no device is there twice")
}

// benchView is the safe as it is now.
func benchView(t *testing.T, d *desk) safe.View {
	t.Helper()
	v, err := d.Safe.View(t.Context())
	require.NoError(t, err)
	return v
}

func TestAnAppIDIsTakenOrRefusedWithOthersThatAreFree(t *testing.T) {
	d := newDesk(t, "starter")
	require.NoError(t, d.Belong.TakeApp(t.Context(), "fellgate/callout"))
	require.NoError(t, d.Belong.TakeApp(t.Context(), "fellgate/callout"), "it is the crew's already")
	for id, want := range map[string]struct {
		kind problem.Kind
		text string
	}{
		"fellgate/rota":    {problem.Taken, "Available: fellgate/rota-field"},
		"fellgate/example": {problem.Invalid, "placeholder"},
		"harbour/callout":  {problem.Refused, "Use fellgate/callout"},
		"Callout":          {problem.Invalid, "CREW/APP"},
	} {
		err := d.Belong.TakeApp(t.Context(), id)
		require.Equal(t, want.kind, problem.KindOf(err), id)
		require.ErrorContains(t, err, want.text, id)
	}
}

// An authority that does not answer for a while is waited for, and the work goes on by itself; so
// does a sign-in over the end of the service.
func TestWorkGoesOnByItselfWhenTheAuthorityIsBack(t *testing.T) {
	d := newDesk(t, "full")
	d.at.Set(standin.Dead)
	j, err := d.Belong.Start(t.Context(), belong.Ask{Others: others(20), Actor: "owner/ada"})
	require.NoError(t, err)
	d.Eventually("it says what it waits for", func() bool {
		now, ok := d.Jobs.Job(j.ID)
		return ok && len(now.Phases) > 0 && strings.Contains(now.Phases[0].Note, "trying again")
	})
	d.at.Set(standin.Well)
	j = d.Ended(j)
	require.Equal(t, job.Done, j.State, "%v", j.Error)
	r, err := d.Belong.TheRegister()
	require.NoError(t, err)
	require.Len(t, r.Entries, 20)
}

func TestASignInGoesOnWithTheNextService(t *testing.T) {
	dir := t.TempDir()
	b := benchtest.In(t, dir)
	at := benchtest.Authority(t, &clock.Moved{})
	b.SignedIn(at, "starter")
	j, code, err := b.Belong.SignIn(t.Context(), "", "owner/ada")
	require.NoError(t, err)
	b.End()
	b = benchtest.In(t, dir)
	require.Contains(t, benchtest.Types(t, code.Code.Page, url.Values{"code": {code.Code.UserCode}, "account": {"bea"}, "password": {"harbour-light"}, "crew": {"harbour"}, "standing": {"full"}, "do": {"make"}}), "is signed in")
	require.Equal(t, job.Done, b.Ended(j).State)
	require.Len(t, b.Belong.Accounts(), 2)
}

func TestALookThatIsUnderWayBringsNoAccountBackThatWasSignedOut(t *testing.T) {
	d := newDesk(t, "starter")
	require.Equal(t, job.Done, d.registers(others(1)).State)
	d.at.Set(standin.Slow) // the look that was begun before is answered after the account has gone
	d.Belong.Again()
	time.Sleep(100 * time.Millisecond)
	require.NoError(t, d.Belong.SignOut(t.Context(), "thwaite", true))
	d.at.Set(standin.Well)
	for range 3 {
		d.Belong.Again()
		time.Sleep(100 * time.Millisecond)
		require.Empty(t, d.Belong.Accounts())
	}
	kept, err := d.Store.Accounts(t.Context())
	require.NoError(t, err)
	require.Empty(t, kept)
}
