// Package sheet reads prep sheets: YAML files that say what a family of devices (a
// maker, a model, a release) needs before an app can run on it, and what may be the
// cause when it does not. It turns files into a [Library] of sheets with merged layers
// and compiled conditions; every mistake has a file, line, column and hint. The format
// is described in docs/formats/prep-sheet.md.
//
// A sheet is data: it does nothing itself and does not look at devices.
package sheet

import (
	"slices"
	"time"

	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/usb"
)

// Order is the order in which a device's gates are always shown.
var Order = []string{"seen", "awake", "mode", "driver", "admitted", "linked", "support",
	"registered", "granted", "token", "accepted", "tried"}

// HostOrder is the order of the gates of the computer that the bench runs on. They do
// not belong to a device, but a device may have to wait for them.
var HostOrder = []string{"drivers", "kit", "signer"}

// PerApp reports whether a gate belongs to a device together with an app.
func PerApp(gate string) bool {
	switch gate {
	case "granted", "token", "accepted", "tried", "kit", "signer":
		return true
	}
	return false
}

// OfHost reports whether a gate is the computer's.
func OfHost(gate string) bool { return slices.Contains(HostOrder, gate) }

// PerPath reports whether a gate may differ between the paths to a device.
func PerPath(gate string) bool {
	switch gate {
	case "seen", "driver", "admitted", "linked":
		return true
	}
	return false
}

// Who carries out a step, a check or a remedy.
type Who string

// The values of Who.
const (
	Hands     Who = "hands"
	Computer  Who = "computer"
	Automatic Who = "automatic"
)

// Actions that a step at the computer may name; the service does them.
const (
	InstallDriver = "driver.install"
	FetchSupport  = "support.fetch"
	GiveBack      = "host.give"       // have whoever holds the device release it
	RestartLink   = "link.restart"    // have the bench start over with the device
	Register      = "device.register" // put it into the register of the account's crew
	PutStatement  = "statement.put"   // put on it the grant or debug token that the app needs
	AskAdmission  = "admission.ask"
	Introduce     = "introduction.begin" // it shows three words, which a person types at the bench
	TryApp        = "app.try"
	RemoveApps    = "apps.remove"        // when it is retired
	TakeOff       = "statements.remove"  // its grants and debug tokens, as above
	Withdraw      = "admission.withdraw" // as above
	Leave         = "register.leave"     // as above: free its place in the register
)

// Series is the sheets of one model, a sheet for each range of releases. All of
// them share a registry.
type Series struct {
	Model    Model
	Family   string
	Maker    string
	Registry *fact.Registry
	Released fact.Key // the fact that states the release before any link
	Applies  string   // the family that such devices announce on the network; "" if they do not
	Sheets   []*Sheet // by release, the last for the newest
}

// At returns the sheet for a release; for an unknown release, the newest sheet.
func (s *Series) At(r fact.Release) *Sheet {
	if r != "" {
		for _, sh := range s.Sheets {
			if sh.covers(r) {
				return sh
			}
		}
	}
	return s.Sheets[len(s.Sheets)-1]
}

// Needs reports whether a gate must be open on such devices, whatever their release and path.
func (s *Series) Needs(gate string) bool {
	for _, sh := range s.Sheets {
		for _, p := range sh.Paths {
			if g := p.Gates[gate]; g != nil && !g.NotNeeded {
				return true
			}
		}
	}
	return false
}

func (s *Sheet) covers(r fact.Release) bool {
	return (s.From == "" || r.Compare(s.From) >= 0) && (s.Below == "" || r.Compare(s.Below) < 0)
}

// Sheet is the prep sheet of one model and range of releases, with all layers merged.
type Sheet struct {
	Name     string
	Family   string
	Maker    string
	Model    Model
	From     fact.Release // "" for any below Below
	Below    fact.Release // "" for any from From
	Paths    []*Path      // in order of preference, at least one
	Causes   []*Cause
	Checks   []*Check
	Retire   []*Step
	Registry *fact.Registry
	Parts    []Part // what it is made of, and where each part comes from

	words map[string]map[string]string // by language, "" the sheet's own
}

// Path is a way from bench to device: cable, wireless, companion, remote.
type Path struct {
	Name  string
	Walk  []string         // gates in the order in which this family opens them
	Gates map[string]*Gate // all of Order and HostOrder
	Shown []*Gate          // in Order, then the computer's that are needed
	Steps []*Step
	Timed []int  // numbers of facts read by gates and steps that are good for a time only
	Flips []Flip // by which time alone alters gates and steps
}

// Gate returns a gate of the first path.
func (s *Sheet) Gate(name string) *Gate { return s.Paths[0].Gates[name] }

// Step returns a step by its id; nil if there is none.
func (s *Sheet) Step(id string) *Step {
	for _, p := range s.Paths {
		for _, st := range p.Steps {
			if st.ID == id {
				return st
			}
		}
	}
	return nil
}

// Cause returns a cause by its id; nil if there is none.
func (s *Sheet) Cause(id string) *Cause {
	for _, c := range s.Causes {
		if c.ID == id {
			return c
		}
	}
	return nil
}

// Check returns a check by its id; nil if there is none.
func (s *Sheet) Check(id string) *Check {
	for _, c := range s.Checks {
		if c.ID == id {
			return c
		}
	}
	return nil
}

// Part is one part of a sheet and the file that it comes from.
type Part struct {
	Kind string // word, fact, gate, step, cause, check
	Name string
	Text string
	File string
	Line int
}

// Model is one model of a maker.
type Model struct {
	Code   string // what the maker prints on it
	Name   string // what people call it
	Handle string // stem of the handles given to such devices
	USB    usb.ID // by which a device of this model is told; zero where it has no data port
}

// HasUSB reports whether devices of the model have a data port.
func (m Model) HasUSB() bool { return m.USB != usb.ID{} }

// Gate is one condition for readiness.
type Gate struct {
	Name      string
	NotNeeded bool
	Needed    *Condition // nil: always; where false the gate is not needed
	Open      *Condition
	Waiting   *Condition // may be nil
	Needs     []string   // gates that must be open before this one can be
	Says      []Saying
	Ends      fact.Key      // states when it will shut again; "" for never by time
	Notice    time.Duration // before Ends, within which that is told
}

// Saying is a sentence that explains a gate that is not open.
type Saying struct {
	When   *Condition // nil: always
	Text   string
	Remedy string
}

// Step is one thing to do. Its texts hold {words}, for [Fill].
type Step struct {
	ID       string
	Gate     string
	Who      Who
	Title    string // a few words, for the plan
	Text     string // what to do, the device's own words between **
	Note     string
	Where    []string // the way on the device, page by page
	Search   string   // the word for the settings' own search
	Sight    string   // what will be seen
	Risk     string   // what the device warns of
	Action   string
	Minutes  int
	Done     *Condition    // how the bench knows; nil: only by the gate, or by being told
	When     *Condition    // nil: always part of the prep
	Sure     bool          // the bench sees for itself whether it is done, so nobody need say so
	Again    bool          // must be done every time, not once
	Later    bool          // Done only tells afterwards: the end of the step itself cannot be seen
	Lasts    bool          // what a person says of it holds although the device leaves the bus, since that is part of the way
	Restarts time.Duration // how long the restart that it does usually takes; 0 for none
	Tells    fact.Key      // a fact that a person tells by saying that it is done; "" for none
	Means    string        // what the bench needs to do it, or to help with it; "" for nothing
	Lacking  string        // said where the bench does not have that
	Draw     *Drawing
	Word     int // the number of its Told key in the sheet's registry
}

// Means are what the bench may need for a step: a depot that has support packs, an authority
// that registers devices and signs grants and tokens, a connection to devices over the air,
// and a host that can take a device back.
var Means = []string{"depot", "authority", "account", "air", "host"}

// Observed reports whether the bench can see by itself that the step is done. If it
// cannot, people are told so.
func (s *Step) Observed() bool { return s.Done != nil && !s.Later || s.Sure || s.Action != "" }

// Drawing describes where on the screen to tap.
type Drawing struct {
	Title string `json:"title"`
	Rows  int    `json:"rows"`
	Row   int    `json:"row"` // from 1
	Word  string `json:"word"`
	Taps  int    `json:"taps"`
	Form  string `json:"form"` // of the device: phone, tablet, keys, round
}

// Cause is one possible reason why a gate is not open.
type Cause struct {
	ID       string
	Gates    []string
	Weight   float64 // how often it is the cause, beside the others of its gates
	Text     string
	Proved   *Condition // where true it is this one; may be nil
	Excluded *Condition // where true it cannot be this one; may be nil
	Likely   []Factor
	Remedy   Remedy
}

// Factor makes a cause more or less likely where a condition holds.
type Factor struct {
	When  *Condition
	Times float64
}

// Remedy is what to do about a cause.
type Remedy struct {
	Who     Who
	Seconds float64
	Text    string
	Step    string  // the step that leads through it; may be ""
	Action  string  // what the bench itself can do for it; may be ""
	Sight   string  // what should be seen after
	Cures   float64 // how often it helps, if it is that cause; above 0, below 1
}

// Check tells causes apart.
type Check struct {
	ID      string
	Who     Who
	Seconds float64
	Text    string // the question
	Note    string
	When    *Condition // nil: always of use
	Answers []Answer
	Good    time.Duration // how long an answer counts

	means  map[string][]float64 // by cause: the share of each answer
	others []float64            // for causes that are not named
}

// Answer is one answer of a check.
type Answer struct {
	ID   string
	Text string
	Seen *Condition // where true the bench answers by itself; may be nil
}

// Share is the probability of each answer given a cause; the shares of all answers
// sum to 1.
func (c *Check) Share(cause string) []float64 {
	if s, ok := c.means[cause]; ok {
		return s
	}
	return c.others
}

// Told is the key of a person's statement that a step is done.
func Told(step string) fact.Key { return fact.Key("told." + step) }

// Said is the key of a person's answer to a check.
func Said(check string) fact.Key { return fact.Key("said." + check) }

// Did is the key of a person's statement that the remedy of a cause was carried out.
func Did(cause string) fact.Key { return fact.Key("did." + cause) }
