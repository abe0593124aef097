package benchtest

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// Holds reports whether a process has a text anywhere in its memory.
func Holds(t testing.TB, pid int, text string) bool {
	t.Helper()
	maps, err := os.ReadFile(fmt.Sprintf("/proc/%d/maps", pid))
	require.NoError(t, err)
	mem, err := os.Open(fmt.Sprintf("/proc/%d/mem", pid))
	require.NoError(t, err)
	defer mem.Close()
	read := 0
	for line := range strings.Lines(string(maps)) {
		var from, to int64
		var rights string
		if _, err := fmt.Sscanf(line, "%x-%x %s", &from, &to, &rights); err != nil || rights[0] != 'r' {
			continue
		}
		part := make([]byte, to-from)
		n, err := mem.ReadAt(part, from)
		if err != nil && !errors.Is(err, io.EOF) && n == 0 {
			continue // such as the kernel's own
		}
		read += n
		if bytes.Contains(part[:n], []byte(text)) {
			return true
		}
	}
	require.Greater(t, read, 8<<20, "the memory was read")
	return false
}
