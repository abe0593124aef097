// Package introduce introduces devices that are heard and that this bench does not know, by
// whatever way they are heard (docs/formats/introduction.md).
package introduce

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/introduction"
	"earlybench.invalid/earlybench/core/link"
	"earlybench.invalid/earlybench/core/plain"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/network"
)

// Way is a way by which devices are heard that may be introduced.
type Way interface {
	// List returns what is heard.
	List() []network.Entry
	// Dial links to the device of an entry, whoever that is, and returns where it has answered.
	Dial(ctx context.Context, e network.Entry) (s *link.Session, at string, err error)
	// Met makes the bench reach a device on record where it has answered.
	Met(k *keeper.Keeper, at string)
}

// Config is what introductions need. All fields are needed.
type Config struct {
	Ways    []Way
	Rack    network.Rack
	Bench   func() string
	Changed func() // is called when the introduction has got further
	Clock   clock.Clock
}

// Introductions are made one at a time. They are made by New, and run until Close.
type Introductions struct {
	cfg  Config
	ctx  context.Context
	stop context.CancelFunc
	work sync.WaitGroup

	mu      sync.Mutex
	meeting *meeting // the introduction; nil: there was none
}

// New makes introductions.
func New(cfg Config) *Introductions {
	i := &Introductions{cfg: cfg}
	i.ctx, i.stop = context.WithCancel(context.Background())
	return i
}

// Close cancels the current introduction.
func (i *Introductions) Close() {
	i.stop()
	i.mu.Lock()
	m := i.meeting
	i.mu.Unlock()
	if m != nil {
		m.giveUp()
	}
	i.work.Wait()
}

// meeting is an introduction that may be in progress.
type meeting struct {
	of  *Introductions
	way Way
	end context.CancelFunc

	mu      sync.Mutex
	now     network.Meeting
	asked   string // the record that a person has chosen
	session *link.Session
	met     *link.Meeting
	busy    bool // words are being looked at
}

// Meeting returns the current introduction, or the last one.
func (i *Introductions) Meeting() (network.Meeting, error) {
	i.mu.Lock()
	m := i.meeting
	i.mu.Unlock()
	if m == nil {
		return network.Meeting{}, network.ErrNoMeeting
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.now, nil
}

// Meet begins the introduction of a device that is heard, by the name by which it is listed. as is
// the handle of the record that it is, or "".
func (i *Introductions) Meet(ctx context.Context, name, as string) (network.Meeting, error) {
	way, entry, err := i.find(name)
	if err != nil {
		return network.Meeting{}, err
	}
	switch {
	case entry.Device != "":
		return network.Meeting{}, &problem.Problem{Kind: problem.Taken, Text: fmt.Sprintf("%s is %s, which this bench already knows.", entry.Name, entry.Device), Remedy: "There is nothing to do."}
	case entry.State == network.OtherVersion:
		return network.Meeting{}, problem.Errorf(problem.Unsupported, "%s announces an unknown version of the device link", entry.Name)
	}
	running, cancel := context.WithCancel(i.ctx)
	m := &meeting{of: i, way: way, end: cancel, asked: as, now: network.Meeting{State: network.Connecting, Name: entry.Name, As: as}}
	if err := i.begin(m); err != nil {
		cancel()
		return network.Meeting{}, err
	}
	i.cfg.Changed()
	if err := m.begin(ctx, entry); err != nil {
		cancel()
		m.fail(err)
		return network.Meeting{}, err
	}
	i.work.Go(func() { m.untilOver(running) })
	return i.Meeting()
}

// find finds an entry by its name or its address, and the way by which it is heard.
func (i *Introductions) find(name string) (Way, network.Entry, error) {
	for _, w := range i.cfg.Ways {
		for _, e := range w.List() {
			if e.Name == name || slices.Contains(e.Addresses, name) {
				return w, e, nil
			}
		}
	}
	return nil, network.Entry{}, network.NotHeard(name)
}

// begin makes m the current introduction, if there is none.
func (i *Introductions) begin(m *meeting) error {
	i.mu.Lock()
	defer i.mu.Unlock()
	if i.ctx.Err() != nil {
		return problem.New(problem.Unavailable, "the bench is stopping")
	}
	if i.meeting != nil && i.meeting.going() {
		return &problem.Problem{Kind: problem.Taken, Text: "Another introduction is in progress.", Remedy: "Finish or cancel it: earlybench network stop."}
	}
	i.meeting = m
	return nil
}

func (m *meeting) going() bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.now.State != network.Done && m.now.State != network.Failed
}

// begin has the device show its words.
func (m *meeting) begin(ctx context.Context, e network.Entry) error {
	s, address, err := m.way.Dial(ctx, e)
	if err != nil {
		return problem.Errorf(problem.Unavailable, "connect to the device (%s): %w", address, network.Trouble(err))
	}
	met, err := m.introduce(ctx, s)
	if err == nil {
		err = m.of.cfg.Rack.CheckIntroduction(s.Key(), met.Device, m.asked)
	}
	if err != nil {
		s.Close()
		return err
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.now.State != network.Connecting { // it was cancelled meanwhile
		s.Close()
		return network.ErrNoMeeting
	}
	m.session, m.met, m.now.State = s, met, network.Words
	m.now.Address, m.now.Claims, m.now.As = address, clean(met.Device), m.asked
	m.now.Until = m.of.cfg.Clock.Now().Add(met.Waits)
	return nil
}

// A device learns a little later that an introduction was ended here: for this long it may be busy
// with one that is over.
const (
	busyFor  = time.Second
	busyLook = 100 * time.Millisecond
)

func (m *meeting) introduce(ctx context.Context, s *link.Session) (*link.Meeting, error) {
	for began := time.Now(); ; {
		met, err := s.Introduce(ctx, m.of.cfg.Bench())
		if !errors.Is(err, link.ErrBusy) || time.Since(began) > busyFor {
			return met, err
		}
		if err := clock.Sleep(ctx, clock.System{}, busyLook); err != nil {
			return nil, err
		}
	}
}

// clean is a description without control characters.
func clean(d introduction.Description) introduction.Description {
	return introduction.Description{Name: line(d.Name), Family: line(d.Family), Model: line(d.Model), Serial: line(d.Serial), Release: line(d.Release)}
}

// untilOver ends the session once the introduction is over, or the device has ended it.
func (m *meeting) untilOver(ctx context.Context) {
	defer m.end()
	select {
	case <-m.met.Done():
		m.fail(&problem.Problem{Kind: problem.Gone, Text: "The device ended the introduction, or was lost.", Remedy: "Begin again."})
	case <-ctx.Done():
		m.fail(&problem.Problem{Kind: problem.Gone, Text: "The introduction was cancelled.", Remedy: "Begin again."})
	}
	m.session.Close()
}

// fail records why it has failed, unless it is over.
func (m *meeting) fail(err error) {
	m.mu.Lock()
	if m.now.State != network.Done && m.now.State != network.Failed {
		m.now.State, m.now.Trouble = network.Failed, problem.Of(err)
	}
	m.mu.Unlock()
	m.of.cfg.Changed()
}

// StopMeeting cancels the current introduction.
func (i *Introductions) StopMeeting() error {
	i.mu.Lock()
	m := i.meeting
	i.mu.Unlock()
	if m == nil || !m.going() {
		return network.ErrNoMeeting
	}
	m.giveUp()
	return nil
}

func (m *meeting) giveUp() {
	m.fail(&problem.Problem{Kind: problem.Gone, Text: "The introduction was cancelled.", Remedy: "Begin again."})
	m.end()
}

// Type takes the words that a person has typed. If they are right it returns at once, and the
// device's owner is asked; [Introductions.Meeting] tells the outcome. A typing mistake can be corrected;
// wrong words end the introduction.
func (i *Introductions) Type(_ context.Context, words string) (network.Meeting, error) {
	i.mu.Lock()
	m := i.meeting
	i.mu.Unlock()
	if m == nil || i.ctx.Err() != nil {
		return network.Meeting{}, network.ErrNoMeeting
	}
	if _, err := introduction.Parse(words); err != nil {
		return network.Meeting{}, problem.Errorf(problem.Invalid, "%w", err)
	}
	m.mu.Lock()
	ready := m.now.State == network.Words && m.met != nil && !m.busy
	m.busy = m.busy || ready
	m.mu.Unlock()
	if !ready {
		return network.Meeting{}, &problem.Problem{Kind: problem.Changed, Text: "This introduction is not waiting for words.", Remedy: "See its progress: earlybench network."}
	}
	if !m.met.Right(words) {
		wrong := &problem.Problem{Kind: problem.Refused, Text: "These are not the words that the device should show: they were mistyped, or somebody is in between. The introduction has ended.",
			Remedy: "On the device, refuse whatever it asks. Then start again, and read the words from its screen."}
		m.fail(wrong)
		m.end()
		return network.Meeting{}, wrong
	}
	m.mu.Lock()
	m.now.State = network.Asking
	m.mu.Unlock()
	i.cfg.Changed()
	i.work.Go(func() { m.ask(words) })
	return i.Meeting()
}

// longestQuestion is how long to wait for the owner.
const longestQuestion = 15 * time.Minute

// ask makes the device ask its owner, and pins its key after consent.
func (m *meeting) ask(words string) {
	defer m.end()
	ctx, cancel := context.WithTimeout(m.of.ctx, longestQuestion)
	defer cancel()
	answer, err := m.met.Typed(ctx, words, func(device.Admittance) {})
	switch {
	case err != nil && errors.Is(err, device.ErrEnded):
		err = &problem.Problem{Kind: problem.Gone, Text: "The device was lost while it was asking its owner.", Remedy: "Begin again."}
	case err == nil && answer.State == device.AdmitRefused:
		err = &problem.Problem{Kind: problem.Refused, Text: "The device's owner refused.", Remedy: "Start again, and let this bench in."}
	case err == nil && answer.State != device.Admitted:
		err = &problem.Problem{Kind: problem.Person, Text: "Nobody answered on the device.", Remedy: "Start again, and answer there."}
	}
	if err != nil {
		m.fail(err)
		return
	}
	k, err := m.of.cfg.Rack.Introduced(ctx, m.session.Key(), m.met.Device, m.asked)
	for pause := time.Second; problem.KindOf(err) == problem.Unavailable; pause *= 2 { // the owner is not asked twice because a disk is full
		if clock.Sleep(ctx, clock.System{}, pause) != nil {
			break
		}
		k, err = m.of.cfg.Rack.Introduced(ctx, m.session.Key(), m.met.Device, m.asked)
	}
	if err != nil {
		m.fail(fmt.Errorf("the device consented, but could not be saved: %w", err))
		return
	}
	m.mu.Lock()
	m.now.State, m.now.As = network.Done, k.Device().Handle
	address := m.now.Address
	m.mu.Unlock()
	m.way.Met(k, address)
	m.of.cfg.Changed()
}

// line is a text of a device in one line.
func line(s string) string { return plain.Cut(plain.Line(s), 100) }
