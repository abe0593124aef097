package test

import (
	"net"
	"os"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/sheet"
	"earlybench.invalid/earlybench/sheets"
)

func TestDebiansUSBIPReadsTheHubsListWhileTheBenchHasTheDevices(t *testing.T) {
	usbip := needs(t, "usbip")
	d := startDemo(t)
	_, port, err := net.SplitHostPort(d.at.Hub)
	require.NoError(t, err)
	list := func() string {
		out, err := exec.Command(usbip, "--tcp-port", port, "list", "-r", "127.0.0.1").CombinedOutput()
		require.NoError(t, err, string(out))
		return string(out)
	}
	out := list()
	for _, want := range []string{"1-1", "1-2", "f3e0:0103", "f3e0:0104", "/heron-1", "/heron-2", "06/01/01", "ff/00/00"} {
		require.Contains(t, out, want)
	}
	require.Equal(t, 1, strings.Count(out, "(ff/00/00)"), "only heron-1 shows the device link")

	d.openMode("heron-2")
	d.eventually("heron-2 shows it too", func() bool { return strings.Count(list(), "(ff/00/00)") == 2 })
}

func TestTheDemosIdsBelongToNoRealMaker(t *testing.T) {
	raw, err := os.ReadFile("/usr/share/misc/usb.ids")
	if err != nil {
		t.Skip("usb.ids is not installed: on Debian, apt-get install usb.ids")
	}
	known := map[string]bool{}
	for line := range strings.Lines(string(raw)) {
		if len(line) > 5 && line[0] != '\t' && line[0] != '#' && line[4] == ' ' {
			known[line[:4]] = true
		}
	}
	require.Greater(t, len(known), 1000, "the list was read")
	lib, err := sheet.Load(sheets.Files)
	require.NoError(t, err)
	for _, s := range lib.All() {
		vendor := s.Model.USB.String()[:4]
		require.False(t, s.Model.HasUSB() && known[vendor], "%s has the vendor id %s, which is somebody's", s.Model.Name, vendor)
	}
}
