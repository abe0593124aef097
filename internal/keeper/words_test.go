package keeper_test

import (
	"bytes"
	"io/fs"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/hostlink"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/core/sheet"
	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/internal/rack"
	"earlybench.invalid/earlybench/internal/store"
	"earlybench.invalid/earlybench/sheets"
	"earlybench.invalid/earlybench/standin"
)

func TestWhatPeopleSayNarrowsTheCausesAndIsLearnedOnceTheGateOpens(t *testing.T) {
	rig := benchtest.Handset(t, false)
	b := benchtest.New(t)
	k := b.Watch(rig)
	b.First(k, "mode")
	require.Equal(t, problem.Invalid, problem.KindOf(b.Outlook.Answer(t.Context(), b.Said(k), "back-room", "maybe")))
	require.ErrorIs(t, b.Outlook.Answer(t.Context(), b.Said(k), "dance", "yes"), store.ErrNotFound)
	require.ErrorIs(t, b.Outlook.Remedied(t.Context(), b.Said(k), "dance"), store.ErrNotFound)
	require.NoError(t, b.Outlook.Answer(t.Context(), b.Said(k), "back-room", "yes"))
	require.Equal(t, "choice-off", b.Look(k).Why.Causes[0].ID)
	require.NoError(t, b.Outlook.TakeBack(t.Context(), b.Said(k), "back-room"))
	require.Equal(t, "way-hidden", b.Look(k).Why.Causes[0].ID)
	require.NoError(t, b.Outlook.Answer(t.Context(), b.Said(k), "back-room", "no"))
	require.NoError(t, b.Outlook.Remedied(t.Context(), b.Said(k), "way-hidden"))

	benchtest.Open(t, rig)
	b.First(k, "driver")
	b.Eventually("it is learned", func() bool {
		all, err := b.Store.Learned(t.Context())
		return err == nil && len(all) == 1 && all[0].Cause == "way-hidden" && all[0].Family == "tarn" && all[0].Host == "loft" && all[0].Cases == 1
	})
	b.Eventually("what was said is over", func() bool { return value(k, sheet.Said("back-room")) == "(not known)" })
	before, err := b.Store.History(t.Context(), k.Device().ID, func(fact.Key) (fact.Type, bool) { return fact.Text, true }, 0, 100)
	require.NoError(t, err)
	require.True(t, slices.ContainsFunc(before, func(l store.Known) bool { return l.Fact.Key == sheet.Said("back-room") && l.Fact.By == "ada" }), "the history keeps it")
	n, err := b.Outlook.Unlearn(t.Context(), "tarn", false)
	require.NoError(t, err)
	require.EqualValues(t, 1, n)
}

func TestADeviceThatDoesNotShowUpIsAskedAfterAndWhatHelpedIsLearned(t *testing.T) {
	rig := benchtest.Handset(t, false)
	require.NoError(t, benchtest.Steer(t, rig, standin.MethodPull, standin.Steer{Body: "heron-2"}))
	b := benchtest.New(t)
	at := rig.Addresses()
	b.Hosts.Watch(store.Host{Name: "loft", USBIP: at.Hub, Control: at.Host})
	k, err := b.Rack.Find("unseen")
	require.NoError(t, err)
	require.Equal(t, "seen", b.Look(k).Why.Gate)
	require.NoError(t, b.Outlook.Answer(t.Context(), b.Said(k), "charging", "yes"))
	require.Equal(t, "cable-charges-only", b.Look(k).Why.Causes[0].ID)
	require.NoError(t, b.Outlook.Remedied(t.Context(), b.Said(k), "cable-charges-only"))
	require.NoError(t, benchtest.Steer(t, rig, standin.MethodPlug, standin.Steer{Body: "heron-2"}))
	b.Eventually("it is learned", func() bool {
		all, err := b.Store.Learned(t.Context())
		return err == nil && len(all) == 1 && all[0] == store.Learned{Family: "", Host: "loft", Cause: "cable-charges-only", Cases: 1, Last: all[0].Last}
	})
	b.Eventually("it starts over", func() bool { return len(b.Look(k).Why.Answers) == 0 })
	require.Equal(t, problem.Invalid, problem.KindOf(b.Rack.Set(t.Context(), "heron-1", rack.Change{Handle: ptr("unseen")})))
}

// setSheets goes over to other sheets, as the service does.
func setSheets(t *testing.T, b *benchtest.Bench, lib *sheet.Library) {
	t.Helper()
	require.NoError(t, b.Rack.SetSheets(t.Context(), lib))
	b.Cables.Again(t.Context())
}

func ptr[T any](v T) *T { return &v }

func TestAPersonsWordForAFactIsKeptAndGivesWayToWhatIsSeen(t *testing.T) {
	rig := benchtest.Handset(t, false)
	b := benchtest.New(t)
	k := b.Watch(rig)
	require.NoError(t, b.Outlook.TellFact(t.Context(), b.Said(k), "device.language", "de"))
	s := b.Look(k)
	require.Equal(t, "Tap **Los** sechsmal", s.Fill(s.Sheet.Step("tap").Text), "in the words of its screens")
	require.ErrorContains(t, b.Outlook.TellFact(t.Context(), b.Said(k), "usb.link", "yes"), "people can state")
	require.ErrorContains(t, b.Outlook.TellFact(t.Context(), b.Said(k), "device.locked", "perhaps"), "write yes or no")
	require.NoError(t, b.Outlook.TellFact(t.Context(), b.Said(k), "device.locked", "no"))
	require.Equal(t, "no", value(k, fact.Locked))
}

func TestSheetsCanBeChangedUnderTheDevices(t *testing.T) {
	rig := benchtest.Handset(t, false)
	b := benchtest.New(t)
	k := b.Watch(rig)
	b.First(k, "mode")
	unrecognised := hostlink.Bus{Devices: []hostlink.Device{{BusID: "1-4", Port: "port 4", USB: "f3e1:0102", Run: "r", Serial: "S"}}}
	attic := store.Host{Name: "attic", USBIP: "127.0.0.1:1"}
	b.Cables.Bus(t.Context(), attic, unrecognised)
	require.Len(t, b.Rack.Unrecognised(), 1)
	halden, err := fs.ReadFile(sheets.Files, "tarn/halden.yaml")
	require.NoError(t, err)
	lib, err := sheet.LoadWith(sheets.Files, map[string][]byte{
		"slate.yaml":  []byte(sheet.Draft(sheet.Seen{Name: "slate", USB: "f3e1:0102"})),
		"halden.yaml": bytes.Replace(halden, []byte("row: Batch"), []byte("row: Lot"), 1)})
	require.NoError(t, err)
	setSheets(t, b, lib)
	require.Empty(t, b.Rack.Unrecognised())
	slate, err := b.Rack.Find("slate-1")
	require.NoError(t, err)
	b.First(slate, "mode")
	s := b.Look(k)
	require.Equal(t, "Tap **Lot** six times", s.Fill(s.Sheet.Step("tap").Text))
	require.Equal(t, "mode", s.Readiness.First, "what is seen of it stays")
	lib, err = sheet.Load(sheets.Files)
	require.NoError(t, err)
	setSheets(t, b, lib)
	require.Equal(t, "mode", b.Look(slate).Readiness.First, "a device whose sheet has gone keeps the one that it had")
}
