package belong

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/core/ready"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/store"
)

// Stage is one of the things that come before an app may run on a device.
type Stage struct {
	Name  string // account, crew, identity, app id, register
	State ready.State
	Value string
	Note  string
	Soon  bool // it is open, and ends soon
}

// Stages are how far this bench has come on the way to being allowed to run some apps, in the order in
// which they are passed. The register and the app ids are as they were read last.
func (b *Belong) Stages(ctx context.Context, apps []string) ([]Stage, error) {
	a, err := b.Used()
	if problem.KindOf(err) == problem.Person {
		return b.outside(), nil
	}
	if err != nil {
		return nil, err
	}
	identity, err := b.identityStage(ctx, a)
	if err != nil {
		return nil, err
	}
	account := Stage{"account", ready.Open, a.ID, "signed in at " + a.Authority, false}
	crew := Stage{"crew", ready.Open, a.Crew, "", false}
	if c := crewOf(a, a.Crew); c != nil {
		crew.Note = fmt.Sprintf("%s: grants last %d days", c.Standing.Name, c.Standing.GrantDays)
	}
	register, err := b.registerStage()
	return []Stage{account, crew, identity, b.appStage(a, apps), register}, err
}

// outside are the stages without an account.
func (b *Belong) outside() []Stage {
	account := Stage{"account", ready.Shut, "none", "sign in at an authority", false}
	if out := b.Accounts(); len(out) > 0 {
		account = Stage{"account", ready.Shut, out[0].ID, "signed out", false}
	}
	stages := []Stage{account}
	for _, name := range []string{"crew", "identity", "app id", "register"} {
		stages = append(stages, Stage{name, ready.Unknown, "not known", "it comes with an account", false})
	}
	return stages
}

func (b *Belong) identityStage(ctx context.Context, a store.Account) (Stage, error) {
	s := Stage{Name: "identity", State: ready.NotNeeded, Value: "none", Note: "no device here wants one"}
	if slices.ContainsFunc(b.cfg.Rack.All(), func(k *keeper.Keeper) bool { return k.Device().Retirement == nil && k.Series().Needs("granted") }) {
		s.State, s.Note = ready.Shut, "make one: grants are for signed apps"
	}
	all, err := b.Identities(ctx)
	if err != nil {
		return s, err
	}
	now, ends := b.cfg.Clock.Now(), time.Time{}
	for _, i := range all { // the one that lasts longest
		if i.Elsewhere || i.Crew != a.Crew || !i.Revoked.IsZero() || !now.Before(i.Ends) || !i.Ends.After(ends) {
			continue
		}
		ends = i.Ends
		s.State, s.Value, s.Note, s.Soon = ready.Open, i.Name, "ends "+ends.Local().Format("2 January 2006"), !now.Before(ends.Add(-noticeOf))
	}
	return s, nil
}

func (b *Belong) appStage(a store.Account, apps []string) Stage {
	s := Stage{Name: "app id", State: ready.Unknown, Value: "none yet", Note: "a project names its app"}
	taken := map[string]bool{}
	for _, app := range b.Apps() {
		taken[app.ID] = true
	}
	var ours, open []string
	for _, app := range apps {
		if strings.HasPrefix(app, a.Crew+"/") {
			ours = append(ours, app)
			if !taken[app] {
				open = append(open, app)
			}
		}
	}
	switch {
	case len(open) > 0:
		s.Value, s.Note = open[0], "not taken for the crew yet" // it stops nothing, until another crew has it
	case len(ours) == 1:
		s.State, s.Value, s.Note = ready.Open, ours[0], "your crew's"
	case len(ours) > 1:
		s.State, s.Value, s.Note = ready.Open, fmt.Sprintf("%d apps", len(ours)), "all are your crew's"
	case len(apps) > 0:
		s.State, s.Value, s.Note = ready.Shut, apps[0], "not one of the crew "+a.Crew
	}
	return s
}

func (b *Belong) registerStage() (Stage, error) {
	s := Stage{Name: "register", State: ready.Unknown, Value: "not read yet"}
	r, err := b.TheRegister()
	if err != nil || !r.Read {
		return s, err
	}
	wanted := 0
	for _, k := range b.cfg.Rack.All() {
		if b.wants(k) {
			wanted++
		}
	}
	s.State, s.Value, s.Note = ready.Open, fmt.Sprintf("%d of %d", wanted-len(r.Missing), wanted), "devices of the rack"
	switch {
	case wanted == 0:
		s.State, s.Note = ready.NotNeeded, "no device here wants it"
	case len(r.Missing) > 0 && r.Full():
		s.State, s.Note = ready.Shut, "the register is full"
	case len(r.Missing) > 0:
		s.State, s.Note = ready.Shut, fmt.Sprintf("%d on the rack %s not in", len(r.Missing), map[bool]string{true: "is", false: "are"}[len(r.Missing) == 1])
	}
	return s, nil
}
