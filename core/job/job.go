// Package job runs work that takes time: kinds of work with recorded arguments, phases with
// progress, checkpoints from which an interrupted job continues, and a result that says what
// was and was not done. It contains the record and the runner; a [Keeper] stores the
// records.
package job

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"earlybench.invalid/earlybench/core/problem"
)

// State is the state of a job or phase.
type State string

// The states.
const (
	Waiting     State = "waiting"
	Running     State = "running"
	Done        State = "done"
	Failed      State = "failed"
	Stopped     State = "stopped"     // by a person
	Interrupted State = "interrupted" // the service ended under it, and a person must decide
)

// Ended reports whether a job in this state has ended.
func (s State) Ended() bool { return s != Waiting && s != Running }

// Job is a job's record.
type Job struct {
	ID       string   `json:"id"`
	Kind     string   `json:"kind"`
	Title    string   `json:"title"`
	Device   string   `json:"device,omitempty"`   // handle, as it was
	Subjects []string `json:"subjects,omitempty"` // what it works on, such as device/ID
	Parent   string   `json:"parent,omitempty"`   // id of the job whose part it is
	Actor    string   `json:"actor,omitempty"`    // who began it
	// Reservation is the one under which it works; "" for none.
	Reservation string           `json:"reservation,omitempty"`
	Args        json.RawMessage  `json:"args,omitempty"`
	Kept        json.RawMessage  `json:"checkpoint,omitempty"` // from which it goes on
	Begun       int              `json:"begun"`                // times that it was begun or gone on with
	State       State            `json:"state"`
	Phases      []Phase          `json:"phases"`
	Error       *problem.Problem `json:"error,omitempty"`
	Result      any              `json:"result,omitempty"`
	Created     time.Time        `json:"created"`
	Ended       time.Time        `json:"ended,omitzero"`
}

type reservationKey struct{}

// Reserved returns a context for work that is done under a reservation: on devices that are kept for it.
func Reserved(ctx context.Context, id string) context.Context {
	return context.WithValue(ctx, reservationKey{}, id)
}

// Reservation is the reservation under which work is done; "" for none.
func Reservation(ctx context.Context) string {
	id, _ := ctx.Value(reservationKey{}).(string)
	return id
}

// Phase is one part of a job. Bytes are counted where there are any.
type Phase struct {
	Name  string    `json:"name"`
	State State     `json:"state"`
	Done  int64     `json:"done"`
	Total int64     `json:"total"`
	Note  string    `json:"note,omitempty"`
	Asks  string    `json:"asks,omitempty"` // what it waits for a person to do
	Began time.Time `json:"began,omitzero"`
	Ended time.Time `json:"ended,omitzero"`
}

// A Keeper stores jobs. Save is called at every change, for each job by one goroutine at a
// time and not too often. The record is not changed afterwards.
type Keeper interface {
	Save(ctx context.Context, j Job) error
	// Children returns the jobs that are part of another.
	Children(ctx context.Context, parent string) ([]Job, error)
}

// Kind is a kind of work. A job that was interrupted by the end of the service is run again
// under its id, with the checkpoint that it has kept: Run must allow for that.
type Kind struct {
	Name string
	// Hold reserves what the job works on, before it starts or continues; its error
	// refuses the job. It may be nil.
	Hold func(ctx context.Context, j Job) (release func(), err error)
	// Limit names a resource that the job shares with others, and how many of them may
	// run at once; "" is no limit. It may be nil.
	Limit func(j Job) (name string, most int)
	// Run does the work. Its context ends when the job is stopped or the service
	// ends.
	Run func(ctx context.Context, run *Run) (any, error)
	// Asks says that the job asks a person a question, so that it is never run again
	// automatically.
	Asks bool
}

// New is a job that is to be started.
type New struct {
	Kind     string
	Title    string
	Device   string
	Subjects []string
	Parent   string
	Actor    string
	Args     any
	Phases   []string
}

// Interrupt marks a job that was interrupted by the end of the service and is not
// continued, and says how far it was.
func (j *Job) Interrupt(now time.Time, remedy string) {
	if j.State.Ended() {
		return
	}
	text := "The service ended while this was running."
	for i := range j.Phases {
		p := &j.Phases[i]
		if p.State != Running {
			continue
		}
		p.State, p.Ended = Interrupted, now
		text = fmt.Sprintf("The service ended during the phase %s.", p.Name)
		if p.Total > 0 {
			text = fmt.Sprintf("The service ended during the phase %s, at %d of %d bytes.", p.Name, p.Done, p.Total)
		}
	}
	j.State, j.Ended, j.Error = Interrupted, now, &problem.Problem{Kind: problem.Person, Text: text, Remedy: remedy}
}

func (j Job) copy() Job {
	j.Phases = append([]Phase(nil), j.Phases...)
	return j
}

// ResultOf reads the result of a job of a kind back: the job may be running still, or come from its record.
func ResultOf[T any](j Job, kind string) (result T, ok bool) {
	if j.Kind != kind || j.Result == nil {
		return result, false
	}
	raw, err := json.Marshal(j.Result)
	return result, err == nil && json.Unmarshal(raw, &result) == nil
}
