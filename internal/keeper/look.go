package keeper

import (
	"context"
	"errors"
	"os/exec"
	"path/filepath"
	"slices"
	"time"

	"golang.org/x/crypto/ssh"

	"earlybench.invalid/earlybench/core/appfile"
	"earlybench.invalid/earlybench/core/cause"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/core/link"
	"earlybench.invalid/earlybench/core/ready"
	"earlybench.invalid/earlybench/core/sheet"
	"earlybench.invalid/earlybench/internal/store"
)

// Standing is all that is known of a device at one moment.
type Standing struct {
	Device    store.Device
	Sheet     *sheet.Sheet
	Readiness ready.Readiness
	Why       cause.Explanation
	Question  cause.Question // that Why answers
	View      fact.View
	At        *Attachment
	Apps      []link.App
	Linked    bool
	Working   string
	Revision  int
	Words     map[string]string
	Offered   *store.DriverSet
	Now       time.Time
}

// subject is whom the readiness is of. The lock is held.
func (k *Keeper) subject(app string, needs fact.Release) ready.Subject {
	s := ready.Subject{Busy: k.working != "", Attributes: sheet.Attributes{Family: k.series.Family, Maker: k.series.Maker,
		Code: k.series.Model.Code, App: app, Needs: needs}}
	if k.at != nil {
		s.Attributes.Host = k.at.Host.Name
		s.Attributes.Shared = k.rack.shared(k.at.Host.Name)
	}
	return s
}

// Look computes how the device stands now, and why; with an app, for that too.
func (k *Keeper) Look(ctx context.Context, app string) Standing {
	s := k.stand(ctx, app)
	s.Why = cause.Explain(s.Question)
	return s
}

// Glance is Look without causes: of why it has only what is wrong, in a sentence.
func (k *Keeper) Glance(ctx context.Context, app string) Standing {
	s := k.stand(ctx, app)
	s.Why = cause.Say(s.Question)
	return s
}

func (k *Keeper) stand(ctx context.Context, app string) Standing {
	var needs fact.Release
	var ofApp []fact.Fact
	if app != "" {
		needs, ofApp = k.rack.appFacts(ctx, app)
	}
	k.mu.Lock()
	s := Standing{Device: k.device, View: k.view, At: k.at, Apps: slices.Clone(k.apps), Linked: k.linked != nil,
		Working: k.working, Revision: k.revision, Now: k.rack.cfg.Clock.Now()}
	s.Sheet = k.sheet(s.Now)
	subject := k.subject(app, needs)
	learned := k.rack.learned(s.Sheet.Family, k.host)
	k.mu.Unlock()
	s.Offered = k.rack.fitting(s.Device.USB)
	if app != "" {
		s.View = s.View.With(append(ofApp, k.triedFacts(ctx, s, app)...)...)
	}
	s.Words = k.words(s)
	s.Readiness = ready.Evaluate(s.Sheet, subject, s.View, s.Now)
	s.Question = cause.Question{Sheet: s.Sheet, Subject: subject, Readiness: &s.Readiness, View: s.View, Now: s.Now, Words: s.Words, Learned: learned}
	return s
}

// triedFacts are what was seen of an app on the device, in tryouts on record
// and in its list of apps.
func (k *Keeper) triedFacts(ctx context.Context, s Standing, app string) []fact.Fact {
	var out []fact.Fact
	if t, err := k.rack.cfg.Store.LastTryout(ctx, s.Device.ID, app); err == nil {
		out = append(out, fact.Fact{Key: fact.AppTried, Value: fact.Of(t.Passed), Source: fact.Device, At: t.Created})
		if t.Ended != "" {
			out = append(out, fact.Fact{Key: fact.AppFailed, Value: fact.Of(t.Ended), Source: fact.Device, At: t.Created})
		}
	}
	for _, a := range s.Apps {
		if a.ID == app {
			out = append(out, fact.Fact{Key: fact.AppInstalled, Value: fact.Of(a.Digest), Source: fact.Device, At: s.Now})
		}
	}
	return out
}

// appFacts looks at an app's project on this computer: the least release that
// it runs on, and whether the kit that builds it is here.
func (r *Rack) appFacts(ctx context.Context, app string) (needs fact.Release, facts []fact.Fact) {
	on, err := r.cfg.Store.Project(ctx, app)
	if err != nil {
		return "", nil
	}
	p, err := appfile.ReadProject(on.Dir)
	if err != nil {
		return "", nil
	}
	state := "here"
	program := p.Build.Command[0]
	if _, err := exec.LookPath(program); errors.Is(err, exec.ErrNotFound) {
		if state = "missing"; elsewhere(program) {
			state = "path"
		}
	}
	now := r.cfg.Clock.Now()
	return fact.Release(p.Minimum), []fact.Fact{
		{Key: fact.KitState, Value: fact.Of(state), Source: fact.Host, At: now},
		{Key: fact.KitName, Value: fact.Of(program), Source: fact.Host, At: now}}
}

// elsewhere tells whether a program lies where kits are often put, though not on
// the search path.
func elsewhere(program string) bool {
	for _, pattern := range []string{"/opt/*/bin/", "/usr/local/*/bin/", "/usr/lib/*/bin/"} {
		if found, _ := filepath.Glob(pattern + program); len(found) > 0 {
			return true
		}
	}
	return false
}

// words are the sheet's in the device's language, and what only this device
// knows, for the sheet's texts.
func (k *Keeper) words(s Standing) map[string]string {
	language, _ := s.View.Get(fact.Language, s.Now)
	w := s.Sheet.Words(language.Value.Text())
	w["handle"], w["bench"], w["set"] = s.Device.Handle, k.rack.cfg.Bench, "(none here fits)"
	if s.Device.ID == unseenID {
		w["handle"] = "the device"
	}
	w["fingerprint"] = ssh.FingerprintSHA256(k.rack.cfg.Key.PublicKey())
	if s.Offered != nil {
		w["set"] = s.Offered.Manifest.Name + " " + s.Offered.Manifest.Version
	}
	if f, ok := s.View.Get(fact.USBHolder, s.Now); ok {
		w["holder"] = f.Value.String()
	}
	if f, ok := s.View.Get(fact.LinkTrouble, s.Now); ok {
		w["trouble"] = f.Value.String()
	}
	return w
}

// Fill puts the device's words into a text of its sheet.
func (s Standing) Fill(text string) string { return sheet.Fill(text, s.Words) }

// Trouble tells whether the last attempt to link failed.
func (s Standing) Trouble() bool {
	_, ok := s.View.Get(fact.LinkTrouble, s.Now)
	return ok
}

// Blocked is the problem of work that cannot begin because a gate is not open.
func (s Standing) Blocked() *job.Problem {
	return &job.Problem{Kind: job.Blocked, Gate: s.Why.Gate, Text: s.Why.Text, Remedy: plain(s.Why.Remedy)}
}

// Sheet is the sheet that a device goes by.
func (k *Keeper) Sheet() *sheet.Sheet {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.sheet(k.rack.cfg.Clock.Now())
}
