package kit_test

import (
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/kit"
)

const described = `
kit: fell-kit
about: Tools of Fellgate
places: [/opt/fell-kit*, ~/fell-kit*]
holds:
  - {program: bin/fell-make, asked: version, prints: '^fell-make (?P<version>[0-9.]+)$'}
  - {program: bin/fell-pack, asked: --version, prints: 'fell-pack'}
  - {directory: parts}
  - {file: parts/rota.txt}
search: [bin, tools/bin]
variables: {FELL_KIT: ., FELL_PARTS: parts}
`

func parsed(t *testing.T, text string) *kit.Description {
	t.Helper()
	d, err := kit.Parse([]byte(text))
	require.NoError(t, err)
	return d
}

func TestADescriptionIsRead(t *testing.T) {
	d := parsed(t, described)
	require.Equal(t, "fell-kit", d.Name)
	require.Len(t, d.Holds, 4)
	v, ok := d.Holds[0].Version("some banner\nfell-make 3.2\n")
	require.True(t, ok)
	require.EqualValues(t, "3.2", v)
	_, ok = d.Holds[0].Version("fell-make, version three")
	require.False(t, ok)
	v, ok = d.Holds[1].Version("this is fell-pack")
	require.True(t, ok)
	require.Empty(t, v, "the second program names none")
	e := d.Environment("/opt/fell-kit-3")
	require.Equal(t, kit.Environment{Search: []string{"/opt/fell-kit-3/bin", "/opt/fell-kit-3/tools/bin"},
		Variables: []kit.Variable{{Name: "FELL_KIT", Value: "/opt/fell-kit-3"}, {Name: "FELL_PARTS", Value: "/opt/fell-kit-3/parts"}}}, e)
}

func TestADescriptionThatIsWrongIsRefused(t *testing.T) {
	const holds = "\nholds: [{file: x}]"
	for name, c := range map[string]struct{ text, says string }{
		"a name with a slash":                {"kit: a/b" + holds, "kit name"},
		"nothing that it holds":              {"kit: a", "holds is missing"},
		"a field that there is not":          {"kit: a\nhold: []", "hold"},
		"an entry that is two things":        {"kit: a\nholds: [{file: x, program: y}]", "one of program, file and directory"},
		"an entry outside the kit":           {"kit: a\nholds: [{file: ../x}]", "not a relative path inside"},
		"an entry with a whole path":         {"kit: a\nholds: [{program: /bin/rm}]", "not a relative path inside"},
		"a program that is asked to do more": {"kit: a\nholds: [{program: x, asked: -rf, prints: a}]", "does not ask for a version"},
		"two words for a program":            {"kit: a\nholds: [{program: x, asked: version --all, prints: a}]", "does not ask for a version"},
		"a question without an answer":       {"kit: a\nholds: [{program: x, asked: version}]", "used together"},
		"a question to a file":               {"kit: a\nholds: [{file: x, asked: version, prints: a}]", "used together"},
		"an invalid pattern":                 {"kit: a\nholds: [{program: x, asked: version, prints: '('}]", "prints"},
		"a place below nothing":              {"kit: a\nplaces: [opt/a]" + holds, "places"},
		"a place that is no pattern":         {"kit: a\nplaces: ['/opt/[']" + holds, "places"},
		"the search path as a variable":      {"kit: a\nvariables: {PATH: bin}" + holds, "cannot set"},
		"a library that is loaded first":     {"kit: a\nvariables: {LD_PRELOAD: x.so}" + holds, "cannot set"},
		"a variable in small letters":        {"kit: a\nvariables: {home: .}" + holds, "cannot set"},
		"a search path with two entries":     {"kit: a\nsearch: ['bin:lib']" + holds, "search"},
		"more than anybody needs":            {"kit: a\nabout: " + strings.Repeat("x", 64<<10) + holds, "64 KiB"},
		"no YAML":                            {"kit: [", ""},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := kit.Parse([]byte(c.text))
			require.ErrorContains(t, err, c.says)
		})
	}
}

func FuzzADescriptionIsReadOrRefused(f *testing.F) {
	f.Add(described)
	f.Add("kit: a\nholds: [{program: x, asked: -v, prints: '(?P<version>.*)'}]")
	f.Add("kit: &a a\nholds: *a")
	f.Fuzz(func(t *testing.T, text string) {
		d, err := kit.Parse([]byte(text))
		if err != nil {
			return
		}
		for i := range d.Holds {
			d.Holds[i].Version(text)
			require.True(t, filepath.IsLocal(filepath.FromSlash(d.Holds[i].Path())), "nothing outside the kit")
		}
	})
}

// at is a copy for the choice between several.
func at(path, version string, named bool, wrong ...string) kit.Copy {
	c := kit.Copy{Path: path, Named: named, Version: fact.Release(version)}
	for _, w := range wrong {
		c.Findings = append(c.Findings, kit.Finding{Entry: kit.Entry{File: "x"}, Wrong: w})
	}
	return c
}

func TestTheCopyForANeed(t *testing.T) {
	onPath := at("/p", "3.0", false)
	onPath.OnPath = true
	for name, c := range map[string]struct {
		need   kit.Need
		copies []kit.Copy
		state  kit.State
		path   string
		offer  string
	}{
		"none":                              {kit.Need{}, nil, kit.Missing, "", ""},
		"the only one":                      {kit.Need{}, []kit.Copy{at("/a", "3", false)}, kit.Here, "/a", ""},
		"the highest version, by its parts": {kit.Need{}, []kit.Copy{at("/a", "3.9", false), at("/b", "3.10", false)}, kit.Here, "/b", ""},
		"the one on the search path before a higher":           {kit.Need{}, []kit.Copy{onPath, at("/b", "3.10", false)}, kit.Here, "/p", ""},
		"a higher one where that does not fit":                 {kit.Need{From: "3.1"}, []kit.Copy{onPath, at("/b", "3.10", false)}, kit.Here, "/b", ""},
		"a named one before all that were found":               {kit.Need{}, []kit.Copy{at("/a", "3", true), at("/b", "4", false)}, kit.Here, "/a", ""},
		"a found one is offered for a named one that broke":    {kit.Need{}, []kit.Copy{at("/a", "3", true, "is missing"), at("/b", "4", false)}, kit.Broken, "/a", "/b"},
		"or for one that is too old":                           {kit.Need{From: "4"}, []kit.Copy{at("/a", "3", true), at("/b", "4", false)}, kit.Unfitting, "/a", "/b"},
		"but not if it is broken too":                          {kit.Need{}, []kit.Copy{at("/a", "3", true, "is missing"), at("/b", "4", false, "is no file")}, kit.Broken, "/a", ""},
		"another named one needs no offer":                     {kit.Need{}, []kit.Copy{at("/a", "3", true, "is missing"), at("/b", "2", true)}, kit.Here, "/b", ""},
		"one from the end of the range on does not serve":      {kit.Need{Below: "4"}, []kit.Copy{at("/a", "4", false)}, kit.Unfitting, "/a", ""},
		"a version that is not known serves no range":          {kit.Need{From: "1"}, []kit.Copy{at("/a", "", false)}, kit.Unfitting, "/a", ""},
		"and any other need":                                   {kit.Need{}, []kit.Copy{at("/a", "", false)}, kit.Here, "/a", ""},
		"a complete one of another version before a broken":    {kit.Need{From: "5"}, []kit.Copy{at("/a", "5", false, "is missing"), at("/b", "4", false)}, kit.Unfitting, "/b", ""},
		"a found one that is broken is what stands in the way": {kit.Need{}, []kit.Copy{at("/a", "5", false, "", "is missing")}, kit.Broken, "/a", ""},
	} {
		t.Run(name, func(t *testing.T) {
			got := kit.Choose(c.need, c.copies)
			require.Equal(t, []string{string(c.state), c.path, c.offer}, []string{string(got.State), pathOf(got.Copy), pathOf(got.Offer)})
		})
	}
}

func pathOf(c *kit.Copy) string {
	if c == nil {
		return ""
	}
	return c.Path
}

func TestANeedThatNothingCanMeetIsRefused(t *testing.T) {
	require.NoError(t, kit.Need{}.Check())
	require.NoError(t, kit.Need{Name: "a", From: "3.9", Below: "3.10"}.Check())
	require.Error(t, kit.Need{Name: "a", From: "4", Below: "4"}.Check())
	require.Error(t, kit.Need{From: "4"}.Check(), "without a name")
	require.Equal(t, "a from 3, below 4", kit.Need{Name: "a", From: "3", Below: "4"}.String())
}
