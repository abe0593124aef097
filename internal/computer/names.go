package computer

import (
	"os"
	"sync"

	"earlybench.invalid/earlybench/core/usb"
)

// namesFiles are where systems keep the names of USB devices.
var namesFiles = []string{"/usr/share/misc/usb.ids", "/usr/share/hwdata/usb.ids", "/var/lib/usbutils/usb.ids"}

// names are the system's names of USB devices, read when they are first needed; none where
// it has no such file.
var names = sync.OnceValue(func() usb.Names {
	for _, file := range namesFiles {
		f, err := os.Open(file)
		if err != nil {
			continue
		}
		defer f.Close()
		if n, err := usb.ReadNames(f); err == nil {
			return n
		}
	}
	return usb.Names{}
})

// named is what a device calls itself, or what the system calls it.
func named(own, ids string) string {
	if own != "" {
		return own
	}
	id, err := usb.ParseID(ids)
	if err != nil {
		return ""
	}
	return names().Of(id)
}
