package body

import (
	"context"
	"fmt"
	"image/png"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/standin/bodies"
)

// made makes a brand-new body of a maker, on power.
func made(t *testing.T, maker, model string) (*Body, *clock.Moved) {
	t.Helper()
	specs, err := LoadSpecs(bodies.Files)
	require.NoError(t, err)
	c := &clock.Moved{}
	spec := specs[maker]
	spec.Boot = "300ms"
	b, err := New(Config{Name: maker + "-1", Spec: spec, Model: model, Serial: "0000 1111", Dir: t.TempDir(), Clock: c})
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, b.Close()) })
	b.Plugged()
	return b, c
}

// does does things on a body, in words: touch by default, or "type", "slide",
// "press" and what; "wait" lets time pass.
func does(t *testing.T, b *Body, c *clock.Moved, things ...string) {
	t.Helper()
	for _, thing := range things {
		verb, what, _ := strings.Cut(thing, ": ")
		var err error
		switch verb {
		case "type":
			err = b.Type(what)
		case "slide":
			err = b.SlideTo(what)
		case "press":
			err = b.Press(what)
		case "wait":
			d, _ := time.ParseDuration(what)
			c.Move(d)
			time.Sleep(2 * tickEvery)
		case "reboot":
			require.Eventually(t, b.On, 5*time.Second, 10*time.Millisecond)
		default:
			err = b.Touch(thing)
		}
		require.NoError(t, err, thing)
	}
}

func times(n int, what string) []string { return slices.Repeat([]string{what}, n) }

// shows is everything that a body's screen says.
func (b *Body) says() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	s := b.layout()
	out := []string{s.kind, s.above, s.title, s.text, s.board, s.toast}
	for _, e := range s.elements() {
		out = append(out, e.Text, e.Value)
	}
	return strings.Join(out, " | ")
}

func hasLink(b *Body) bool {
	d := b.Descriptor()
	_, _, _, ok := d.Link()
	return ok
}

func (b *Body) setting(name string) string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.st.Settings[name]
}

func TestEveryFamilyIsOpenedInItsOwnWay(t *testing.T) {
	for _, way := range []struct {
		maker, model string
		things       []string
	}{
		{"halden", "H4", slices.Concat([]string{"Settings", "Care", "Inside label"}, times(6, "Batch"), []string{"Back", "Back", "Back room", "Computers may", "debug and install", "Let them"})},
		{"halden", "H4", slices.Concat([]string{"Settings", "Find", "type: batch", "Batch"}, times(6, "Batch"), []string{"Back", "Back", "Back room", "Computers may", "debug and install", "Let them"})},
		{"ivory-reach", "OF", slices.Concat([]string{"Settings", "Warranty"}, times(9, "Card number"), []string{"slide: 14789", "Back", "Back room", "Computers may", "debug and install", "So be it"})},
		{"ivory-reach", "OF", slices.Concat([]string{"Settings", "Warranty"}, times(9, "Card number"), []string{"Dot 1", "Dot 4", "Dot 7", "Dot 8", "Dot 9", "Done", "Back", "Back room", "Computers may", "debug and install", "So be it"})},
		{"kestle", "K7", []string{"Settings", "Strongroom", "Visitors", "Visitors", "let them"}},
		{"kestle", "K7", []string{"Key 1", "Key 3", "Key 3", "Key 1", "Key 1"}},
	} {
		b, c := made(t, way.maker, way.model)
		require.False(t, hasLink(b), "brand new")
		does(t, b, c, way.things...)
		require.True(t, hasLink(b), "%s: %s", way.maker, b.says())
	}
}

func TestAnInnIsOpenedByTheSignItPaints(t *testing.T) {
	for model, to := range map[string][]string{"WT": {"Doorway", "Guests"}, "WO": {"Keys and papers", "Visitors' book"}, "DH": {"Doorway", "Guests"}} {
		b, c := made(t, "ostler", model)
		require.True(t, hasLink(b), "its link is there while it is unlocked")
		does(t, b, c, to...)
		does(t, b, c, "Let guests in", "Let them in", "type: 1066", "Done")
		require.Equal(t, "restart", b.setting("sign"))
		does(t, b, c, "Restart the house")
		require.False(t, b.On())
		does(t, b, c, "reboot: ")
		require.False(t, hasLink(b), "it comes back locked")
		does(t, b, c, "Unlock", "type: 1066", "Done")
		sign := b.st.Sign
		require.Len(t, sign, 4)
		require.Contains(t, b.says(), sign)
		does(t, b, c, "type: XXXX", "Open the door")
		require.Contains(t, b.says(), "not what stands on the boards")
		require.Equal(t, "asked", b.setting("sign"))
		does(t, b, c, "type: "+sign, "Open the door")
		require.Equal(t, "done", b.setting("sign"))
	}
}

func TestAWatchIsLitRowByRowAndFallsAsleepOffItsCradle(t *testing.T) {
	b, c := made(t, "wick", "W2")
	does(t, b, c, "Settings", "slide: left", "slide: left", "Works", "slide: left", "slide: left", "Loose parts", "Light it")
	require.Equal(t, "yes", b.setting("loose"))
	does(t, b, c, "wait: 60s")
	require.NotContains(t, b.says(), "dark", "on its cradle it stays awake")
	b.Unplugged()
	does(t, b, c, "wait: 21s")
	require.Contains(t, b.says(), "dark")
	level := b.battery()
	does(t, b, c, "wait: 10m")
	require.Less(t, b.battery(), level, "off power the battery drains")
	does(t, b, c, "Wake")
	require.Contains(t, b.says(), "Loose parts")
}

func (b *Body) battery() int {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.charge()
}

func TestAWrongTurnIsAnsweredOnTheScreen(t *testing.T) {
	warranty := slices.Concat([]string{"Settings", "Warranty"}, times(9, "Card number"))
	for _, turn := range []struct {
		name, maker, model string
		things             []string
		says               string
	}{
		{"the wrong row does nothing", "halden", "H4", slices.Concat([]string{"Settings", "Care", "Inside label"}, times(9, "Serial")), "page | Care | Inside label |  |  |  |"},
		{"too slow starts again", "halden", "H4", []string{"Settings", "Care", "Inside label", "Batch", "Batch", "wait: 3s", "Batch"}, "Batch 1 of 6"},
		{"already open says so", "halden", "H4", slices.Concat([]string{"Settings", "Care", "Inside label"}, times(7, "Batch")), "open already"},
		{"a wrong pattern", "ivory-reach", "OF", append(slices.Clone(warranty), "slide: 12369"), "That was not it"},
		{"a wrong pattern three times", "ivory-reach", "OF", append(slices.Clone(warranty), "slide: 123", "slide: 123", "slide: 123"), "Three wrong ones. Wait 30s"},
		{"the right pattern too early after that", "ivory-reach", "OF", append(slices.Clone(warranty), "slide: 123", "slide: 123", "slide: 123", "slide: 14789"), "Three wrong ones"},
		{"the right pattern in time after that", "ivory-reach", "OF", append(slices.Clone(warranty), "slide: 123", "slide: 123", "slide: 123", "wait: 31s", "slide: 14789"), "The Back room is yours"},
		{"a wrong PIN three times", "ostler", "WT", []string{"Doorway", "Guests", "Let guests in", "Let them in", "type: 1", "Done", "type: 2", "Done", "type: 3", "Done"}, "Three wrong ones"},
		{"the risk not taken", "ostler", "WT", []string{"Doorway", "Guests", "Let guests in", "Leave it"}, "Let guests in"},
		{"a search for what is not there", "ostler", "WT", []string{"Back", "type: x"}, ""},
		{"a search", "halden", "H4", []string{"Settings", "Find", "type: zzz"}, "Nothing is called that"},
		{"a restart without the sign", "ostler", "WT", []string{"Doorway", "Guests", "Let guests in", "Let them in", "type: 1066", "Done", "Restart the house", "reboot: ", "Unlock", "type: 1066", "Done", "Open the door"}, "not what stands on the boards"},
		{"a switch, and no restart", "ostler", "WT", []string{"Doorway", "Guests", "Let guests in", "Let them in", "type: 1066", "Done"}, "Restart the house: then a sign is painted"},
		{"a touch while it is asleep only wakes it", "wick", "W2", []string{"press: power", "Wake"}, "Settings"},
		{"nothing newer", "ostler", "WT", []string{"Cellar", "Newer house"}, "There is nothing newer"},
	} {
		t.Run(turn.name, func(t *testing.T) {
			b, c := made(t, turn.maker, turn.model)
			if turn.says == "" {
				require.ErrorContains(t, b.Type("x"), "nothing to type into")
				return
			}
			does(t, b, c, turn.things...)
			require.Contains(t, b.says(), turn.says)
		})
	}
}

func TestAnUpdateMovesThePage(t *testing.T) {
	b, c := made(t, "ostler", "WO")
	require.Contains(t, b.says(), "Keys and papers")
	require.EqualValues(t, 0x0610, b.Descriptor().Revision)
	does(t, b, c, "Cellar", "Newer house", "reboot: ", "Unlock", "type: 1066", "Done")
	require.NotContains(t, b.says(), "Keys and papers")
	require.Contains(t, b.says(), "Doorway")
	require.EqualValues(t, 0x0620, b.Descriptor().Revision, "the bus sees it too")
}

// ask has a computer ask, and tells every state of the question.
func ask(t *testing.T, b *Body, shared bool) <-chan device.Admittance {
	t.Helper()
	said := make(chan device.Admittance, 8)
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() {
		defer close(done)
		b.Ask(ctx, device.Visitor{Key: "SHA256:key", Name: "moor-desk", Shared: shared}, func(a device.Admittance) { said <- a })
	}()
	t.Cleanup(func() { cancel(); <-done })
	return said
}

func TestAQuestionIsAnsweredInFull(t *testing.T) {
	for _, q := range []struct {
		name, maker, model string
		things             []string
		state              device.AdmitState
		until              string
	}{
		{"for a visit", "halden", "H4", []string{"This visit"}, device.Admitted, "visit"},
		{"for 30 days", "halden", "H4", []string{"For 30 days"}, device.Admitted, "30 days"},
		{"until withdrawn", "ivory-reach", "OF", []string{"In until sent away"}, device.Admitted, "until withdrawn"},
		{"refused", "ivory-reach", "OF", []string{"Stay out"}, device.AdmitRefused, ""},
		{"with the password", "kestle", "K7", []string{"thirty days", "type: 4711", "press: enter"}, device.Admitted, "30 days"},
		{"with a wrong password, then the right one", "kestle", "K7", []string{"for good", "type: 1", "press: enter", "type: 4711", "press: enter"}, device.Admitted, "until withdrawn"},
		{"with a wrong password three times", "kestle", "K7", []string{"for good", "type: 1", "press: enter", "type: 2", "press: enter", "type: 3", "press: enter"}, device.AdmitRefused, ""},
		{"with the PIN", "ostler", "WT", []string{"Yes, this once", "type: 1066", "Done"}, device.Admitted, "visit"},
		{"given up at the PIN", "ostler", "WT", []string{"Yes, this once", "Back"}, device.AdmitRefused, ""},
	} {
		t.Run(q.name, func(t *testing.T) {
			b, c := made(t, q.maker, q.model)
			said := ask(t, b, false)
			require.Equal(t, device.AdmitAsking, (<-said).State)
			does(t, b, c, q.things...)
			last := <-said
			if b.cfg.Spec.Admit.Secret != "" {
				require.Equal(t, device.AdmitPassword, last.State)
				require.Equal(t, b.cfg.Spec.Admit.Secret, last.Wants)
				last = <-said
			}
			require.Equal(t, q.state, last.State)
			require.Equal(t, q.until, last.For)
			if q.until == "30 days" {
				require.WithinDuration(t, c.Now().AddDate(0, 0, 30), last.Until, 2*time.Second)
				c.Move(31 * 24 * time.Hour)
				require.Equal(t, device.AdmitNone, b.Admission("SHA256:key").State, "it has ended by itself")
			}
			b.Unplugged()
			require.Equal(t, q.until == "until withdrawn", b.Admission("SHA256:key").State == device.Admitted)
		})
	}
}

func TestALockedHandsetShowsTheQuestionOnceItIsUnlocked(t *testing.T) {
	b, c := made(t, "halden", "H4")
	does(t, b, c, "press: power")
	said := ask(t, b, false)
	first := <-said
	require.True(t, first.Locked)
	require.Error(t, b.Touch("This visit"))
	does(t, b, c, "Unlock", "type: 2580", "Done", "This visit")
	require.Equal(t, device.Admitted, (<-said).State)
}

func TestAStaleLinkSaysLockedUntilTheCableIsPulled(t *testing.T) {
	b, _ := made(t, "ivory-reach", "OF")
	require.NoError(t, b.SetFault("stale-link", true))
	said := ask(t, b, false)
	require.True(t, (<-said).Locked)
	require.ErrorContains(t, b.Touch("In for this visit"), "there is no", "the question never comes")
	b.Unplugged()
	b.Plugged()
	require.False(t, b.Admission("SHA256:key").Locked)
}

func TestAScreenLocksItselfUnlessItIsKeptLit(t *testing.T) {
	b, c := made(t, "halden", "H4")
	does(t, b, c, "wait: 14m")
	require.NotContains(t, b.says(), "Locked")
	does(t, b, c, "wait: 2m")
	require.Contains(t, b.says(), "Locked")
	does(t, b, c, "Unlock", "type: 2580", "Done")
	does(t, b, c, slices.Concat([]string{"Settings", "Care", "Inside label"}, times(6, "Batch"), []string{"Back", "Back", "Back room", "Keep lit on power", "Yes"})...)
	does(t, b, c, "wait: 16m")
	require.NotContains(t, b.says(), "Locked")
}

func TestALongPageIsScrolledAndItsRowsStayWhereTheyAre(t *testing.T) {
	specs, err := LoadSpecs(bodies.Files)
	require.NoError(t, err)
	for maker, page := range map[string]string{"halden": "settings", "ostler": "yard", "kestle": "settings"} {
		spec := specs[maker]
		var rows []RowSpec
		for i := range 14 {
			rows = append(rows, RowSpec{Text: fmt.Sprintf("Row %d", i+1)})
		}
		spec.Pages[page].Rows = rows
		model := map[string]string{"halden": "H4", "ostler": "WT", "kestle": "K7"}[maker]
		b, err := New(Config{Name: "long", Spec: spec, Model: model, Dir: t.TempDir(), Clock: &clock.Moved{}})
		require.NoError(t, err)
		require.NoError(t, b.Touch(page))
		require.NotContains(t, b.says(), "Row 14", maker)
		for range 5 {
			require.NoError(t, b.SlideTo("up"))
		}
		require.Contains(t, b.says(), "Row 14", maker)
		require.NotContains(t, b.says(), "Row 2 ", maker)
		for range 5 {
			require.NoError(t, b.SlideTo("down"))
		}
		require.Contains(t, b.says(), "Row 1 ", maker)
		require.NoError(t, b.Close())
	}
}

func TestClosingHidesThePageAndSendsComputersAway(t *testing.T) {
	b, c := made(t, "ivory-reach", "OF")
	said := ask(t, b, false)
	<-said
	does(t, b, c, "In until sent away")
	require.Equal(t, device.Admitted, (<-said).State)
	does(t, b, c, slices.Concat([]string{"Settings", "Warranty"}, times(9, "Card number"), []string{"slide: 14789", "Back", "Back room", "Close the Back room", "Close it"})...)
	require.NotContains(t, b.says(), "Back room")
	require.Equal(t, device.AdmitNone, b.Admission("SHA256:key").State)
}

func TestAFaultNobodyKnowsIsNamedWithThoseThatThereAre(t *testing.T) {
	b, _ := made(t, "halden", "H4")
	require.ErrorContains(t, b.SetFault("on-fire", true), "battery-low")
	require.ErrorContains(t, b.Press("turbo"), "power")
	require.ErrorContains(t, b.SlideTo("sideways"), "up, down, left or right")
}

// TestEveryScreenIsDrawn draws screens of every maker; with SCREENS set to a
// directory it keeps the pictures.
func TestEveryScreenIsDrawn(t *testing.T) {
	for i, s := range []struct {
		maker, model string
		things       []string
	}{
		{"halden", "H4", nil},
		{"halden", "H4", []string{"Settings", "Care", "Inside label", "Batch", "Batch", "Batch"}},
		{"halden", "H4", []string{"Settings", "Find", "type: ba"}},
		{"halden", "H4", []string{"press: power"}},
		{"halden", "H4", []string{"press: power", "Unlock", "type: 25"}},
		{"ivory-reach", "OF", append(append([]string{"Settings", "Warranty"}, times(9, "Card number")...), "Dot 1", "Dot 4", "Dot 7")},
		{"ostler", "WT", []string{"Doorway", "Guests"}},
		{"ostler", "WT", []string{"Doorway", "Guests", "Let guests in"}},
		{"ostler", "WT", []string{"Doorway", "Guests", "Let guests in", "Let them in", "type: 1066", "Done", "Restart the house", "reboot: ", "Unlock", "type: 1066", "Done", "M", "A"}},
		{"ostler", "DH", []string{"Yard", "Lock up", "Unlock", "type: 10"}},
		{"kestle", "K7", []string{"Settings", "Strongroom", "Visitors"}},
		{"kestle", "K7", []string{"Settings", "Strongroom", "Visitors", "Visitors"}},
		{"wick", "W2", []string{"Settings", "slide: left", "slide: left", "Works", "slide: left", "slide: left"}},
		{"wick", "W2", []string{"Settings", "slide: left", "slide: left", "Works", "slide: left", "slide: left", "Loose parts"}},
	} {
		b, c := made(t, s.maker, s.model)
		does(t, b, c, s.things...)
		img, _, err := b.Frame(t.Context(), 0)
		require.NoError(t, err)
		require.Equal(t, b.Size().Mul(Scale), img.Bounds().Size())
		colours := map[[3]byte]bool{}
		for i := 0; i < len(img.Pix); i += 4 {
			colours[[3]byte(img.Pix[i:i+3])] = true
		}
		require.Greater(t, len(colours), 40, "anti-aliased: more than a few flat colours")
		if dir := os.Getenv("SCREENS"); dir != "" {
			f, err := os.Create(filepath.Join(dir, fmt.Sprintf("%02d-%s.png", i, s.maker)))
			require.NoError(t, err)
			require.NoError(t, png.Encode(f, img))
			require.NoError(t, f.Close())
		}
	}
}
