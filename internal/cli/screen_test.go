package cli

import (
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/internal/benchtest"
)

func TestMain(m *testing.M) { benchtest.NoLeaks(m) }

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
	plan.Offer = &client.DriverSet{Name: "halden-link", Version: "4.1", Maker: "Halden", Digest: "abc", Size: 1000}
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
