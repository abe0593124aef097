package signing

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"earlybench.invalid/earlybench/core/appfile"
	"earlybench.invalid/earlybench/core/bundle"
	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/developer"
	"earlybench.invalid/earlybench/core/job"
	core "earlybench.invalid/earlybench/core/peer"
	"earlybench.invalid/earlybench/core/plain"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/peer"
	"earlybench.invalid/earlybench/internal/store"
)

// This file installs apps of this bench on devices of the peers that sign them.

// KindDeliver is the kind of jobs that do.
const KindDeliver = "app.deliver"

var deliverPhases = []string{"build", "consent", "send", "put on"}

// Kinds returns the kinds of jobs of this use case.
func (s *Signing) Kinds() []job.Kind { return []job.Kind{{Name: KindDeliver, Run: s.runDelivery}} }

// Delivery is what to deliver: an app of a project, to a device of a peer.
type Delivery struct {
	App        string `json:"app"`
	Build      string `json:"build,omitempty"`
	Peer       string `json:"peer"`
	Device     string `json:"device"` // handle over there
	Try        bool   `json:"try,omitempty"`
	Unattended bool   `json:"unattended,omitempty"`
}

// Outcome is what a delivery ends with.
type Outcome struct {
	App     string        `json:"app"`
	Version string        `json:"version"`
	Digest  string        `json:"digest"`
	Passed  bool          `json:"passed,omitempty"`
	Sent    int64         `json:"sent_bytes"`
	Peer    string        `json:"peer"`
	Points  []store.Point `json:"points,omitempty"`
	Log     []string      `json:"log,omitempty"`
	There   string        `json:"kept_there,omitempty"` // id of the tryout that the peer keeps
}

// OutcomeOf reads the outcome of a delivery back from its job's record.
func OutcomeOf(j job.Job) (Outcome, bool) { return job.ResultOf[Outcome](j, KindDeliver) }

// offer is what a peer may get: the files of a delivery.
type offer struct {
	key   string // of the peer
	files store.Files
	sizes map[string]int64
	sent  atomic.Int64

	mu   sync.Mutex
	over bool
	open map[*os.File]bool // that are being sent
}

// end ends it, and transfers in progress.
func (o *offer) end() {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.over = true
	for f := range o.open {
		f.Close()
	}
	os.RemoveAll(o.files.Dir) //nolint:errcheck // what is left is swept
}

// file opens a file of it from a byte on.
func (o *offer) file(ref core.FileRef) (io.ReadCloser, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	size, ok := o.sizes[ref.Digest]
	if !ok || o.over || ref.From < 0 || ref.From > size {
		return nil, errNoFile
	}
	r, err := o.files.Open(ref.Digest)
	if err != nil {
		return nil, err
	}
	if _, err := r.Seek(ref.From, io.SeekStart); err != nil {
		r.Close()
		return nil, err
	}
	o.open[r] = true
	return &sending{r, o}, nil
}

// Deliver begins a delivery.
func (s *Signing) Deliver(ctx context.Context, d Delivery, actor string) (job.Job, error) {
	if _, err := s.cfg.Peers.Find(d.Peer); err != nil {
		return job.Job{}, err
	}
	project, err := s.cfg.Apps.Project(ctx, d.App, d.Build)
	if err != nil {
		return job.Job{}, err
	}
	if _, at := appfile.SplitIdentity(project.Identity); at != d.Peer {
		return job.Job{}, &problem.Problem{Kind: problem.Blocked, Text: fmt.Sprintf("%s only installs apps that it signs itself, and %s is not signed there.", d.Peer, d.App),
			Remedy: fmt.Sprintf("Let it be signed there: earlybench app set %s --identity @%s. Or borrow the device: earlybench loan start %s --from %[2]s", project.Dir, d.Peer, d.Device)}
	}
	if d.Device == "" || len(d.Device) > 60 {
		return job.Job{}, problem.Errorf(problem.Invalid, "name a device of %s", d.Peer)
	}
	verb := "Run"
	if d.Try {
		verb = "Try"
	}
	return s.cfg.Jobs.Start(ctx, job.New{Kind: KindDeliver, Title: fmt.Sprintf("%s %s on %s at %s", verb, d.App, d.Device, d.Peer), Subjects: []string{"peer/" + d.Peer}, Actor: actor, Args: d, Phases: deliverPhases})
}

// Repeatable reports whether a job is a delivery that has ended, so that it can be done again.
func Repeatable(j job.Job) bool { return j.Kind == KindDeliver && !j.Ended.IsZero() }

// Repeat begins a delivery again.
func (s *Signing) Repeat(ctx context.Context, j job.Job, actor string) (job.Job, error) {
	var d Delivery
	if err := json.Unmarshal(j.Args, &d); err != nil {
		return job.Job{}, fmt.Errorf("read what job %s did: %w", j.ID, err)
	}
	return s.Deliver(ctx, d, actor)
}

func (s *Signing) runDelivery(ctx context.Context, run *job.Run) (any, error) {
	var d Delivery
	if err := run.Args(&d); err != nil {
		return nil, err
	}
	run.Phase("build", 0)
	project, err := s.cfg.Apps.BuildFor(ctx, run, d.App, d.Build, d.Unattended)
	if err != nil {
		return nil, err
	}
	run.Phase("consent", 0)
	var looked core.SignerLooked
	err = peer.Patiently(ctx, run.Job().Begun > 1, func() (err error) {
		looked, err = s.Look(ctx, project.Identity)
		return err
	})
	if err != nil {
		return nil, err
	}
	if looked.Locked && d.Unattended {
		return nil, problem.Errorf(problem.Person, "the safe of %s is locked, and somebody must open it", d.Peer)
	}
	manifest, o, err := s.offer(d.Peer, run.Job().ID, project, looked.Developer)
	if err != nil {
		return nil, err
	}
	defer s.withdraw(run.Job().ID)
	name, _ := appfile.SplitIdentity(project.Identity)
	in := core.Deliver{Sign: core.Sign{Identity: name, Manifest: manifest, Unattended: d.Unattended}, ID: run.Job().ID, Device: d.Device, Try: d.Try, Log: project.Try.Log, Within: project.Try.Within}
	out := Outcome{App: project.ID, Version: project.Version, Digest: bundle.Digest(manifest), Peer: d.Peer}
	answer, err := s.delivered(ctx, run, d, in)
	if err != nil {
		if errors.Is(context.Cause(ctx), job.ErrStopped) || ctx.Err() == nil { // otherwise it goes on with the next service
			s.leave(ctx, d.Peer, core.MethodDeliverLeave, in)
		}
		return nil, err
	}
	out.Sent = o.sent.Load()
	return out.with(answer, d)
}

// stuckAfter is how long a delivery may make no progress.
const stuckAfter = 15 * time.Minute

// going are the states of a delivery that has not ended.
var going = []string{core.DeliveryWaits, core.DeliveryGets, core.DeliveryPuts}

// delivered asks until it is delivered or has failed, across interruptions of the connection.
func (s *Signing) delivered(ctx context.Context, run *job.Run, d Delivery, in core.Deliver) (core.Delivered, error) {
	var last core.Delivered
	for heard, changed := time.Now(), time.Now(); ; {
		var now core.Delivered
		err := s.cfg.Peers.Ask(ctx, d.Peer, core.MethodDeliver, in, &now)
		switch {
		case ctx.Err() != nil:
			return now, context.Cause(ctx)
		case problem.KindOf(err) == problem.Unavailable && time.Since(heard) < peer.Unreachable:
			run.Note("waiting for " + d.Peer)
		case err != nil:
			return now, s.saysOf(d, err)
		default:
			now.Done, now.Total = max(0, now.Done), max(0, now.Total)
			if heard = time.Now(); now.State != last.State || now.Done != last.Done {
				changed = time.Now()
			}
			shows(run, d.Peer, last, now)
			if last = now; !slices.Contains(going, now.State) {
				return now, nil
			}
			if time.Since(changed) > stuckAfter {
				return now, problem.Errorf(problem.Unavailable, "%s has reported nothing new for %s", d.Peer, stuckAfter)
			}
		}
		if err := clock.Sleep(ctx, clock.System{}, askEvery); err != nil {
			return now, context.Cause(ctx)
		}
	}
}

// saysOf adds to a refusal to deliver.
func (s *Signing) saysOf(d Delivery, err error) error {
	p, is := errors.AsType[*problem.Problem](err)
	switch {
	case !is || p.Remedy != "":
		return err
	case p.Kind == problem.Refused:
		return s.says(d.Peer, err)
	}
	remedy := "See its devices: earlybench rack --peers"
	if p.Kind == problem.Taken {
		remedy = "Wait until it is free: earlybench rack --peers. If it is lent to this bench, leave out --at."
	}
	return &problem.Problem{Kind: p.Kind, Text: fmt.Sprintf("%s does not install it on %s: %s.", d.Peer, d.Device, strings.TrimSuffix(p.Text, ".")), Remedy: remedy}
}

// shows shows how a delivery goes.
func shows(run *job.Run, at string, last, now core.Delivered) {
	if last.State == core.DeliveryWaits && now.State != last.State {
		run.Asks("")
	}
	if slices.Contains([]string{core.DeliveryDone, core.DeliveryFailed}, now.State) && last.State == core.DeliveryWaits {
		run.Phase("put on", 0) // all went between two questions
	}
	switch now.State {
	case core.DeliveryWaits:
		if last.State != now.State {
			run.Asks(fmt.Sprintf("Somebody at %s must consent to signing it and installing it on the device", at))
		}
	case core.DeliveryGets, core.DeliveryPuts:
		if now.State == core.DeliveryPuts && last.State == core.DeliveryWaits { // it lacked nothing, or that went between two questions
			run.Phase("send", 0)
		}
		if last.State != now.State || last.Total != now.Total {
			run.Phase(map[string]string{core.DeliveryGets: "send", core.DeliveryPuts: "put on"}[now.State], now.Total)
		}
		run.Progress(now.Done)
		if now.Reason != "" {
			run.Note(plain.Cut(plain.Line(now.Reason), 200))
		}
	}
}

// with is the outcome of what a peer has done.
func (o Outcome) with(a core.Delivered, d Delivery) (any, error) {
	for _, p := range a.Points[:min(len(a.Points), 20)] {
		o.Points = append(o.Points, store.Point{Name: plain.Cut(plain.Line(p.Name), 40), OK: p.OK, Text: plain.Cut(p.Text, 1000), Took: p.Took})
	}
	for _, l := range a.Log[:min(len(a.Log), 100)] {
		o.Log = append(o.Log, plain.Cut(plain.Line(l), 1000))
	}
	o.There, o.Passed = plain.Cut(plain.Line(a.Tryout), 40), d.Try && a.State == core.DeliveryDone
	why := strings.TrimSuffix(plain.Cut(plain.Line(a.Reason), 300), ".")
	switch a.State {
	case core.DeliveryDone:
		return o, nil
	case core.DeliveryRefused:
		return nil, problem.Errorf(problem.Refused, "%s did not sign it: %s", d.Peer, why)
	case core.DeliveryFailed:
		return o, &problem.Problem{Kind: problem.Failed, Text: fmt.Sprintf("%s could not run it on %s: %s.", d.Peer, d.Device, why), Remedy: "Ask there, or borrow the device: earlybench loan start " + d.Device + " --from " + d.Peer}
	}
	return nil, problem.Errorf(problem.Failed, "%s gave an unknown answer: %.40q", d.Peer, a.State)
}

// offer describes the files of a built app, and lets a peer get them until they are withdrawn. They are copied, so
// that another build does not change them.
func (s *Signing) offer(at, id string, p *appfile.Project, by developer.Public) ([]byte, *offer, error) {
	to, err := s.cfg.Peers.Find(at)
	if err != nil {
		return nil, nil, err
	}
	root, err := os.OpenRoot(filepath.Join(p.Dir, p.Root))
	if err != nil {
		return nil, nil, fmt.Errorf("open the project's files: %w", err)
	}
	defer root.Close()
	manifest, err := appfile.Describe(p.Manifest(), root.FS(), p.Files, &by)
	if err != nil {
		return nil, nil, fmt.Errorf("pack %s: %w", p.ID, err)
	}
	if len(manifest) > mostManifest {
		return nil, nil, problem.Errorf(problem.Invalid, "%s has too many files to be delivered: its manifest has %d bytes, the limit is %d", p.ID, len(manifest), mostManifest)
	}
	m, err := appfile.ParseManifest(manifest)
	if err != nil {
		return nil, nil, err
	}
	o := &offer{key: to.Key, files: store.Files{Dir: filepath.Join(s.cfg.Dir, "out-"+id)}, sizes: map[string]int64{}, open: map[*os.File]bool{}}
	s.mu.Lock()
	s.offers[id] = o
	s.mu.Unlock()
	if err := o.keep(root, m); err != nil {
		s.withdraw(id)
		return nil, nil, fmt.Errorf("pack %s: %w", p.ID, err)
	}
	return manifest, o, nil
}

// keep copies the files.
func (o *offer) keep(root *os.Root, m *appfile.Manifest) error {
	for _, f := range m.Files {
		r, err := root.Open(filepath.FromSlash(f.Path))
		if err != nil {
			return err
		}
		digest, size, err := o.files.Put(r)
		r.Close()
		if err != nil {
			return err
		}
		if digest != f.SHA256 {
			return fmt.Errorf("%s changed while it was being packed", f.Path)
		}
		o.mu.Lock()
		o.sizes[digest] = size
		o.mu.Unlock()
	}
	return nil
}

func (s *Signing) withdraw(id string) {
	s.mu.Lock()
	o := s.offers[id]
	delete(s.offers, id)
	s.mu.Unlock()
	o.end()
}

// mostManifest is the longest manifest that is sent to a peer, in base64 on one line.
const mostManifest = 700 << 10 // bytes

// errNoFile is the same for a file that does not exist and for one that is for somebody else.
var errNoFile = errors.New("no such file is shared with you")

// File opens a file of a delivery for the peer to which it goes.
func (s *Signing) File(_ context.Context, from store.Peer, ref core.FileRef) (io.ReadCloser, error) {
	s.mu.Lock()
	all := slices.Collect(maps.Values(s.offers))
	s.mu.Unlock()
	for _, o := range all {
		if o.key != from.Key || ref.Of != core.OfDelivery {
			continue
		}
		r, err := o.file(ref)
		if err == nil {
			return r, nil
		}
		if err != errNoFile {
			s.cfg.Log.Warn("open a file for a peer", "peer", from.Name, "error", err)
		}
	}
	return nil, errNoFile
}

// sending is a file that is being sent; it counts the bytes read.
type sending struct {
	file *os.File
	of   *offer
}

// Read reads.
func (f *sending) Read(p []byte) (int, error) {
	n, err := f.file.Read(p)
	f.of.sent.Add(int64(n))
	return n, err
}

// Close ends it.
func (f *sending) Close() error {
	f.of.mu.Lock()
	delete(f.of.open, f.file)
	f.of.mu.Unlock()
	return f.file.Close()
}
