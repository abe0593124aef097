package test

import (
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// told finds what a command tells one to do: the rest of the command line after words.
func told(t *testing.T, r result, words string) []string {
	t.Helper()
	m := regexp.MustCompile(regexp.QuoteMeta(words) + `((?: [^\s.]+)+)`).FindStringSubmatch(r.out + r.err)
	require.NotNil(t, m, "%q is not told:\n%s%s", words, r.out, r.err)
	return strings.Fields(m[1])
}

// TestTheComputersSideIsPassedByWhatTheCommandsSay takes three devices past what the computer
// lacks for them, by nothing but the commands that are told.
func TestTheComputersSideIsPassedByWhatTheCommandsSay(t *testing.T) {
	d := startDemoIn(t, t.TempDir(), "--smaller", "60")

	t.Run("ivory-2, which the virtual machine holds", func(t *testing.T) {
		require.Regexp(t, `(?m)^pit +exports none +127\.0\.0\.1:\d+ +reached`, d.ok("host"))
		r := d.run("prep", "ivory-2")
		require.Equal(t, 6, r.code)
		d.ok(append([]string{"host", "give"}, told(t, r, "earlybench host give")...)...)
		d.waits("ivory-2", "seen", "open")
		require.NotContains(t, d.ok("why", "ivory-2"), "holds ivory-2")
	})

	t.Run("ivory-1, whose driver set is not signed", func(t *testing.T) {
		require.Contains(t, d.ok("why", "ivory-1"), "it is not signed")
		r := d.run("prep", "ivory-1")
		require.Equal(t, 6, r.code)
		require.Contains(t, r.err, "needs your consent")
		consent := told(t, r, "Consent with")
		require.Contains(t, consent, "--despite")
		r = d.run("prep", "ivory-1", consent[0], consent[1])
		require.Equal(t, 6, r.code, "the digest alone is not enough")
		require.Contains(t, r.err, "is not signed: compare its digest")
		r = d.run(append([]string{"prep", "ivory-1", "--unattended"}, consent...)...)
		require.Equal(t, 6, r.code, "then it waits for the owner")
		d.waits("ivory-1", "driver", "open")
	})

	t.Run("whimbrel-1, whose support pack is in a slow depot", func(t *testing.T) {
		for _, touch := range []string{"Doorway", "Lodgers"} {
			d.ok("standin", "touch", "whimbrel-1", touch)
		}
		d.ok("standin", "type", "whimbrel-1", "44710926")
		d.ok("standin", "touch", "whimbrel-1", "Hang up")
		d.eventually("the switch is shown", func() bool { return d.run("standin", "touch", "whimbrel-1", "Take lodgers in").code == 0 })
		d.ok("standin", "touch", "whimbrel-1", "Take them in")
		d.waits("whimbrel-1", "mode", "open")
		done := make(chan result, 1)
		go func() { done <- d.run("prep", "whimbrel-1") }()
		d.eventually("it was asked", func() bool {
			m := regexp.MustCompile(`Pick (\d\d) on its screen`).FindStringSubmatch(d.run("why", "whimbrel-1").out)
			return m != nil && d.run("standin", "touch", "whimbrel-1", m[1]).code == 0
		})
		r := <-done
		require.Equal(t, 6, r.code, "%s%s", r.out, r.err)
		require.Contains(t, r.err, "only fetched with your consent to their licences")
		r = result{out: d.ok("host", "needs")}
		require.Contains(t, r.out, "dunlin-1 whimbrel-1")
		require.Contains(t, d.ok("host", "needs", "--licence", "Ostler House support licence 2"), "take a paper map as well")
		d.ok("host", "needs", "--accept", told(t, r, "earlybench host needs --accept")[0])
		require.NotContains(t, d.ok("why", "whimbrel-1"), "gate  support")
		require.Contains(t, d.ok("support"), "here")
		require.Contains(t, d.ok("host", "needs"), "are not missing anything")
		d.ok("support", "drop", "--unused")
		require.Contains(t, d.ok("support"), "ostler-support", "what is needed stays")
	})
}
