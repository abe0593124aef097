package sheet

import (
	"fmt"
	"regexp"
	"strings"
)

// Seen is what was seen of a device that no sheet fits.
type Seen struct {
	Name       string // of the family that is to be written for, such as moth
	USB        string // vendor:product; "" where nothing was seen
	Interfaces []string
	Where      string // such as: port 2 of loft
}

var notPlain = regexp.MustCompile(`[^A-Za-z0-9 /._,:-]`)

// plainText makes a device's text safe for a comment: one line, no control characters.
func plainText(s string) string {
	s = notPlain.ReplaceAllString(s, "?")
	return s[:min(len(s), 120)]
}

// Draft writes a first sheet from what was seen. The sheet is valid as written; its
// comments say what to complete.
func Draft(s Seen) string {
	var b strings.Builder
	fmt.Fprintf(&b, draftHead, s.Name, "# and take it into the bench that runs:\n#   earlybench sheet add FILE\n")
	if s.USB != "" {
		fmt.Fprintf(&b, "\n# Seen on %s: %s\n", plainText(s.Where), plainText(s.USB))
		for _, i := range s.Interfaces {
			fmt.Fprintf(&b, "#   interface %s\n", plainText(i))
		}
	}
	usb := s.USB
	if usb == "" {
		usb = "0000:0001"
	}
	fmt.Fprintf(&b, draftBody, s.Name, usb)
	return b.String()
}

const draftHead = `# yaml-language-server: $schema=https://earlybench.invalid/prep-sheet.schema.json
# What devices of the family %[1]s need before an app can run on them. Check it:
#   earlybench sheet check FILE
%[2]ssheet: %[1]s
extends: any # what every family has in common: cables, ports, drivers, questions
family: %[1]s
`

const draftBody = `
# How its screens name things; {page} puts one into any text below.
words:
  page: Settings       # TODO: the page where the way in is
  switch: Development  # TODO: the row or switch there

# The gates in the order in which this family opens them.
walk: [seen, mode, driver, admitted, linked, tried]

# Each gate is opened by what was observed. Facts are written fact.KEY; known.KEY
# says whether something good is known of it.
gates:
  awake: not needed
  mode:
    open: fact.usb.link
    needs: [seen]
    says:
      - text: "{handle} does not let computers debug: the device link is not among its interfaces."
        remedy: "Switch **{switch}** on, on the page **{page}**."
  driver:
    open: fact.driver.bound
    needs: [mode]
    says:
      - text: "The computer has no driver for the device link of {handle}."
        remedy: "Install the driver set {set}: earlybench prep {handle} asks you for consent."
  admitted:
    open: fact.admit.state == "admitted"
    waiting: fact.admit.state == "asking"
    needs: [driver]
    says:
      - text: "{handle} has not let {bench} in."
        remedy: "Ask it: earlybench prep {handle}."
  linked:
    open: fact.link.up
    needs: [admitted]
    says:
      - text: "The link to {handle} is not up."
        remedy: Pull the cable, wait two seconds, plug it in again.
  support: not needed
  registered: not needed
  granted: not needed
  token: not needed
  accepted: not needed
  tried:
    open: fact.app.tried
    needs: [linked]
    says:
      - text: "No tryout of the app is on record for {handle}."
        remedy: "Try it: earlybench try APP {handle}"

# What is to be done, in order. who: hands (at the device), computer, automatic.
# done: how the bench knows. Where it cannot know, leave done out; people are
# asked then.
steps:
  - id: plug
    gate: seen
    who: hands
    title: Plug it in
    text: "Plug {handle} in"
    minutes: 1
    sure: true
    done: fact.usb.present
  - id: switch
    gate: mode
    who: hands
    title: "Switch {switch} on"
    text: "Switch **{switch}** on"
    where: ["{page}", "{switch}"] # TODO: the way, page by page
    sight: TODO what will be seen.
    minutes: 1
    done: fact.usb.link
    draw: {title: "{page}", rows: 5, row: 3, word: "{switch}"}
  - id: driver
    gate: driver
    who: computer
    title: Install the driver set
    text: "Install the driver set **{set}**"
    action: driver.install
    minutes: 1
    done: fact.driver.bound
  - id: admit
    gate: admitted
    who: hands
    title: Say yes to this computer
    text: "Say yes to **{bench}** on its screen"
    note: "The device asks, with this fingerprint: {fingerprint}."
    action: admission.ask
    minutes: 1
    done: fact.admit.state == "admitted"
  - {id: link, gate: linked, who: automatic, title: Link, text: The bench connects to the device, done: fact.link.up}
  - {id: try, gate: tried, who: computer, title: Try an app, text: Try an app on it, action: app.try, minutes: 1, done: fact.app.tried}

# What may be behind a gate that is not open, and how to tell it apart.
causes:
  - id: switch-off
    gates: [mode]
    weight: 4 # beside the other causes of its gates
    text: "**{switch}** is off."
    excluded: fact.usb.link
    remedy: {who: hands, seconds: 30, text: "Switch **{switch}** on.", step: switch}
checks:
  - id: switch-stands
    who: hands
    seconds: 10
    text: "Does **{switch}** stand on?"
    answers: {"yes": "Yes", "no": "No"}
    means:
      switch-off: {"no": 0.97}

models:
  - usb: "%[2]s"
    code: X1               # TODO: what the maker prints on it
    name: A %[1]s device   # TODO: what people call it
    handle: %[1]s
`
