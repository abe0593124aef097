package usb_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/usb"
)

// second is another reader of the same files, made from the kernel's own structures.
const second = `
#include <stdio.h>
#include <string.h>
#include <endian.h>
#include <linux/usb/ch9.h>
static int bad(void) { printf("malformed\n"); return 0; }
int main(int argc, char **argv) {
	static unsigned char b[1 << 20];
	FILE *f = fopen(argv[1], "rb");
	size_t n = fread(b, 1, sizeof b, f), at;
	struct usb_device_descriptor d;
	struct usb_config_descriptor c;
	if (n < USB_DT_DEVICE_SIZE || b[0] < USB_DT_DEVICE_SIZE || b[1] != USB_DT_DEVICE || b[0] > n) return bad();
	memcpy(&d, b, sizeof d);
	at = d.bLength;
	if (at < n) { /* every configuration must be whole, the first one counts */
		size_t k = at;
		while (k < n) {
			if (n - k < USB_DT_CONFIG_SIZE || b[k] < USB_DT_CONFIG_SIZE || b[k + 1] != USB_DT_CONFIG) return bad();
			memcpy(&c, b + k, sizeof(struct usb_config_descriptor));
			size_t total = le16toh(c.wTotalLength);
			if (total < USB_DT_CONFIG_SIZE || total > n - k) return bad();
			k += total;
		}
	}
	char out[1 << 16]; size_t o = 0;
	o += snprintf(out + o, sizeof out - o, "device %04x:%04x %04x %02x/%02x/%02x\n", le16toh(d.idVendor), le16toh(d.idProduct), le16toh(d.bcdDevice), d.bDeviceClass, d.bDeviceSubClass, d.bDeviceProtocol);
	if (at < n) {
		memcpy(&c, b + at, USB_DT_CONFIG_SIZE);
		size_t end = at + le16toh(c.wTotalLength);
		int setting = -1;
		o += snprintf(out + o, sizeof out - o, "config %d %d mA\n", c.bConfigurationValue, 2 * c.bMaxPower);
		while (at < end) {
			struct usb_descriptor_header h;
			if (end - at < 2) return bad();
			memcpy(&h, b + at, sizeof h);
			if (h.bLength < 2 || h.bLength > end - at) return bad();
			if (h.bDescriptorType == USB_DT_INTERFACE && h.bLength >= USB_DT_INTERFACE_SIZE) {
				struct usb_interface_descriptor i;
				memcpy(&i, b + at, USB_DT_INTERFACE_SIZE);
				setting = i.bAlternateSetting;
				if (setting == 0) o += snprintf(out + o, sizeof out - o, "interface %d %02x/%02x/%02x\n", i.bInterfaceNumber, i.bInterfaceClass, i.bInterfaceSubClass, i.bInterfaceProtocol);
			}
			if (h.bDescriptorType == USB_DT_ENDPOINT && h.bLength >= USB_DT_ENDPOINT_SIZE && setting == 0) {
				struct usb_endpoint_descriptor e;
				memcpy(&e, b + at, USB_DT_ENDPOINT_SIZE);
				if ((e.bmAttributes & USB_ENDPOINT_XFERTYPE_MASK) == USB_ENDPOINT_XFER_BULK)
					o += snprintf(out + o, sizeof out - o, "endpoint %02x %d\n", e.bEndpointAddress, le16toh(e.wMaxPacketSize) & 0x7ff);
			}
			at += h.bLength;
		}
	}
	printf("%s", out);
	return 0;
}`

// said is what our reader says, in the other's words.
func said(raw []byte) string {
	d, err := usb.ParseFile(raw, 0)
	if err != nil {
		return "malformed\n"
	}
	var b strings.Builder
	fmt.Fprintf(&b, "device %s %04x %s\n", d.ID, d.Revision, d.Class)
	if d.Config == 0 && d.MilliAmps == 0 && len(d.Interfaces) == 0 && len(raw) <= int(raw[0]) {
		return b.String()
	}
	fmt.Fprintf(&b, "config %d %d mA\n", d.Config, d.MilliAmps)
	for _, i := range d.Interfaces {
		fmt.Fprintf(&b, "interface %d %s\n", i.Number, i.Class)
		for _, e := range i.Endpoints {
			fmt.Fprintf(&b, "endpoint %02x %d\n", e.Address, e.MaxPacket)
		}
	}
	return b.String()
}

// shapes are files as devices have them, and as hostile or broken ones might.
func shapes() map[string][]byte {
	device := usb.Descriptor{ID: usb.ID{Vendor: 0xf3e0, Product: 0x0104}, Revision: 0x1200, MilliAmps: 500}
	with := func(n int) usb.Descriptor {
		d := device
		for i := range n {
			d.Interfaces = append(d.Interfaces, usb.Interface{Number: uint8(i), Class: usb.Class{Class: uint8(i + 1), Subclass: 2, Protocol: 3},
				Endpoints: []usb.Endpoint{{Address: uint8(0x81 + i), MaxPacket: 512}, {Address: uint8(1 + i), MaxPacket: 64}}})
		}
		return d
	}
	file := func(d usb.Descriptor, more ...byte) []byte {
		return append(append(d.DeviceBytes(), d.ConfigBytes()...), more...)
	}
	total := func(b []byte, n int) []byte { // sets the length of the configuration
		b = append([]byte(nil), b...)
		b[18+2], b[18+3] = byte(n), byte(n>>8)
		return b
	}
	set := func(b []byte, at int, v byte) []byte {
		b = append([]byte(nil), b...)
		b[at] = v
		return b
	}
	one, eight := file(with(1)), file(with(8))
	alternates := with(2)
	camera := alternates.ConfigBytes()
	for n := 1; n <= 6; n++ {
		camera = append(camera, 9, usb.DescInterface, 1, byte(n), 1, 14, 2, 0, 0, 7, usb.DescEndpoint, 0x83, 5, byte(n), 2, 1)
	}
	camera[2], camera[3] = byte(len(camera)), byte(len(camera)>>8)
	class := append(one[:len(one):len(one)], 5, 0x24, 1, 2, 3)
	class = total(class, len(class)-18)
	two := append(file(with(1)), set(alternates.ConfigBytes(), 5, 2)...)
	long := append(one[:len(one):len(one)], 12, usb.DescInterface, 4, 0, 0, 1, 2, 3, 0, 9, 9, 9)
	long = total(long, len(long)-18)
	iso := set(one, 18+9+9+3, 1)
	out := map[string][]byte{
		"one interface": one, "eight interfaces": eight, "no interface": file(with(0)), "thirty-two interfaces": file(with(32)),
		"alternate settings": append(device.DeviceBytes(), camera...), "a class descriptor between": class,
		"two configurations": two, "only the device": device.DeviceBytes(), "no byte": nil, "half a device": one[:11],
		"a device of another length": set(one, 0, 19), "a device that is a configuration": set(one, 1, 2),
		"cut in the configuration": one[:20], "cut in an interface": one[:18+9+4], "cut in an endpoint": one[:len(one)-3],
		"a length past the end": total(one, len(one)), "a length of zero": total(one, 0), "a shorter length": total(one, 18),
		"a part of no length": set(one, 18+9, 0), "a part of one byte": set(one, 18+9, 1), "a part past the end": set(one, 18+9+9, 200),
		"an interface that is longer": long, "an isochronous endpoint": iso, "bytes behind it": append(one[:len(one):len(one)], 1, 2, 3),
		"a power of 2 mA more": set(one, 18+8, 255), "a short interface": set(one, 18+9, 8), "an endpoint before any interface": set(one, 18+9+1, usb.DescEndpoint),
		"big packets": set(one, 18+9+9+5, 0xff),
	}
	return out
}

func TestFilesOfTheSystemAreReadAsByASecondReader(t *testing.T) {
	cc, err := exec.LookPath("cc")
	if err != nil {
		t.Skip("there is no C compiler")
	}
	dir := t.TempDir()
	source, program := filepath.Join(dir, "second.c"), filepath.Join(dir, "second")
	require.NoError(t, os.WriteFile(source, []byte(second), 0o600))
	if _, err := os.Stat("/usr/include/linux/usb/ch9.h"); err != nil {
		t.Skipf("the kernel's header is not installed: %v", err)
	}
	out, err := exec.Command(cc, "-o", program, source).CombinedOutput()
	require.NoError(t, err, "%s", out)
	all := shapes()
	random := rand.New(rand.NewPCG(5, 12))
	for name, raw := range shapes() { // and each of them with some bytes changed
		for n := range 8 {
			if len(raw) == 0 {
				break
			}
			changed := append([]byte(nil), raw...)
			changed[random.IntN(len(changed))] ^= 1 << random.IntN(8)
			all[fmt.Sprintf("%s, changed %d", name, n)] = changed
		}
	}
	require.Greater(t, len(all), 200)
	malformed := 0
	for name, raw := range all {
		path := filepath.Join(dir, "descriptors")
		require.NoError(t, os.WriteFile(path, raw, 0o600))
		theirs, err := exec.Command(program, path).Output()
		require.NoError(t, err, name)
		require.Equal(t, string(theirs), said(raw), "%s: %x", name, raw)
		if string(theirs) == "malformed\n" {
			malformed++
		}
	}
	require.Greater(t, malformed, 20, "some are refused")
	require.Less(t, malformed, len(all)*2/3, "many are read")
}

func TestTheActiveConfigurationIsRead(t *testing.T) {
	d, err := usb.ParseFile(shapes()["two configurations"], 2)
	require.NoError(t, err)
	require.Len(t, d.Interfaces, 2)
	d, err = usb.ParseFile(shapes()["two configurations"], 9)
	require.NoError(t, err, "one that is not there")
	require.Len(t, d.Interfaces, 1)
}

func FuzzParseFile(f *testing.F) {
	for _, raw := range shapes() {
		f.Add(raw, uint8(1))
	}
	f.Fuzz(func(t *testing.T, raw []byte, config uint8) {
		d, err := usb.ParseFile(raw, config)
		if err == nil {
			d.Link()
		}
	})
}
