package client

// Action is something that an adapter can do with a device, of its own.
type Action struct {
	Name  string `json:"name"`
	About string `json:"about"`
	Args  string `json:"args" doc:"JSON Schema (2020-12) of its arguments; empty where it has none"`
}

// Actions are what an adapter can do with a device, of its own.
type Actions struct {
	Actions []Action `json:"actions" nullable:"false"`
}

// Adapter is a program of somebody else that speaks for devices which the device link does not reach.
type Adapter struct {
	Name      string   `json:"name"`
	About     string   `json:"about"`
	Command   []string `json:"command" nullable:"false" doc:"by which it is run"`
	Files     []string `json:"files" nullable:"false" doc:"device files that it may use, as patterns; each that is there is shown to it"`
	Announced []string `json:"announced" nullable:"false" doc:"types of services on the network (RFC 6763); each that is announced is shown to it, and it may connect to its port"`
	USB       []string `json:"usb" nullable:"false" doc:"vendor:product of devices on the USB of the bench's computer; each that is connected is shown to it, with its device file"`
	Connect   []int    `json:"connect" nullable:"false" doc:"TCP ports that it may connect to"`
	Sheet     string   `json:"sheet" doc:"prep sheet of its devices"`
	Digest    string   `json:"digest" doc:"SHA-256 of all its files"`
	Version   string   `json:"version" doc:"that it states itself; empty before it has run"`
	State     string   `json:"state" enum:"running,waiting,failing" doc:"waiting: no device for it is here; failing: it has ended, and is started again after a while"`
	Fenced    bool     `json:"fenced" doc:"the system holds it to its rights; otherwise it has those of the bench's user"`
	Trouble   string   `json:"trouble" doc:"why it does not run"`
	Devices   []string `json:"devices" nullable:"false" doc:"handles of the devices that it speaks for now"`
	Log       []string `json:"log" nullable:"false" doc:"the last lines that it has said, and what it did wrong"`
}
