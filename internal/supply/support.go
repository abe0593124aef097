package supply

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"time"

	"earlybench.invalid/earlybench/core/depot"
	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/fetch"
	"earlybench.invalid/earlybench/internal/store"
)

// KindFetch is the kind of job that fetches a support pack.
const KindFetch = "support.fetch"

// fetchArgs are the arguments of the job.
type fetchArgs struct {
	Depot string      `json:"depot"`
	Offer depot.Offer `json:"offer"`
}

// Pack is a support pack that is here or being fetched.
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
		return nil, &problem.Problem{Kind: problem.NotFound, Text: "No device on the rack needs a support pack that a depot offers."}
	case accept == "":
		return nil, &problem.Problem{Kind: problem.Person, Gate: "support", Text: "Support packs are only fetched with your consent to their licences.",
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
		return nil, problem.Errorf(problem.Taken, "%s %s is already being fetched, by job %s", a.Offer.Name, a.Offer.Version, other)
	}
	s.fetching[digest] = j.ID
	return func() {
		s.mu.Lock()
		delete(s.fetching, digest)
		s.mu.Unlock()
		s.tell(a.Offer.Name)
	}, nil
}

// tell reports that a pack is being fetched, or no longer is.
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
	if err := s.bring(ctx, run, a.Depot, &a.Offer); err != nil {
		return nil, err
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

// bring fetches the file of an offer, unless it is already here.
func (s *Supply) bring(ctx context.Context, run *job.Run, from string, o *depot.Offer) error {
	p, err := s.Files.Begin(o.File.SHA256, o.File.Size)
	if errors.Is(err, fs.ErrExist) {
		return nil
	}
	if err == nil {
		err = s.Depots.Fetch(ctx, from, o.File, p, s.sink(run, o.File.Size))
	}
	if err != nil {
		return fmt.Errorf("fetch %s %s from %s: %w", o.Name, o.Version, from, err)
	}
	return nil
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
		return errors.Join(problem.Errorf(problem.Failed, "support pack %s %s was refused: %w", o.Name, o.Version, err), s.Files.Drop(o.File.SHA256))
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
		return Pack{}, problem.Errorf(problem.Invalid, "the support pack was refused: %w", err)
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

// Free is how many bytes are free on the disk for what is fetched; -1 if that is not known.
func (s *Supply) Free() int64 {
	free, err := store.Free(s.Files.Dir)
	if err != nil {
		return -1
	}
	return free
}
