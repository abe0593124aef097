package client

import "time"

// Statement is a grant or a debug token: whose apps may run, where, and until when.
type Statement struct {
	ID        string    `json:"id"`
	Kind      string    `json:"kind" enum:"grant,debug token"`
	Authority string    `json:"authority" doc:"that has signed it"`
	Crew      string    `json:"crew"`
	Developer string    `json:"developer" doc:"whose apps"`
	Key       string    `json:"key" doc:"thumbprint of the developer's key"`
	Mine      bool      `json:"mine" doc:"the key is this bench's development key, or that of one of its identities"`
	App       string    `json:"app" doc:"app id; * for every app of the developer"`
	Devices   []string  `json:"devices" nullable:"false" doc:"serials; * alone for any device"`
	Handles   []string  `json:"handles" nullable:"false" doc:"of those devices that are on this bench's rack"`
	Debug     bool      `json:"debug" doc:"its apps may be debugged"`
	Features  []string  `json:"features" nullable:"false"`
	Begins    time.Time `json:"begins"`
	Ends      time.Time `json:"ends"`
	State     string    `json:"state" enum:"good,not begun,ended,withdrawn"`
	Asked     bool      `json:"asked" doc:"this bench has asked for it"`
	Text      string    `json:"text" doc:"as it was signed (docs/formats/statement.md)"`
}

// NewStatement is a grant or a debug token that an authority is asked for, or one that came from
// elsewhere.
type NewStatement struct {
	Text     string   `json:"text,omitempty" maxLength:"65536" doc:"one that was signed already; then nothing is asked for"`
	Kind     string   `json:"kind,omitempty" enum:"grant,debug token"`
	Identity string   `json:"identity,omitempty" maxLength:"60" doc:"by which the apps are signed; empty for the development key"`
	App      string   `json:"app,omitempty" maxLength:"100" doc:"empty for every app of the developer"`
	Devices  []string `json:"devices,omitempty" maxItems:"1000" doc:"handles, or serials of devices out of reach"`
	Any      bool     `json:"any,omitempty" doc:"any device"`
	Debug    bool     `json:"debug,omitempty"`
	Features []string `json:"features,omitempty" maxItems:"50"`
}

// PutStatement says on which devices a statement is to be put.
type PutStatement struct {
	Devices []string `json:"devices" minItems:"1" maxItems:"1000" doc:"handles"`
	Replace bool     `json:"replace,omitempty" doc:"replace another developer's where a device can hold only one"`
}

// PutResult is the result of a job that puts a statement on devices.
type PutResult struct {
	Statement string   `json:"statement"`
	Rows      []PutRow `json:"rows" nullable:"false"`
}

// PutRow is what has become of it on one device.
type PutRow struct {
	Device  string   `json:"device"`
	Outcome string   `json:"outcome" enum:"put,already there,replaced,asks,refused"`
	Text    string   `json:"text" doc:"why not, or whose was replaced"`
	Error   *Trouble `json:"error"`
}

// Allow asks for what an app needs to run on a device.
type Allow struct {
	App     string `json:"app" maxLength:"100"`
	Build   string `json:"build,omitempty" maxLength:"40" doc:"which of the project's builds; empty for the project itself"`
	Replace bool   `json:"replace,omitempty"`
}

// Explanation is why an app may run on a device, or why not.
type Explanation struct {
	App       string     `json:"app"`
	Device    string     `json:"device"`
	Allowed   bool       `json:"allowed"`
	State     string     `json:"state" enum:"open,shut,waiting,unknown,not needed"`
	Gate      string     `json:"gate" doc:"that decides; empty if the app needs nothing there"`
	Ends      *time.Time `json:"ends" doc:"when that ends, if it is soon"`
	Text      string     `json:"text"`
	Line      string     `json:"line" doc:"the member of the statement that refuses (docs/formats/statement.md); empty for none"`
	Remedy    string     `json:"remedy"`
	Statement *Statement `json:"statement" doc:"that covers it, or comes nearest"`
}

// MayRun is which apps may run on which devices of the rack, and how far the bench has come on the
// way there.
type MayRun struct {
	Stages []Stage     `json:"stages" nullable:"false" doc:"account, crew, identity, app id, register, may run"`
	Apps   []MayRunApp `json:"apps" nullable:"false"`
}

// Stage is one of the things that come before an app may run.
type Stage struct {
	Name  string `json:"name"`
	State string `json:"state" enum:"open,shut,waiting,unknown,not needed"`
	Value string `json:"value"`
	Note  string `json:"note"`
	Soon  bool   `json:"soon" doc:"it is open, and ends soon"`
}

// MayRunApp is an app, and on which devices it may run.
type MayRunApp struct {
	App   string       `json:"app"`
	Cells []MayRunCell `json:"cells" nullable:"false" doc:"in the order of the rack"`
}

// MayRunCell is whether an app may run on a device.
type MayRunCell struct {
	Device string     `json:"device"`
	Unfit  bool       `json:"unfit" doc:"the app is not made for the device's family"`
	State  string     `json:"state" enum:"open,shut,waiting,unknown,not needed"`
	Gate   string     `json:"gate" doc:"that decides; empty if the app needs nothing there"`
	Ends   *time.Time `json:"ends" doc:"when that ends, if it is soon"`
}
