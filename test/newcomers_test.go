package test

import (
	"maps"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/standin"
)

// ends are the last words of the page for each device of the demo: it is ready
// with the app, or the page says what this bench lacks.
var ends = map[string]string{
	"heron-1": "is ready", "heron-2": "is ready", "ivory-1": "is ready", "ivory-2": "release", "ivory-3": "is ready",
	"kestle-1": "No account at an authority", "kestle-2": "No account at an authority", "kestle-3": "No account at an authority",
	"kestle-4": "No account at an authority", "kestle-5": "No account at an authority", "kestle-6": "No account at an authority",
	"whimbrel-1": "No account at an authority", "whimbrel-2": "No account at an authority", "dunlin-1": "No account at an authority", "kittiwake-2": "No account at an authority", "kittiwake-1": "No account at an authority",
}

// newcomers are led with some devices, or with all where there is time.
func newcomers(t *testing.T, b *browser, change func(*newcomer), devices ...string) {
	d := startDemoIn(t, t.TempDir(), "--restart-within", "500ms", "--smaller", "60")
	// The demo's second maker's are opened already, so one is made new first.
	require.NoError(t, standinCall(d, standin.MethodFault, standin.Steer{Body: "ivory-1", Text: "way-closed"}))
	b.goes(strings.TrimSpace(d.ok("console")))
	b.sees("kestle-1")
	if only := os.Getenv("DEVICE"); only != "" {
		devices = strings.Fields(only)
	} else if os.Getenv("SOAK") != "" {
		devices = slices.Sorted(maps.Keys(ends))
	}
	for _, handle := range devices {
		t.Run(handle, func(t *testing.T) {
			n := &newcomer{d: d, b: b, handle: handle}
			b.t = t
			change(n)
			require.Contains(t, n.leads(), ends[handle], "what was done:\n%s", strings.Join(n.story, "\n"))
			t.Log(strings.Join(n.story, "\n"))
		})
	}
	b.t = t
	require.NotContains(t, b.log.String(), "exception")
}

// Those who make an account come past the register, by the crew's number and by the serial.
func TestANewcomerMakesAnAccountWhereThePageSaysThatOneIsMissing(t *testing.T) {
	endsOf := ends
	ends = maps.Clone(ends)
	defer func() { ends = endsOf }()
	ends["kestle-1"], ends["whimbrel-1"] = "There is no app here that is made for", "There is no app here that is made for"
	newcomers(t, openBrowser(t, 1280, 800), func(n *newcomer) { n.joins = true }, "whimbrel-1", "kestle-1")
}

// A device of each other family is led to a tried app further below; a soak leads with all devices.
func TestANewcomerIsLedByThePageAlone(t *testing.T) {
	newcomers(t, openBrowser(t, 1280, 800), func(*newcomer) {}, "heron-2", "kittiwake-1")
}

func TestANewcomerIsLedByThePageWithAKeyboardAlone(t *testing.T) {
	newcomers(t, openWindow(t, 1280, 800), func(n *newcomer) { n.keys = true }, "kittiwake-1")
}

func TestANewcomerIsLedByThePageOnANarrowScreen(t *testing.T) {
	newcomers(t, openBrowser(t, 390, 844), func(n *newcomer) { n.narrow = true }, "whimbrel-1")
}

// From brand-new to tried by what the page says: opened by hand, registered, a debug token put on, the
// app tried.
func TestANewcomerIsLedFromBrandNewToATriedAppByThePage(t *testing.T) {
	d := startDemoIn(t, t.TempDir(), "--restart-within", "500ms", "--smaller", "60")
	d.signsIn(userCode.FindString(d.ok("account", "sign-in", "--wait=false")), "rowan")
	d.eventually("rowan is signed in", func() bool { return strings.Contains(d.ok("account"), "4471 0926") })
	d.ok("project", "add", handsetProject(t, ""))
	b := openWindow(t, 1280, 800)
	b.goes(strings.TrimSpace(d.ok("console")))
	b.sees("kestle-1")
	b.chooses("fellgate/callout")
	tries := func(n *newcomer) {
		n.d, n.b = d, b
		require.Contains(t, n.leads(), "is ready", strings.Join(n.story, "\n"))
		require.True(t, n.tried, strings.Join(n.story, "\n"))
		t.Log(strings.Join(n.story, "\n"))
	}
	tries(&newcomer{handle: "kestle-1", keys: true}) // by the keyboard alone
	get(b, "hold a narrow window", chromedp.EmulateViewport(390, 844))
	tries(&newcomer{handle: "kestle-6", narrow: true}) // another developer's token is on it
	get(b, "back to the desk", chromedp.EmulateViewport(1280, 800))

	// A tablet wants an app that an identity has signed, and a handset of Ivory Reach its developer accepted.
	d.ok("identity", "new", "moor-desk 2026")
	d.ok("project", "add", handsetProject(t, "identity: moor-desk 2026\n"))
	d.eventually("it is known who signs it", func() bool {
		return strings.Contains(d.run("explain", "fellgate/callout", "kestle-1").out, "needs neither")
	})
	tries(&newcomer{handle: "whimbrel-1"})
	tries(&newcomer{handle: "ivory-1"})

	// A watch is introduced through its handset, and tried there.
	d.ok("project", "add", watchProject(t, "moor-desk 2026"))
	tries(&newcomer{handle: "kittiwake-2"})
}
