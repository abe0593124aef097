package statements

import (
	"context"
	"fmt"
	"slices"

	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/core/statement"
	"earlybench.invalid/earlybench/internal/keeper"
)

// argsAllow are the arguments of a job.
type argsAllow struct {
	App     string `json:"app"`
	Device  string `json:"device"` // id
	Replace bool   `json:"replace,omitempty"`
	Build   *Build `json:"build,omitempty"`
}

// Build is how an app is signed, and for which devices, where that is not as its project says.
type Build struct {
	Key      string   `json:"key"` // thumbprint
	Signed   bool     `json:"signed"`
	Any      bool     `json:"any"`
	Debug    bool     `json:"debug"`
	Features []string `json:"features,omitempty"`
}

// Allow starts the job that puts on a device what an app needs to run there: a statement of this
// bench that covers it, or one that the authority is asked for.
func (s *Statements) Allow(ctx context.Context, handle, app string, build *Build, replace bool, actor string) (job.Job, error) {
	k, err := s.cfg.Rack.Find(handle)
	if err != nil {
		return job.Job{}, err
	}
	w := s.startOf(k, app, build)
	kind := kindFor(k, w.Signed)
	if kind == "" {
		return job.Job{}, problem.Errorf(problem.Invalid, "%s needs neither a grant nor a debug token for %s", handle, app)
	}
	if kind == statement.Grant && !w.Signed {
		return job.Job{}, &problem.Problem{Kind: problem.Blocked, Gate: "granted", Text: fmt.Sprintf("%s only runs apps signed with a signing identity, and %s is signed with a bare key.", handle, app),
			Remedy: signRemedy}
	}
	if err := s.cfg.Outlook().Reachable(k); err != nil {
		return job.Job{}, err
	}
	return s.cfg.Jobs.Start(ctx, job.New{Kind: KindAllow, Title: fmt.Sprintf("Put a %s for %s on %s", kind.Noun(), app, handle), Device: handle, Subjects: []string{"device/" + k.Device().ID},
		Actor: actor, Args: argsAllow{app, k.Device().ID, replace, build}, Phases: []string{"issue", "put"}})
}

func (s *Statements) allow(ctx context.Context, run *job.Run) (any, error) {
	var a argsAllow
	if err := run.Args(&a); err != nil {
		return nil, err
	}
	k := s.cfg.Rack.ByID(a.Device)
	if k == nil {
		return nil, problem.New(problem.NotFound, "the device is no longer on record")
	}
	run.Phase("issue", 0)
	st, err := s.have(ctx, k, a.App, a.Build)
	if err != nil {
		return nil, err
	}
	run.Phase("put", 0)
	row := s.putOn(ctx, a.Device, st, a.Replace)
	table := Table{Statement: st.ID, Rows: []Row{row}}
	if ctx.Err() != nil {
		return table, context.Cause(ctx)
	}
	if row.Error != nil {
		return table, row.Error
	}
	return table, nil
}

// startOf is an app's start on a device, as one of its builds is signed.
func (s *Statements) startOf(k *keeper.Keeper, app string, build *Build) statement.Start {
	w := s.start(k, app)
	if build != nil {
		w.Developer, w.Signed, w.Features, w.Debug = build.Key, build.Signed, build.Features, build.Debug
	}
	return w
}

// have returns a statement of this bench that covers an app on a device, or has one issued.
func (s *Statements) have(ctx context.Context, k *keeper.Keeper, app string, build *Build) (Statement, error) {
	w := s.startOf(k, app, build)
	w.At = s.cfg.Clock.Now() // the device's clock does not make a new one better
	kind := kindFor(k, w.Signed)
	all := s.All()
	slices.Reverse(all) // the one that lasts longest
	for _, st := range all {
		if st.Kind == kind && st.Cover(w) == nil && !s.endsSoon(st) {
			return st, nil
		}
	}
	ask := Ask{Kind: kind, Key: w.Developer, Devices: s.alike(k), Debug: build == nil || build.Debug, Features: w.Features}
	if build != nil && build.Any {
		ask.Any, ask.Devices = true, nil
	}
	return s.Issue(ctx, ask)
}

// endsSoon reports whether a statement ends so soon that it would be renewed.
func (s *Statements) endsSoon(st Statement) bool { return !s.cfg.Clock.Now().Before(due(st.Statement)) }

// alike are the registered devices of the rack of the same family, so that one statement does for
// all of them.
func (s *Statements) alike(k *keeper.Keeper) []string {
	in, out := s.cfg.Registered(), []string{k.Device().Handle}
	for _, other := range s.cfg.Rack.All() {
		d := other.Device()
		if other != k && d.Serial != "" && d.Retirement == nil && other.Series().Family == k.Series().Family && in[d.Serial] {
			out = append(out, d.Handle)
		}
	}
	return out
}
