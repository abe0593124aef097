package test

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestAnAppThatIsNotMadeForADeviceIsSaidFirstEverywhere(t *testing.T) {
	d := startDemoIn(t, t.TempDir())
	const says = "Callout is not made for kestle."
	for _, c := range []struct {
		args []string
		code int
	}{
		{[]string{"rack", "--app", "fellgate/callout"}, 0},
		{[]string{"rack", "show", "kestle-1", "--app", "fellgate/callout"}, 0},
		{[]string{"why", "kestle-1", "--app", "fellgate/callout"}, 0},
		{[]string{"round", "--app", "fellgate/callout"}, 0},
		{[]string{"prep", "kestle-1", "--app", "fellgate/callout", "--plain"}, 3},
		{[]string{"run", "demo/apps/callout", "kestle-1"}, 3},
		{[]string{"try", "demo/apps/callout", "kestle-1", "heron-1"}, 1},
	} {
		r := d.run(c.args...)
		require.Equal(t, c.code, r.code, "%v: %s%s", c.args, r.out, r.err)
		require.Contains(t, r.out+r.err, says, "%v", c.args)
		require.NotContains(t, r.out, "Visitors", "%v: no step is asked for", c.args)
	}
	r := d.run("try", "demo/apps/callout", "kestle-1", "heron-1")
	require.NotContains(t, r.err, "Repeat for just those", "to try again does not help")
	require.Equal(t, "blocked", d.device("kestle-1").Summary)
	require.True(t, d.device("kestle-1").Unfit)
	require.Nil(t, d.device("kestle-1").Next)
	require.Contains(t, d.ok("why", "kestle-1"), "Visitors", "without an app it can be prepared")
}
