package strict_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/strict"
)

type document struct {
	Name string   `yaml:"name"`
	List []string `yaml:"list"`
}

func TestWhatIsWrittenIsReadAndNothingElse(t *testing.T) {
	var d document
	require.NoError(t, strict.YAML([]byte("name: a\nlist: [b, c]\n"), &d))
	require.Equal(t, document{"a", []string{"b", "c"}}, d)
	for name, text := range map[string]string{
		"a field that there is not":           "names: a",
		"a list where a text is wanted":       "name: [a]",
		"a list that is not closed":           "list: [a",
		"a text with a tag instead of a list": "list: !0 0",
	} {
		t.Run(name, func(t *testing.T) { require.Error(t, strict.YAML([]byte(text), &document{})) })
	}
	err := strict.YAML([]byte("name: a\nnames: b\n"), &d)
	require.ErrorContains(t, err, "[2:1]", "with its place")
}

func FuzzNoTextMakesItPanic(f *testing.F) {
	f.Add("name: a\nlist: [b]")
	f.Add("list: !0000000000000000 0000000000")
	f.Add("name: &a b\nlist: [*a, <<: *a]")
	f.Fuzz(func(t *testing.T, text string) {
		strict.YAML([]byte(text), &document{})
	})
}
