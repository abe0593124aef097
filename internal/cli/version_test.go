package cli

import (
	"bytes"
	"encoding/json"
	"runtime"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestTheVersionSaysWhatItWasBuiltFrom(t *testing.T) {
	var out bytes.Buffer
	p := &program{out: &out}
	root := p.root()
	root.SetArgs([]string{"--version"})
	require.NoError(t, root.Execute())
	for _, part := range []string{"earlybench " + number, "\ncommit ", "\n" + runtime.Version(), "\nconsole "} {
		require.Contains(t, out.String(), part)
	}
	out.Reset()
	root.SetArgs([]string{"--version", "--json"})
	require.NoError(t, root.Execute())
	var b build
	require.NoError(t, json.Unmarshal(out.Bytes(), &b))
	require.Equal(t, []string{number, runtime.Version(), consoleDigest()}, []string{b.Version, b.Go, b.Console})
}
