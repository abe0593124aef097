package benchtest

import (
	"crypto/rand"
	"encoding/binary"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// SmallApp is the project of fellgate/callout as a module of some 250 bytes that writes one
// line and ends, or stays and sleeps: it is compiled quickly, even under the
// race detector.
func SmallApp(t testing.TB, stays bool) string {
	t.Helper()
	dir := t.TempDir()
	text := `id: fellgate/callout
name: Callout
version: "2.3"
families: [tarn, ostler, kestle, wick]
minimum: "9"
build: {command: [cp, source, app.wasm]}
files: [app.wasm]
entry: app.wasm
# A tryout passes once this line is in the log.
try: {log: "^callout ready", within: 20s}
`
	require.NoError(t, os.WriteFile(filepath.Join(dir, ".earlybench.yaml"), []byte(text), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "source"), writes("callout ready: 4 on the rota\n", stays), 0o600))
	return dir
}

// LoudApp is the directory of a project without its project file: its program writes a text, and ends.
func LoudApp(t testing.TB, says string) string {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "source"), writes(says, false), 0o600))
	return dir
}

// writes makes a WASI module (WebAssembly core 1.0, section 5) that writes a short
// text to its standard output and ends, or stays.
func writes(text string, stays bool) []byte {
	section := func(id byte, body ...byte) []byte {
		return append(binary.AppendUvarint([]byte{id}, uint64(len(body))), body...)
	}
	name := func(s string) []byte { return append([]byte{byte(len(s))}, s...) }
	join := func(parts ...[]byte) (out []byte) {
		for _, p := range parts {
			out = append(out, p...)
		}
		return out
	}
	const i32, at = 0x7f, 8                            // the text lies at 8, behind the vector that names it
	segment := func(offset byte, data []byte) []byte { // of the memory, at a multiple of 128 below 8192, or at 0
		return join([]byte{0, 0x41, 0x80, offset, 0x0b}, binary.AppendUvarint(nil, uint64(len(data))), data)
	}
	vector := binary.LittleEndian.AppendUint32([]byte{at, 0, 0, 0}, uint32(len(text)))
	data := [][]byte{segment(0, append(vector, text...))}
	code := []byte{0, 0x41, 1, 0x41, 0, 0x41, 1, 0x41, 0x3c, 0x10, 0, 0x1a}
	if stays { // it polls one clock for an hour, again and again: the subscription lies at 1024, the event at 2048, their number at 4096
		code = append(code, 0x03, 0x40, 0x41, 0x80, 8, 0x41, 0x80, 16, 0x41, 1, 0x41, 0x80, 32, 0x10, 1, 0x1a, 0x0c, 0, 0x0b)
		subscription := make([]byte, 48)
		binary.LittleEndian.PutUint64(subscription[24:], uint64(time.Hour))
		data = append(data, segment(8, subscription))
	}
	code = append(code, 0x0b)
	imported := func(f string) []byte { return join(name("wasi_snapshot_preview1"), name(f), []byte{0, 0}) }
	return join([]byte("\x00asm\x01\x00\x00\x00"),
		section(1, 2, 0x60, 4, i32, i32, i32, i32, 1, i32, 0x60, 0, 0),
		section(2, join([]byte{2}, imported("fd_write"), imported("poll_oneoff"))...),
		section(3, 1, 1),
		section(5, 1, 0, 1),
		section(7, join([]byte{2}, name("memory"), []byte{2, 0}, name("_start"), []byte{0, 2})...),
		section(10, append([]byte{1, byte(len(code))}, code...)...),
		section(11, append([]byte{byte(len(data))}, join(data...)...)...))
}

// BigApp is the directory of an app whose file is so large.
func BigApp(t testing.TB, size int64) string {
	t.Helper()
	dir := SmallApp(t, true)
	big := make([]byte, size)
	_, err := rand.Read(big)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "maps"), big, 0o600))
	file := filepath.Join(dir, ".earlybench.yaml")
	project, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, []byte(strings.Replace(string(project), "files: [app.wasm]", "files: [app.wasm, maps]", 1)), 0o600))
	return dir
}
