package sheet_test

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/sheet"
	"earlybench.invalid/earlybench/core/usb"
	"earlybench.invalid/earlybench/sheets"
)

func shipped(t testing.TB) map[string]string {
	t.Helper()
	out := map[string]string{}
	require.NoError(t, fs.WalkDir(sheets.Files, ".", func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		raw, err := fs.ReadFile(sheets.Files, p)
		out[p] = string(raw)
		return err
	}))
	return out
}

// only keeps the sheets that have to do with one file, so that loading is quick.
func only(files map[string]string, name string) map[string]string {
	family, _, _ := strings.Cut(name, "/")
	return maps.Collect(func(yield func(string, string) bool) {
		for n, text := range files {
			if n == "base/maker.yaml" && family != "ostler" && family != "kestle" {
				continue
			}
			if strings.HasPrefix(n, "base/") || strings.HasPrefix(n, family+"/") || family == "base" && strings.HasPrefix(n, "tarn/") {
				if !yield(n, text) {
					return
				}
			}
		}
	})
}

func load(files map[string]string) (*sheet.Library, error) {
	root := fstest.MapFS{}
	for name, text := range files {
		root[name] = &fstest.MapFile{Data: []byte(text)}
	}
	return sheet.Load(root)
}

// heron is the sheet of one of Halden's handsets.
func heron(t testing.TB, lib *sheet.Library) *sheet.Sheet {
	t.Helper()
	s := lib.Fits(usb.ID{Vendor: 0xf3e0, Product: 0x0104})
	require.NotNil(t, s)
	return s.At("12")
}

func TestAMakersWordsStandInTheFamilysTexts(t *testing.T) {
	lib, err := load(shipped(t))
	require.NoError(t, err)
	s := heron(t, lib)
	require.Equal(t, "Heron 4", s.Model.Name)
	require.Same(t, s, lib.Named("tarn", "Halden", "H4").At(""))
	tap := s.Step("tap")
	say := func(text, language string) string { return sheet.Fill(text, s.Words(language)) }
	require.Equal(t, "Tap **Batch** six times", say(tap.Text, ""))
	require.Equal(t, []string{"Settings", "Care", "Inside label", "Batch"}, []string{say(tap.Where[0], ""), say(tap.Where[1], ""), say(tap.Where[2], ""), say(tap.Where[3], "")})
	require.Nil(t, lib.Fits(usb.ID{Vendor: 1, Product: 1}))
	require.Equal(t, "Tap **Los** sechsmal", say(tap.Text, "de-AT"), "words are data, and a region falls back to its language")
	require.Equal(t, "Tap **Batch** six times", say(tap.Text, "cy"), "a language that nobody gave falls back to the sheet's own words")
	require.Equal(t, []string{"de"}, s.Languages())
}

func TestReleasesOfOneFamilyMaySayOtherThings(t *testing.T) {
	lib, err := load(shipped(t))
	require.NoError(t, err)
	tablet := lib.Named("ostler", "Ostler House", "WT")
	for release, want := range map[fact.Release]string{"6.1": "Keys and papers", "6.1.9": "Keys and papers", "6.2": "Doorway", "7": "Doorway", "": "Doorway"} {
		require.Equal(t, want, tablet.At(release).Words("")["door"], "release %q", release)
	}
	require.Equal(t, "Clés et papiers", tablet.At("6.1").Words("fr")["door"])
	require.Same(t, tablet.Registry, tablet.At("6.1").Registry)
}

func TestEveryPartTellsWhichFileItComesFrom(t *testing.T) {
	lib, err := load(shipped(t))
	require.NoError(t, err)
	from := map[string]string{}
	for _, p := range heron(t, lib).Parts {
		from[p.Kind+" "+p.Name] = p.File
		require.Positive(t, p.Line, p.Name)
	}
	require.Equal(t, "tarn/halden.yaml", from["word row"])
	require.Equal(t, "tarn/tarn.yaml", from["word choice"])
	require.Equal(t, "tarn/tarn.yaml", from["gate driver"])
	require.Equal(t, "base/any.yaml", from["cause cable-charges-only"])
	ivory := lib.Named("tarn", "Ivory Reach", "OF").At("10")
	for _, p := range ivory.Parts {
		if p.Kind == "step" && p.Name == "tap" {
			require.Equal(t, "tarn/ivory-reach.yaml", p.File, "the maker's step takes the place of the family's")
		}
	}
}

func TestASheetLeavesOutWhatItsFamilyHasNot(t *testing.T) {
	lib, err := load(shipped(t))
	require.NoError(t, err)
	watch := lib.Named("wick", "Wick & Daughters", "W2").At("")
	require.Nil(t, watch.Cause("cable-charges-only"))
	require.NotNil(t, watch.Cause("device-off"))
	require.Equal(t, []string{"wireless", "companion"}, []string{watch.Paths[0].Name, watch.Paths[1].Name})
	require.False(t, watch.Model.HasUSB())
}

func TestAMistakeIsNamedWithItsPlaceAndAHint(t *testing.T) {
	cases := []struct {
		name, file, old, new string
		want                 []string
	}{
		{"an unknown fact", "tarn/tarn.yaml", "open: fact.driver.bound", "open: fact.driver.bund", []string{"tarn/tarn.yaml:", "there is no fact.driver.bund", "did you mean fact.driver.bound?"}},
		{"a text where a truth is wanted", "tarn/tarn.yaml", "open: fact.driver.bound", "open: fact.driver.set", []string{"true or false", "string"}},
		{"a comparison of unlike things", "tarn/tarn.yaml", "open: fact.driver.bound", `open: fact.driver.bound == "yes"`, []string{"no matching overload"}},
		{"an invalid expression", "tarn/tarn.yaml", "open: fact.driver.bound", "open: fact.driver.bound &&", []string{"Syntax error"}},
		{"a word that nobody gives", "tarn/tarn.yaml", "Go to the page **{page}**", "Go to the page **{side}**", []string{`no word "side"`}},
		{"a gate that opens with nothing known", "tarn/tarn.yaml", "open: fact.driver.bound", "open: '!known.driver.bound || fact.driver.bound'", []string{"would open with nothing known"}},
		{"a gate that another path may not override", "tarn/tarn.yaml", "      driver: not needed\n", "      mode: not needed\n", []string{"the same on every path"}},
		{"a time that is not endsWithin's", "kestle/kestle.yaml", `duration("0s")`, `duration("soon")`, []string{"no length of time"}},
		{"an end that is no time", "kestle/kestle.yaml", "ends: token.ends", "ends: token.state", []string{"no fact that is a time"}},
		{"a cause that no check knows", "base/any.yaml", "      not-plugged: {\"no\": 0.97}", "      not-pluged: {\"no\": 0.97}", []string{`no cause "not-pluged"`, "did you mean not-plugged?"}},
		{"shares that are more than all", "base/any.yaml", "others: {\"no\": 0.03}", "others: {\"no\": 0.6, \"yes\": 0.6}", []string{"sum to 1.2"}},
		{"an answer that does not exist", "base/any.yaml", "others: {\"no\": 0.03}", "others: {\"maybe\": 0.03}", []string{`no answer "maybe"`}},
		{"a remedy without seconds", "tarn/tarn.yaml", "remedy: {who: hands, seconds: 25, text", "remedy: {who: hands, text", []string{"text and seconds"}},
		{"what is left out and is not there", "linux/linux.yaml", "without: [not-plugged,", "without: [not-pluged,", []string{`"not-pluged" to leave out`}},
		{"a range without bounds", "ostler/ostler.yaml", `below: "6.2"`, `below: ""`, []string{"says from, below, or both"}},
		{"a word in one language only", "tarn/halden.yaml", "    chapter: Pflege", "    kapitel: Pflege", []string{`names "kapitel"`}},
		{"a fact of its own that is there already", "wick/wick.yaml", "key: mode.loose", "key: usb.link", []string{"is there already"}},
		{"an unknown type", "wick/wick.yaml", "type: bool, sources: [device, person]", "type: boole, sources: [device, person]", []string{`no type "boole"`, "did you mean bool?"}},
		{"an unknown source", "wick/wick.yaml", "sources: [device, person]", "sources: [devise, person]", []string{`no source "devise"`, "did you mean device?"}},
		{"a name that stands there twice", "tarn/halden.yaml", "  chapter: Care\n", "  chapter: Care\n  chapter: Caer\n", []string{"tarn/halden.yaml:"}},
		{"a reference", "tarn/halden.yaml", "maker: Halden", "maker: *other", []string{"tarn/halden.yaml:"}},
		{"a gate that does not exist", "tarn/tarn.yaml", "walk: [seen,", "walk: [scene,", []string{`no gate "scene"`, "did you mean seen?"}},
		{"a gate that is left out", "tarn/tarn.yaml", "  registered: not needed\n", "", []string{"gate registered is missing"}},
		{"a gate that is half a word", "tarn/tarn.yaml", "token: not needed", "token: unneeded", []string{"not needed", "unneeded"}},
		{"a release that no fact states", "tarn/tarn.yaml", "release: usb.release", "release: usb.present", []string{"is no fact that is a release"}},
		{"a step of nobody", "tarn/tarn.yaml", "who: automatic", "who: robot", []string{"hands, computer or automatic"}},
		{"an action that nobody knows", "tarn/tarn.yaml", "action: app.try", "action: app.dance", []string{`no action "app.dance"`}},
		{"a field that does not exist", "tarn/halden.yaml", "maker: Halden", "makr: Halden", []string{"makr", "did you mean maker?"}},
		{"a family that is not there", "tarn/halden.yaml", "extends: tarn", "extends: tern", []string{`"tern"`}},
		{"ids that are none", "tarn/halden.yaml", `usb: "f3e0:0103"`, `usb: "f3e0"`, []string{"not a USB id"}},
		{"ids that stand there twice", "tarn/halden.yaml", `usb: "f3e0:0103"`, `usb: "f3e0:0104"`, []string{"has a sheet already"}},
		{"invalid YAML", "tarn/halden.yaml", "words:", "words: [", []string{"tarn/halden.yaml:"}},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			files := only(shipped(t), c.file)
			require.Contains(t, files[c.file], c.old)
			files[c.file] = strings.Replace(files[c.file], c.old, c.new, 1)
			_, err := load(files)
			require.Error(t, err)
			for _, w := range c.want {
				require.ErrorContains(t, err, w)
			}
			es, ok := errors.AsType[sheet.Errors](err)
			require.True(t, ok)
			for _, e := range es {
				require.Positive(t, e.Line, e)
				require.Positive(t, e.Col, e)
				require.NotEmpty(t, e.File)
			}
		})
	}
}

func TestThePlaceOfAMistakeInAConditionIsExact(t *testing.T) {
	files := shipped(t)
	files["tarn/tarn.yaml"] = strings.Replace(files["tarn/tarn.yaml"], "open: fact.driver.bound", "open: fact.usb.link && fact.driver.bund", 1)
	line := 1 + strings.Count(files["tarn/tarn.yaml"][:strings.Index(files["tarn/tarn.yaml"], "fact.driver.bund")], "\n")
	_, err := load(files)
	es, ok := errors.AsType[sheet.Errors](err)
	require.True(t, ok)
	require.Equal(t, line, es[0].Line)
	require.Equal(t, len("    open: ")+1+len("fact.usb.link && "), es[0].Col)
	require.Equal(t, "fact.driver.bund", es[0].Near)
	require.Equal(t, "did you mean fact.driver.bound?", es[0].Hint)
}

func TestFillPutsInOnlyWhatADeviceKnows(t *testing.T) {
	require.Equal(t, "heron-2 of {nobody}", sheet.Fill("{handle} of {nobody}", map[string]string{"handle": "heron-2"}))
}

func TestAllMistakesAreToldAtOnce(t *testing.T) {
	_, err := load(map[string]string{"x.yaml": "sheet: x\nmakr: y\nwalk: seen\nsteps:\n  - {id: a, minuts: 2, who: [hands]}\ncauses:\n  - {weight: heavy}\n"})
	es, ok := errors.AsType[sheet.Errors](err)
	require.True(t, ok)
	var places []string
	for _, e := range es {
		places = append(places, fmt.Sprintf("%d:%d %s", e.Line, e.Col, e.Near))
	}
	require.Equal(t, []string{"2:1 makr", "3:7 seen", "5:13 minuts", "5:29 [", "7:14 heavy"}, places)
}

func TestADraftIsGoodAsItStands(t *testing.T) {
	files := shipped(t)
	files["newcomer.yaml"] = sheet.Draft(sheet.Seen{Name: "newcomer"})
	files["slate.yaml"] = sheet.Draft(sheet.Seen{Name: "slate", USB: "f3e1:0102", Interfaces: []string{"ff/00/00 slate-sync\n  usb: \x1b[31m"}, Where: "port 2 of attic"})
	files["reed.yaml"] = sheet.DraftForAdapter("reed", []sheet.DeclaredFact{{Key: "device.battery", Type: "int"}, {Key: "reed.link", Type: "text"}})
	lib, err := load(files)
	require.NoError(t, err)
	require.NotNil(t, lib.Named("reed", "", "X1"))
	require.Contains(t, files["reed.yaml"], "- {key: reed.link, type: text, sources: [adapter]")
	require.NotContains(t, files["reed.yaml"], "device.battery", "what every family has is not declared again")
	s := lib.Fits(usb.ID{Vendor: 0xf3e1, Product: 0x0102})
	require.Equal(t, "slate", s.Family)
	require.Contains(t, files["slate.yaml"], "# Seen on port 2 of attic: f3e1:0102")
	require.Contains(t, files["slate.yaml"], "#   interface ff/00/00 slate-sync?  usb: ??31m", "what a device calls itself stays in its comment")
}

// mutated changes a good sheet in one or more places, as somebody's hand might.
func mutated(r *rand.Rand, text string) string {
	lines := strings.Split(text, "\n")
	for range 1 + r.IntN(3) {
		i := r.IntN(len(lines))
		line := lines[i]
		switch r.IntN(7) {
		case 0:
			lines = slices.Delete(lines, i, i+1)
		case 1:
			lines = slices.Insert(lines, i, line)
		case 2:
			lines[i] = "  " + line
		case 3:
			lines[i] = strings.TrimPrefix(line, "  ")
		case 4:
			if len(line) > 0 {
				at := r.IntN(len(line))
				lines[i] = line[:at] + string("{}[]:#&*!|>'\"%@`,-?\t\x00\xff"[r.IntN(22)]) + line[at:]
			}
		case 5:
			if len(line) > 1 {
				lines[i] = line[:r.IntN(len(line))]
			}
		case 6:
			lines[i] = strings.Replace(line, "fact.", "fakt.", 1)
		}
		if len(lines) == 0 {
			return ""
		}
	}
	return strings.Join(lines, "\n")
}

func TestBrokenSheetsAreRefusedInTheirPlaceAndNeverCrash(t *testing.T) {
	seed := uint64(20261123)
	r := rand.New(rand.NewPCG(seed, 1))
	good := shipped(t)
	names := slices.DeleteFunc(slices.Sorted(maps.Keys(good)), func(n string) bool { return n == "base/maker.yaml" }) // ostler's mutants have it with them
	refused := 0
	for n := range 200 {
		name := names[r.IntN(len(names))]
		text := mutated(r, good[name])
		files := only(good, name)
		files[name] = text
		_, err := load(files)
		if err == nil {
			continue
		}
		refused++
		es, ok := errors.AsType[sheet.Errors](err)
		require.True(t, ok, "seed %d, sheet %d: %v", seed, n, err)
		lines := map[string]int{}
		for f, text := range files {
			lines[f] = strings.Count(text, "\n") + 1
		}
		for _, e := range es {
			require.Contains(t, lines, e.File, "seed %d, sheet %d: %v", seed, n, e)
			require.True(t, e.Line >= 1 && e.Line <= lines[e.File]+1 && e.Col >= 1, "seed %d, sheet %d: %v", seed, n, e)
			require.NotEmpty(t, e.Text)
		}
	}
	require.Greater(t, refused, 100, "most of them are really broken")
}

func FuzzLoad(f *testing.F) {
	for _, text := range shipped(f) {
		f.Add(text)
	}
	f.Add("sheet: x\nmodels: [{usb: \"0001:0001\"}]")
	f.Add("sheet: x\nextends: x\nmodels: [{}]")
	f.Fuzz(func(t *testing.T, text string) {
		lib, err := load(map[string]string{"x/x.yaml": text})
		if err != nil {
			es, ok := errors.AsType[sheet.Errors](err)
			require.True(t, ok, "%v", err)
			for _, e := range es {
				require.Positive(t, e.Line)
			}
			return
		}
		require.NotNil(t, lib)
	})
}

func BenchmarkLoad(b *testing.B) {
	for b.Loop() {
		if _, err := sheet.Load(sheets.Files); err != nil {
			b.Fatal(err)
		}
	}
}

func TestFillLeavesWhatIsNoWord(t *testing.T) {
	words := map[string]string{"a": "{b}", "b": "x"}
	for text, want := range map[string]string{"": "", "{a}{b}": "{b}x", "{a": "{a", "}{b}": "}x", "{ {b} {": "{ x {", "{{b}}": "{x}", "{c} {b}": "{c} x"} {
		require.Equal(t, want, sheet.Fill(text, words), text)
	}
}

func TestAFileThatBuildsOnNothingGetsAPlainSentence(t *testing.T) {
	for text, says := range map[string]string{
		"":                       "the file is empty; a sheet is one YAML document",
		"# only a comment\n":     "the file is empty; a sheet is one YAML document",
		"sheet: a\n---\nb: c\n":  "this file has 2",
		"sheet: me\nextends: me": `sheet "me" extends itself`,
		"sheet: me\nextends: no": `it extends sheet "no", which does not exist`,
	} {
		files := shipped(t)
		files["mine.yaml"] = text
		_, err := load(files)
		require.ErrorContains(t, err, says)
	}
}
