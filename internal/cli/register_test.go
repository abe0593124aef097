package cli

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestDevicesAreReadByTheNamesOfColumns(t *testing.T) {
	got, err := parseOthers(strings.NewReader("\ufeffModel,note,Serial\r\nKS,\"a, b\", KS 0071 \r\n"))
	require.NoError(t, err)
	require.Equal(t, "KS 0071", got[0].Serial)
	require.Equal(t, "KS", got[0].Model)
	_, err = parseOthers(strings.NewReader("serial,model\n" + strings.Repeat("KS 1,x\n", othersMost+1)))
	require.ErrorContains(t, err, "more than")
}

func FuzzOthers(f *testing.F) {
	f.Add("serial,model\nKS 0071,KS\n")
	f.Add("serial,model\n\"")
	f.Fuzz(func(t *testing.T, text string) {
		if got, err := parseOthers(strings.NewReader(text)); err == nil {
			require.NotEmpty(t, got)
		}
	})
}
