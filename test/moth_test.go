package test

import (
	"context"
	"encoding/json"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/standin"
)

// TestAnOutsidersFamilyIsLedByDataAlone takes a handset of a family that no code
// knows, given as body data and a sheet, to a link in Chromium.
func TestAnOutsidersFamilyIsLedByDataAlone(t *testing.T) {
	d := startDemo(t)
	more, err := filepath.Abs("testdata/moth")
	require.NoError(t, err)
	sheet := filepath.Join(more, "sheet.yaml")
	require.Contains(t, d.ok("sheet", "check", sheet), "moth")
	d.ok("sheet", "add", sheet)
	at := standins(t, d, standin.Scenario{Dir: t.TempDir(), Host: "attic", Drivers: true, More: filepath.Join(more, "bodies"), HubAddress: "127.0.0.1:0",
		HostAddress: "127.0.0.1:0", HandsAddress: "127.0.0.1:0", Socket: filepath.Join(t.TempDir(), "s"),
		Bodies: []standin.Entry{{Name: "moth-1", Body: "lamplight", Model: "M1", Serial: "L 0001"}}})
	d.ok("host", "add", "attic", "--usbip", at.Hub, "--control", at.Host)
	d.eventually("it is on the rack", func() bool { return strings.Contains(d.ok("rack"), "moth-1") })
	d.ok("rack", "set", "moth-1", "--hands", at.Hands+"/held/moth-1")

	b := openBrowser(t, 1280, 800)
	b.goes(strings.TrimSpace(d.ok("console")))
	b.sees("moth-1")
	b.goes(d.console() + "/devices/moth-1")
	b.sees("Callout is not made for moth")
	b.presses("Prepare moth-1 without an app")
	b.sees("Rub Wick seven times")
	b.sees("The lamp is dark")
	b.hands("Dust")
	for range 7 {
		b.hands("Wick")
	}
	b.presses("I have done that")
	b.sees("Give the word of the house")
	for _, letter := range "dusk" {
		b.hands(string(letter))
	}
	b.hands("Done")
	b.presses("I have done that")
	b.sees("Switch Lit on")
	for _, text := range []string{"Lamp", "Lit", "Light it"} {
		b.hands(text)
	}
	d.waits("moth-1", "mode", "open")
	b.sees("Say that moor-desk may come in")
	b.presses("Show the request on moth-1")
	b.hands("Let it in")
	d.waits("moth-1", "linked", "open")
	require.NotContains(t, b.log.String(), "exception")
}

// standins starts stand-ins of a scenario of its own, as a process, and ends
// them with the test.
func standins(t *testing.T, d *demo, sc standin.Scenario) standin.Addresses {
	t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	cmd := exec.CommandContext(ctx, d.bin, "standin", "serve")
	in, err := cmd.StdinPipe()
	require.NoError(t, err)
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	cmd.Stderr = d.out
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { in.Close(); cancel(); cmd.Wait() })
	require.NoError(t, json.NewEncoder(in).Encode(sc))
	var at standin.Addresses
	require.NoError(t, json.NewDecoder(out).Decode(&at), d.out)
	return at
}
