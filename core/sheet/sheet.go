// Package sheet reads prep sheets: the YAML that says what a family of devices
// (a maker, a model) needs before an app can run on it. What goes in is files,
// what comes out is a [Sheet] whose conditions are compiled and whose words are
// in place; every mistake comes with file, line, column and a hint. The format
// is written down in docs/formats/prep-sheet.md.
//
// A sheet never does anything and never looks at a device.
package sheet

import (
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/usb"
)

// Order is the order in which gates are always shown.
var Order = []string{"seen", "awake", "mode", "driver", "admitted", "linked", "support",
	"registered", "granted", "token", "accepted", "tried"}

// PerApp tells whether a gate is of a device and an app together.
func PerApp(gate string) bool {
	switch gate {
	case "granted", "token", "accepted", "tried":
		return true
	}
	return false
}

// Who does a step.
type Who string

// Those who do steps.
const (
	Hands     Who = "hands"
	Computer  Who = "computer"
	Automatic Who = "automatic"
)

// Actions that a step at the computer may name; the service does them.
const (
	InstallDriver = "driver.install"
	AskAdmission  = "admission.ask"
	TryApp        = "app.try"
)

// Sheet is a prep sheet as it results for one model, layers put together.
type Sheet struct {
	Name     string
	Family   string
	Maker    string
	Model    Model
	USB      usb.ID   // by which a device of this model is told
	Walk     []string // gates in the order in which this family opens them
	Gates    map[string]*Gate
	Steps    []*Step
	Registry *fact.Registry
	Released fact.Key // the fact that states the release before any link
}

// Model is one model of a maker.
type Model struct {
	Code   string // what the maker prints on it
	Name   string // what people call it
	Handle string // stem of the handles given to such devices
}

// Gate is one condition for readiness.
type Gate struct {
	Name      string
	NotNeeded bool
	Open      *Condition
	Waiting   *Condition // may be nil
	Needs     []string   // gates that must be open before this one means anything
	Says      []Saying
}

// Saying is a sentence that explains a gate that is not open.
type Saying struct {
	When   *Condition // nil: always
	Text   string
	Remedy string
}

// Step is one thing to do.
type Step struct {
	ID      string
	Gate    string
	Who     Who
	Title   string // a few words, for the plan
	Text    string // what to do, the device's own words between **
	Note    string
	Where   []string // the way on the device, page by page
	Search  string   // the word for the settings' own search
	Sight   string   // what will be seen
	Risk    string   // what the device warns of
	Action  string
	Minutes int
	Done    *Condition // how the bench knows; nil: only by the gate, or by being told
	When    *Condition // nil: always part of the prep
	Sure    bool       // the bench sees for itself whether it is done, so nobody need say so
	Draw    *Drawing
}

// Drawing describes where on the screen to tap.
type Drawing struct {
	Title string `json:"title"`
	Rows  int    `json:"rows"`
	Row   int    `json:"row"` // from 1
	Word  string `json:"word"`
	Taps  int    `json:"taps"`
}

// Told is the key under which a person's word that a step is done is kept.
func Told(step string) fact.Key { return fact.Key("told." + step) }
