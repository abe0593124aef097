package test

import (
	"context"
	"net"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/rpc"
	"earlybench.invalid/earlybench/standin"
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
			{"Warranty", []string{"Settings", "Warranty"}, "I have done that"},
			{"nine times", slices.Repeat([]string{"Card number"}, 9), "I have done that"},
			{"Draw the unlock pattern", []string{"Dot 1", "Dot 4", "Dot 7", "Dot 8", "Dot 9", "Done"}, "I have done that"},
			{"Set Computers may to debug and install", []string{"Back", "Back room", "Computers may", "debug and install", "So be it"}, ""},
			{"Say yes to moor-desk", nil, "Have ivory-1 ask"},
			{"It is asking now", []string{"In until sent away"}, ""},
		}, "open"},
		{"kestle-1", []turn{
			{"Switch Visitors on", []string{"Settings", "Strongroom", "Visitors", "Visitors", "let them"}, ""},
			{"Say yes to moor-desk", nil, "Have kestle-1 ask"},
			{"It is asking now", []string{"for good"}, ""},
			{"password", []string{"4", "7", "1", "1", "Done"}, ""},
		}, "open"},
		{"whimbrel-1", []turn{
			{"Say yes to moor-desk", nil, "Have whimbrel-1 ask"},
			{"It is asking now", []string{"Yes, from now on", "1", "0", "6", "6", "Done"}, ""},
			{"Switch Let guests in on", []string{"Doorway", "Guests", "Let guests in", "Let them in", "1", "0", "6", "6", "Done"}, ""},
			{"Restart whimbrel-1", []string{"Restart the house"}, ""},
			{"Unlock whimbrel-1", []string{"Unlock", "1", "0", "6", "6", "Done"}, ""},
			{"Type back the four letters", []string{"sign", "Open the door"}, ""},
		}, "open"},
	} {
		t.Run(w.handle, func(t *testing.T) {
			open(w.handle)
			for _, turn := range w.turns {
				b.sees(turn.says)
				for _, text := range turn.hands {
					if text == "sign" {
						for _, letter := range d.signOn(w.handle) {
							b.hands(string(letter))
						}
						continue
					}
					b.hands(text)
				}
				if turn.button != "" {
					b.presses(turn.button)
				}
			}
			d.waits(w.handle, "mode", w.mode)
			d.waits(w.handle, "admitted", "open")
			require.NotContains(t, d.run("rack", "show", w.handle, "--facts").out, "told.mode", "what counts is observed")
		})
	}
	t.Run("kittiwake-1", func(t *testing.T) {
		open("kittiwake-1")
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
		b.sees("told by ")
	})
	require.NotContains(t, b.log.String(), "exception")
}

// signOn reads the sign off a stand-in's boards, as eyes do.
func (d *demo) signOn(device string) string {
	d.t.Helper()
	var sign string
	d.eventually("a sign on its boards", func() bool {
		var elements []struct{ Text, Kind string }
		if standinCallInto(d, standin.MethodScreen, standin.Steer{Body: device}, &elements) != nil {
			return false
		}
		for _, e := range elements {
			if e.Kind == "board" {
				sign = e.Text
			}
		}
		return sign != ""
	})
	return sign
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
