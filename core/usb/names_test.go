package usb_test

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/usb"
)

const someNames = "# a comment\n\nf3e0  Halden\n\t0104  Heron 4\n\t\t00  an interface\n\tnot an entry\nf3e1  Gritstone\nC 03  HID\n\t01  Boot\nf3e2\n"

func TestNamesAreRead(t *testing.T) {
	n, err := usb.ReadNames(strings.NewReader(someNames))
	require.NoError(t, err)
	for id, want := range map[string]string{"f3e0:0104": "Halden Heron 4", "f3e0:0001": "Halden 0001", "f3e1:0001": "Gritstone 0001", "f3e2:0001": "", "0001:0001": ""} {
		parsed, err := usb.ParseID(id)
		require.NoError(t, err)
		require.Equal(t, want, n.Of(parsed), id)
	}
	require.Empty(t, usb.Names{}.Of(usb.ID{Vendor: 1}))
}

func TestTheSystemsNamesAreRead(t *testing.T) {
	f, err := os.Open("/usr/share/misc/usb.ids")
	if err != nil {
		t.Skipf("usb.ids is not installed: %v", err)
	}
	defer f.Close()
	n, err := usb.ReadNames(f)
	require.NoError(t, err)
	require.NotEmpty(t, n.Of(usb.ID{Vendor: 0x1d6b, Product: 2}), "the kernel's own root hub")
}

func FuzzReadNames(f *testing.F) {
	f.Add(someNames, uint16(0xf3e0), uint16(0x0104))
	f.Add("\t0104  Heron\nf3e0  \n\xff\xff  x\n", uint16(0), uint16(0))
	f.Fuzz(func(t *testing.T, text string, vendor, product uint16) {
		n, err := usb.ReadNames(strings.NewReader(text))
		if err == nil {
			require.LessOrEqual(t, len(n.Of(usb.ID{Vendor: vendor, Product: product})), 2*200+1)
		}
	})
}
