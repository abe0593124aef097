package client

import "time"

// Host is a computer to which devices are connected.
type Host struct {
	Name    string `json:"name" doc:"a lower-case letter, then up to 39 letters, digits or hyphens"`
	USBIP   string `json:"usbip" doc:"address of its USB/IP exporter: HOST:PORT, or unix:/PATH"`
	Control string `json:"control" doc:"address of its host protocol: HOST:PORT, or unix:/PATH"`
	SSH     string `json:"ssh,omitempty" required:"false" maxLength:"300" doc:"SSH server through which both are reached, as ssh://USER@HOST:PORT; empty for none"`
	SSHKey  string `json:"ssh_key,omitempty" required:"false" maxLength:"100" doc:"fingerprint of that server's key that the owner has accepted"`
	Shared  bool   `json:"shared" required:"false" doc:"several people use it: devices are only asked to admit it for one visit"`
	Trouble string `json:"trouble,omitempty" doc:"why it is not reached; empty if it is"`
	Own     bool   `json:"own" required:"false" doc:"it is the bench's own computer"`
}

// FoundSSH is an SSH server as it introduces itself.
type FoundSSH struct {
	SSH string `json:"ssh"`
	Key string `json:"key" doc:"fingerprint of its key, to be accepted"`
}

// HostTree is the USB of a host, as it is connected.
type HostTree struct {
	Host    string    `json:"host"`
	Own     bool      `json:"own" doc:"it is the bench's own computer"`
	Trouble string    `json:"trouble" doc:"why what is connected is not known, or not at once; else empty"`
	Known   bool      `json:"known" doc:"what is connected is known"`
	Rows    []TreeRow `json:"rows" nullable:"false" doc:"each below what it is connected to"`
}

// TreeRow is one controller, hub, device or interface.
type TreeRow struct {
	Depth     int    `json:"depth" doc:"0 for a controller"`
	Kind      string `json:"kind" enum:"controller,hub,device,interface"`
	ID        string `json:"id" doc:"bus id; of an interface its number"`
	Port      int    `json:"port" doc:"of the hub that it is connected to, from 1; 0 for none"`
	Ports     int    `json:"ports" doc:"of a controller or hub"`
	Name      string `json:"name"`
	USB       string `json:"usb" doc:"vendor:product, or the class of an interface"`
	Kilobits  int    `json:"kbit_per_s" doc:"speed, in 1000 bit/s; 0: not known"`
	MilliAmps int    `json:"milliamps" doc:"the current that it says it draws at most"`
	Driver    string `json:"driver" doc:"bound to an interface, or to a controller"`
	Holder    string `json:"holder" doc:"the program or host that has the device; empty for none"`
	Device    string `json:"device" doc:"handle of the device that it is or belongs to; empty for what is not on the rack"`
	Gate      string `json:"gate" doc:"that this shuts; empty for none"`
	Trouble   string `json:"trouble" doc:"what is wrong here; empty for nothing"`
	Worst     bool   `json:"worst" doc:"it is what should be put right first"`
}

// Link is a way by which a device is reached now.
type Link struct {
	Device  string     `json:"device"`
	Way     string     `json:"way" doc:"such as cable"`
	Host    string     `json:"host" doc:"empty where no host is on the way"`
	Port    string     `json:"port" doc:"of the host, or an address; by the way companion the handle of the device through which it is reached"`
	State   string     `json:"state" enum:"linked,visitor,asleep,down" doc:"visitor: up, and the bench is not admitted; asleep: it is woken when it is needed"`
	Asleep  *time.Time `json:"asleep,omitempty" doc:"since when it is asleep, in that state"`
	Trouble string     `json:"trouble" doc:"why it is down; empty while nothing is wrong"`
}

// RestartedLink is a device whose link was restarted.
type RestartedLink struct {
	Device  string `json:"device"`
	Trouble string `json:"trouble" doc:"why that failed; empty if it did not"`
}
