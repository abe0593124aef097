package test

import (
	"context"
	"net"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/rpc"
	"earlybench.invalid/earlybench/standin"
	"earlybench.invalid/earlybench/standin/body"
)

// steer steers the demo's stand-ins.
func (d *demo) steer(verb, device, text string) {
	d.t.Helper()
	d.eventually(verb+" "+text, func() bool {
		return d.run("standin", verb, device, text).code == 0
	})
}

// waits waits until a device's gate is in a state.
func (d *demo) waits(device, gate, state string) {
	d.t.Helper()
	d.eventually(device+"'s "+gate+" is "+state, func() bool { return d.device(device).Gates[gate] == state })
}

// TestANewcomerOpensEveryFamilyByWhatThePageSays takes a brand-new device of each
// family through its own way in Chromium. Each line is what the page says, and
// then what a hand does on the glass because of it.
func TestANewcomerOpensEveryFamilyByWhatThePageSays(t *testing.T) {
	d := startDemoIn(t, t.TempDir(), "--restart-within", "500ms")
	b := openBrowser(t, 1280, 800)
	b.goes(strings.TrimSpace(d.ok("console")))
	b.sees("kestle-1")
	open := func(handle string) {
		t.Helper()
		b.goes(d.at.Service + "/devices/" + handle)
		b.sees("In your hand")
	}
	type turn struct {
		says   string   // by the page
		hands  []string // on the glass
		button string   // on the page, then
	}
	// A brand-new handset of each of tarn's makers; the demo's second maker's are
	// opened already, so one is made new first.
	require.NoError(t, standinCall(d, standin.MethodFault, standin.Steer{Body: "ivory-1", Text: "way-closed"}))
	for _, w := range []struct {
		handle string
		turns  []turn
		mode   string
	}{
		{"ivory-1", []turn{
			{"Open Warranty, and set the dial", slices.Concat([]string{"Settings", "Warranty"}, slices.Repeat([]string{"short hand back"}, 2),
				slices.Repeat([]string{"long hand on"}, 4), []string{"Done"}), "I have done that"},
			{"nine times", slices.Repeat([]string{"Card number"}, 9), "I have done that"},
			{"Set Computers may to debug and install", []string{"Back", "Back room", "Computers may", "debug and install", "So be it"}, ""},
			{"Say yes to moor-desk", nil, "Show the request on ivory-1"},
			{"It is asking now", []string{"In until sent away"}, ""},
		}, "open"},
		{"kestle-1", []turn{
			{"Switch Visitors on", []string{"Settings", "Strongroom", "Visitors", "Visitors", "let them", "(keep the letters)"}, "I have done that"},
			{"Restart kestle-1", []string{"restart", "(it is back)"}, ""}, // the bench has seen it go and come back
			{"Type the four letters back", []string{"(the letters)", "let them in"}, ""},
			{"hold the two keys", nil, "Show the request on kestle-1"},
			{"It is asking now", []string{"(the two keys)"}, ""},
		}, "open"},
		{"whimbrel-1", []turn{
			{"Give the number of your crew", []string{"Doorway", "Lodgers", "(the crew number)", "Hang up"}, "I have done that"},
			{"Switch Take lodgers in on", []string{"Take lodgers in", "Take them in"}, ""},
			{"Pick the number that is shown here on its screen", nil, "Show the request on whimbrel-1"},
			{"It is asking now", []string{"(the number on the page)"}, ""},
		}, "open"},
	} {
		t.Run(w.handle, func(t *testing.T) {
			open(w.handle)
			if w.handle == "kestle-1" { // and from then on
				b.sees("Callout is not made for")
				b.presses("Prepare " + w.handle + " without an app")
			}
			owner := owner{d: d}
			for _, turn := range w.turns {
				b.sees(turn.says)
				for _, text := range turn.hands {
					if keys, special := owner.does(b, w.handle, text); special {
						for _, key := range keys {
							b.hands(key)
						}
						continue
					}
					b.hands(text)
				}
				if turn.button != "" {
					b.sees(turn.says) // again, where it was away meanwhile
					b.presses(turn.button)
				}
			}
			d.waits(w.handle, "mode", w.mode)
			d.waits(w.handle, "admitted", "open")
			require.NotContains(t, d.run("rack", "show", w.handle, "--facts").out, "told.mode", "what counts is observed")
		})
	}
	t.Run("ivory-1 accepts the developer", func(t *testing.T) {
		open("ivory-1")
		b.chooses("fellgate/callout")
		b.presses("Try Callout")
		b.sees("its owner has not accepted the developer")
		b.hands("Callout")
		figures := get(b, "read the figures", chromedp.Poll[string](`document.body.innerText.match(/and type ([0-9]{4})/)?.[1]`, chromedp.WithPollingTimeout(patience)))
		for _, key := range strings.Split(figures, "") {
			b.hands(key)
		}
		b.hands("Let run")
		b.sees("Passed")
	})
	t.Run("kittiwake-1", func(t *testing.T) {
		open("kittiwake-1")
		b.sees("Callout is not made for wick")
		b.presses("Prepare kittiwake-1 without an app")
		b.sees("It has no link yet")
		for _, text := range []string{"Settings"} {
			b.hands(text)
		}
		for _, step := range [][2]string{{"slide", "left"}, {"slide", "left"}, {"touch", "Works"}, {"slide", "left"}, {"slide", "left"}} {
			d.steer(step[0], "kittiwake-1", step[1])
		}
		b.hands("Loose parts")
		b.hands("Light it")
		b.presses("I have done that")
		d.waits("kittiwake-1", "mode", "open")
		b.sees("Loose parts are switched on: yes")
		b.sees("confirmed by ")
	})
	require.NotContains(t, b.log.String(), "exception")
}

// owner is somebody with a stand-in in the hand, and its card beside it.
type owner struct {
	d       *demo
	letters string
}

// does tells which keys or texts something comes to that depends on what is read.
func (o *owner) does(b *browser, device, text string) (keys []string, special bool) {
	o.d.t.Helper()
	switch text {
	case "(keep the letters)":
		o.d.eventually("it shows letters", func() bool { o.letters = o.d.reading(device).Code; return o.letters != "" })
	case "(it is back)":
		o.d.eventually("it is back, also for the bench", func() bool {
			return strings.Contains(o.d.reading(device).Text, "letters from before") && o.d.device(device).Gates["seen"] == "open"
		})
	case "(the letters)":
		keys = keysOf(o.letters)
	case "(the two keys)":
		keys = o.d.heldKeys(device)
	case "(the crew number)":
		keys = strings.Split(strings.ReplaceAll(o.d.onCard(device, "Crew number"), " ", ""), "")
	case "(the number on the page)":
		number := get(b, "read the number", chromedp.Poll[string](`document.body.innerText.match(/Pick ([0-9]{2}) on its screen/)?.[1]`, chromedp.WithPollingTimeout(patience)))
		keys = []string{number}
	default:
		return nil, false
	}
	return keys, true
}

// keysOf are the number keys on which letters stand.
func keysOf(letters string) (keys []string) {
	for _, r := range strings.ToLower(letters) {
		keys = append(keys, string("22233344455566677778889999"[r-'a']))
	}
	return keys
}

// reading is what a stand-in's screen says, as eyes read it.
func (d *demo) reading(device string) (r body.Reading) {
	d.t.Helper()
	require.NoError(d.t, standinCallInto(d, standin.MethodScreen, standin.Steer{Body: device}, &r))
	return r
}

// onCard reads a line of the card that lies beside a stand-in.
func (d *demo) onCard(device, what string) string {
	d.t.Helper()
	for line := range strings.Lines(d.ok("standin", "card", device)) {
		if text, ok := strings.CutPrefix(line, what); ok {
			return strings.TrimSpace(text)
		}
	}
	require.Fail(d.t, "the card of "+device+" has no "+what)
	return ""
}

// heldKeys are the two keys that a kestle wants held together.
func (d *demo) heldKeys(device string) []string {
	d.t.Helper()
	var keys []string
	d.eventually("it names two keys", func() bool {
		keys = regexp.MustCompile(`hold (\d) and (\d) together`).FindStringSubmatch(d.reading(device).Text)
		return keys != nil
	})
	return []string{"Key " + keys[1], "Key " + keys[2]}
}

// openVisitors goes the way of a kestle, to the code that is typed back.
func (d *demo) openVisitors(device string) {
	d.t.Helper()
	d.touch(device, "Settings", "Strongroom", "Visitors", "Visitors", "let them")
	letters := d.reading(device).Code
	d.touch(device, "restart")
	d.eventually("it is back", func() bool { return strings.Contains(d.reading(device).Text, "letters from before") })
	d.touch(device, append(keysOf(letters), "let them in")...)
}

func standinCall(d *demo, method string, p standin.Steer) error {
	return standinCallInto(d, method, p, nil)
}

func standinCallInto(d *demo, method string, p standin.Steer, result any) error {
	c, err := net.Dial("unix", d.at.Standin)
	if err != nil {
		return err
	}
	conn := rpc.New(c, rpc.NoMethod)
	defer conn.Close()
	return conn.Call(context.Background(), method, p, result)
}

func TestADeviceThatRestartsAsTheStepSaidIsNotTakenForPulledOut(t *testing.T) {
	d := startDemoIn(t, t.TempDir(), "--restart-within", "3s")
	d.touch("kestle-1", "Settings", "Strongroom", "Visitors", "Visitors", "let them")
	d.run("prep", "kestle-1", "--confirm", "visitors", "--wait", "10ms")
	d.touch("kestle-1", "restart")
	d.waits("kestle-1", "seen", "waiting")
	require.Contains(t, d.ok("rack", "show", "kestle-1"), "preparing: Wait until it is back")
	why := d.ok("why", "kestle-1")
	require.Contains(t, why, "kestle-1 is restarting.")
	require.Contains(t, why, "100 %  It was restarted, as the step said, and is not back yet.")
	d.waits("kestle-1", "seen", "open")
	require.Contains(t, d.run("prep", "kestle-1", "--wait", "10ms").out, "▸ Type the four letters back", "the restart was seen")
	require.Regexp(t, `4[0-9] % +It was restarted, but its four letters were not typed back`, d.ok("why", "kestle-1"))
}
