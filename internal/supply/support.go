package supply

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"time"

	"earlybench.invalid/earlybench/core/depot"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/facts"
	"earlybench.invalid/earlybench/internal/fetch"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/store"
)

// KindFetch is the kind of job that fetches a support pack.
const KindFetch = "support.fetch"

// fetchArgs are the arguments of the job.
type fetchArgs struct {
	Depot string      `json:"depot"`
	Offer depot.Offer `json:"offer"`
}

// Pack is a support pack that is here, or comes.
type Pack struct {
	Offer   depot.Offer
	Depot   string   // where it comes from; "" for a file that a person gave
	Here    bool     // whole
	Have    int64    // bytes that are here
	Job     string   // id of the job that fetches it; "" for none
	Devices []string // handles of those on the rack that it is for
}

func (s *Supply) readPacks(ctx context.Context) error {
	packs, err := s.Store.SupportPacks(ctx)
	if err != nil {
		return fmt.Errorf("read the support packs: %w", err)
	}
	s.mu.Lock()
	s.packs = packs
	s.mu.Unlock()
	for _, k := range s.Rack.All() { // whoever has changed it sees at once what follows
		if err := s.observe(ctx, k); err != nil {
			return fmt.Errorf("look for the support pack of %s: %w", k.Device().Handle, err)
		}
	}
	return nil
}

// user is a device that needs a support pack for its release.
type user struct {
	handle, family, code, release string
}

// users are the devices whose sheets want a support pack, and whose release is known.
func (s *Supply) users() (out []user) {
	for _, k := range s.Rack.All() {
		if u, ok := s.userOf(k); ok && k.Device().Retirement == nil {
			out = append(out, u)
		}
	}
	return out
}

func (s *Supply) userOf(k *keeper.Keeper) (user, bool) {
	series := k.Series()
	release, ok := k.Facts().View().Get(fact.OSRelease, s.Clock.Now())
	if !ok || !slices.Contains(series.At(fact.Release(release.Value.Text())).Paths[0].Walk, "support") {
		return user{}, false
	}
	return user{handle: k.Device().Handle, family: series.Family, code: series.Model.Code, release: release.Value.Text()}, true
}

// held is the newest pack here for a device's release, and whether there is one for another
// release of it.
func (s *Supply) held(u user) (pack *store.SupportPack, other bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for i := range s.packs {
		p := &s.packs[i]
		switch {
		case p.For.Suits(u.family, u.code, u.release):
			if pack == nil || newer(p.Version, pack.Version) {
				pack = p
			}
		case p.For.SuitsModel(u.family, u.code):
			other = true
		}
	}
	return pack, other
}

func newer(a, b string) bool {
	return cmp.Or(fact.Release(a).Compare(fact.Release(b)), cmp.Compare(a, b)) > 0
}

// offered is the newest support pack of the depots for a device's release, and its depot;
// nil if there is none.
func (s *Supply) offered(u user) (best *depot.Offer, from string) {
	for _, d := range s.Depots.All() {
		for i := range d.Index.Offers {
			o := &d.Index.Offers[i]
			if o.Kind == depot.Support && o.For.Suits(u.family, u.code, u.release) && (best == nil || newer(o.Version, best.Version)) {
				best, from = o, d.Record.Name
			}
		}
	}
	return best, from
}

// Needs are the support packs that devices on the rack lack and a depot offers, by name.
func (s *Supply) Needs() []Pack {
	byDigest := map[string]*Pack{}
	for _, u := range s.users() {
		if pack, _ := s.held(u); pack != nil {
			continue
		}
		o, from := s.offered(u)
		if o == nil {
			continue
		}
		p := byDigest[o.File.SHA256]
		if p == nil {
			p = &Pack{Offer: *o, Depot: from}
			byDigest[o.File.SHA256] = p
		}
		p.Devices = append(p.Devices, u.handle)
	}
	var out []Pack
	for _, p := range byDigest {
		s.progress(p)
		out = append(out, *p)
	}
	slices.SortFunc(out, byName)
	return out
}

func byName(a, b Pack) int {
	return cmp.Or(cmp.Compare(a.Offer.Name, b.Offer.Name), cmp.Compare(a.Offer.Version, b.Offer.Version), cmp.Compare(a.Offer.File.SHA256, b.Offer.File.SHA256))
}

// progress fills in how much of a pack is here.
func (s *Supply) progress(p *Pack) {
	p.Have, _ = s.Files.Coming(p.Offer.File.SHA256)
	s.mu.Lock()
	p.Job = s.fetching[p.Offer.File.SHA256]
	s.mu.Unlock()
}

// Packs are the support packs that are here or come, with the devices that each is for, by
// name.
func (s *Supply) Packs() []Pack {
	s.mu.Lock()
	held := slices.Clone(s.packs)
	s.mu.Unlock()
	out := []Pack{}
	users := s.users()
	for _, h := range held {
		p := Pack{Offer: h.Offer, Depot: h.Depot, Here: true, Have: h.File.Size}
		for _, u := range users {
			if h.For.Suits(u.family, u.code, u.release) {
				p.Devices = append(p.Devices, u.handle)
			}
		}
		out = append(out, p)
	}
	for _, p := range s.Needs() {
		if p.Have > 0 || p.Job != "" {
			out = append(out, p)
		}
	}
	slices.SortFunc(out, byName)
	return out
}

// NeedOf is the support pack that a device lacks; nil if it lacks none, or no depot has it.
func (s *Supply) NeedOf(k *keeper.Keeper) *Pack {
	u, ok := s.userOf(k)
	if !ok {
		return nil
	}
	if pack, _ := s.held(u); pack != nil {
		return nil
	}
	o, from := s.offered(u)
	if o == nil {
		return nil
	}
	p := &Pack{Offer: *o, Depot: from, Devices: []string{u.handle}}
	s.progress(p)
	return p
}

// Means are what this use case has for the steps of a device: a depot, if one has its support
// pack, and a host that can be asked to release it.
func (s *Supply) Means(k *keeper.Keeper) (out []string) {
	if s.Hosts.MayGive(k.Host()) {
		out = append(out, "host")
	}
	if u, ok := s.userOf(k); ok {
		if o, _ := s.offered(u); o != nil {
			out = append(out, "depot")
		}
	}
	return out
}

// Licence reads the text of the licence of a need, by its digest.
func (s *Supply) Licence(ctx context.Context, digest string) (name, text string, err error) {
	for _, p := range s.Needs() {
		if l := p.Offer.Licence; l != nil && l.SHA256 == digest {
			raw, err := s.Depots.Licence(ctx, p.Depot, l)
			return l.Name, string(raw), err
		}
	}
	return "", "", fmt.Errorf("licence %.12q: %w", digest, store.ErrNotFound)
}

// Fetch starts a job for each need that a person has consented to, by its consent. Those that
// are fetched already are left as they are.
func (s *Supply) Fetch(ctx context.Context, accept, actor string) ([]job.Job, error) {
	needs := s.Needs()
	wanted := slices.DeleteFunc(slices.Clone(needs), func(p Pack) bool { return p.Offer.Consent() != accept })
	if accept != "" && accept == ConsentToAll(needs) {
		wanted = needs
	}
	switch {
	case len(needs) == 0:
		return nil, &problem.Problem{Kind: problem.NotFound, Text: "No device on the rack lacks a support pack that a depot here has."}
	case accept == "":
		return nil, &problem.Problem{Kind: problem.Person, Gate: "support", Text: "Support packs are fetched with your consent to their licences only.",
			Remedy: "See what is needed with earlybench host needs, then consent with --accept DIGEST."}
	case len(wanted) == 0:
		return nil, &problem.Problem{Kind: problem.Refused, Gate: "support", Text: "What was consented to is not what is needed now.",
			Remedy: "Look at it again with earlybench host needs, then consent to that."}
	}
	var out []job.Job
	for _, p := range wanted {
		if p.Job != "" {
			if j, ok := s.Jobs.Job(p.Job); ok {
				out = append(out, j)
				continue
			}
		}
		subjects := []string{"support/" + p.Offer.File.SHA256}
		device := ""
		if len(p.Devices) == 1 {
			device = p.Devices[0]
		}
		j, err := s.Jobs.Start(ctx, job.New{Kind: KindFetch, Title: fmt.Sprintf("Fetch support pack %s %s", p.Offer.Name, p.Offer.Version), Device: device, Subjects: subjects,
			Actor: actor, Args: fetchArgs{Depot: p.Depot, Offer: p.Offer}, Phases: []string{"fetch", "check"}})
		if problem.KindOf(err) == problem.Taken { // somebody else has just begun
			s.mu.Lock()
			other := s.fetching[p.Offer.File.SHA256]
			s.mu.Unlock()
			if running, ok := s.Jobs.Job(other); ok {
				j, err = running, nil
			}
		}
		if err != nil {
			return out, err
		}
		out = append(out, j)
	}
	return out, nil
}

// ConsentToAll identifies the consent to all needs at once; "" for none.
func ConsentToAll(needs []Pack) string {
	if len(needs) == 1 {
		return needs[0].Offer.Consent()
	}
	text := ""
	for _, p := range needs {
		text += p.Offer.Consent() + "\n"
	}
	return digestOf(text)
}

func (s *Supply) holdFetch(_ context.Context, j job.Job) (func(), error) {
	a, err := argsOf[fetchArgs](j)
	if err != nil {
		return nil, err
	}
	digest := a.Offer.File.SHA256
	s.mu.Lock()
	defer s.mu.Unlock()
	if other := s.fetching[digest]; other != "" {
		return nil, problem.Errorf(problem.Taken, "%s %s is being fetched already, by job %s", a.Offer.Name, a.Offer.Version, other)
	}
	s.fetching[digest] = j.ID
	return func() {
		s.mu.Lock()
		delete(s.fetching, digest)
		s.mu.Unlock()
		s.tell(a.Offer.Name)
	}, nil
}

// tell tells that a pack comes, or comes no longer.
func (s *Supply) tell(name string) {
	s.Again()
	if err := s.Store.Tell(context.Background(), "support.changed", name); err != nil {
		s.Log.Error("tell of a change", "support", name, "error", err)
	}
}

func (s *Supply) fetch(ctx context.Context, run *job.Run) (any, error) {
	var a fetchArgs
	if err := run.Args(&a); err != nil {
		return nil, err
	}
	run.Phase("fetch", a.Offer.File.Size)
	s.tell(a.Offer.Name)
	p, err := s.Files.Begin(a.Offer.File.SHA256, a.Offer.File.Size)
	switch {
	case errors.Is(err, fs.ErrExist):
	case err != nil:
		return nil, err
	default:
		if err := s.Depots.Fetch(ctx, a.Depot, a.Offer.File, p, s.sink(run, a.Offer.File.Size)); err != nil {
			return nil, fmt.Errorf("fetch %s %s from %s: %w", a.Offer.Name, a.Offer.Version, a.Depot, err)
		}
	}
	run.Phase("check", 0)
	if err := s.checkPack(&a.Offer); err != nil {
		return nil, err
	}
	if err := s.Store.SaveSupportPack(ctx, store.SupportPack{Offer: a.Offer, Depot: a.Depot, Added: s.Clock.Now()}); err != nil {
		return nil, fmt.Errorf("keep the support pack: %w", err)
	}
	return nil, s.readPacks(ctx)
}

// sink tells a job's progress, with the rate and the time left, and what is wrong with the
// depot.
func (s *Supply) sink(run *job.Run, size int64) fetch.Sink {
	var have int64
	return fetch.Sink{
		Progress: func(n int64) { have = n; run.Progress(n) },
		State:    func(state fetch.State, rate int64, err error) { run.Note(noteOf(state, rate, size-have, err)) },
	}
}

// noteOf says how a transfer goes: "1.5 MB/s, 4 min left; the depot is slow".
func noteOf(state fetch.State, rate, left int64, err error) string {
	text := fmt.Sprintf("%.1f MB/s", float64(rate)/1e6)
	if rate > 0 {
		text += ", " + timeLeft(time.Duration(float64(left)/float64(rate)*1e9)) + " left"
	}
	switch state {
	case fetch.Slow:
		text += "; the depot is slow"
	case fetch.Cut, fetch.Down:
		text = fmt.Sprintf("trying again, since %s", err)
	}
	return text
}

func timeLeft(d time.Duration) string {
	switch {
	case d < time.Minute:
		return fmt.Sprintf("%d s", int(d.Seconds())+1)
	case d < time.Hour:
		return fmt.Sprintf("%d min", int(d.Minutes())+1)
	}
	return fmt.Sprintf("%d h", int(d.Hours())+1)
}

// checkPack compares a fetched pack with what its depot's index says of it; another one is
// dropped.
func (s *Supply) checkPack(o *depot.Offer) error {
	f, err := s.Files.Open(o.File.SHA256)
	if err != nil {
		return err
	}
	defer f.Close()
	p, err := depot.ReopenPack(f, o.File.Size)
	if err == nil {
		err = p.Matches(o)
	}
	if err != nil {
		return errors.Join(problem.Errorf(problem.Failed, "support pack %s %s is refused: %w", o.Name, o.Version, err), s.Files.Drop(o.File.SHA256))
	}
	return nil
}

// AddPack takes in the file of a support pack that a person gives.
func (s *Supply) AddPack(ctx context.Context, file *os.File) (Pack, error) {
	info, err := file.Stat()
	if err != nil {
		return Pack{}, err
	}
	p, err := depot.OpenPack(file, info.Size())
	if err != nil {
		return Pack{}, problem.Errorf(problem.Invalid, "the support pack is refused: %w", err)
	}
	if _, err := file.Seek(0, 0); err != nil {
		return Pack{}, err
	}
	digest, size, err := s.Files.Put(file)
	if err != nil {
		return Pack{}, err
	}
	o := p.Offer(digest, size)
	if err := s.Store.SaveSupportPack(ctx, store.SupportPack{Offer: o, Added: s.Clock.Now()}); err != nil {
		return Pack{}, fmt.Errorf("keep the support pack: %w", err)
	}
	if err := s.readPacks(ctx); err != nil {
		return Pack{}, err
	}
	for _, p := range s.Packs() {
		if p.Offer.File.SHA256 == digest {
			return p, nil
		}
	}
	return Pack{Offer: o, Here: true, Have: size}, nil
}

// DropPack removes a support pack, or what has come of one, by the digest of its file.
func (s *Supply) DropPack(ctx context.Context, digest string) error {
	for _, p := range s.Packs() {
		if p.Offer.File.SHA256 != digest {
			continue
		}
		if p.Job != "" {
			return problem.Errorf(problem.Taken, "%s %s is being fetched: stop job %s first", p.Offer.Name, p.Offer.Version, p.Job)
		}
		if p.Here {
			if err := s.Store.DropSupportPack(ctx, digest); err != nil {
				return err
			}
		}
		if err := s.Files.Drop(digest); err != nil {
			return err
		}
		return s.readPacks(ctx)
	}
	return fmt.Errorf("support pack %.12q: %w", digest, store.ErrNotFound)
}

// ---- what is observed

// Touch makes Run look at a device soon.
func (s *Supply) Touch(k *keeper.Keeper) {
	s.mu.Lock()
	s.dirty[k] = true
	s.mu.Unlock()
	s.rouse()
}

// Again makes Run look at every device soon.
func (s *Supply) Again() {
	s.mu.Lock()
	s.all = true
	s.mu.Unlock()
	s.rouse()
}

func (s *Supply) rouse() {
	select {
	case s.wake <- struct{}{}:
	default:
	}
}

const (
	gather    = 100 * time.Millisecond // in which changes are taken together
	lookEvery = 4 * time.Minute        // since a depot's state is good for ten minutes
)

// Run records which devices have their support packs, and how the depots answer, whenever that
// changes, until ctx ends.
func (s *Supply) Run(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(lookEvery):
			s.Again()
		case <-s.wake:
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(gather):
		}
		every := s.Rack.All()
		s.mu.Lock()
		dirty, all := s.dirty, s.all
		if all {
			for _, k := range every {
				dirty[k] = true
			}
		}
		s.dirty, s.all = map[*keeper.Keeper]bool{}, false
		s.mu.Unlock()
		if all { // other driver sets may fit, too
			s.Changed(ctx)
		}
		for k := range dirty {
			if err := s.observe(ctx, k); err != nil && ctx.Err() == nil {
				s.Log.Error("look for the support pack of a device", "device", k.Device().Handle, "error", err)
			}
		}
	}
}

// observe records what is known of a device's support pack. Without a depot and a pack the
// bench knows nothing of it.
func (s *Supply) observe(ctx context.Context, k *keeper.Keeper) error {
	u, ok := s.userOf(k)
	if !ok {
		return nil
	}
	state, depotState := s.stateOf(u)
	view := k.Facts().View()
	if state == "" {
		if slices.ContainsFunc(view.All(), func(f fact.Fact) bool { return f.Key == fact.SupportState && f.Source == fact.Host }) {
			return k.Facts().Forget(ctx, fact.Host, fact.SupportState, fact.DepotState)
		}
		return nil
	}
	seen := []fact.Fact{k.Seen(fact.SupportState, fact.Of(state), fact.Host)}
	if depotState != "" {
		seen = append(seen, k.Seen(fact.DepotState, fact.Of(depotState), fact.Host))
	}
	if off, known := s.clockOff(); known {
		seen = append(seen, k.Seen(fact.HostClock, fact.Of(int64(off.Seconds())), fact.Host))
	}
	return s.Book.Renew(ctx, facts.Subject{Kind: facts.Device, ID: k.Device().ID}, seen...)
}

// clockNoise is what two clocks may differ by although both are right, with the way between
// them.
const clockNoise = 10 * time.Second

// clockOff is by how much this computer's clock is ahead of the depot with which it agrees
// best; false if none was asked.
func (s *Supply) clockOff() (best time.Duration, known bool) {
	for _, d := range s.Depots.All() {
		if !d.ClockAt.IsZero() && (!known || d.ClockOff.Abs() < best.Abs()) {
			best, known = d.ClockOff, true
		}
	}
	if best.Abs() < clockNoise {
		best = 0
	}
	return best, known
}

// stateOf is the state of a device's support pack, and that of the depot it comes from; ""
// for what is not known.
func (s *Supply) stateOf(u user) (state, depotState string) {
	pack, other := s.held(u)
	offer, from := s.offered(u)
	for _, d := range s.Depots.All() {
		if from == "" || d.Record.Name == from {
			depotState = string(d.State)
		}
	}
	switch {
	case pack != nil:
		return "here", depotState
	case offer != nil:
		p := Pack{Offer: *offer}
		if s.progress(&p); p.Have > 0 || p.Job != "" {
			return "partly", depotState
		}
	}
	switch {
	case other:
		return "outdated", depotState
	case offer != nil || depotState != "":
		return "missing", depotState
	}
	return "", ""
}

// Free is how many bytes are free on the disk for what is fetched; -1 if that is not known.
func (s *Supply) Free() int64 {
	free, err := store.Free(s.Files.Dir)
	if err != nil {
		return -1
	}
	return free
}
