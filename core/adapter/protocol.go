// Package adapter speaks with adapters: external programs, in any language, that speak for devices which
// the device link does not reach (docs/formats/adapter.md). It has the bench's side, a [device.Session]
// over it, and a checker for those who write adapters.
//
// An adapter is treated as hostile: everything that it sends is bounded and checked, and each
// request has a deadline.
package adapter

import (
	"encoding/json"
	"fmt"
	"regexp"
	"strings"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"earlybench.invalid/earlybench/core/problem"
)

// Version is the version of the protocol.
const Version = 1

// Methods of the bench's requests.
const (
	MethodHello     = "hello"
	MethodCandidate = "candidate"
	MethodFacts     = "facts"
	MethodAct       = "act"
	MethodStop      = "stop" // a notification
)

// Methods of the adapter.
const (
	MethodFact     = "fact"     // a notification
	MethodProgress = "progress" // a notification
	MethodLine     = "line"     // a notification
	MethodAsk      = "ask"
)

// Hello is the first message of a bench.
type Hello struct {
	Protocol int    `json:"protocol"`
	Bench    string `json:"bench"`
	Work     string `json:"work"`  // the adapter's own directory, which it may write to
	Given    string `json:"given"` // where the bench puts files for it, which it may read
}

// Welcome is the answer: the facts and actions of the adapter.
type Welcome struct {
	Name    string       `json:"name"`
	Version string       `json:"version"`
	Facts   []FactKind   `json:"facts"`
	Actions []ActionKind `json:"actions"`
}

// FactKind declares a fact.
type FactKind struct {
	Key  string `json:"key"`
	Type string `json:"type"`
}

// ActionKind declares an action.
type ActionKind struct {
	Name  string          `json:"name"`
	About string          `json:"about,omitempty"`
	Args  json.RawMessage `json:"args,omitempty"` // JSON Schema (2020-12); left out for the shared actions
}

// Shared actions, which mean the same for every adapter.
const (
	ActAppList    = "app.list"
	ActAppInstall = "app.install"
	ActAppStart   = "app.start"
	ActAppStop    = "app.stop"
	ActAppRemove  = "app.remove"
	ActLog        = "log"
	ActScreen     = "screen"
	ActPort       = "port"
	ActFind       = "find"
	ActRestart    = "restart"
)

var actionShape = regexp.MustCompile(`^[a-z][a-z0-9.-]{0,59}$`)

// Bounds of what an adapter declares.
const (
	mostFacts   = 200
	mostActions = 100
)

// check returns what is wrong with a welcome.
func (w *Welcome) check() error {
	if len(w.Facts) > mostFacts || len(w.Actions) > mostActions {
		return fmt.Errorf("it declares more than %d facts, or %d actions", mostFacts, mostActions)
	}
	seen := map[string]bool{}
	for _, a := range w.Actions {
		if !actionShape.MatchString(a.Name) || seen[a.Name] {
			return fmt.Errorf("action %.60q: lower-case letters, digits, dots and hyphens, each once", a.Name)
		}
		seen[a.Name] = true
		if len(a.Args) > 0 {
			if _, err := schemaOf(a.Args); err != nil {
				return fmt.Errorf("the arguments of the action %s are not described by a JSON Schema: %w", a.Name, err)
			}
		}
	}
	return nil
}

// Can reports whether an action is declared.
func (w *Welcome) Can(action string) bool {
	for _, a := range w.Actions {
		if a.Name == action {
			return true
		}
	}
	return false
}

// schemaOf compiles a schema. References to others are not followed.
func schemaOf(raw json.RawMessage) (*jsonschema.Schema, error) {
	doc, err := jsonschema.UnmarshalJSON(strings.NewReader(string(raw)))
	if err != nil {
		return nil, err
	}
	c := jsonschema.NewCompiler()
	c.UseLoader(nowhere{})
	if err := c.AddResource("args.json", doc); err != nil {
		return nil, err
	}
	return c.Compile("args.json")
}

type nowhere struct{}

func (nowhere) Load(url string) (any, error) {
	return nil, fmt.Errorf("%s is not looked up", url)
}

// Fit is how well a candidate fits, and what it is.
type Fit struct {
	Fit    int    `json:"fit"` // 0 (not at all) to 100
	Model  string `json:"model,omitempty"`
	Serial string `json:"serial,omitempty"`
}

// Follow asks for the facts of a device, until it is gone.
type Follow struct {
	Device string `json:"device"`
}

// Told is a fact that an adapter reports about a device.
type Told struct {
	Device string          `json:"device"`
	Key    string          `json:"key"`
	Value  json.RawMessage `json:"value"`
}

// Act asks for an action. The adapter answers with a result, or an error whose data is a [Refused].
type Act struct {
	Job      string `json:"job"`
	Device   string `json:"device"`
	Action   string `json:"action"`
	Args     any    `json:"args"`
	Deadline int    `json:"deadline"` // seconds, after which an adapter that says nothing is ended
}

// Refused is the data of an error.
type Refused struct {
	Kind   string `json:"kind"` // blocked, gone, refused or failed
	Gate   string `json:"gate,omitempty"`
	Remedy string `json:"remedy,omitempty"`
	Done   string `json:"done,omitempty"` // what was done all the same
}

// kinds of errors.
var kinds = map[string]problem.Kind{"blocked": problem.Blocked, "gone": problem.Gone, "refused": problem.Refused, "failed": problem.Failed}

// Stop asks an action to end.
type Stop struct {
	Job string `json:"job"`
}

// Progress is a sign of life of an action.
type Progress struct {
	Job  string `json:"job"`
	Text string `json:"text,omitempty"`
}

// Ask asks a person, until the adapter reports that a fact has changed.
type Ask struct {
	Job  string `json:"job"`
	Text string `json:"text"`
	Fact string `json:"fact"`
}

// Line is a line of a log.
type Line struct {
	Job   string `json:"job"`
	Seq   uint64 `json:"seq"`
	App   string `json:"app,omitempty"`
	Level string `json:"level,omitempty"` // info or error
	Text  string `json:"text"`
	Ended *Ended `json:"ended,omitempty"`
}

// Ended is how an app ended.
type Ended struct {
	Code   int    `json:"code"`
	Reason string `json:"reason"`
}

// Install is the arguments of [ActAppInstall]: Dir is in the directory given, and holds app.json and files/.
type Install struct {
	ID      string `json:"id"`
	Version string `json:"version"`
	Digest  string `json:"digest"`
	Name    string `json:"name"`
	Dir     string `json:"dir"`
	Entry   string `json:"entry"`
}

// AppRef names an app.
type AppRef struct {
	ID string `json:"id"`
}

// LogArgs is the arguments of [ActLog].
type LogArgs struct {
	After uint64 `json:"after"`
}

// PortArgs is the arguments of [ActPort].
type PortArgs struct {
	Name string `json:"name"`
}

// FindArgs is the arguments of [ActFind].
type FindArgs struct {
	Handle string `json:"handle"`
}

// Socket is the result of actions that open a byte stream: a port on the loopback interface, on which
// whoever connects first sends the key and a line feed.
type Socket struct {
	Port int    `json:"port"`
	Key  string `json:"key"`
}

// Started is the result of [ActAppStart]: the log of this start follows a line.
type Started struct {
	After uint64 `json:"after"`
}
