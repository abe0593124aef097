package prep_test

import (
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/sheet"
	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/sheets"
	"earlybench.invalid/earlybench/standin"
	"earlybench.invalid/earlybench/standin/bodies"
	"earlybench.invalid/earlybench/standin/body"
)

// walks goes the way of a step on the device, page by page, by nothing but what the step says.
func (p *patient) walks(id string) {
	p.t.Helper()
	for range 8 { // from the first page on
		benchtest.Steer(p.t, p.rig, standin.MethodPress, standin.Steer{Body: patientName, Text: "back"}) // at the first page it does nothing
	}
	st := p.look()
	step := st.Sheet.Step(id)
	require.NotNil(p.t, step, id)
	var way []string
	for _, w := range step.Where {
		way = append(way, strings.Split(st.Fill(w), " › ")...)
	}
	require.NotEmpty(p.t, way)
	for i, word := range way {
		taps := 1
		if step.Draw != nil && step.Draw.Taps > 1 && i == len(way)-1 {
			taps = step.Draw.Taps
		}
		p.Eventually(word+" of "+strings.Join(way, " › "), func() bool {
			if benchtest.Steer(p.t, p.rig, standin.MethodTouch, standin.Steer{Body: patientName, Text: word, Times: taps}) == nil {
				return true
			}
			if step.Draw != nil && step.Draw.Form == "round" { // a row at a time
				benchtest.Steer(p.t, p.rig, standin.MethodSlide, standin.Steer{Body: patientName, Text: "left"})
			}
			return false
		})
	}
}

func TestEveryFamilyOpensByNothingButTheWaysOfItsSteps(t *testing.T) {
	for _, c := range []struct {
		maker, model string
		begin        body.Beginning
		steps        []string
		after        map[string][]string // what hands do then besides
	}{
		{"halden", "H4", body.Beginning{}, []string{"find", "tap", "allow"}, nil},
		{"ivory-reach", "OF", body.Beginning{Opened: true}, []string{"allow"}, nil},
		{"kestle", "K7", body.Beginning{}, []string{"visitors", "restart"}, nil},
		{"ostler", "WT", body.Beginning{Settings: map[string]string{"crew": "yes"}}, []string{"lodgers"}, nil},
		{"wick", "W2", body.Beginning{}, []string{"loose"}, nil},
	} {
		t.Run(c.maker, func(t *testing.T) {
			p := newPatient(t, c.maker, c.model, c.begin)
			for _, id := range c.steps {
				p.walks(id)
			}
			switch c.maker {
			case "kestle":
				p.Eventually("it has restarted and wants its letters back", func() bool {
					return strings.Contains(benchtest.Read(t, p.rig, patientName).Text, "letters from before")
				})
			case "wick":
				require.True(t, slices.ContainsFunc(benchtest.Read(t, p.rig, patientName).Elements, func(e body.Element) bool {
					return e.Text == "Loose parts" && e.Note == "on"
				}), "%+v", benchtest.Read(t, p.rig, patientName))
			default:
				p.Eventually("the mode is open", func() bool { return p.look().Readiness.Gate("mode").State == "open" })
			}
		})
	}
}

var quoted = regexp.MustCompile(`\*\*([^*]+)\*\*`)

// TestEveryWordThatASheetQuotesStandsOnTheDevice compares the words between ** of a sheet's
// steps, and the pieces of their ways, with what the device's screens say.
func TestEveryWordThatASheetQuotesStandsOnTheDevice(t *testing.T) {
	// The bench's own words, and words for what a person reads elsewhere.
	others := []string{"{bench}", "{set}", "{number}", "{figures}", "Stop.", "number of your crew", "four letters", "dial", "the number that is shown here"}
	for _, c := range []struct{ maker, model, file string }{{"halden", "H4", "halden"}, {"ivory-reach", "OF", "ivory-reach"}, {"kestle", "K7", "kestle"}, {"ostler", "WT", "ostler"}, {"wick", "W2", "wick"}} {
		t.Run(c.maker, func(t *testing.T) {
			raw, err := bodies.Files.ReadFile(c.file + ".yaml")
			require.NoError(t, err)
			data := strings.ToLower(string(raw))
			lib, err := sheet.Load(sheets.Files)
			require.NoError(t, err)
			i := slices.IndexFunc(lib.All(), func(s *sheet.Series) bool { return s.Model.Code == c.model })
			require.GreaterOrEqual(t, i, 0)
			s := lib.All()[i].At("")
			words := s.Words("en")
			for _, st := range append(slices.Clone(s.Paths[0].Steps), s.Retire...) {
				var all []string
				for _, text := range []string{st.Text, st.Note} {
					for _, m := range quoted.FindAllStringSubmatch(text, -1) {
						all = append(all, m[1])
					}
				}
				all = append(all, st.Where...)
				for _, w := range all {
					if slices.Contains(others, w) || strings.HasPrefix(w, "the app") {
						continue
					}
					for piece := range strings.SplitSeq(sheet.Fill(w, words), " › ") {
						require.Contains(t, data, strings.ToLower(piece), "step %s quotes %q", st.ID, w)
					}
				}
			}
		})
	}
}

// TestNoStepEndsTheAdmissionThatWasJustGiven holds for what is chosen on the device: a visit
// ends with the cable, and no later step pulls it or restarts the device.
func TestNoStepEndsTheAdmissionThatWasJustGiven(t *testing.T) {
	lib, err := sheet.Load(sheets.Files)
	require.NoError(t, err)
	walked := 0
	for _, series := range lib.All() {
		for _, path := range series.At("").Paths {
			at := slices.Index(path.Walk, "admitted")
			for _, st := range path.Steps {
				if at < 0 || slices.Index(path.Walk, st.Gate) <= at {
					continue
				}
				walked++
				require.Zero(t, st.Restarts, "%s: %s", series.Model.Code, st.ID)
				require.NotRegexp(t, `(?i)\b(restart|pull|unplug)`, st.Title+" "+st.Text+" "+st.Note, "%s: %s", series.Model.Code, st.ID)
			}
		}
	}
	require.Greater(t, walked, 20)
}
