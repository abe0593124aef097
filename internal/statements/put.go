package statements

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/core/plain"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/core/statement"
	"earlybench.invalid/earlybench/internal/facts"
	"earlybench.invalid/earlybench/internal/keeper"
)

// Kinds of jobs.
const (
	KindPut   = "statement.put"   // one statement on several devices
	KindAllow = "statement.allow" // whatever an app needs on a device
)

const (
	putAtOnce = 32               // devices that are worked on side by side
	putWithin = 20 * time.Second // for one device
)

// PutAsk is a statement that is to be put on devices.
type PutAsk struct {
	ID      string
	Devices []string // handles
	// Replace lets it take the place of another developer's where a device holds only one.
	Replace bool
	Actor   string
}

// argsPut are the arguments of a job.
type argsPut struct {
	Text    string   `json:"text"`
	Devices []string `json:"devices"` // ids
	Replace bool     `json:"replace,omitempty"`
}

// Outcome is what has become of a statement on a device.
type Outcome string

// The outcomes.
const (
	Put      Outcome = "put"
	Already  Outcome = "already there"
	Replaced Outcome = "replaced" // another developer's
	Asks     Outcome = "asks"     // another developer's is there, and nobody has said to replace it
	Refuses  Outcome = "refused"
)

// Row is what has become of it on one device.
type Row struct {
	Device  string           `json:"device"`
	Outcome Outcome          `json:"outcome"`
	Text    string           `json:"text,omitempty"` // why not, or whose was replaced
	Error   *problem.Problem `json:"error,omitempty"`
}

// Failed reports whether it is not on the device.
func (r Row) Failed() bool { return r.Outcome == Refuses || r.Outcome == Asks }

// Table is the result of a job: a row for each device.
type Table struct {
	Statement string `json:"statement"`
	Rows      []Row  `json:"rows"`
}

// TableOf reads the result of a job back from its record.
func TableOf(v any) (Table, bool) {
	if t, ok := v.(Table); ok {
		return t, true
	}
	if v == nil {
		return Table{}, false
	}
	raw, err := json.Marshal(v)
	var t Table
	return t, err == nil && json.Unmarshal(raw, &t) == nil && t.Statement != ""
}

// Start starts the job that puts a statement on devices.
func (s *Statements) Start(ctx context.Context, ask PutAsk) (job.Job, error) {
	st, err := s.Find(ask.ID)
	if err != nil {
		return job.Job{}, err
	}
	if len(ask.Devices) == 0 {
		return job.Job{}, problem.New(problem.Invalid, "name a device: nothing is sent to a device that was not named")
	}
	args := argsPut{Text: st.Text, Replace: ask.Replace}
	var subjects []string
	for _, h := range ask.Devices {
		k, err := s.cfg.Rack.Find(h)
		if err != nil {
			return job.Job{}, err
		}
		id := k.Device().ID
		if slices.Contains(args.Devices, id) {
			return job.Job{}, problem.Errorf(problem.Invalid, "device %s is named twice", h)
		}
		args.Devices, subjects = append(args.Devices, id), append(subjects, "device/"+id)
	}
	title := fmt.Sprintf("Put a %s on %d devices", st.Kind.Noun(), len(args.Devices))
	if len(args.Devices) == 1 {
		title = fmt.Sprintf("Put a %s on %s", st.Kind.Noun(), ask.Devices[0])
	}
	return s.cfg.Jobs.Start(ctx, job.New{Kind: KindPut, Title: title, Subjects: subjects, Actor: ask.Actor, Args: args, Phases: []string{"put"}})
}

// put is the job. Each device is worked on by itself; once more does no harm.
func (s *Statements) put(ctx context.Context, run *job.Run) (any, error) {
	var a argsPut
	if err := run.Args(&a); err != nil {
		return nil, err
	}
	st, err := s.check(a.Text)
	if err != nil {
		return nil, err
	}
	run.Phase("put", 0)
	table := Table{Statement: st.ID, Rows: make([]Row, len(a.Devices))}
	var mu sync.Mutex
	done := 0
	var group errgroup.Group
	group.SetLimit(putAtOnce)
	for i, id := range a.Devices {
		group.Go(func() error {
			table.Rows[i] = s.putOn(ctx, id, st, a.Replace)
			mu.Lock()
			defer mu.Unlock()
			done++
			run.Note(fmt.Sprintf("%d of %d", done, len(a.Devices)))
			return nil
		})
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	if ctx.Err() != nil {
		return table, context.Cause(ctx)
	}
	failed := 0
	for _, r := range table.Rows {
		if r.Failed() {
			failed++
		}
	}
	switch {
	case failed == 0:
		return table, nil
	case len(table.Rows) == 1 && table.Rows[0].Error != nil:
		return table, table.Rows[0].Error
	}
	return table, problem.Errorf(problem.Failed, "it is not on %d of %d devices", failed, len(table.Rows))
}

// word is by which commands name a kind.
func word(k statement.Kind) string {
	if k == statement.Grant {
		return "grant"
	}
	return "token"
}

// putOn puts a statement on one device.
func (s *Statements) putOn(ctx context.Context, id string, st Statement, replace bool) Row {
	k := s.cfg.Rack.ByID(id)
	if k == nil {
		return Row{Device: id, Outcome: Refuses, Error: problem.Of(problem.New(problem.NotFound, "it is no longer on record"))}
	}
	row := Row{Device: k.Device().Handle}
	refuse := func(p *problem.Problem) Row {
		row.Outcome, row.Text, row.Error = Refuses, p.Text, p
		return row
	}
	if !st.Names(k.Device().Serial) { // before anything is sent
		return refuse(&problem.Problem{Kind: problem.Refused, Text: fmt.Sprintf("The %s does not name %s, whose serial is %s.", st.Kind.Noun(), row.Device, k.Device().Serial), Remedy: "Get one that names it: earlybench token new --devices " + row.Device})
	}
	ctx, cancel := context.WithTimeout(ctx, putWithin)
	defer cancel()
	on, held, err := s.reach(ctx, k)
	if err != nil {
		return refuse(problem.Of(err))
	}
	mine := func(h *statement.Statement) bool {
		return h.Kind != st.Kind || h.Confirmation == st.Confirmation
	}
	others := slices.IndexFunc(held, func(h *statement.Statement) bool { return !mine(h) })
	switch {
	case slices.ContainsFunc(held, func(h *statement.Statement) bool { return h.Text == st.Text }):
		row.Outcome = Already
		return row
	case others >= 0 && !replace && st.Kind == statement.DebugToken:
		row.Outcome, row.Text = Asks, fmt.Sprintf("the %s of %s is on it", st.Kind.Noun(), held[others].Subject)
		row.Error = &problem.Problem{Kind: problem.Person, Gate: "token", Text: plain.Capital(row.Text) + ".", Remedy: fmt.Sprintf("Ask them before you replace it. Then: earlybench %s put %s %s --replace, or on its page.", word(st.Kind), st.ID[:8], row.Device)}
		return row
	}
	if err := on.Put(ctx, st.Text); err != nil {
		return refuse(s.whyNot(ctx, k, err))
	}
	row.Outcome = Put
	now, err := on.List(ctx)
	if err != nil || !slices.Contains(now, st.Text) {
		return refuse(s.whyNot(ctx, k, cmp.Or(err, errors.New("the device accepted it, but does not have it"))))
	}
	s.saw(ctx, k, now)
	if others >= 0 && !slices.Contains(now, held[others].Text) {
		row.Outcome, row.Text = Replaced, "that of "+held[others].Subject
	}
	return row
}

// reach reaches a device's statements, and reads those that are there.
func (s *Statements) reach(ctx context.Context, k *keeper.Keeper) (device.Statements, []*statement.Statement, error) {
	session, err := s.cfg.Outlook().Session(ctx, k)
	if err != nil {
		return nil, nil, err
	}
	on, err := session.Statements()
	if err != nil {
		return nil, nil, err
	}
	texts, err := on.List(ctx)
	if err != nil {
		return nil, nil, s.whyNot(ctx, k, err)
	}
	texts = bounded(texts)
	s.saw(ctx, k, texts)
	var out []*statement.Statement
	for _, text := range texts {
		if st, err := s.check(text); err == nil {
			out = append(out, st.Statement)
		}
	}
	return on, out, nil
}

// saw records which statements a device has said to hold.
func (s *Statements) saw(ctx context.Context, k *keeper.Keeper, texts []string) {
	f := fact.Fact{Key: fact.Statements, Value: fact.Of(append([]string{}, bounded(texts)...)), Source: fact.Device, At: s.cfg.Clock.Now()}
	if err := s.cfg.Book.Observe(ctx, facts.Subject{Kind: facts.Device, ID: k.Device().ID}, f); err != nil && ctx.Err() == nil {
		s.cfg.Log.Error("record what a device holds", "device", k.Device().Handle, "error", err)
	}
}

// whyNot is why a device did not take a statement.
func (s *Statements) whyNot(ctx context.Context, k *keeper.Keeper, err error) *problem.Problem {
	h := k.Device().Handle
	r, refused := errors.AsType[*device.Refusal](err)
	switch {
	case refused && r.Kind == device.Sleeps:
		return &problem.Problem{Kind: problem.Blocked, Gate: "awake", Text: h + " is asleep.", Remedy: "Wake it, then repeat this."}
	case refused:
		return &problem.Problem{Kind: problem.Refused, Text: fmt.Sprintf("%s refuses it: %s.", h, r.Text), Remedy: "See earlybench why " + h}
	case errors.Is(err, device.ErrEnded) || errors.Is(err, device.ErrNotAdmitted):
		return &problem.Problem{Kind: problem.Gone, Text: fmt.Sprintf("The link to %s ended in the meantime.", h), Remedy: "Connect it again, then repeat this."}
	case ctx.Err() != nil:
		return &problem.Problem{Kind: problem.Unavailable, Text: fmt.Sprintf("%s did not answer within %s.", h, putWithin), Remedy: "To find out why: earlybench why " + h}
	}
	return problem.Of(fmt.Errorf("put it on %s: %w", h, err))
}

// TakeOff takes a statement off a device, by its id.
func (s *Statements) TakeOff(ctx context.Context, handle, id string) error {
	k, err := s.cfg.Rack.Find(handle)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, putWithin)
	defer cancel()
	on, held, err := s.reach(ctx, k)
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(held, func(h *statement.Statement) bool { return h.ID == id }) {
		return problem.Errorf(problem.NotFound, "%s has no grant or debug token %.60s", handle, id)
	}
	if err := on.Drop(ctx, id); err != nil {
		return s.whyNot(ctx, k, err)
	}
	left, err := on.List(ctx)
	if err != nil {
		return s.whyNot(ctx, k, err)
	}
	s.saw(ctx, k, left)
	return nil
}

// TakeAllOff takes all grants and debug tokens off a device that is retired, and looks whether none
// is left. A statement is forgotten by the bench, too, if it names that device alone.
func (s *Statements) TakeAllOff(ctx context.Context, k *keeper.Keeper) error {
	on, held, err := s.reach(ctx, k)
	if errors.Is(err, errors.ErrUnsupported) {
		return nil
	}
	if err != nil {
		return err
	}
	for _, h := range held {
		if err := on.Drop(ctx, h.ID); err != nil {
			return s.whyNot(ctx, k, err)
		}
	}
	left, err := on.List(ctx)
	if err != nil {
		return s.whyNot(ctx, k, err)
	}
	s.saw(ctx, k, left)
	if len(left) > 0 {
		return problem.Errorf(problem.Failed, "%[2]s still has %[1]d grants or debug tokens", len(left), k.Device().Handle)
	}
	for _, st := range s.All() {
		if len(st.Devices) != 1 || st.Devices[0] != k.Device().Serial {
			continue
		}
		if err := s.cfg.Store.DropStatement(ctx, st.ID); err != nil && problem.KindOf(err) != problem.NotFound {
			return err
		}
	}
	return s.again(ctx)
}
