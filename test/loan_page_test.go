package test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// A device of another bench is borrowed, tried and given back on pages alone; its lender's page shows who has it.
func TestADeviceOfAnotherBenchIsBorrowedByThePageAlone(t *testing.T) {
	d := startWith(t, t.TempDir())
	h := d.harbour()
	b := openBrowser(t, 1280, 800)
	b.goes(strings.TrimSpace(d.ok("console")))
	b.sees("At other benches")
	time.Sleep(time.Second) // the rows above settle
	b.presses("Borrow heron-9")
	b.sees("borrowed until")
	d.waits("heron-9", "linked", "open")
	b.goes(d.console() + "/devices/heron-9")
	b.sees("Borrowed from")
	b.presses("Try Callout")
	b.sees("Passed")

	lender := openBrowser(t, 1280, 800)
	lender.goes(strings.TrimSpace(h.ok("console")))
	lender.sees("whimbrel-9")
	lender.goes(h.console() + "/devices/heron-9")
	lender.sees("Lent to")
	lender.presses("Take it back in 5 minutes")
	lender.sees("Its lender has recalled it")
	b.sees("Its lender has recalled it")
	b.presses("Give it back")
	h.eventually("it is clean", func() bool { return strings.Contains(h.ok("loan"), "It was given back") })
	b.goes(d.console())
	b.sees("Borrow heron-9")
	require.NotContains(t, h.ok("rack", "show", "heron-9"), "callout")
}
