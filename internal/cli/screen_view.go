package cli

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/core/sheet"
)

// This file draws the terminal screen of prep.

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

// introduceCommand is the command that introduces the device.
func (s *screen) introduceCommand() string {
	heard := "HEARD, a name of earlybench network"
	if all, err := s.bench.Network(s.ctx); err == nil {
		if found := notMet(all, s.plan.Device); len(found) == 1 {
			heard = found[0].Name
		}
	}
	return "earlybench network introduce " + heard + " --as " + s.handle()
}

func (s *screen) viewHead(width int) string {
	d := s.plan.Device
	head := fmt.Sprintf("%s  %s %s, %s  %s", bold.Render(d.Handle), safe(d.Maker), safe(d.Model), system(d), faint.Render(reachedText(d)))
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
	if st.Who == "hands" && s.plan.Device.Lender != "" {
		who = "With hands over there"
	}
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
		lines = append(lines, s.consentLines()...)
	}
	keys := []string{}
	if st := s.step(); st != nil && s.job == nil {
		switch {
		case st.Action == "driver.install" && s.plan.Offer != nil:
			keys = append(keys, bold.Render("Enter")+" install it")
		case st.Action == "support.fetch" && s.plan.Need != nil:
			keys = append(keys, bold.Render("Enter")+" fetch it")
		case st.Action == "host.give" && st.Missing == "":
			keys = append(keys, bold.Render("Enter")+" take it back")
		case st.Action == "link.restart":
			keys = append(keys, bold.Render("Enter")+" restart the link")
		case st.Action == "device.register" && st.Missing == "":
			keys = append(keys, bold.Render("Enter")+" register it")
		case st.Action == "statement.put" && st.Missing == "":
			keys = append(keys, bold.Render("Enter")+" put it on")
		case st.Action == "introduction.begin":
			keys = append(keys, "in another terminal: "+s.introduceCommand())
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

// consentLines say what is to be consented to.
func (s *screen) consentLines() []string {
	answers := fmt.Sprintf("  %s yes  %s no", bold.Render("y"), bold.Render("n"))
	if n := s.plan.Need; n != nil && s.plan.Device.Next != nil && s.plan.Device.Next.Action == "support.fetch" {
		lines := []string{fmt.Sprintf("%s %s by %s, %s from depot %s", bold.Render(n.Name), n.Version, safe(n.Maker), bytesText(n.Size), n.Depot)}
		if n.Licence == "" {
			return append(lines, "Fetch it?"+answers)
		}
		return append(lines, fmt.Sprintf("Its licence is %s. Read it: earlybench host needs --licence %.12s", safe(n.Licence), n.LicenceDigest), "Accept this licence and fetch it?"+answers)
	}
	o := s.plan.Offer
	if o == nil {
		return nil
	}
	lines := []string{fmt.Sprintf("%s %s by %s, %s, %s, sha256 %s", bold.Render(o.Name), o.Version, safe(o.Maker), bytesText(o.Size), sourceText(*o), o.Digest)}
	for _, a := range o.Against {
		lines = append(lines, lamp.Render(" ! ")+" "+safe(a.Text))
	}
	return append(lines, fmt.Sprintf("Install it on host %s?%s", s.plan.Device.Host, answers))
}
