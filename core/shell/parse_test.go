package shell

import (
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/device"
)

const printed = `
M os
PRETTY_NAME="Fell \"Linux\" 4"
NAME='Fell Linux'
# VERSION_ID=9
VERSION_ID="4.2"

M machine
aarch64

M model
Fell Board 3

M memory
MemTotal:        1000 kB

M battery
81

M free
/dev/x 100 50 40960 60% /

M clock
1764240000

M networks
1: lo    inet 127.0.0.1/8 scope host lo
2: eth0    inet 192.168.7.40/24 brd 192.168.7.255 scope global eth0
2: eth0    inet6 fe80::1/64 scope link

M listens
  sl  local_address rem_address   st
   0: 0100007F:170D 00000000:0000 0A 00000000:00000000
   1: 00000000:170C 00000000:0000 01 00000000:00000000
   2: 0200A8C0:170C 00000000:0000 0A 00000000:00000000

M apps
fellgate.rain 00ff running
1.0
Rain gauge
..nonsense 00ff running
1.0
Nothing
`

func TestWhatABoardPrintsIsRead(t *testing.T) {
	a := parseAbout(printed, "M")
	require.Equal(t, About{System: `Fell "Linux" 4`, Release: "4.2", Model: "Fell Board 3", Machine: "aarch64", Memory: 1024000, Battery: 81, Free: 40 << 20, Clock: time.Unix(1764240000, 0).UTC(),
		Networks: []netip.Prefix{netip.MustParsePrefix("192.168.7.40/24")}, Screen: 5901,
		Apps: []device.App{{ID: "fellgate/rain", Version: "1.0", Digest: "00ff", Name: "Rain gauge", Running: true}}}, a)
	none := parseAbout("", "M")
	require.Equal(t, About{Battery: -1, Free: -1}, none)
}

func TestLinesOfALogAreReadAndOthersLeftOut(t *testing.T) {
	for text, want := range map[string]device.Line{
		"1764240000.25 I fellgate/rain dry  today ": {At: time.UnixMilli(1764240000250).UTC(), App: "fellgate/rain", Level: "info", Text: "dry  today "},
		"1764240000.00 E fellgate/rain ":            {At: time.Unix(1764240000, 0).UTC(), App: "fellgate/rain", Level: "error"},
		"1.00 X fellgate/rain -1 stopped":           {At: time.Unix(1, 0).UTC(), App: "fellgate/rain", Level: "info", Text: "the app has ended: stopped", Ended: &device.Ended{Code: -1, Reason: device.Stopped}},
	} {
		line, aside, ok := parseLine(text + "\n")
		require.True(t, ok, text)
		require.False(t, aside)
		require.Equal(t, want, line)
	}
	_, aside, _ := parseLine("0 R - -\n")
	require.True(t, aside)
	for _, text := range []string{"", "x", "1 I", "1 I nobody x", "NaN I fellgate/rain x", "-1 I fellgate/rain x", "1e300 I fellgate/rain x", "1 Z fellgate/rain x", "1 X fellgate/rain 1 asleep"} {
		_, aside, ok := parseLine(text)
		require.False(t, ok || aside, text)
	}
}

func TestAnOfferIsReadAsFarAsItMakesSense(t *testing.T) {
	sizes := func() map[string]int64 { return map[string]int64{"aa": 10 << 20, "bb": 5} }
	lacks, err := readOffer("dir /home/x\nfree 100000\nlacks aa 9437184\nlacks aa 1\nlacks cc 1\nlacks bb 0\nnonsense\n", "d", sizes())
	require.NoError(t, err)
	require.Equal(t, []device.Lack{{SHA256: "aa", Size: 10 << 20, Have: 8 << 20}, {SHA256: "bb", Size: 5}}, lacks.Files, "the segment that was cut is sent again")
	_, err = readOffer("dir /home/x\nfree 2048\nlacks aa 0\n", "d", sizes())
	require.EqualError(t, err, "it has 1 MB free, and what is to be sent needs 11 MB")
	_, err = readOffer("dir home\n", "d", sizes())
	require.ErrorContains(t, err, "where files are to be sent")
}

// FuzzAbout reads what a hostile device prints.
func FuzzAbout(f *testing.F) {
	f.Add(printed)
	f.Fuzz(func(t *testing.T, text string) {
		a := parseAbout(text, "M")
		for _, s := range []string{a.Name, a.System, a.Model, a.Machine} {
			require.LessOrEqual(t, len(s), 110)
			require.False(t, strings.ContainsAny(s, "\n\r\x1b"), "%q", s)
		}
		require.LessOrEqual(t, len(a.Apps), mostApps)
		a.facts()
	})
}

// FuzzBoardLog reads a log that a hostile device sends.
func FuzzBoardLog(f *testing.F) {
	f.Add("1764240000.25 I fellgate/rain dry\n")
	f.Add("1.00 X fellgate/rain -1 stopped\n")
	f.Fuzz(func(t *testing.T, text string) {
		if line, _, ok := parseLine(text); ok {
			require.False(t, line.At.After(time.Unix(1<<34, 0)))
		}
	})
}

func TestTheUnitIsOneThatSystemdTakes(t *testing.T) {
	analyze, err := exec.LookPath("systemd-analyze")
	if err != nil {
		t.Skip("systemd-analyze is not installed")
	}
	name := filepath.Join(t.TempDir(), "early-bench@.service")
	require.NoError(t, os.WriteFile(name, []byte(text("early-bench@.service")), 0o600))
	out, err := exec.Command(analyze, "verify", name).CombinedOutput()
	require.NoError(t, err, "%s", out)
	require.NotContains(t, string(out), "early-bench", "nothing is found fault with")
}

// TestScriptsAreReadByEveryShell has each of them parsed by the shells that are here.
func TestScriptsAreReadByEveryShell(t *testing.T) {
	all, err := scripts.ReadDir("scripts")
	require.NoError(t, err)
	for _, shell := range [][]string{{"dash"}, {"bash"}, {"busybox", "ash"}} {
		path, err := exec.LookPath(shell[0])
		if err != nil {
			t.Logf("%s is not here", shell[0])
			continue
		}
		for _, s := range all {
			if !strings.HasSuffix(s.Name(), ".sh") {
				continue
			}
			cmd := exec.Command(path, append(shell[1:], "-n")...)
			cmd.Stdin = strings.NewReader(source(strings.TrimSuffix(s.Name(), ".sh"), "mark", []string{"it's", "a b"}))
			out, err := cmd.CombinedOutput()
			require.NoError(t, err, "%s: %s: %s", shell[0], s.Name(), out)
		}
	}
}
