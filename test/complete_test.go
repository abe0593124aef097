package test

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestTheShellCompletesWhatTheBenchHas(t *testing.T) {
	d := startDemo(t)
	for _, c := range []struct {
		what  string
		words []string
		has   string
		lacks string
	}{
		{"a device", []string{"why", ""}, "heron-1\nheron-2\n", ""},
		{"another device", []string{"prep", "heron-2", ""}, "heron-1\n", "heron-2"},
		{"only one device, where one is wanted", []string{"log", "heron-1", ""}, ":4", "heron"},
		{"an app", []string{"run", ""}, "fellgate/callout\n", "heron"},
		{"devices behind an app", []string{"try", "fellgate/callout", ""}, "heron-1\nheron-2\n", "fellgate"},
		{"an app of an option", []string{"rack", "--app", ""}, "fellgate/callout\n", ""},
		{"a digest to consent to", []string{"prep", "heron-2", "--accept", ""}, "\thalden-link 4.1\n", ""},
		{"a step to confirm", []string{"prep", "heron-2", "--confirm", ""}, "tap\tTap Batch six times\n", ""},
		{"a cause whose remedy was tried", []string{"why", "heron-2", "--tried-remedy", ""}, "way-hidden\t", ""},
		{"a job", []string{"job", "show", ""}, ":4", "heron"},
		{"a host", []string{"host", "drop", ""}, "loft\n", ""},
		{"a fault", []string{"standin", "fault", "add", "heron-1", ""}, "cable-worn\tits cable breaks now and then\n", "loft"},
		{"a text on a screen", []string{"standin", "touch", "heron-1", ""}, "Settings\n", ""},
		{"a file", []string{"app", "check", ""}, ":0", "heron"},
	} {
		out := d.ok(append([]string{"__complete"}, c.words...)...)
		require.Contains(t, out, c.has, c.what)
		if c.lacks != "" {
			require.NotContains(t, out, c.lacks, c.what)
		}
	}
	d.stop()
	require.NotContains(t, d.run("__complete", "why", "").out, "heron", "without a bench nothing is offered")
	require.Contains(t, d.ok("help", "exit-codes"), "6  a person is needed")
	require.Contains(t, d.ok("completion", "bash"), "__complete")
}
