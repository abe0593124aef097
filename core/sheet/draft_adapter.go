package sheet

import (
	"fmt"
	"strings"

	"earlybench.invalid/earlybench/core/fact"
)

// DeclaredFact is a fact that an adapter declares.
type DeclaredFact struct{ Key, Type string }

// DraftForAdapter writes a first sheet for the devices of an adapter from the facts that it declares,
// as [Draft] does for devices on the bus.
func DraftForAdapter(name string, facts []DeclaredFact) string {
	common := map[string]bool{}
	for _, s := range fact.Builtin() {
		common[string(s.Key)] = true
	}
	var own strings.Builder
	for _, f := range facts {
		if !common[f.Key] {
			fmt.Fprintf(&own, "  - {key: %s, type: %s, sources: [adapter], text: TODO what it says}\n", plainText(f.Key), plainText(f.Type))
		}
	}
	declared := ""
	if own.Len() > 0 {
		declared = "\n# What only these devices tell. Good for how long, and whether it ends with the link: docs/formats/prep-sheet.md.\nfacts:\n" + own.String()
	}
	return fmt.Sprintf(draftHead, name, "# It lies beside the adapter, whose adapter.yaml names it, and is taken into the bench with that.\n") + declared + fmt.Sprintf(adapterBody, name)
}

const adapterBody = `
# No bus, no screen and no question: of what every family has in common, only what can be wrong here.
without: [not-plugged, cable-charges-only, port-dead, held-by-machine, usb-lent, driver-missing, driver-not-bound, driver-not-fetched, driver-in-service, driver-unsigned,
  driver-similar, cable-pulled, asleep, locked, stale-link, plugged, charging, other-cable, other-port, wiggle,
  machine-running, lent-with-usb, machine-lists-it, host-drivers, was-asleep, unlock, screen-shows, never-asked, question-unanswered, question-refused,
  question-expired, question-busy, who-answered]

# The gates in the order in which this family opens them.
walk: [seen, linked, tried]

# Each gate is opened by what was observed. Facts are written fact.KEY; known.KEY
# says whether something good is known of it.
gates:
  seen:
    open: fact.adapter.seen
    says: [{text: "No adapter has recognised {handle}.", remedy: "Connect it, and look what the adapter says: earlybench adapter"}]
  awake: not needed
  mode: not needed
  driver: not needed
  admitted: not needed
  linked:
    open: fact.link.up
    needs: [seen]
    says: [{text: "The adapter does not speak with {handle}.", remedy: "Look what it says: earlybench adapter"}]
  support: not needed
  registered: not needed
  granted: not needed
  token: not needed
  accepted: not needed
  tried:
    open: fact.app.tried
    needs: [linked]
    says: [{text: "No tryout of the app is on record for {handle}.", remedy: "Try it: earlybench try APP {handle}"}]

# What is to be done, in order. who: hands (at the device), computer, automatic.
steps:
  - {id: connect, gate: seen, who: hands, title: Connect it, text: "Connect {handle}", minutes: 1, done: fact.adapter.seen} # TODO: how
  - {id: link, gate: linked, who: automatic, title: Link, text: The adapter speaks with it, done: fact.link.up}
  - {id: try, gate: tried, who: computer, title: Try an app, text: Try an app on it, action: app.try, minutes: 1, done: fact.app.tried}

retire:
  - {id: apps-off, gate: tried, who: automatic, title: Take the apps off, text: "The bench takes all apps off {handle}", action: apps.remove}

# What may be behind a gate that is not open, and how to tell it apart.
causes:
  - id: not-connected
    gates: [seen]
    weight: 3 # beside the other causes of its gates
    text: It is not connected.
    proved: "!fact.adapter.seen"
    excluded: fact.adapter.seen
    remedy: {who: hands, seconds: 30, text: Connect it., step: connect}

models:
  - code: X1               # TODO: the model that the adapter tells for it
    name: A %[1]s device   # TODO: what people call it
    handle: %[1]s
`
