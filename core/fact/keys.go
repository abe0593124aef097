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
		cable(USBPresent, Bool, "on the bus", Bus),
		cable(USBInterfaces, Texts, "interfaces on the bus", Bus),
		cable(USBLink, Bool, "the bench link is among its interfaces", Bus),
		cable(USBRelease, Version, "release that its descriptor states", Bus),
		cable(DriverBound, Bool, "the host has bound a driver to the bench link", Host),
		cable(DriverSet, Text, "driver set that is bound", Host),
		{Key: DriverOffered, Type: Text, Sources: []Source{Host}, Text: "driver set here that fits"},
		{Key: AdmitState, Type: Text, Sources: []Source{Device}, Ends: EndsUnplug,
			Text: "this bench's key on the device"},
		link(LinkUp, Bool, "an encrypted link with the device's own key stands", Device),
		cable(LinkKey, Text, "device key", Device),
		cable(LinkTrouble, Text, "last attempt to link", Device),
		link(ModeComputers, Text, "computers may", Device),
		{Key: OSRelease, Type: Version, Sources: []Source{Device, Bus}, Text: "OS release"},
		{Key: Battery, Type: Int, Sources: []Source{Device}, Good: 10 * time.Minute, Ends: EndsLink, Text: "battery, per cent"},
		link(Free, Int, "free storage, bytes", Device),
		link(AppInstalled, Text, "installed app file", Device),
		{Key: AppTried, Type: Bool, Sources: []Source{Device}, Text: "a kept tryout of the app passed"},
	}
}
