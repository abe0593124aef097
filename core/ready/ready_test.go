package ready_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/ready"
	"earlybench.invalid/earlybench/core/sheet"
	"earlybench.invalid/earlybench/core/usb"
	"earlybench.invalid/earlybench/sheets"
)

var now = time.Date(2026, 11, 23, 6, 52, 0, 0, time.UTC)

func heron(t testing.TB) *sheet.Sheet {
	t.Helper()
	lib, err := sheet.Load(sheets.Files)
	require.NoError(t, err)
	s := lib.Fits(usb.ID{Vendor: 0xf3e0, Product: 0x0104})
	require.NotNil(t, s)
	return s
}

func seen(k fact.Key, v fact.Value, src fact.Source) fact.Fact {
	return fact.Fact{Key: k, Value: v, Source: src, At: now}
}

func cable(k fact.Key, v fact.Value, src fact.Source) fact.Fact {
	f := seen(k, v, src)
	f.Scope = "cable:1"
	return f
}

func TestGatesOpenOneAfterAnother(t *testing.T) {
	s := heron(t)
	told := cable(sheet.Told("find"), fact.Of(true), fact.Person)
	onBus := []fact.Fact{cable(fact.USBPresent, fact.Of(true), fact.Bus), cable(fact.USBLink, fact.Of(false), fact.Bus)}
	link := cable(fact.USBLink, fact.Of(true), fact.Bus)
	link.At = now.Add(time.Second)
	bound := cable(fact.DriverBound, fact.Of(true), fact.Host)
	asking := cable(fact.AdmitState, fact.Of("asking"), fact.Device)
	admitted := cable(fact.AdmitState, fact.Of("admitted"), fact.Device)
	admitted.At = now.Add(time.Second)
	up := cable(fact.LinkUp, fact.Of(true), fact.Device)
	mayDebug := cable(fact.ModeComputers, fact.Of("debug"), fact.Device)

	steps := []struct {
		name    string
		facts   []fact.Fact
		first   string
		state   ready.State
		next    string
		summary ready.Summary
	}{
		{"nothing is known", nil, "seen", ready.Unknown, "plug", ready.Unseen},
		{"it is on the bus with one interface", onBus, "mode", ready.Shut, "find", ready.Blocked},
		{"somebody says the row is found", append(onBus, told), "mode", ready.Shut, "tap", ready.Blocked},
		{"the bench link appears", append(onBus, link), "driver", ready.Unknown, "driver", ready.Blocked},
		{"the driver is bound", append(onBus, link, bound), "admitted", ready.Unknown, "admit", ready.Blocked},
		{"the device asks", append(onBus, link, bound, asking), "admitted", ready.Waiting, "admit", ready.Readying},
		{"the bench is let in", append(onBus, link, bound, asking, admitted), "linked", ready.Unknown, "link", ready.Blocked},
		{"the link is up", append(onBus, link, bound, admitted, up), "", "", "", ready.Ready},
		{"it may debug and not install", append(onBus, link, bound, admitted, up, mayDebug), "mode", ready.Shut, "allow", ready.Blocked},
	}
	for _, c := range steps {
		t.Run(c.name, func(t *testing.T) {
			v := fact.NewView(s.Registry, []string{"cable:1"}, c.facts...)
			r := ready.Evaluate(s, ready.Subject{}, v, now)
			require.Equal(t, c.first, r.First)
			require.Equal(t, c.state, r.Gate(c.first).State)
			require.Equal(t, c.summary, r.Summary)
			if c.next == "" {
				require.Nil(t, r.Next)
			} else {
				require.Equal(t, c.next, r.Next.ID)
			}
		})
	}
}

func TestWhatWasSeenOverACableEndsWithIt(t *testing.T) {
	s := heron(t)
	v := fact.NewView(s.Registry, []string{"cable:1"}, cable(fact.USBPresent, fact.Of(true), fact.Bus), cable(fact.USBLink, fact.Of(true), fact.Bus))
	require.Equal(t, ready.Open, ready.Evaluate(s, ready.Subject{}, v, now).Gate("mode").State)
	r := ready.Evaluate(s, ready.Subject{}, v.Live(), now)
	require.Equal(t, ready.Unknown, r.Gate("mode").State)
	require.Equal(t, ready.Unseen, r.Summary)
}
