package cli

import (
	"bytes"
	"fmt"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"
	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/core/sheet"
	"earlybench.invalid/earlybench/internal/benchtest/leaks"
)

func TestMain(m *testing.M) { leaks.None(m) }

func planAt(gate string, gates map[string]string) client.Prep {
	step := client.Step{ID: "tap", Gate: gate, Who: "hands", Title: "Tap **Batch**", Text: "Tap **Batch** six times", Tell: true,
		Where: []string{"Care", "Batch"}, Draw: &client.Drawing{Title: "Inside label", Rows: 3, Row: 2, Word: "Batch", Taps: 6}}
	return client.Prep{Device: client.Device{Handle: "heron-2", Gates: gates, First: gate, Next: &step}, Steps: []client.Step{{ID: "plug", Title: "Plug it in", Done: true}, step}}
}

func TestTheScreenMarksAGateTheMomentItOpens(t *testing.T) {
	s := &screen{handles: []string{"heron-2"}, width: 100, height: 40}
	s.Update(planMsg{handle: "heron-2", plan: planAt("mode", map[string]string{"seen": "open", "mode": "shut"})})
	require.Empty(t, s.marks, "what was open before one looked is no news")
	text := s.View().Content
	for _, part := range []string{"heron-2", "Plug it in", "✓", "Tap Batch six times", "Care", "tap 6 times", "Inside label", "I have done that"} {
		require.Contains(t, text, part)
	}
	s.Update(planMsg{handle: "heron-2", plan: planAt("driver", map[string]string{"seen": "open", "mode": "open", "driver": "shut"})})
	require.Len(t, s.marks, 1)
	require.Contains(t, s.View().Content, "mode is open")
	s.Update(planMsg{handle: "kestle-1", plan: planAt("mode", nil)})
	require.Equal(t, "heron-2", s.plan.Device.Handle, "news of another device is not shown as this one's")
}

func TestTheScreenGoesOnToTheNextDeviceAndEndsAfterTheLast(t *testing.T) {
	s := &screen{handles: []string{"heron-1", "heron-2"}, width: 100, height: 40}
	ready := client.Prep{Device: client.Device{Handle: "heron-1", Gates: map[string]string{"seen": "open"}}}
	_, next := s.Update(planMsg{handle: "heron-1", plan: ready})
	require.NotNil(t, next)
	require.Equal(t, "heron-2", s.handle())
	ready.Device.Handle = "heron-2"
	_, end := s.Update(planMsg{handle: "heron-2", plan: ready})
	require.Equal(t, tea.Quit(), end())
}

func TestTheScreenInstallsNothingWithoutAYes(t *testing.T) {
	s := &screen{handles: []string{"heron-2"}, width: 100, height: 40}
	plan := planAt("driver", map[string]string{"driver": "shut"})
	plan.Device.Next.Action = "driver.install"
	plan.Offer = &client.DriverCandidate{DriverSet: client.DriverSet{Name: "halden-link", Version: "4.1", Maker: "Halden", Digest: "abc", Size: 1000}, Here: true}
	s.Update(planMsg{handle: "heron-2", plan: plan})
	require.Nil(t, s.press("y"), "nothing was asked yet")
	require.Nil(t, s.press("enter"))
	require.True(t, s.consent)
	require.Contains(t, s.View().Content, "sha256 abc")
	require.Nil(t, s.press("n"))
	require.False(t, s.consent)
	s.press("enter")
	require.NotNil(t, s.press("y"), "now it is begun")
}

func TestAnErrorIsShownAndLosesNothing(t *testing.T) {
	s := &screen{handles: []string{"heron-2"}, width: 100, height: 40}
	s.Update(planMsg{handle: "heron-2", plan: planAt("mode", map[string]string{"mode": "shut"})})
	s.Update(jobMsg{job: client.Job{State: "failed", Error: &client.Trouble{Text: "Nobody answered.", Remedy: "Ask again."}}})
	require.Contains(t, s.View().Content, "Nobody answered. Ask again.")
	require.Contains(t, s.View().Content, "Tap Batch six times")
}

func TestTheScreenFitsItsTerminal(t *testing.T) {
	plan := planAt("mode", map[string]string{})
	for _, g := range sheet.Order {
		plan.Device.Gates[g] = "shut"
	}
	plan.Device.Maker, plan.Device.Model, plan.Device.Host, plan.Device.Port, plan.Device.Link = "Ivory Reach", "Osier Fern", "loft", "hub port 3", "cable"
	step := plan.Device.Next
	step.Note = "Quickly, one after the other: whoever pauses for two seconds begins again."
	step.Sight = "the notches of the line fill, and then the row is a link."
	step.Risk = "Whoever can debug can read everything on the device."
	for range 7 {
		plan.Steps = append(plan.Steps, *step)
	}
	for _, size := range [][2]int{{62, 24}, {80, 24}, {120, 24}, {120, 40}} {
		t.Run(fmt.Sprint(size), func(t *testing.T) {
			s := &screen{handles: []string{"heron-2", "kestle-1"}, width: size[0], height: size[1]}
			s.Update(planMsg{handle: "heron-2", plan: plan})
			s.problem = "Nobody answered on heron-2 in time. Pick it up, then ask again."
			text := stripStyle(s.View().Content)
			lines := strings.Split(text, "\n")
			require.LessOrEqual(t, len(lines), size[1], text)
			for _, l := range lines {
				require.LessOrEqual(t, lipgloss.Width(strings.TrimRight(l, " ")), size[0], l)
			}
			flat := strings.Join(strings.Fields(text), " ")
			for _, part := range []string{"I have done that", "leave", "You will see:", "It will warn you:", "Tap Batch six times"} {
				require.Contains(t, flat, part)
			}
		})
	}
}

func TestTheRackFitsItsTerminal(t *testing.T) {
	gates := map[string]string{}
	for _, g := range sheet.Order {
		gates[g] = "shut"
	}
	next := client.Step{Title: "Pick the number that is shown here", Who: "hands"}
	devices := []client.Device{{Handle: "whimbrel-2", Maker: "Ostler House", Model: "Whimbrel tablet", Release: "6.1", Gates: gates, First: "admitted", Summary: "blocked", Next: &next}}
	for _, width := range []int{62, 80, 120} {
		var out bytes.Buffer
		(&program{out: &out, width: width, terminal: true}).printRack(devices, "fellgate/callout")
		for line := range strings.SplitSeq(stripStyle(out.String()), "\n") {
			require.LessOrEqual(t, lipgloss.Width(line), width, line)
		}
		require.Contains(t, out.String(), "Pick the number", "at %d", width)
	}
}

func TestTheScreenMovesToTheDeviceThatSomebodyWorksOn(t *testing.T) {
	s := &screen{handles: []string{"heron-2", "kestle-1"}, width: 100, height: 40}
	s.Update(planMsg{handle: "heron-2", plan: planAt("mode", nil)})
	other := planAt("mode", nil)
	other.Device.Handle = "kestle-1"
	s.Update(planMsg{handle: "kestle-1", plan: other})
	require.Equal(t, "heron-2", s.handle(), "nothing has moved yet")
	other.Steps = append([]client.Step{{ID: "first", Title: "First", Done: true}}, other.Steps...)
	_, ask := s.Update(planMsg{handle: "kestle-1", plan: other})
	require.NotNil(t, ask)
	require.Equal(t, "kestle-1", s.handle())
	s.Update(planMsg{handle: "kestle-1", plan: other})
	require.Contains(t, s.View().Content, "kestle-1 has gone on, so it is shown now")
}
