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
	b, err := New(Config{Name: maker + "-1", Spec: spec, Model: model, Serial: "0000 1111", Crew: "4471 0926", Dir: t.TempDir(), Clock: c})
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
	out := []string{s.kind, s.above, s.title, s.text, s.code, s.toast}
	for _, e := range s.elements() {
		out = append(out, e.Text, e.Value, e.Note)
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

// dialled sets the owner's dial of an Ivory Reach.
var dialled = slices.Concat(times(2, "short hand back"), times(4, "long hand on"), []string{"Done"})

func TestEveryFamilyIsOpenedInItsOwnWay(t *testing.T) {
	for _, way := range []struct {
		maker, model string
		things       []string
	}{
		{"halden", "H4", slices.Concat([]string{"Settings", "Care", "Inside label"}, times(7, "Batch"), []string{"Computers may", "debug and install", "Let them"})},
		{"halden", "H4", slices.Concat([]string{"Settings", "Find", "type: batch", "Batch"}, times(7, "Batch"), []string{"Computers may", "debug and install", "Let them"})},
		{"ivory-reach", "OF", slices.Concat([]string{"Settings", "Warranty"}, dialled, times(9, "Card number"), []string{"Back", "Back room", "Computers may", "debug and install", "So be it"})},
		{"ostler", "WT", []string{"Doorway", "Lodgers", "type: 44710926", "Hang up", "Take lodgers in", "Take them in"}},
		{"ostler", "WO", []string{"Keys and papers", "Lodgers' book", "type: 44710926", "Hang up", "Take lodgers in", "Take them in"}},
		{"ostler", "DH", []string{"Doorway", "Lodgers", "type: 44710926", "Hang up", "Take lodgers in", "Take them in"}},
	} {
		b, c := made(t, way.maker, way.model)
		require.False(t, hasLink(b), "brand new")
		does(t, b, c, way.things...)
		require.True(t, hasLink(b), "%s: %s", way.maker, b.says())
	}
}

func TestAStrongroomWantsItsCodeBackByKeysAfterARestart(t *testing.T) {
	for _, things := range [][]string{{"Settings", "Strongroom", "Visitors", "Visitors", "let them"}, {"Key 1", "Key 3", "Key 2", "Key 1", "Key 1"}} {
		b, c := made(t, "kestle", "K7")
		does(t, b, c, things...)
		code := b.st.Code
		require.Regexp(t, `^[A-Z]{4}$`, code)
		require.Contains(t, b.says(), code, "it is shown large")
		require.False(t, hasLink(b))
		does(t, b, c, "restart", "reboot: ")
		require.NotContains(t, b.says(), code, "now it is in the owner's head only")
		does(t, b, c, "type: 1111", "let them in")
		require.Contains(t, b.says(), "not those letters")
		require.False(t, hasLink(b))
		for _, r := range onKeys(code) {
			does(t, b, c, string(r))
		}
		does(t, b, c, "let them in")
		require.True(t, hasLink(b), b.says())
		does(t, b, c, "Visitors")
		require.False(t, hasLink(b), "switched off")
	}
	require.Equal(t, "3528", onKeys("FLAT"))
}

func TestTheDialIsSetByArrowKeysToo(t *testing.T) {
	b, _ := made(t, "ivory-reach", "OF")
	require.NoError(t, b.Touch("Settings"))
	require.NoError(t, b.Touch("Warranty"))
	for _, key := range []uint32{keyLeft, keyLeft, keyUp, keyUp, keyUp, keyUp} {
		b.Key(key, true)
	}
	require.Contains(t, b.says(), "short hand at 10")
	require.Contains(t, b.says(), "long hand at 4")
	b.Key(keyReturn, true)
	require.Contains(t, b.says(), "Card number")
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
	inside := []string{"Settings", "Care", "Inside label"}
	lodgers := []string{"Doorway", "Lodgers"}
	for _, turn := range []struct {
		name, maker, model string
		things             []string
		says               string
	}{
		{"the wrong row does nothing", "halden", "H4", slices.Concat(inside, times(9, "Rinse")), "0 of 6 notches"},
		{"too slow empties the notches", "halden", "H4", slices.Concat(inside, times(4, "Batch"), []string{"wait: 3s"}), "0 of 6 notches"},
		{"too slow starts over", "halden", "H4", slices.Concat(inside, times(4, "Batch"), []string{"wait: 3s", "Batch"}), "1 of 6 notches"},
		{"another row in between starts over", "halden", "H4", slices.Concat(inside, times(4, "Batch"), []string{"Glass", "Batch"}), "1 of 6 notches"},
		{"once open the row leads there", "halden", "H4", slices.Concat(inside, times(6, "Batch")), "the Back room lies beneath"},
		{"a wrong dial", "ivory-reach", "OF", []string{"Settings", "Warranty", "long hand on", "Done"}, "That was not it"},
		{"a wrong dial three times", "ivory-reach", "OF", []string{"Settings", "Warranty", "Done", "Done", "Done"}, "Three wrong ones. Wait 30s"},
		{"the right dial too early after that", "ivory-reach", "OF", slices.Concat([]string{"Settings", "Warranty", "Done", "Done", "Done"}, dialled), "Three wrong ones"},
		{"the right dial in time after that", "ivory-reach", "OF", slices.Concat([]string{"Settings", "Warranty", "Done", "Done", "Done", "wait: 31s"}, dialled), "Card number"},
		{"a card number that says nothing", "ivory-reach", "OF", slices.Concat([]string{"Settings", "Warranty"}, dialled, times(8, "Card number")), "page | Everything | Warranty |  |  |  |"},
		{"a wrong crew number", "ostler", "WT", append(slices.Clone(lodgers), "type: 12345678", "Hang up"), "No crew has that number"},
		{"a short crew number", "ostler", "WT", append(slices.Clone(lodgers), "type: 4471", "Hang up"), "No crew has that number"},
		{"no crew number, no switch", "ostler", "WT", append(slices.Clone(lodgers), "Back", "Lodgers"), "Hang up its number"},
		{"the risk not taken", "ostler", "WT", append(slices.Clone(lodgers), "type: 44710926", "Hang up", "Take lodgers in", "Leave it"), "Take lodgers in"},
		{"a search for what is not there", "ostler", "WT", []string{"Back", "type: x"}, ""},
		{"a search", "halden", "H4", []string{"Settings", "Find", "type: zzz"}, "Nothing is called that"},
		{"a search does not go past the dial", "ivory-reach", "OF", []string{"Settings", "Find", "type: card", "Card number"}, "Set the dial"},
		{"a search for what is hidden", "halden", "H4", []string{"Settings", "Find", "type: close the"}, "Nothing is called that"},
		{"a restart before the code was shown", "kestle", "K7", []string{"Settings", "Plate", "restart", "reboot: "}, "Kestle Seven"},
		{"a code from before another one", "kestle", "K7", []string{"Settings", "Strongroom", "Visitors", "Visitors", "let them", "Visitors", "Visitors", "let them"}, "keep these letters"},
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
		b.Ask(ctx, device.Visitor{Key: "SHA256:key", Number: "47", Name: "moor-desk", Shared: shared}, func(a device.Admittance) { said <- a })
	}()
	t.Cleanup(func() { cancel(); <-done })
	return said
}

// spoken puts what a question has drawn into a thing to do.
func (b *Body) spoken(thing string) string {
	b.mu.Lock()
	defer b.mu.Unlock()
	q := b.question
	if q == nil {
		return thing
	}
	switch thing {
	case "hold one":
		return fmt.Sprint("Key ", q.keys[0])
	case "hold other":
		return fmt.Sprint("Key ", q.keys[1])
	case "hold wrong":
		for key := 1; ; key++ {
			if !slices.Contains(q.keys[:], key) {
				return fmt.Sprint("Key ", key)
			}
		}
	case "another number":
		return q.numbers[(slices.Index(q.numbers, q.visitor.Number)+1)%4]
	}
	return thing
}

func TestTwoKeysHeldOneAfterTheOtherAreNotHeldTogether(t *testing.T) {
	b, c := made(t, "kestle", "K7")
	said := ask(t, b, false)
	<-said
	does(t, b, c, b.spoken("hold one"), "wait: 5s", b.spoken("hold other"))
	require.Contains(t, b.says(), "A visitor", "it still asks")
	does(t, b, c, b.spoken("hold one"))
	require.Equal(t, device.Admitted, (<-said).State)
}

func TestAComputerThatSeveralPeopleUseIsLetInForAVisitByEveryFamily(t *testing.T) {
	for maker, things := range map[string][]string{"kestle": {"hold one", "hold other"}, "ostler": {"47"}, "halden": {"This visit"}} {
		b, c := made(t, maker, map[string]string{"kestle": "K7", "ostler": "WT", "halden": "H4"}[maker])
		said := ask(t, b, true)
		<-said
		for _, thing := range things {
			does(t, b, c, b.spoken(thing))
		}
		require.Equal(t, "visit", (<-said).For, maker)
	}
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
		{"turned away", "kestle", "K7", []string{"turn away"}, device.AdmitRefused, ""},
		{"turned away by its key", "kestle", "K7", []string{"Key ‹"}, device.AdmitRefused, ""},
		{"with two keys together", "kestle", "K7", []string{"hold one", "hold other"}, device.Admitted, "until withdrawn"},
		{"with a wrong key before", "kestle", "K7", []string{"hold wrong", "hold one", "hold other"}, device.Admitted, "until withdrawn"},
		{"the number picked", "ostler", "WT", []string{"47"}, device.Admitted, "until withdrawn"},
		{"none of the numbers", "ostler", "WT", []string{"None of these"}, device.AdmitRefused, ""},
		{"another number picked", "ostler", "WT", []string{"another number"}, device.AdmitRefused, ""},
	} {
		t.Run(q.name, func(t *testing.T) {
			b, c := made(t, q.maker, q.model)
			said := ask(t, b, false)
			require.Equal(t, device.AdmitAsking, (<-said).State)
			for _, thing := range q.things {
				does(t, b, c, b.spoken(thing))
			}
			last := <-said
			require.Equal(t, q.state, last.State)
			require.Equal(t, q.until, last.For)
			if q.until == "30 days" {
				require.WithinDuration(t, c.Now().AddDate(0, 0, 30), last.Until, 2*time.Second)
				c.Move(31 * 24 * time.Hour)
				require.Equal(t, device.AdmitNone, b.Admission("SHA256:key").State, "it exited by itself")
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

func TestAHandsetRestsAfterAsManyMinutesAsItsBackRoomSays(t *testing.T) {
	b, c := made(t, "halden", "H4")
	does(t, b, c, "wait: 9m")
	require.NotContains(t, b.says(), "Locked")
	does(t, b, c, "wait: 2m")
	require.Contains(t, b.says(), "dark")
	require.True(t, b.isResting())
	does(t, b, c, "Wake", "Unlock", "type: 2580", "Done")
	require.False(t, b.isResting())
	does(t, b, c, slices.Concat([]string{"Settings", "Care", "Inside label"}, times(7, "Batch"), []string{"Rests after", "100 minutes"})...)
	require.Contains(t, b.says(), "within 100 minutes finds it open", "each change states its risk")
	does(t, b, c, "Yes", "wait: 90m")
	require.False(t, b.isResting())
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
	does(t, b, c, slices.Concat([]string{"Settings", "Warranty"}, dialled, times(9, "Card number"), []string{"Back", "Back room", "Close the Back room", "Close it"})...)
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
		{"halden", "H4", slices.Concat([]string{"Settings", "Care", "Inside label"}, times(6, "Batch"))},
		{"halden", "H4", slices.Concat([]string{"Settings", "Care", "Inside label"}, times(7, "Batch"))},
		{"ivory-reach", "OF", []string{"Settings", "Warranty", "short hand back", "short hand back", "long hand on"}},
		{"ivory-reach", "OF", slices.Concat([]string{"Settings", "Warranty"}, dialled, []string{"Card number"})},
		{"ostler", "WT", []string{"Doorway", "Lodgers", "type: 44710"}},
		{"ostler", "WT", []string{"Doorway", "Lodgers", "type: 44710926", "Hang up"}},
		{"ostler", "WT", []string{"Doorway", "Lodgers", "type: 44710926", "Hang up", "Take lodgers in"}},
		{"ostler", "WT", []string{"ask"}},
		{"ostler", "DH", []string{"Doorway", "Lodgers", "type: 4471"}},
		{"kestle", "K7", []string{"Settings", "Strongroom", "Visitors"}},
		{"kestle", "K7", []string{"Settings", "Strongroom", "Visitors", "Visitors", "let them"}},
		{"kestle", "K7", []string{"Settings", "Strongroom", "Visitors", "Visitors", "let them", "restart", "reboot: ", "type: 35"}},
		{"kestle", "K7", []string{"ask", "hold one"}},
		{"wick", "W2", []string{"Settings", "slide: left", "slide: left", "Works", "slide: left", "slide: left"}},
		{"wick", "W2", []string{"Settings", "slide: left", "slide: left", "Works", "slide: left", "slide: left", "Loose parts"}},
	} {
		b, c := made(t, s.maker, s.model)
		for _, thing := range s.things {
			if thing == "ask" {
				<-ask(t, b, false)
				continue
			}
			does(t, b, c, b.spoken(thing))
		}
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
