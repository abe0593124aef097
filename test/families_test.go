package test

import (
	"context"
	"net"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/core/rpc"
	"earlybench.invalid/earlybench/standin"
	"earlybench.invalid/earlybench/standin/body"
)

// waits waits until a device's gate is in a state.
func (d *demo) waits(device, gate, state string) {
	d.t.Helper()
	d.eventually(device+"'s "+gate+" is "+state, func() bool {
		devices, err := d.api.Devices(context.Background(), "fellgate/callout") // it may come on the rack only now
		if err != nil {
			return false
		}
		i := slices.IndexFunc(devices, func(x client.Device) bool { return x.Handle == device })
		return i >= 0 && devices[i].Gates[gate] == state
	})
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

// openVisitors goes the way of a kestle, to the code that is typed back.
func (d *demo) openVisitors(device string) {
	d.t.Helper()
	d.touch(device, "Settings", "Strongroom", "Visitors", "Visitors", "let them")
	letters := d.reading(device).Code
	d.touch(device, "restart")
	d.eventually("it is back", func() bool { return strings.Contains(d.reading(device).Text, "letters from before") })
	d.touch(device, append(keysOf(letters), "let them in")...)
}

// admitsByKeys has a handset ask its person whether the bench may come in, who holds the two keys that
// its plate names, and waits until it is linked.
func (d *demo) admitsByKeys(device string) {
	d.t.Helper()
	d.waits(device, "mode", "open")
	d.waits(device, "driver", "open")
	_, err := d.api.Ask(d.t.Context(), device)
	require.NoError(d.t, err)
	var keys []string
	d.eventually("it asks", func() bool {
		keys = twoKeys.FindStringSubmatch(d.reading(device).Text)
		return keys != nil
	})
	d.touch(device, "Key "+keys[1], "Key "+keys[2])
	d.waits(device, "linked", "open")
}

func standinCall(d *demo, method string, p standin.Steer) error {
	return standinCallInto(d, method, p, nil)
}

func standinCallInto(d *demo, method string, p standin.Steer, result any) error {
	return steerInto(d.at.Standin, method, p, result)
}

// steerAt steers stand-ins by their socket.
func steerAt(socket, method string, p standin.Steer) error { return steerInto(socket, method, p, nil) }

func steerInto(socket, method string, p standin.Steer, result any) error {
	c, err := net.Dial("unix", socket)
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
