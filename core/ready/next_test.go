package ready_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/ready"
	"earlybench.invalid/earlybench/core/sheet"
)

// of is the shipped sheet of a model at its newest release.
func of(t *testing.T, code string) *sheet.Sheet {
	t.Helper()
	for _, s := range every(t) {
		if s.Model.Code == code {
			return s
		}
	}
	require.Fail(t, "no such model", code)
	return nil
}

func TestTheNextStep(t *testing.T) {
	confirmed := func(step string) fact.Fact { return cable(sheet.Told(step), fact.Of(true), fact.Person) }
	tablet := []fact.Fact{cable(fact.USBPresent, fact.Of(true), fact.Bus), cable(fact.USBLink, fact.Of(true), fact.Bus), cable(fact.DriverBound, fact.Of(true), fact.Host),
		cable(fact.AdmitState, fact.Of("admitted"), fact.Device), cable(fact.LinkUp, fact.Of(true), fact.Device)}
	for _, c := range []struct {
		name    string
		model   string
		means   []string
		facts   []fact.Fact
		next    string
		missing bool
	}{
		{"a step whose means are missing is next if no other helps", "WT", nil, tablet, "fetch", true},
		{"with its means it is a step as any other", "WT", []string{"depot"}, tablet, "fetch", false},
		{"what a person has confirmed is passed", "WT", nil, append(tablet, confirmed("fetch")), "register", true},
		{"a step that helps comes before one whose means are missing", "WT", []string{"authority", "account"}, tablet, "register", false},
		{"after all was confirmed nothing is left to ask for", "WT", nil, append(tablet, confirmed("fetch"), confirmed("register"), confirmed("grant")), "", false},
		{"a watch that nobody hears is put on the network", "W2", nil, []fact.Fact{cable("mode.loose", fact.Of(true), fact.Person), confirmed("cradle")}, "network", false},
		{"one that is heard is introduced", "W2", nil, []fact.Fact{cable("mode.loose", fact.Of(true), fact.Person), cable(fact.AirNear, fact.Of(true), fact.Host)}, "introduce", false},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := of(t, c.model)
			subject := withApp(s)
			subject.Attributes.Means = c.means
			r := ready.Evaluate(s, subject, fact.NewView(s.Registry, []string{"cable:1"}, c.facts...), now)
			if c.next == "" {
				require.Nil(t, r.Next, "%+v", r.Next)
				return
			}
			require.NotNil(t, r.Next)
			require.Equal(t, c.next, r.Next.ID)
			require.Equal(t, c.missing, r.Next.Missing)
		})
	}
}

func TestAnAppForOtherFamiliesIsSaidBeforeAnyStep(t *testing.T) {
	s := heron(t)
	subject := withApp(s)
	subject.Attributes.MadeFor = fact.Of([]string{"kestle", "wick"})
	r := ready.Evaluate(s, subject, fact.NewView(s.Registry, nil), now)
	require.True(t, r.Unfit)
	require.Equal(t, ready.Blocked, r.Summary, "though nothing shows the device")
	require.Equal(t, "tried", r.First)
	require.Equal(t, ready.Shut, r.Gate("tried").State)
	require.Empty(t, r.Steps)
	require.Nil(t, r.Next)

	subject.Attributes.App = ""
	r = ready.Evaluate(s, subject, fact.NewView(s.Registry, nil), now)
	require.False(t, r.Unfit, "without an app nothing is unfit")
	require.Equal(t, "plug", r.Next.ID)
}
