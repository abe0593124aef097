package belong

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	core "earlybench.invalid/earlybench/core/authority"
	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/authority"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/outside"
	"earlybench.invalid/earlybench/internal/store"
)

// KindRegister is the kind of job that registers devices.
const KindRegister = "devices.register"

// atOnce is how many requests run side by side.
const atOnce = 8

// Registered is an entry of the register, with the device of the rack that it is about.
type Registered struct {
	core.Entry
	Handle string // "" for a device that this bench does not know
}

// Register is the register of the used account's crew as it was read last.
type Register struct {
	Authority, Account string
	Crew               core.Crew
	Entries            []Registered // those seen longest ago first
	Missing            []string     // handles of the rack's devices that are not in it
	Read               bool         // it was read at all
}

// Full reports whether no place is free.
func (r Register) Full() bool { return r.Read && len(r.Entries) >= r.Crew.Standing.Places }

// TheRegister returns the register.
func (b *Belong) TheRegister() (Register, error) {
	a, err := b.Used()
	if err != nil {
		return Register{}, err
	}
	r := Register{Authority: a.Authority, Account: a.ID}
	if c := crewOf(a, a.Crew); c != nil {
		r.Crew = *c
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	r.Read = b.entries != nil
	handles := map[string]string{}
	for _, k := range b.cfg.Rack.All() {
		d := k.Device()
		handles[d.Serial] = d.Handle
		if _, in := b.entries[d.Serial]; r.Read && !in && b.wants(k) {
			r.Missing = append(r.Missing, d.Handle)
		}
	}
	for _, e := range b.entries {
		r.Entries = append(r.Entries, Registered{e, handles[e.Serial]})
	}
	r.Crew.Used = len(b.entries)
	slices.Sort(r.Missing)
	slices.SortFunc(r.Entries, func(x, y Registered) int { return cmp.Or(x.Seen.Compare(y.Seen), cmp.Compare(x.Serial, y.Serial)) })
	return r, nil
}

// Serials are those in the register, as it was read last; nil before that.
func (b *Belong) Serials() map[string]bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.entries == nil {
		return nil
	}
	out := make(map[string]bool, len(b.entries))
	for serial := range b.entries {
		out[serial] = true
	}
	return out
}

// wants reports whether a device of the rack belongs into the register: its sheet says so, and
// its serial was read from it.
func (b *Belong) wants(k *keeper.Keeper) bool {
	d := k.Device()
	return d.Serial != "" && d.Retirement == nil && k.Series().Needs("registered")
}

// Ask is what is to be registered.
type Ask struct {
	Devices []string // handles; none with All
	All     bool     // all of the rack that are not registered
	// Others are devices out of reach, by serial and model.
	Others []Other
	Actor  string
}

// Other is a device that this bench does not reach.
type Other struct {
	Serial string `json:"serial"`
	Model  string `json:"model"`
}

// Start starts the job that registers devices. A device that is registered stays so.
func (b *Belong) Start(ctx context.Context, ask Ask) (job.Job, error) {
	a, err := b.Used()
	if err != nil {
		return job.Job{}, err
	}
	wanted := slices.Clone(ask.Others)
	for _, o := range wanted {
		if err := core.CheckSerial(o.Serial); err != nil {
			return job.Job{}, problem.Errorf(problem.Invalid, "%w", err)
		}
	}
	for _, h := range ask.Devices {
		k, err := b.cfg.Rack.Find(h)
		if err != nil {
			return job.Job{}, err
		}
		d := k.Device()
		if d.Serial == "" {
			return job.Job{}, problem.Errorf(problem.Invalid, "the serial of %s is not known yet: connect it first", h)
		}
		wanted = append(wanted, Other{d.Serial, d.Code})
	}
	if ask.All {
		for _, k := range b.cfg.Rack.All() {
			if d := k.Device(); b.wants(k) && b.registerState(a, d.Serial) != "in" {
				wanted = append(wanted, Other{d.Serial, d.Code})
			}
		}
	}
	if len(wanted) == 0 {
		return job.Job{}, problem.Errorf(problem.Invalid, "nothing to register: every device on the rack that should be registered already is")
	}
	title := fmt.Sprintf("Register %d devices with %s", len(wanted), a.Crew)
	if len(wanted) == 1 {
		title = fmt.Sprintf("Register %s with %s", wanted[0].Serial, a.Crew)
	}
	return b.cfg.Jobs.Start(ctx, job.New{Kind: KindRegister, Title: title, Subjects: []string{"crew/" + a.Crew}, Actor: ask.Actor, Args: wanted, Phases: []string{"register"}})
}

// Outcome is the result of a registration.
type Outcome struct {
	Crew       string   `json:"crew"`
	Registered int      `json:"registered"` // are in the register now
	Left       []string `json:"left"`       // serials for which there was no place
}

// register registers the devices of a job. Each request does the same twice as once, so that a
// job that was cut begins again.
func (b *Belong) register(ctx context.Context, run *job.Run) (any, error) {
	var wanted []Other
	if err := run.Args(&wanted); err != nil {
		return nil, err
	}
	a, err := b.Used()
	if err != nil {
		return nil, err
	}
	run.Phase("register", 0)
	out := Outcome{Crew: a.Crew, Left: []string{}}
	var mu sync.Mutex
	group, each := errgroup.WithContext(ctx)
	group.SetLimit(atOnce)
	for _, o := range wanted {
		group.Go(func() error {
			err := b.registerOne(each, a, o, func(err error) { run.Note(err.Error() + "; trying again") })
			mu.Lock()
			defer mu.Unlock()
			if isFull(err) {
				out.Left, err = append(out.Left, o.Serial), nil
			} else if err == nil {
				out.Registered++
			}
			run.Note(fmt.Sprintf("%d of %d", out.Registered+len(out.Left), len(wanted)))
			return err
		})
	}
	err = group.Wait()
	if read := b.lookAs(context.WithoutCancel(ctx), a); read != nil && err == nil {
		err = read
	}
	b.observe(context.WithoutCancel(ctx))
	if err != nil {
		return out, b.failed(ctx, a, err)
	}
	if len(out.Left) > 0 {
		slices.Sort(out.Left)
		return out, b.fullProblem(a, len(out.Left))
	}
	return out, nil
}

// tryWithin is for how long one device is tried while the authority is busy or does not answer.
const tryWithin = 5 * time.Minute

// registerOne registers one device. waits is called while it waits for the authority.
func (b *Belong) registerOne(ctx context.Context, a store.Account, o Other, waits func(error)) error {
	ctx, cancel := context.WithTimeout(ctx, tryWithin)
	defer cancel()
	for {
		_, err := b.cfg.Authorities.Register(ctx, a, o.Serial, o.Model)
		if err == nil || !passes(err) || ctx.Err() != nil {
			return err
		}
		waits(err)
	}
}

// passes reports whether the same may succeed later: the authority is busy, or does not answer.
func passes(err error) bool {
	busy, ok := errors.AsType[*outside.StatusError](err)
	return ok && busy.Passes() || problem.KindOf(err) == problem.Unavailable
}

func isFull(err error) bool {
	r, ok := errors.AsType[*authority.Refusal](err)
	return ok && r.Type == core.ProblemFull
}

// fullProblem says who is in the register longest unseen.
func (b *Belong) fullProblem(a store.Account, left int) error {
	p := &problem.Problem{Kind: problem.Blocked, Gate: "registered", Text: fmt.Sprintf("The register of %s is full; there was no place for %d.", a.Crew, left),
		Remedy: "Remove a device that has not been seen for long: earlybench register drop SERIAL"}
	if r, err := b.TheRegister(); err == nil && len(r.Entries) > 0 {
		e := r.Entries[0]
		p.Text += fmt.Sprintf(" The least recently seen is %s, on %s.", cmp.Or(e.Handle, e.Serial), e.Seen.Local().Format("2 January 2006"))
		p.Remedy = "Free its place: earlybench register drop \"" + e.Serial + "\". All of them: earlybench register"
	}
	return p
}

// Leave takes a device out of the register, by its handle or serial.
func (b *Belong) Leave(ctx context.Context, name string) error {
	a, err := b.Used()
	if err != nil {
		return err
	}
	serial := name
	if k, err := b.cfg.Rack.Find(name); err == nil {
		serial = k.Device().Serial
	}
	if s := b.registerState(a, serial); s == "out" || s == "full" {
		return problem.Errorf(problem.NotFound, "%.80s is not in the register of %s", name, a.Crew)
	}
	if err := b.cfg.Authorities.Leave(ctx, a, serial); err != nil {
		return b.failed(ctx, a, fmt.Errorf("take %s out of the register: %w", name, err))
	}
	err = b.lookAs(ctx, a)
	b.observe(ctx)
	return err
}

// LeaveFor frees the place of a device that is retired, and reports whether nothing is left to
// be done in the register: also where no account is in use.
func (b *Belong) LeaveFor(ctx context.Context, k *keeper.Keeper) (bool, error) {
	a, err := b.Used()
	d := k.Device()
	if errors.Is(err, ErrNoAccount) || d.Serial == "" {
		return true, nil
	}
	if err != nil {
		return false, err
	}
	if s := b.registerState(a, d.Serial); s == "out" || s == "full" {
		return true, nil
	}
	err = b.Leave(ctx, d.Serial)
	return err == nil, err
}
