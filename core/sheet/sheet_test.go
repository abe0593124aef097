package sheet_test

import (
	"errors"
	"io/fs"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/sheet"
	"earlybench.invalid/earlybench/core/usb"
	"earlybench.invalid/earlybench/sheets"
)

func shipped(t testing.TB) map[string]string {
	t.Helper()
	out := map[string]string{}
	for _, name := range []string{"tarn/tarn.yaml", "tarn/halden.yaml"} {
		raw, err := fs.ReadFile(sheets.Files, name)
		require.NoError(t, err)
		out[name] = string(raw)
	}
	return out
}

func load(files map[string]string) (*sheet.Library, error) {
	root := fstest.MapFS{}
	for name, text := range files {
		root[name] = &fstest.MapFile{Data: []byte(text)}
	}
	return sheet.Load(root)
}

func TestAMakersWordsStandInTheFamilysTexts(t *testing.T) {
	lib, err := load(shipped(t))
	require.NoError(t, err)
	s := lib.Fits(usb.ID{Vendor: 0xf3e0, Product: 0x0104})
	require.Equal(t, "Heron 4", s.Model.Name)
	require.Same(t, s, lib.Named("tarn", "Halden", "H4"))
	var tap *sheet.Step
	for _, st := range s.Steps {
		if st.ID == "tap" {
			tap = st
		}
	}
	require.Equal(t, "Tap **Batch** six times", tap.Text)
	require.Equal(t, []string{"Care", "Inside label", "Batch"}, tap.Where)
	require.Nil(t, lib.Fits(usb.ID{Vendor: 1, Product: 1}))
}

func TestAMistakeIsNamedWithItsPlaceAndAHint(t *testing.T) {
	cases := []struct {
		name, file, old, new string
		want                 []string
	}{
		{"an unknown fact", "tarn/tarn.yaml", "open: fact.driver.bound", "open: fact.driver.bund", []string{"tarn/tarn.yaml:", "undeclared reference", "did you mean 'fact.driver.bound'?"}},
		{"a text where a truth is wanted", "tarn/tarn.yaml", "open: fact.driver.bound", "open: fact.driver.set", []string{"true or false", "string"}},
		{"a comparison of unlike things", "tarn/tarn.yaml", "open: fact.driver.bound", `open: fact.driver.bound == "yes"`, []string{"no matching overload"}},
		{"an expression that is none", "tarn/tarn.yaml", "open: fact.driver.bound", "open: fact.driver.bound &&", []string{"Syntax error"}},
		{"a word that nobody gives", "tarn/tarn.yaml", "Go to the page **{page}**", "Go to the page **{side}**", []string{`no word "side"`}},
		{"a gate that does not exist", "tarn/tarn.yaml", "walk: [seen,", "walk: [scene,", []string{`no gate "scene"`}},
		{"a gate that is left out", "tarn/tarn.yaml", "  support: not needed\n", "", []string{"gate support is missing"}},
		{"a gate that is half a word", "tarn/tarn.yaml", "support: not needed", "support: unneeded", []string{"not needed", "unneeded"}},
		{"a release that no fact states", "tarn/tarn.yaml", "release: usb.release", "release: usb.present", []string{"is no fact that is a release"}},
		{"a step of nobody", "tarn/tarn.yaml", "who: automatic", "who: robot", []string{"hands, computer or automatic"}},
		{"an action that nobody knows", "tarn/tarn.yaml", "action: app.try", "action: app.dance", []string{`no action "app.dance"`}},
		{"a field that does not exist", "tarn/halden.yaml", "maker: Halden", "makr: Halden", []string{"makr"}},
		{"a family that is not there", "tarn/halden.yaml", "extends: tarn", "extends: tern", []string{`"tern"`}},
		{"ids that are none", "tarn/halden.yaml", `usb: "f3e0:0103"`, `usb: "f3e0"`, []string{"no USB id"}},
		{"ids that stand there twice", "tarn/halden.yaml", `usb: "f3e0:0103"`, `usb: "f3e0:0104"`, []string{"has a sheet already"}},
		{"YAML that is none", "tarn/halden.yaml", "words:", "words: [", []string{"tarn/halden.yaml:"}},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			files := shipped(t)
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
	require.Equal(t, len("    open: ")+1+len("fact.usb.link && fact.driver"), es[0].Col)
}

func TestFillPutsInOnlyWhatADeviceKnows(t *testing.T) {
	require.Equal(t, "heron-2 of {nobody}", sheet.Fill("{handle} of {nobody}", map[string]string{"handle": "heron-2"}))
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
