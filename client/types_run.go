package client

import "time"

// RunResult is what a run or tryout ended with.
type RunResult struct {
	App     string `json:"app"`
	Version string `json:"version"`
	Digest  string `json:"digest"`
	Tryout  string `json:"tryout"`
	Passed  bool   `json:"passed"`
	Sent    int64  `json:"sent_bytes"`
	After   uint64 `json:"log_after"`
	// Devices is how it ended on each of several devices.
	Devices []DeviceResult `json:"devices" nullable:"false"`
	// Delivery is what a peer did that has put the app onto a device of its own.
	Delivery *Delivered `json:"delivery,omitempty"`
}

// Delivered is what a peer did with an app on a device of its own.
type Delivered struct {
	Peer   string   `json:"peer"`
	Points []Point  `json:"points" nullable:"false"`
	Log    []string `json:"log" nullable:"false" doc:"the last lines of the app's log, of a tryout"`
	Tryout string   `json:"tryout" doc:"id of the tryout that the peer keeps; empty for none"`
}

// DeviceResult is how work on several devices ended on one of them.
type DeviceResult struct {
	Device string   `json:"device"`
	Job    string   `json:"job" doc:"empty where it was not begun"`
	State  string   `json:"state" enum:"waiting,running,done,failed,stopped,interrupted"`
	Tryout string   `json:"tryout"`
	Unfit  bool     `json:"unfit" doc:"the app is not made for its family: to try again does not help"`
	Error  *Trouble `json:"error"`
}

// AppFile is an app file that the bench has.
type AppFile struct {
	Digest  string    `json:"digest" doc:"SHA-256 of its manifest: its id"`
	App     string    `json:"app"`
	Version string    `json:"version"`
	Size    int64     `json:"size"`
	Created time.Time `json:"created"`
}

// Run asks for a run or a tryout.
type Run struct {
	App    string `json:"app,omitempty" doc:"app id of a project on record, which is built"`
	Build  string `json:"build,omitempty" maxLength:"40" doc:"which of the project's builds; empty for the project itself"`
	File   string `json:"file,omitempty" doc:"digest of an app file, instead"`
	Device string `json:"device,omitempty" doc:"handle"`
	// Devices are several: one job with a part for each.
	Devices []string `json:"devices,omitempty" doc:"handles, of several devices: the app is built once, and each gets its turn" maxItems:"1000"`
	Try     bool     `json:"try,omitempty" doc:"as a tryout, which is kept"`
	// Unattended: nothing waits for a person.
	Unattended bool `json:"unattended,omitempty" doc:"nobody is there: what needs a person fails at once, with the kind person"`
	// Peer signs the app and puts it onto its own device.
	Peer string `json:"peer,omitempty" maxLength:"60" doc:"the peer that signs the app and puts it onto a device of its own: device is its handle over there"`
}
