// Package hostlink defines the messages of the host protocol between a bench and a computer to
// which devices are connected. It is JSON-RPC 2.0 with one object on each line;
// docs/formats/host.md describes it.
package hostlink

import "earlybench.invalid/earlybench/core/driver"

// Methods.
const (
	MethodHello         = "hello"          // -> Hello
	MethodWatch         = "watch"          // -> Bus, and then notifications
	MethodBus           = "bus"            // notification: Bus
	MethodDrivers       = "drivers"        // -> []Driver
	MethodDriverOffer   = "driver.offer"   // Offer -> Have
	MethodDriverPiece   = "driver.piece"   // Piece -> Have
	MethodDriverInstall = "driver.install" // Ref -> Driver
	MethodDriverGet     = "driver.get"     // Ref -> Driver; from the host's own update service
	MethodDriverRemove  = "driver.remove"  // Name
	MethodBind          = "bind"           // Bind
	MethodRelease       = "release"        // Release; to the host that exports a device
	MethodTake          = "take"           // Take; to the host that gets it
)

// PieceBytes is the maximum size of a piece of a file, in bytes.
const PieceBytes = 256 << 10

// Hello is how a host introduces itself.
type Hello struct {
	Name    string `json:"name"`
	Version int    `json:"version"`           // of the protocol: 1
	System  string `json:"system,omitempty"`  // the kind of host; "" if it does not say
	Release string `json:"release,omitempty"` // of its system
}

// Bus is everything that is connected to the host's buses.
type Bus struct {
	// Hubs are the host's controllers and the hubs that are connected to it.
	Hubs    []Hub    `json:"hubs,omitempty"`
	Devices []Device `json:"devices"`
	// Drivers are the driver sets that are installed on the host.
	Drivers []Driver `json:"drivers,omitempty"`
}

// Hub is a controller of the host, with its ports, or a hub that is connected to one.
type Hub struct {
	Joint
	BusID  string `json:"bus_id"`
	Name   string `json:"name,omitempty"`
	USB    string `json:"usb,omitempty"`    // vendor:product
	Driver string `json:"driver,omitempty"` // the system's, of a controller
	Ports  int    `json:"ports"`
}

// Joint is where a device or a hub is connected, and how.
type Joint struct {
	Parent     string `json:"parent,omitempty"`      // bus id of the hub; "" for a controller
	PortNumber int    `json:"port_number,omitempty"` // of the hub, from 1
	Kilobits   int    `json:"kbit_per_s,omitempty"`  // the speed, in 1000 bit/s; 0 if it is not known
	MilliAmps  int    `json:"milliamps,omitempty"`   // the current that it says it draws at most
}

// Device is one device on a bus.
type Device struct {
	Joint
	BusID      string      `json:"bus_id"`
	Name       string      `json:"name,omitempty"`   // in its own words
	Holder     string      `json:"holder,omitempty"` // the program or the other host that has it; "" for none
	Denied     string      `json:"denied,omitempty"` // why the host may not open it; "" if it may
	Port       string      `json:"port"`             // for people: "hub port 1"
	Plugging   int         `json:"plugging"`         // another number each time that it shows itself
	Run        string      `json:"run"`              // another text each time that the host starts
	USB        string      `json:"usb"`              // vendor:product
	Serial     string      `json:"serial"`
	Interfaces []Interface `json:"interfaces"`
	// Node is the path of its device file, of the bench's own computer. It is not sent.
	Node string `json:"-"`
}

// Interface is an interface with the driver that the host has bound to it.
type Interface struct {
	Number int    `json:"number"`
	Class  string `json:"class"`
	Name   string `json:"name"`
	Driver string `json:"driver"` // name of the driver set; "" if none
	// Service is what the host's own update service has for it; nil for nothing.
	Service *Driver `json:"service,omitempty"`
}

// Driver is an installed driver set.
type Driver struct {
	Digest string          `json:"digest"`
	Set    driver.Manifest `json:"set"`
	Signed bool            `json:"signed"` // the host has checked a signature of it
	Size   int64           `json:"size,omitempty"`
}

// Offer announces a file; the answer Have says how much of it the host has.
type Offer struct {
	Digest string `json:"digest"` // SHA-256 of the whole file
	Size   int64  `json:"size"`
}

// Have is how many bytes of a file the host has.
type Have struct {
	Bytes int64 `json:"bytes"`
}

// Piece is a part of a file.
type Piece struct {
	Digest string `json:"digest"`
	At     int64  `json:"at"`
	Data   []byte `json:"data"`
}

// Ref names a file by its digest.
type Ref struct {
	Digest string `json:"digest"`
}

// Name names a driver set.
type Name struct {
	Name string `json:"name"`
}

// Bind asks the host to bind an installed driver to an interface.
type Bind struct {
	BusID     string `json:"bus_id"`
	Interface int    `json:"interface"`
	Driver    string `json:"driver,omitempty"` // its name, whether it fits or not; "" for the one that fits
}

// Release asks a host to end the import of a device that it exports.
type Release struct {
	BusID string `json:"bus_id"`
	Next  string `json:"next,omitempty"` // name of the host that imports it next; "" for anybody
}

// Take asks a host to import a device.
type Take struct {
	USBIP string `json:"usbip"` // address of the exporter
	BusID string `json:"bus_id"`
}
