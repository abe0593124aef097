package cable_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/internal/store"
)

// A network analyser that knows USB/IP reads a whole session: the list, the import, the
// descriptors, the link with its admission and files, and the release.
func TestAnAnalyserOfNetworksReadsAWholeSession(t *testing.T) {
	rig := benchtest.Handset(t, true, benchtest.DriverSet(t, "halden-link"))
	r := benchtest.Record(t, rig.Addresses().Hub)
	b := benchtest.New(t)
	b.Hosts.Watch(store.Host{Name: "loft", USBIP: r.Addr().String(), Control: rig.Addresses().Host})
	b.Eventually("it is on the rack", func() bool { return len(b.Rack.All()) == 1 })
	k := only(b)
	b.Eventually("the link has told of the device", func() bool { return len(k.Ways()) == 1 && k.Ways()[0].Up })
	require.NoError(t, k.RestartLink(t.Context()))
	b.Hosts.Forget("loft")
	b.Eventually("it is gone", func() bool { return len(k.Ways()) == 0 })

	read := r.Analysed(t)
	require.Empty(t, read("_ws.expert"), "nothing is malformed, and nothing is remarkable")
	require.Contains(t, read("usbip.operation", "-T", "fields", "-e", "usbip.operation"), "0x8003", "the import")
	require.Greater(t, len(strings.Fields(read("usbip.urb", "-T", "fields", "-e", "usbip.urb"))), 60, "the descriptors, and the link's traffic")
	require.Contains(t, read("usb.bDescriptorType == 1", "-V"), "idVendor: Unknown (0xf3e0)")
	require.Empty(t, read("tcp.port == 3240 && !usbip"), "every packet is understood")
}
