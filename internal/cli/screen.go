package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/core/sheet"
)

// screen is the terminal screen of prep: the plan, the current step, where to tap, and a
// mark as soon as something is observed. It has no state of its own that the service does
// not know.
type screen struct {
	ctx     context.Context
	bench   *client.Client
	handles []string
	at      int    // of the handles
	app     string // "" for none
	plan    client.Prep
	done    map[string]int  // steps of each device
	ready   map[string]bool // of the devices
	marks   []string        // what was observed while one looked on, the newest last
	job     *client.Job
	problem string
	consent bool // asked for the driver set
	width   int
	height  int
	ended   error
}

// Messages to the screen.
type (
	planMsg struct {
		handle string
		plan   client.Prep
		err    error
	}
	changedMsg struct{ handle string } // "" for a job
	jobMsg     struct {
		job client.Job
		err error
	}
	doneMsg struct{ err error }
)

// leadOnScreen leads through the prep of devices on one terminal screen, until all are
// ready or the person leaves.
func (p *program) leadOnScreen(ctx context.Context, handles []string, app string) error {
	b, err := p.bench()
	if err != nil {
		return err
	}
	for _, h := range handles {
		plan, err := b.Prep(ctx, h, app)
		if err != nil {
			return err
		}
		if leaving(plan.Device) {
			return leavingError(plan.Device)
		}
	}
	now, err := b.Bench(ctx)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	s := &screen{ctx: ctx, bench: b, handles: handles, app: app, width: p.width, height: 40}
	run := tea.NewProgram(s, tea.WithContext(ctx))        // at the terminal that this program sits at
	go b.Events(ctx, now.Sequence, func(e client.Event) { //nolint:errcheck // asking again tells
		switch e.Type {
		case "device.changed":
			run.Send(changedMsg{e.Subject})
		case "job.changed":
			run.Send(changedMsg{})
		}
	})
	if _, err := run.Run(); err != nil && !errors.Is(err, tea.ErrInterrupted) && !errors.Is(err, tea.ErrProgramKilled) {
		return err
	}
	if s.ended != nil {
		return s.ended
	}
	if next := s.plan.Device.Next; next != nil || s.plan.Device.First != "" {
		return &exitError{exitFailed, "Left. What is done stays done. Continue with: earlybench prep " + strings.Join(handles, " ")}
	}
	fmt.Fprintln(p.out, readyText(s.handle(), app))
	return nil
}

func (s *screen) handle() string { return s.handles[s.at] }

// Init asks for the state of every device.
func (s *screen) Init() tea.Cmd {
	var all []tea.Cmd
	for _, h := range s.handles {
		all = append(all, s.askOf(h))
	}
	return tea.Batch(all...)
}

func (s *screen) ask() tea.Cmd { return s.askOf(s.handle()) }

func (s *screen) askOf(handle string) tea.Cmd {
	return func() tea.Msg {
		plan, err := s.bench.Prep(s.ctx, handle, s.app)
		return planMsg{handle, plan, err}
	}
}

// Update handles keys and news of the device.
func (s *screen) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch m := msg.(type) {
	case tea.WindowSizeMsg:
		s.width, s.height = m.Width, m.Height
	case tea.KeyPressMsg:
		return s, s.press(m.String())
	case changedMsg:
		if m.handle != "" && m.handle != s.handle() {
			if slices.Contains(s.handles, m.handle) {
				return s, s.askOf(m.handle)
			}
			return s, nil
		}
		if s.job != nil {
			return s, tea.Batch(s.ask(), s.look(s.job.ID))
		}
		return s, s.ask()
	case planMsg:
		return s, s.take(m)
	case jobMsg:
		s.takeJob(m)
	case doneMsg:
		if s.problem = ""; m.err != nil {
			s.problem = m.err.Error()
		}
		return s, s.ask()
	}
	return s, nil
}

// take handles news of the device: gates that have opened are marked with the time, and
// after a device that is ready comes the next one.
func (s *screen) take(m planMsg) tea.Cmd {
	if m.err != nil {
		s.problem = m.err.Error()
		return nil
	}
	if moves := s.notes(m); m.handle != s.handle() {
		if at := slices.Index(s.handles, m.handle); moves && at >= 0 && s.job == nil && !s.consent {
			s.marks = append(s.marks, m.handle+" has gone on, so it is shown now")
			return s.to(at)
		}
		return nil
	}
	before := s.plan
	s.plan = m.plan
	if before.Device.Handle == m.handle {
		for _, g := range sheet.Order {
			if was, is := before.Device.Gates[g], m.plan.Device.Gates[g]; was != is && is == "open" {
				s.marks = append(s.marks, fmt.Sprintf("%s %s is open", time.Now().Format("15:04:05"), g))
			}
		}
	}
	if s.step() == nil && m.plan.Device.First == "" {
		for i := 1; i < len(s.handles); i++ {
			if at := (s.at + i) % len(s.handles); !s.ready[s.handles[at]] {
				s.marks = append(s.marks, m.handle+" is ready")
				return s.to(at)
			}
		}
		return tea.Quit
	}
	return nil
}

// notes remembers how many steps of a device are done, and reports whether there are more than
// before: somebody works on that device.
func (s *screen) notes(m planMsg) bool {
	done := 0
	for _, st := range m.plan.Steps {
		if st.Done {
			done++
		}
	}
	before, known := s.done[m.handle]
	if s.done == nil {
		s.done, s.ready = map[string]int{}, map[string]bool{}
	}
	s.done[m.handle], s.ready[m.handle] = done, m.plan.Device.First == ""
	return known && done > before
}

func (s *screen) takeJob(m jobMsg) {
	if m.err != nil {
		s.problem = m.err.Error()
		return
	}
	s.problem = ""
	if s.job = &m.job; m.job.State != "running" && m.job.State != "waiting" {
		s.job = nil
		if m.job.Error != nil {
			s.problem = m.job.Error.Text + " " + m.job.Error.Remedy
		}
	}
}

// to goes to another device.
func (s *screen) to(at int) tea.Cmd {
	s.at = (at + len(s.handles)) % len(s.handles)
	s.plan, s.job, s.problem, s.consent = client.Prep{}, nil, "", false
	return s.ask()
}

func (s *screen) step() *client.Step { return s.plan.Device.Next }

func (s *screen) press(key string) tea.Cmd {
	step := s.step()
	switch key {
	case "q", "ctrl+c", "esc":
		return tea.Quit
	case "tab", "right":
		return s.to(s.at + 1)
	case "shift+tab", "left":
		return s.to(s.at - 1)
	case "enter":
		if step == nil || s.job != nil {
			return nil
		}
		return s.act(*step)
	case "y":
		if s.consent && step != nil {
			s.consent = false
			return s.consented(*step)
		}
	case "n":
		s.consent = false
	}
	return nil
}

// act does what Enter means for a step.
func (s *screen) act(step client.Step) tea.Cmd {
	handle, plan := s.handle(), s.plan
	switch {
	case step.Action == "driver.install" && s.plan.Offer != nil, step.Action == "support.fetch" && s.plan.Need != nil && s.plan.Need.Job == "":
		s.consent = true
	case step.Action == "support.fetch" && s.plan.Need != nil: // somebody fetches it already
		return s.look(s.plan.Need.Job)
	case step.Action == "admission.ask":
		return s.start(func() (client.Job, error) {
			return decided(s.ctx, s.bench, plan, func(ctx context.Context) (client.Job, error) { return s.bench.Ask(ctx, handle) })
		})
	case step.Action == "host.give" && step.Missing == "":
		return func() tea.Msg { return doneMsg{s.bench.GiveDevice(s.ctx, handle, "")} }
	case step.Action == "link.restart":
		return func() tea.Msg { return doneMsg{s.bench.RestartLink(s.ctx, handle)} }
	case step.Action == "device.register" && step.Missing == "":
		return s.start(func() (client.Job, error) {
			return s.bench.RegisterDevices(s.ctx, client.NewEntries{Devices: []string{handle}})
		})
	case step.Action == "statement.put" && step.Missing == "":
		return s.start(func() (client.Job, error) { return s.bench.Allow(s.ctx, handle, client.Allow{App: s.app}) })
	case step.Action == "app.try":
		return s.start(func() (client.Job, error) {
			return s.bench.Start(s.ctx, client.Run{App: s.app, Device: handle, Try: true})
		})
	case step.Tell:
		return func() tea.Msg { return doneMsg{tell(s.ctx, s.bench, plan, step.ID)} }
	}
	return nil
}

// consented does what was just consented to.
func (s *screen) consented(step client.Step) tea.Cmd {
	handle, plan := s.handle(), s.plan
	switch {
	case step.Action == "support.fetch" && plan.Need != nil:
		return s.start(func() (client.Job, error) {
			jobs, err := s.bench.FetchNeeds(s.ctx, plan.Need.Accept)
			if err != nil || len(jobs) == 0 {
				return client.Job{}, err
			}
			return jobs[0], nil
		})
	case step.Action == "driver.install" && plan.Offer != nil:
		consent := client.DriverConsent{Accept: plan.Offer.Digest}
		for _, a := range plan.Offer.Against {
			consent.Despite = append(consent.Despite, a.Word)
		}
		return s.start(func() (client.Job, error) {
			return decided(s.ctx, s.bench, plan, func(ctx context.Context) (client.Job, error) { return s.bench.InstallDriver(ctx, handle, consent) })
		})
	}
	return nil
}

func (s *screen) start(work func() (client.Job, error)) tea.Cmd {
	return func() tea.Msg {
		j, err := work()
		return jobMsg{j, err}
	}
}

func (s *screen) look(id string) tea.Cmd {
	return func() tea.Msg {
		j, err := s.bench.Job(s.ctx, id)
		return jobMsg{j, err}
	}
}
