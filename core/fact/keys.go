package fact

import "time"

// The keys that every family has. Sheets declare further ones of their own.
const (
	USBPresent    Key = "usb.present"
	USBInterfaces Key = "usb.interfaces"
	USBLink       Key = "usb.link"
	USBRelease    Key = "usb.release"
	DriverBound   Key = "driver.bound"
	DriverSet     Key = "driver.set"
	DriverOffered Key = "driver.offered"
	AdmitState    Key = "admit.state"
	LinkUp        Key = "link.up"
	LinkKey       Key = "link.key"
	LinkTrouble   Key = "link.trouble"
	ModeComputers Key = "mode.computers"
	OSRelease     Key = "device.release"
	Battery       Key = "device.battery"
	Free          Key = "device.free"
	AppInstalled  Key = "app.installed"
	AppTried      Key = "app.tried"
)

// Builtin returns the declarations of the keys above.
func Builtin() []Spec {
	cable := func(k Key, t Type, text string, sources ...Source) Spec {
		return Spec{Key: k, Type: t, Sources: sources, Ends: EndsUnplug, Text: text}
	}
	link := func(k Key, t Type, text string, sources ...Source) Spec {
		return Spec{Key: k, Type: t, Sources: sources, Ends: EndsLink, Text: text}
	}
	return []Spec{
		cable(USBPresent, Bool, "it is on the bus", Bus),
		cable(USBInterfaces, Texts, "the interfaces that it shows on the bus", Bus),
		cable(USBLink, Bool, "one of them is the bench link", Bus),
		cable(USBRelease, Version, "the release that its device descriptor states", Bus),
		cable(DriverBound, Bool, "the host has bound a driver to the bench link", Host),
		cable(DriverSet, Text, "the driver set that is bound", Host),
		{Key: DriverOffered, Type: Text, Sources: []Source{Host}, Text: "the driver set here that fits it"},
		{Key: AdmitState, Type: Text, Sources: []Source{Device}, Ends: EndsUnplug,
			Text: "what the device says of this bench's key: none, asking, admitted, refused, expired, busy"},
		link(LinkUp, Bool, "an encrypted session with the device's own key stands", Device),
		cable(LinkKey, Text, "the device key: known, or changed", Device),
		cable(LinkTrouble, Text, "why the last attempt to link failed", Device),
		link(ModeComputers, Text, "what the device lets computers do", Device),
		{Key: OSRelease, Type: Version, Sources: []Source{Device, Bus}, Text: "the OS release"},
		{Key: Battery, Type: Int, Sources: []Source{Device}, Good: 10 * time.Minute, Ends: EndsLink, Text: "battery, per cent"},
		link(Free, Int, "free storage, bytes", Device),
		link(AppInstalled, Text, "the digest of the app file that is installed", Device),
		{Key: AppTried, Type: Bool, Sources: []Source{Device}, Text: "a kept tryout of the app passed on this device"},
	}
}
