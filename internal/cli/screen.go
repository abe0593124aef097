package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"

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
	if _, err := b.Prep(ctx, handles[0], app); err != nil {
		return err
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
		return &exitError{exitFailed, "Left. What is done stays done; go on with: earlybench prep " + strings.Join(handles, " ")}
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
		if s.consent && s.plan.Offer != nil {
			s.consent = false
			handle, plan := s.handle(), s.plan
			return s.start(func() (client.Job, error) {
				return decided(s.ctx, s.bench, plan, func(ctx context.Context) (client.Job, error) {
					return s.bench.InstallDriver(ctx, handle, plan.Offer.Digest)
				})
			})
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
	case step.Action == "driver.install" && s.plan.Offer != nil:
		s.consent = true
	case step.Action == "admission.ask":
		return s.start(func() (client.Job, error) {
			return decided(s.ctx, s.bench, plan, func(ctx context.Context) (client.Job, error) { return s.bench.Ask(ctx, handle) })
		})
	case step.Action == "app.try":
		return s.start(func() (client.Job, error) {
			return s.bench.Start(s.ctx, client.Run{App: s.app, Device: handle, Try: true})
		})
	case step.Tell:
		return func() tea.Msg { return doneMsg{tell(s.ctx, s.bench, plan, step.ID)} }
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

// planWidth is the width of the plan's column.
const planWidth = 34

// View draws the screen.
func (s *screen) View() tea.View {
	var v tea.View
	v.AltScreen = true
	v.WindowTitle = "prep " + s.handle()
	if s.plan.Device.Handle == "" {
		v.SetContent("\n  Asking how " + s.handle() + " stands…\n\n  " + s.problem)
		return v
	}
	v.SetContent(s.layout())
	return v
}

// margin is the empty columns at each side of the screen.
const margin = 2

// layout fits head, plan, step and keys into the terminal. The keys always show; on a narrow
// terminal the plan is a line, and on a low one the drawing gives way, then the end of the step.
func (s *screen) layout() string {
	inner := max(s.width-2*margin, 30)
	head, foot := s.viewHead(inner), lipgloss.NewStyle().Width(inner).Render(s.viewFoot())
	room := s.height - lipgloss.Height(head) - lipgloss.Height(foot)
	body := s.viewBody(inner, room)
	gap := "\n"
	if lipgloss.Height(body)+2 <= room {
		gap = "\n\n"
	}
	return lipgloss.NewStyle().PaddingLeft(margin).Render(strings.Join([]string{head, body, foot}, gap))
}

// viewBody renders plan and step.
func (s *screen) viewBody(inner, room int) string {
	if wide := inner - planWidth - 3; wide >= 44 {
		right := s.fitStep(wide, room)
		left := clip(lipgloss.NewStyle().Width(planWidth).Render(s.viewPlan()), room)
		return lipgloss.JoinHorizontal(lipgloss.Top, left, "   ", right)
	}
	return s.planLine() + "\n" + s.fitStep(inner, room-1)
}

// fitStep renders the step in a width and, as far as it can, in a number of lines.
func (s *screen) fitStep(width, room int) string {
	var out string
	for _, how := range []struct {
		drawn bool
		gap   string
	}{{true, "\n\n"}, {false, "\n\n"}, {false, "\n"}} {
		out = lipgloss.NewStyle().Width(width).Render(s.viewStep(how.drawn, how.gap))
		if lipgloss.Height(out) <= room {
			return out
		}
	}
	return clip(out, room)
}

// clip cuts a text to a number of lines, and says so.
func clip(text string, room int) string {
	lines := strings.Split(text, "\n")
	if len(lines) <= max(room, 1) {
		return text
	}
	return strings.Join(append(lines[:max(room-1, 0)], faint.Render("…")), "\n")
}

// planLine is the plan in a line.
func (s *screen) planLine() string {
	for i, st := range s.plan.Steps {
		if s.step() != nil && st.ID == s.step().ID {
			return faint.Render(fmt.Sprintf("Step %d of %d", i+1, len(s.plan.Steps)))
		}
	}
	return ""
}

func (s *screen) viewHead(width int) string {
	d := s.plan.Device
	where := "not on any bus"
	if d.Link != "" {
		where = fmt.Sprintf("by %s, %s of %s", d.Link, d.Port, d.Host)
	}
	head := fmt.Sprintf("%s  %s %s, %s %s  %s", bold.Render(d.Handle), safe(d.Maker), safe(d.Model), d.Family, d.Release, faint.Render(where))
	if len(s.handles) > 1 {
		head = faint.Render(fmt.Sprintf("%d/%d ", s.at+1, len(s.handles))) + head
	}
	head = cutTo(head, width)
	var signs, words, short strings.Builder
	for _, g := range sheet.Order {
		state, ok := d.Gates[g]
		if !ok {
			continue
		}
		cell := max(len(g), 3) + 2
		mark := " " + marks[state] + " "
		if g == d.First {
			mark = lamp.Render(mark)
		}
		signs.WriteString(mark + strings.Repeat(" ", cell-3))
		words.WriteString(g + strings.Repeat(" ", cell-len(g)))
		short.WriteString(mark)
	}
	if lipgloss.Width(signs.String()) > width {
		return head + "\n" + short.String() + " " + d.First
	}
	return head + "\n\n" + signs.String() + "\n" + faint.Render(words.String())
}

func (s *screen) viewPlan() string {
	var lines []string
	for i, st := range s.plan.Steps {
		mark, title := faint.Render(fmt.Sprintf("%2d", i+1)), plainText(st.Title)
		switch {
		case s.step() != nil && st.ID == s.step().ID:
			mark, title = lamp.Render(fmt.Sprintf("%2d", i+1)), bold.Render(title)
		case st.Done:
			mark, title = good.Render(" ✓"), faint.Render(title)
			if st.Told {
				title += faint.Render(" (confirmed)")
			}
		}
		lines = append(lines, lipgloss.JoinHorizontal(lipgloss.Top, mark, " ", lipgloss.NewStyle().Width(planWidth-4).Render(title)))
	}
	return strings.Join(lines, "\n")
}

// viewStep renders the step, with its drawing or without, its parts with a gap between them.
func (s *screen) viewStep(drawn bool, gap string) string {
	st := s.step()
	if st == nil {
		return bold.Render("Nothing to do here just now.") + "\n\n" + safe(s.plan.Device.Says)
	}
	who := map[string]string{"hands": "With your hands", "computer": "At the computer", "automatic": "By itself"}[st.Who]
	if st.Minutes > 0 {
		who += fmt.Sprintf(", about %d min", st.Minutes)
	}
	parts := []string{faint.Render(who), bold.Render(plainText(st.Text))}
	if st.Missing != "" {
		parts = append(parts, lamp.Render(" ! ")+" "+emphasis(st.Missing))
	}
	if len(st.Where) > 0 {
		parts = append(parts, way(st.Where))
	}
	if st.Draw != nil && drawn {
		parts = append(parts, drawing(*st.Draw))
	}
	for _, more := range []struct{ head, text string }{{"", st.Note}, {"You will see: ", st.Sight}, {"It will warn you: ", st.Risk}, {"The settings' own search finds it by: ", st.Search}} {
		if more.text != "" {
			parts = append(parts, more.head+emphasis(more.text))
		}
	}
	if st.Denied != nil {
		parts = append(parts, lamp.Render(" ! ")+" "+safe(st.Denied.By)+" said that this is done; the bench sees that it is not. What is observed counts.")
	}
	return strings.Join(parts, gap)
}

// drawing shows in text where to tap: the page as lines, and the row with its real name.
func drawing(d client.Drawing) string {
	const inner = 30
	edge := "│"
	out := []string{"╭" + strings.Repeat("─", inner) + "╮"}
	for row := 1; row <= d.Rows; row++ {
		if row != d.Row {
			out = append(out, edge+faint.Render("  "+strings.Repeat("─", 8+row%3*4))+strings.Repeat(" ", inner-10-row%3*4)+edge)
			continue
		}
		word := " " + d.Word + strings.Repeat(" ", max(inner-len([]rune(d.Word))-6, 1)) + "(◉) "
		out = append(out, edge+lamp.Render(word)+strings.Repeat(" ", max(inner-lipgloss.Width(word), 0))+edge+" ◀ here")
		if d.Taps > 1 {
			out[len(out)-1] = strings.TrimSuffix(out[len(out)-1], "here") + fmt.Sprintf("tap %d times", d.Taps)
		}
	}
	title := " " + d.Title
	out = append(out, edge+title+strings.Repeat(" ", max(inner-lipgloss.Width(title), 0))+edge, "╰"+strings.Repeat("─", inner)+"╯")
	return strings.Join(out, "\n")
}

func (s *screen) viewFoot() string {
	var lines []string
	recent := s.marks[max(len(s.marks)-3, 0):]
	for _, m := range slices.Backward(recent) {
		lines = append(lines, good.Render("● observed ")+m)
	}
	if s.job != nil {
		lines = append(lines, lamp.Render(" … ")+" "+safe(s.job.Title)+faint.Render(" (goes on)"))
	}
	if s.job != nil {
		for _, ph := range s.job.Phases {
			if ph.Asks != "" && ph.State == "running" {
				lines = append(lines, lamp.Render(" ▸ ")+" "+safe(ph.Asks))
			}
		}
	}
	if s.problem != "" {
		lines = append(lines, lamp.Render(" ! ")+" "+safe(s.problem))
	}
	if s.consent {
		o := s.plan.Offer
		lines = append(lines, fmt.Sprintf("%s %s by %s, %s, sha256 %s", bold.Render(o.Name), o.Version, safe(o.Maker), bytesText(o.Size), o.Digest),
			fmt.Sprintf("Install it on host %s?  %s yes  %s no", s.plan.Device.Host, bold.Render("y"), bold.Render("n")))
	}
	keys := []string{}
	if st := s.step(); st != nil && s.job == nil {
		switch {
		case st.Action == "driver.install" && s.plan.Offer != nil:
			keys = append(keys, bold.Render("Enter")+" install it")
		case st.Action == "app.try":
			keys = append(keys, bold.Render("Enter")+" try it")
		case st.Action == "admission.ask":
			keys = append(keys, bold.Render("Enter")+" have it ask")
		case st.Tell && st.Seen:
			keys = append(keys, bold.Render("Enter")+" I have done that; or the bench sees it")
		case st.Tell:
			keys = append(keys, bold.Render("Enter")+" I have done that")
		default:
			keys = append(keys, "the bench sees it by itself")
		}
	}
	if len(s.handles) > 1 {
		keys = append(keys, bold.Render("Tab")+" next device")
	}
	keys = append(keys, bold.Render("q")+" leave; it goes on later, or in the console")
	return strings.Join(append(lines, strings.Join(keys, faint.Render("  ·  "))), "\n")
}
