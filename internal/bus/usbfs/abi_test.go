//go:build linux && (amd64 || arm64)

package usbfs

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"unsafe"

	"github.com/stretchr/testify/require"
)

// header prints what the kernel's own header says, a name and a number a line.
const header = `
#include <stddef.h>
#include <stdio.h>
#include <sys/ioctl.h>
#include <linux/usbdevice_fs.h>
#define P(name, value) printf("%s %llu\n", name, (unsigned long long)(value))
int main(void) {
	P("set interface", USBDEVFS_SETINTERFACE);
	P("submit", USBDEVFS_SUBMITURB);
	P("discard", USBDEVFS_DISCARDURB);
	P("reap", USBDEVFS_REAPURBNDELAY);
	P("driver", USBDEVFS_GETDRIVER);
	P("interface", USBDEVFS_IOCTL);
	P("connect", USBDEVFS_CONNECT);
	P("take", USBDEVFS_DISCONNECT_CLAIM);
	P("take except", USBDEVFS_DISCONNECT_CLAIM_EXCEPT_DRIVER);
	P("bound", sizeof(struct usbdevfs_getdriver));
	P("bound.driver", offsetof(struct usbdevfs_getdriver, driver));
	P("taken", sizeof(struct usbdevfs_disconnect_claim));
	P("taken.flags", offsetof(struct usbdevfs_disconnect_claim, flags));
	P("taken.driver", offsetof(struct usbdevfs_disconnect_claim, driver));
	P("request", sizeof(struct usbdevfs_ioctl));
	P("request.code", offsetof(struct usbdevfs_ioctl, ioctl_code));
	P("request.data", offsetof(struct usbdevfs_ioctl, data));
	P("release", USBDEVFS_RELEASEINTERFACE);
	P("reset", USBDEVFS_RESET);
	P("capabilities", USBDEVFS_GET_CAPABILITIES);
	P("control", USBDEVFS_URB_TYPE_CONTROL);
	P("bulk", USBDEVFS_URB_TYPE_BULK);
	P("zero packet", USBDEVFS_URB_ZERO_PACKET);
	P("can zero packet", USBDEVFS_CAP_ZERO_PACKET);
	P("urb", sizeof(struct usbdevfs_urb));
	P("urb.type", offsetof(struct usbdevfs_urb, type));
	P("urb.endpoint", offsetof(struct usbdevfs_urb, endpoint));
	P("urb.status", offsetof(struct usbdevfs_urb, status));
	P("urb.flags", offsetof(struct usbdevfs_urb, flags));
	P("urb.buffer", offsetof(struct usbdevfs_urb, buffer));
	P("urb.buffer_length", offsetof(struct usbdevfs_urb, buffer_length));
	P("urb.actual_length", offsetof(struct usbdevfs_urb, actual_length));
	P("urb.start_frame", offsetof(struct usbdevfs_urb, start_frame));
	P("urb.packets", offsetof(struct usbdevfs_urb, number_of_packets));
	P("urb.error_count", offsetof(struct usbdevfs_urb, error_count));
	P("urb.signal", offsetof(struct usbdevfs_urb, signr));
	P("urb.context", offsetof(struct usbdevfs_urb, usercontext));
	P("setting", sizeof(struct usbdevfs_setinterface));
	P("setting.alternate", offsetof(struct usbdevfs_setinterface, altsetting));
	return 0;
}`

func TestNumbersSizesAndOffsetsAreThoseOfTheKernelsHeader(t *testing.T) {
	cc, err := exec.LookPath("cc")
	if err != nil {
		t.Skip("there is no C compiler")
	}
	dir := t.TempDir()
	source, program := filepath.Join(dir, "abi.c"), filepath.Join(dir, "abi")
	require.NoError(t, os.WriteFile(source, []byte(header), 0o600))
	if _, err := os.Stat("/usr/include/linux/usbdevice_fs.h"); err != nil {
		t.Skipf("the kernel's header is not installed: %v", err)
	}
	out, err := exec.Command(cc, "-o", program, source).CombinedOutput()
	require.NoError(t, err, "%s", out)
	out, err = exec.Command(program).Output()
	require.NoError(t, err)
	var u urb
	var s setInterface
	var b boundDriver
	var k takeInterface
	var i interfaceRequest
	ours := []struct {
		name  string
		value uintptr
	}{
		{"set interface", reqSetInterface}, {"submit", reqSubmitURB}, {"discard", reqDiscardURB}, {"reap", reqReapURBNoDelay},
		{"driver", reqDriver}, {"interface", reqInterface}, {"connect", reqConnect}, {"take", reqTakeInterface}, {"take except", takeExcept},
		{"bound", unsafe.Sizeof(b)}, {"bound.driver", unsafe.Offsetof(b.Driver)}, {"taken", unsafe.Sizeof(k)}, {"taken.flags", unsafe.Offsetof(k.Flags)},
		{"taken.driver", unsafe.Offsetof(k.Driver)}, {"request", unsafe.Sizeof(i)}, {"request.code", unsafe.Offsetof(i.Request)}, {"request.data", unsafe.Offsetof(i.Data)},
		{"release", reqReleaseIface}, {"reset", reqReset}, {"capabilities", reqGetCapabilities},
		{"control", urbControl}, {"bulk", urbBulk}, {"zero packet", flagZeroPacket}, {"can zero packet", capZeroPacket},
		{"urb", unsafe.Sizeof(u)}, {"urb.type", unsafe.Offsetof(u.Type)}, {"urb.endpoint", unsafe.Offsetof(u.Endpoint)},
		{"urb.status", unsafe.Offsetof(u.Status)}, {"urb.flags", unsafe.Offsetof(u.Flags)}, {"urb.buffer", unsafe.Offsetof(u.Buffer)},
		{"urb.buffer_length", unsafe.Offsetof(u.BufferLength)}, {"urb.actual_length", unsafe.Offsetof(u.ActualLength)},
		{"urb.start_frame", unsafe.Offsetof(u.StartFrame)}, {"urb.packets", unsafe.Offsetof(u.Packets)},
		{"urb.error_count", unsafe.Offsetof(u.ErrorCount)}, {"urb.signal", unsafe.Offsetof(u.Signal)}, {"urb.context", unsafe.Offsetof(u.UserContext)},
		{"setting", unsafe.Sizeof(s)}, {"setting.alternate", unsafe.Offsetof(s.Alternate)},
	}
	var lines strings.Builder
	for _, o := range ours {
		fmt.Fprintf(&lines, "%s %d\n", o.name, o.value)
	}
	require.Equal(t, string(out), lines.String())
}
