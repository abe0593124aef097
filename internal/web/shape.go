package web

import (
	"net"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/core/appfile"
	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/driver"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/job"
	eb "earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/core/ready"
	"earlybench.invalid/earlybench/core/sheet"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/kitfetch"
	"earlybench.invalid/earlybench/internal/outlook"
	"earlybench.invalid/earlybench/internal/rack"
	"earlybench.invalid/earlybench/internal/signing"
	"earlybench.invalid/earlybench/internal/statements"
	"earlybench.invalid/earlybench/internal/store"
	"earlybench.invalid/earlybench/internal/tryout"
)

// This file converts what the core and the use cases know to the types of the interface.

func (s *Server) benchOf(last int64) client.Bench {
	return client.Bench{ID: s.ID, Name: s.Bench(), Version: Version, Fingerprint: ssh.FingerprintSHA256(s.Key), Developer: s.Safe.Thumbprint(), Now: s.Clock.Now().UTC(), Sequence: last, Gates: gateMeanings()}
}

func gateMeanings() (out []client.GateMeaning) {
	for _, g := range append(slices.Clone(sheet.Order), sheet.HostOrder...) {
		out = append(out, client.GateMeaning{Gate: g, Text: sheet.Meaning(g)})
	}
	return out
}

func deviceOf(st outlook.Standing) client.Device {
	d := client.Device{Handle: st.Device.Handle, Serial: st.Device.Serial, Family: st.Device.Family, Maker: st.Device.Maker,
		Model: st.Device.Model, Code: st.Device.Code, Summary: string(st.Readiness.Summary), Gates: map[string]string{},
		Path: st.Readiness.Path.Name, Computer: map[string]string{}, Waits: map[string][]string{}, Endings: []client.Ending{},
		First: st.Readiness.First, Says: st.Why.Text, HandsURL: st.Device.HandsURL, Key: st.Device.Key, Working: st.Working, Reserved: st.Reserved, Revision: st.Revision,
		Unfit: st.Readiness.Unfit, Retiring: st.Readiness.Summary == ready.Retiring}
	if st.Device.USB == "" { // no bus has shown one
		d.Serial = ""
	}
	for _, g := range st.Readiness.Gates {
		d.Gates[g.Name] = string(g.State)
		if len(g.Waits) > 0 {
			d.Waits[g.Name] = g.Waits
		}
	}
	d.Asking = askingSeconds(st)
	for _, g := range st.Readiness.Host {
		d.Computer[g.Name] = string(g.State)
	}
	for _, e := range st.Readiness.Ending {
		d.Endings = append(d.Endings, client.Ending{Gate: e.Gate, At: e.At, Soon: e.Soon, Left: int64(e.At.Sub(st.Now).Seconds())})
	}
	if f, ok := st.View.Get(fact.LinkKey, st.Now); ok && f.Value.Text() == "changed" {
		shown, _ := st.View.Get(fact.LinkShown, st.Now)
		d.ShownKey = shown.Value.Text()
	}
	if f, ok := st.View.Get(fact.OSRelease, st.Now); ok {
		d.Release = f.Value.String()
	}
	if f, ok := st.View.Get(fact.LoanOf, st.Now); ok && st.Readiness.Path.Name == remotePath {
		d.Lender = f.Value.Text()
		if f, ok := st.View.Get(fact.LoanEnds, st.Now); ok {
			d.LentTill = when(f.Value.Time().UTC())
		}
	}
	if st.Reached() {
		w := st.Ways[0]
		d.Link, d.Host, d.Port = string(w.Kind), w.Place.Host, w.Place.Port
	}
	d.Wireless = mayWireless(&st)
	d.Ways = each(st.Ways, func(w keeper.Reached) client.Link { return linkOf(rack.Link{Handle: d.Handle, Reached: w}) })
	if n := st.Readiness.Next; n != nil {
		step := stepOf(*n, st)
		d.Next = &step
	}
	switch st.Readiness.Summary {
	case ready.Retiring:
		d.Says = d.Handle + " is being retired."
	case ready.Retired:
		d.Says = d.Handle + " is retired."
	}
	return d
}

// remotePath is the path of the sheets to a device that a peer lends.
const remotePath = "remote"

// wirelessPath is the path of the sheets without a cable.
const wirelessPath = "wireless"

// mayWireless reports whether a device that is linked by cable can be switched to be reached without
// it, too.
func mayWireless(st *outlook.Standing) bool {
	linked := false
	for _, w := range st.Ways {
		if w.Wireless() {
			return false
		}
		linked = linked || w.Linked && w.Cabled()
	}
	return linked && slices.ContainsFunc(st.Sheet.Paths, func(p *sheet.Path) bool { return p.Name == wirelessPath })
}

// askingSeconds is for how long the question on the device's screen still waits.
func askingSeconds(st outlook.Standing) int64 {
	state, _ := st.View.Get(fact.AdmitState, st.Now)
	lapses, known := st.View.Get(fact.AdmitLapses, st.Now)
	if !known || state.Value.Text() != string(device.AdmitAsking) {
		return 0
	}
	return max(0, int64(lapses.Value.Time().Sub(st.Now).Seconds()))
}

func stepOf(s ready.Step, st outlook.Standing) client.Step {
	fill := st.Fill
	c := client.Step{ID: s.ID, Gate: s.Gate, Who: string(s.Who), Title: fill(s.Title), Text: fill(s.Text), Note: fill(s.Note),
		Where: []string{}, Sight: fill(s.Sight), Risk: fill(s.Risk), Action: s.Action, Minutes: s.Minutes, Done: s.Done, Told: s.Told,
		Search: fill(s.Search), Again: s.Again, Seen: s.Observed()}
	if s.Denied != nil {
		f := factOf(st, *s.Denied)
		c.Denied = &f
	}
	c.Tell = outlook.Confirmable(s.Step)
	c.Account = st.WantsAccount(s.Step)
	if s.Missing {
		c.Missing = fill(s.Lacking)
	}
	for _, w := range s.Where {
		c.Where = append(c.Where, fill(w))
	}
	if d := s.Draw; d != nil {
		c.Draw = &client.Drawing{Title: fill(d.Title), Rows: d.Rows, Row: d.Row, Word: fill(d.Word), Taps: d.Taps, Form: d.Form}
	}
	return c
}

func planOf(st outlook.Standing) client.Prep {
	p := client.Prep{Device: deviceOf(st), Steps: []client.Step{}, Apps: []client.App{}, Lacks: map[string]string{}}
	for _, s := range st.Readiness.Steps {
		p.Steps = append(p.Steps, stepOf(s, st))
	}
	if st.Offered != nil {
		o := candidateOf(*st.Offered)
		p.Offer = &o
	}
	for _, a := range st.Apps {
		p.Apps = append(p.Apps, client.App{ID: a.ID, Name: a.Name, Version: a.Version, Digest: a.Digest, Running: a.Running})
	}
	return p
}

// candidateOf is a driver set as it may be used for a device.
func candidateOf(c driver.Candidate) client.DriverCandidate {
	out := client.DriverCandidate{DriverSet: setOf(c.Held), Fit: c.Fit.String(), Why: c.Why, Depot: c.Depot, Service: c.Service, Here: c.Here, Installed: c.Installed,
		Bound: c.Bound, Verified: c.Verified, Difference: c.Difference, Against: []client.Objection{}}
	out.Size = c.Size
	for _, o := range c.Against() {
		out.Against = append(out.Against, client.Objection{Word: o.Word, Text: o.Text})
	}
	return out
}

func setOf(d store.DriverSet) client.DriverSet {
	c := client.DriverSet{Digest: d.Digest, Name: d.Manifest.Name, Version: d.Manifest.Version, Maker: d.Manifest.Maker, About: d.Manifest.About, Fits: []string{}, Signer: d.Signer, Publisher: d.Publisher}
	for _, f := range d.Manifest.Fits {
		if !slices.Contains(c.Fits, f.USB) {
			c.Fits = append(c.Fits, f.USB)
		}
	}
	for _, f := range d.Manifest.Files {
		c.Size += f.Size
	}
	return c
}

func projectOf(p store.Project) client.Project {
	c := client.Project{App: p.App, Dir: p.Dir, Families: []string{}}
	read, err := appfile.ReadProject(p.Dir)
	if err != nil {
		c.Trouble = sentence(err.Error())
		return c
	}
	c.Name, c.Version, c.Families = read.Name, read.Version, read.Families
	return c
}

func appFileOf(a store.AppFile) client.AppFile {
	return client.AppFile{Digest: a.Digest, App: a.App, Version: a.Version, Size: a.Size, Created: a.Created.UTC()}
}

func jobOf(j job.Job) client.Job {
	c := client.Job{ID: j.ID, Kind: j.Kind, Title: j.Title, Device: j.Device, Parent: j.Parent, Actor: j.Actor, State: string(j.State), Again: tryout.Repeatable(j) || signing.Repeatable(j), Phases: []client.Phase{}, Created: j.Created, Ended: when(j.Ended)}
	for _, p := range j.Phases {
		c.Phases = append(c.Phases, client.Phase{Name: p.Name, State: string(p.State), Done: p.Done, Total: p.Total, Note: p.Note, Asks: p.Asks, Began: when(p.Began), Ended: when(p.Ended)})
	}
	if e := j.Error; e != nil {
		c.Error = &client.Trouble{Kind: string(e.Kind), Text: e.Text, Gate: e.Gate, Remedy: e.Remedy}
	}
	if o, ok := signing.OutcomeOf(j); ok {
		c.Result = &client.RunResult{App: o.App, Version: o.Version, Digest: o.Digest, Passed: o.Passed, Sent: o.Sent, Devices: []client.DeviceResult{},
			Delivery: &client.Delivered{Peer: o.Peer, Points: each(o.Points, func(p store.Point) client.Point { return client.Point(p) }), Log: append([]string{}, o.Log...), Tryout: o.There}}
	} else if r, ok := tryout.ResultOf(j.Result); ok {
		c.Result = &client.RunResult{App: r.App, Version: r.Version, Digest: r.Digest, Tryout: r.Tryout, Passed: r.Passed, Sent: r.Sent, After: r.After, Devices: devicesOf(r)}
	}
	if r, ok := kitfetch.ResultOf(j); ok {
		c.Kit = &client.FetchedKit{Kit: r.Kit, Version: r.Version, Path: r.Path, Came: r.Came}
	}
	if t, ok := statements.TableOf(j.Result); ok {
		c.Put = &client.PutResult{Statement: t.Statement, Rows: []client.PutRow{}}
		for _, r := range t.Rows {
			row := client.PutRow{Device: r.Device, Outcome: string(r.Outcome), Text: r.Text}
			if e := r.Error; e != nil {
				row.Error = &client.Trouble{Kind: string(e.Kind), Text: e.Text, Gate: e.Gate, Remedy: e.Remedy}
			}
			c.Put.Rows = append(c.Put.Rows, row)
		}
	}
	return c
}

// devicesOf is the table of a job on several devices.
func devicesOf(r tryout.Result) []client.DeviceResult {
	out := []client.DeviceResult{}
	for _, d := range r.Devices {
		row := client.DeviceResult{Device: d.Device, Job: d.Job, State: string(d.State), Tryout: d.Tryout, Unfit: d.Unfit}
		if e := d.Error; e != nil {
			row.Error = &client.Trouble{Kind: string(e.Kind), Text: e.Text, Gate: e.Gate, Remedy: e.Remedy}
		}
		out = append(out, row)
	}
	return out
}

func when(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}

func tryoutOf(t store.Tryout) client.Tryout {
	c := client.Tryout{ID: t.ID, Device: t.Device, App: t.App, Version: t.Version, Digest: t.Digest, Passed: t.Passed, Outcome: string(t.CameOut()), Failed: t.Failed,
		Points: []client.Point{}, Log: append([]string{}, t.Log...), Picture: t.Picture != "", Created: t.Created}
	for _, p := range t.Points {
		c.Points = append(c.Points, client.Point(p))
	}
	return c
}

// hostPort reports whether s is an address with a port.
func hostPort(name, s string) error {
	if path, ok := strings.CutPrefix(s, "unix:"); ok && filepath.IsAbs(path) {
		return nil
	}
	if _, _, err := net.SplitHostPort(s); err != nil {
		return eb.Errorf(eb.Invalid, "%s %.80q is not an address: give HOST:PORT, such as 127.0.0.1:7421, or unix:/PATH", name, s)
	}
	return nil
}
