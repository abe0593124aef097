package lend_test

import (
	"errors"
	"sort"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	core "earlybench.invalid/earlybench/core/peer"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/core/rpc"
	"earlybench.invalid/earlybench/internal/store"
)

// asked are what a peer may ask, and how each is answered by what it may do with the device, written by hand: done,
// hidden (as if there were none), or refused.
var asked = []struct {
	name                string
	nothing, look, used string
	do                  func(*pair) error
}{
	{"see it", "hidden", "done", "done", func(p *pair) error {
		if len(p.Shown()) == 0 {
			return problem.Errorf(problem.NotFound, "it is not shown")
		}
		return nil
	}},
	{"borrow it to look at it", "hidden", "done", "done", func(p *pair) error { return p.start("look") }},
	{"borrow it to use it", "hidden", "refused", "done", func(p *pair) error { return p.start("use") }},
	{"borrow it to own it", "hidden", "refused", "refused", func(p *pair) error { return p.start("own") }},
	{"borrow it with all rights", "hidden", "refused", "refused", func(p *pair) error { return p.start("") }},
	{"borrow its USB", "hidden", "refused", "done", func(p *pair) error {
		return p.asks(core.MethodLoanStart, core.StartLoan{Device: p.Heron.Device().Handle, Rights: "use", Seconds: 600, Exclusive: true})
	}},
	{"borrow its USB to look at it", "hidden", "refused", "refused", func(p *pair) error {
		return p.asks(core.MethodLoanStart, core.StartLoan{Device: p.Heron.Device().Handle, Rights: "look", Seconds: 600, Exclusive: true})
	}},
	{"extend a loan of somebody else", "hidden", "hidden", "hidden", func(p *pair) error {
		return p.asks(core.MethodLoanExtend, core.LoanRef{Loan: "somebody-elses", Seconds: 600})
	}},
	{"end a loan of somebody else", "hidden", "hidden", "hidden", func(p *pair) error { return p.asks(core.MethodLoanEnd, core.LoanRef{Loan: "somebody-elses"}) }},
	{"open a stream without a loan", "refused", "refused", "refused", func(p *pair) error {
		l, _, err := p.Moor.Peers.Link("harbour-desk")
		require.NoError(p.T, err)
		_, err = l.Open(p.T.Context(), core.ToStream{Loan: "somebody-elses", Stream: "x"})
		if _, is := errors.AsType[*core.Refused](err); is {
			return problem.Errorf(problem.Refused, "%w", err)
		}
		return err
	}},
	{"ask for hands at a loan of somebody else", "hidden", "hidden", "hidden", func(p *pair) error {
		return p.asks(core.MethodHandsAsk, core.AskHands{Loan: "somebody-elses", Title: "Turn it over"})
	}},
	{"call what there is not", "refused", "refused", "refused", func(p *pair) error { return p.asks("rack.drop", struct{}{}) }},
}

func (p *pair) start(rights string) error {
	return p.asks(core.MethodLoanStart, core.StartLoan{Device: p.Heron.Device().Handle, Rights: rights, Seconds: 600})
}

// asks has moor-desk ask harbour-desk by itself, whatever its own checks would say.
func (p *pair) asks(method string, params any) error {
	l, _, err := p.Moor.Peers.Link("harbour-desk")
	require.NoError(p.T, err)
	var t core.Loan
	err = l.Call(p.T.Context(), method, params, &t)
	if err == nil && t.ID != "" {
		require.NoError(p.T, l.Call(p.T.Context(), core.MethodLoanEnd, core.LoanRef{Loan: t.ID}, nil))
		p.Harbour.Eventually("the device is free again", func() bool { return p.Heron.Working() == "" })
	}
	return err
}

// outcome is how something was answered.
func outcome(err error) string {
	e, isAnswer := errors.AsType[*rpc.Error](err)
	switch {
	case err == nil:
		return "done"
	case isAnswer && e.Code == rpc.CodeNotFound, problem.KindOf(err) == problem.NotFound:
		return "hidden"
	case isAnswer, problem.KindOf(err) == problem.Refused:
		return "refused"
	}
	return err.Error()
}

func TestAPeerIsAnsweredByWhatItMayDo(t *testing.T) {
	p := lends(t, "")
	for _, right := range []string{"", "look", "use"} {
		_, err := p.Harbour.Peers.Set(t.Context(), "moor-desk", func(r *store.PeerRights) { r.All = right })
		require.NoError(t, err)
		p.Moor.Eventually("it shows", func() bool { return (len(p.Shown()) == 1) == (right != "") })
		for _, a := range asked {
			want := map[string]string{"": a.nothing, "look": a.look, "use": a.used}[right]
			require.Equal(t, want, outcome(a.do(p)), "%s, with the right %q", a.name, right)
		}
	}
}

// TestAHiddenDeviceIsAnsweredLikeOneThatThereIsNot compares the bytes, and how long they take.
func TestAHiddenDeviceIsAnsweredLikeOneThatThereIsNot(t *testing.T) {
	p := lends(t, "")
	p.Moor.Eventually("it is connected", func() bool { return p.Moor.Peers.List()[0].Connected })
	l, _, err := p.Moor.Peers.Link("harbour-desk")
	require.NoError(t, err)
	took := map[string][]time.Duration{}
	for range 1000 {
		for _, handle := range []string{"heron-1", "heron-7"} {
			began := time.Now()
			err := l.Call(t.Context(), core.MethodLoanStart, core.StartLoan{Device: handle, Rights: "use", Seconds: 600}, nil)
			took[handle] = append(took[handle], time.Since(began))
			e, is := errors.AsType[*rpc.Error](err)
			require.True(t, is)
			require.Equal(t, rpc.Error{Code: rpc.CodeNotFound, Message: `there is no device "` + handle + `" that is shared with you`}, *e)
		}
	}
	median := func(all []time.Duration) time.Duration {
		sort.Slice(all, func(i, j int) bool { return all[i] < all[j] })
		return all[len(all)/2]
	}
	require.Less(t, (median(took["heron-1"]) - median(took["heron-7"])).Abs(), time.Millisecond)
}
