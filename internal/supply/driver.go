package supply

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"time"

	"earlybench.invalid/earlybench/core/depot"
	"earlybench.invalid/earlybench/core/driver"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/bus/udev"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/store"
)

// bindWithin is how long a host may take to bind the driver; hostWithin is how long a
// resumed job waits for the host.
const (
	bindWithin = 20 * time.Second
	hostWithin = 2 * time.Minute
)

// KindInstall is the kind of job that installs a driver set.
const KindInstall = "driver.install"

// Add stores the file of a driver set.
func (s *Supply) Add(ctx context.Context, raw []byte) (store.DriverSet, error) {
	set, err := driver.Open(bytes.NewReader(raw), int64(len(raw)))
	if err != nil {
		return store.DriverSet{}, problem.Errorf(problem.Invalid, "the driver set was refused: %w", err)
	}
	digest, _, err := s.Files.Put(bytes.NewReader(raw))
	if err != nil {
		return store.DriverSet{}, err
	}
	d := set.Held(digest)
	return d, s.keepSet(ctx, d)
}

func (s *Supply) keepSet(ctx context.Context, d store.DriverSet) error {
	if err := s.Store.SaveDriverSet(ctx, d); err != nil {
		return fmt.Errorf("keep the driver set: %w", err)
	}
	if err := s.readSets(ctx); err != nil {
		return err
	}
	s.Changed(ctx)
	return nil
}

// Consent is a person's consent to a driver set for a device.
type Consent struct {
	Device   string   // handle
	Accept   string   // digest of the set
	Despite  []string // words of [driver.Objection]
	Revision int64    // of the device on which it was decided; 0: on none
	Actor    string
}

// args are the arguments of the job.
type args struct {
	Device string       `json:"device"` // id
	Host   string       `json:"host"`
	BusID  string       `json:"bus_id"`
	Link   int          `json:"interface"`
	Name   string       `json:"name"`
	Digest string       `json:"digest"`
	From   string       `json:"from"` // here, host, service, depot, rules
	Rule   driver.Rule  `json:"rule,omitzero"`
	Depot  string       `json:"depot,omitempty"`
	Offer  *depot.Offer `json:"offer,omitempty"`
}

// Install starts the job that installs a driver set on the host by which a device is
// reached: the one that fits best, or another that was chosen by its digest. What stands
// against it has to be named in the consent.
func (s *Supply) Install(ctx context.Context, c Consent) (job.Job, error) {
	k, err := s.Rack.Find(c.Device)
	if err != nil {
		return job.Job{}, err
	}
	now := s.Outlook.Look(k, "")
	p, ok := s.placeOf(k)
	if !now.Reached() || !ok || p.link == nil { // there is nothing that it could be bound to
		return job.Job{}, now.Blocked()
	}
	all := s.candidates(p)
	fits := best(all)
	i := slices.IndexFunc(all, func(x driver.Candidate) bool { return x.Digest == c.Accept })
	switch {
	case c.Accept == "" && fits == nil:
		return job.Job{}, &problem.Problem{Kind: problem.Blocked, Gate: "driver", Text: fmt.Sprintf("No known driver set fits %s.", c.Device),
			Remedy: fmt.Sprintf("Add its file: earlybench driver add FILE. Or add a depot that has it: earlybench depot add URL. Those for similar models: earlybench driver show %s.", c.Device)}
	case c.Accept == "":
		return job.Job{}, &problem.Problem{Kind: problem.Person, Gate: "driver",
			Text:   fmt.Sprintf("Installing driver set %s %s on host %s needs your consent.", fits.Manifest.Name, fits.Manifest.Version, p.host),
			Remedy: "Consent with --accept " + fits.Digest + despiteText(fits) + "."}
	case i < 0:
		return job.Job{}, &problem.Problem{Kind: problem.Refused, Gate: "driver", Text: "The digest that was consented to is not one of the driver sets for " + c.Device + " now.",
			Remedy: "Look at them again with earlybench driver show " + c.Device + ", then consent to one."}
	}
	chosen := all[i]
	for _, d := range chosen.Against() {
		if !slices.Contains(c.Despite, d.Word) {
			return job.Job{}, &problem.Problem{Kind: problem.Person, Gate: "driver", Text: d.Text, Remedy: "To use it anyway, also consent to that: --despite " + d.Word + "."}
		}
	}
	if err := s.Outlook.Check(k, c.Revision); err != nil {
		return job.Job{}, err
	}
	return s.Jobs.Start(ctx, s.newInstall(k, p, chosen, c))
}

func (s *Supply) newInstall(k *keeper.Keeper, p place, chosen driver.Candidate, c Consent) job.New {
	a := args{Device: k.Device().ID, Host: p.host, BusID: p.device.BusID, Name: chosen.Manifest.Name, Link: p.link.Number, Digest: chosen.Digest, From: "here"}
	phases := []string{"copy", "install", "bind"}
	switch {
	case s.Hosts.Rules(p.host) != nil:
		a.From, phases = "rules", []string{"rules", "bind"}
		a.Rule = driver.RuleOf(chosen.Held)
	case chosen.Installed:
		a.From, phases = "host", []string{"bind"}
	case chosen.Here:
	case chosen.Service:
		a.From, phases = "service", []string{"install", "bind"}
	default:
		a.From, a.Depot, phases = "depot", chosen.Depot, append([]string{"fetch"}, phases...)
		a.Offer = s.offerOf(chosen.Depot, chosen.Digest)
	}
	return job.New{Kind: KindInstall, Title: fmt.Sprintf("Install %s on %s", a.Name, p.host), Device: c.Device,
		Subjects: []string{"device/" + a.Device, "host/" + p.host}, Actor: c.Actor, Args: a, Phases: phases}
}

func (s *Supply) offerOf(name, digest string) *depot.Offer {
	for _, d := range s.Depots.All() {
		for i := range d.Index.Offers {
			if o := &d.Index.Offers[i]; d.Record.Name == name && o.File.SHA256 == digest {
				return o
			}
		}
	}
	return nil
}

func despiteText(c *driver.Candidate) (out string) {
	for _, d := range c.Against() {
		out += " --despite " + d.Word
	}
	return out
}

func (s *Supply) hold(ctx context.Context, j job.Job) (func(), error) {
	a, err := argsOf[args](j)
	if err != nil {
		return nil, err
	}
	k := s.Rack.ByID(a.Device)
	if k == nil {
		return nil, fmt.Errorf("device %s: %w", j.Device, store.ErrNotFound)
	}
	return k.Lease(ctx, j.Title, keeper.Exclusive)
}

func (s *Supply) install(ctx context.Context, run *job.Run) (any, error) {
	var a args
	if err := run.Args(&a); err != nil {
		return nil, err
	}
	k := s.Rack.ByID(a.Device)
	if run.Job().Begun > 1 {
		run.Note("waiting for " + a.Host)
		if err := s.Hosts.Await(ctx, a.Host, hostWithin); err != nil {
			return nil, err
		}
	}
	if a.From == "depot" {
		if err := s.fetchSet(ctx, run, a); err != nil {
			return nil, err
		}
	}
	switch a.From {
	case "service":
		run.Phase("install", 0)
		if err := s.Hosts.Get(ctx, a.Host, a.Digest); err != nil {
			return nil, err
		}
	case "here", "depot":
		if err := s.carry(ctx, run, a); err != nil {
			return nil, err
		}
	}
	if a.From == "rules" {
		run.Phase("rules", 0)
		if err := s.addRule(a); err != nil {
			return nil, err
		}
		run.Phase("bind", 0)
		return nil, s.bound(ctx, k, "")
	}
	run.Phase("bind", 0)
	if err := s.Hosts.Bind(ctx, a.Host, a.BusID, a.Link, a.Name); err != nil {
		return nil, err
	}
	return nil, s.bound(ctx, k, a.Name)
}

// carry sends a set's file to the host and installs it there.
func (s *Supply) carry(ctx context.Context, run *job.Run, a args) error {
	if err := s.Files.Whole(ctx, a.Digest); err != nil { // the host would blame the transfer
		return err
	}
	path := s.Files.Path(a.Digest)
	info, err := os.Stat(path)
	if err != nil {
		return fmt.Errorf("look at the driver set's file: %w", err)
	}
	run.Phase("copy", info.Size())
	_, err = s.Hosts.Install(ctx, a.Host, a.Digest, path, func(n int64) {
		if run.Progress(n); n == info.Size() {
			run.Phase("install", 0)
		}
	})
	return err
}

// fetchSet fetches a set from its depot and keeps it.
func (s *Supply) fetchSet(ctx context.Context, run *job.Run, a args) error {
	if a.Offer == nil {
		return &problem.Problem{Kind: problem.Failed, Text: "The depot no longer offers that driver set.", Remedy: "Look again with earlybench driver show."}
	}
	s.fetchingSet.Lock() // two devices may need the same set
	defer s.fetchingSet.Unlock()
	run.Phase("fetch", a.Offer.File.Size)
	if err := s.bring(ctx, run, a.Depot, a.Offer); err != nil {
		return err
	}
	f, err := s.Files.Open(a.Digest)
	if err != nil {
		return err
	}
	defer f.Close()
	set, err := driver.Open(f, a.Offer.File.Size)
	if err == nil && (set.About.Name != a.Offer.Name || set.About.Version != a.Offer.Version) {
		err = errors.New("it is not the one in the index")
	}
	if err == nil && set.Publisher == nil && !a.Offer.Unsigned {
		err = errors.New("it is not signed, but the index says that it is")
	}
	if err != nil {
		return errors.Join(problem.Errorf(problem.Failed, "driver set %s %s was refused: %w", a.Offer.Name, a.Offer.Version, err), s.Files.Drop(a.Digest))
	}
	return s.keepSet(ctx, set.Held(a.Digest))
}

// addRule adds a rule to the rules file of this computer, and has udev apply it.
func (s *Supply) addRule(a args) error {
	rules := s.Hosts.Rules(a.Host)
	if rules == nil {
		return problem.Errorf(problem.Failed, "host %s has no rules file that the bench keeps", a.Host)
	}
	s.ruling.Lock()
	defer s.ruling.Unlock()
	return s.changeRules(rules, a.BusID, func(all []driver.Rule) []driver.Rule {
		all = slices.DeleteFunc(all, func(r driver.Rule) bool { return r.Digest == a.Rule.Digest })
		return append(all, a.Rule)
	})
}

func (s *Supply) changeRules(rules *udev.Rules, busID string, change func([]driver.Rule) []driver.Rule) error {
	text, err := rules.Text()
	if err != nil {
		return err
	}
	plan, err := rules.Plan(change(driver.ReadRules(text)))
	if err != nil {
		return err
	}
	if plan.Difference != "" {
		if err := rules.Apply(plan); err != nil {
			return err
		}
	}
	if err := rules.Trigger(busID); err != nil {
		s.Log.Info("the changed rule takes effect at the next plug", "error", err)
	}
	return nil
}

// bound waits until the host has bound the named driver to the device link, any if name is "", and that is known of
// the device: whoever looks at it once the job is done finds the gate open.
func (s *Supply) bound(ctx context.Context, k *keeper.Keeper, name string) error {
	ctx, cancel := context.WithTimeout(ctx, bindWithin)
	defer cancel()
	for {
		changed, told := s.Store.Changed(), k.Facts().Changed()
		if p, ok := s.placeOf(k); ok && p.link != nil && p.link.Driver != "" && (name == "" || p.link.Driver == name) {
			if f, known := k.Facts().View().Get(fact.DriverSet, s.Clock.Now()); known && f.Value.Text() == p.link.Driver {
				return nil
			}
		}
		select {
		case <-ctx.Done():
			if context.Cause(ctx) != context.DeadlineExceeded {
				return context.Cause(ctx)
			}
			if name == "" {
				return &problem.Problem{Kind: problem.Failed, Gate: "driver", Text: "The rule is installed, but the system has not opened the device node yet.", Remedy: "Pull the cable and plug it in again."}
			}
			return &problem.Problem{Kind: problem.Failed, Gate: "driver", Text: fmt.Sprintf("Driver set %s is installed, but the host did not bind it to the interface.", name),
				Remedy: "Pull the cable and plug it in again."}
		case <-changed:
		case <-told:
		}
	}
}

// TakeBack removes the driver that is bound to a device's link from its host.
func (s *Supply) TakeBack(ctx context.Context, handle string) (string, error) {
	k, err := s.Rack.Find(handle)
	if err != nil {
		return "", err
	}
	p, ok := s.placeOf(k)
	if !ok {
		return "", s.Outlook.Look(k, "").Blocked()
	}
	if p.link == nil || !slices.ContainsFunc(s.candidates(p), func(c driver.Candidate) bool { return c.Bound }) {
		return "", &problem.Problem{Kind: problem.Invalid, Text: fmt.Sprintf("No driver set is bound to the device link of %s.", handle)}
	}
	release, err := k.Lease(ctx, "Remove the driver of "+handle+" back", keeper.Exclusive)
	if err != nil {
		return "", err
	}
	defer release()
	if rules := s.Hosts.Rules(p.host); rules != nil {
		s.ruling.Lock()
		defer s.ruling.Unlock()
		id := p.target.ID.String()
		return "linux-access", s.changeRules(rules, p.device.BusID, func(all []driver.Rule) []driver.Rule {
			return slices.DeleteFunc(all, func(r driver.Rule) bool { return slices.Contains(r.USB, id) })
		})
	}
	return p.link.Driver, s.Hosts.Remove(ctx, p.host, p.link.Driver)
}
