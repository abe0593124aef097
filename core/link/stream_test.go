package link_test

import (
	"bytes"
	"encoding/hex"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"earlybench.invalid/earlybench/core/link"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

// half is a pipe of which one side was written beforehand.
type half struct {
	io.Reader
	bytes.Buffer
}

func (h *half) Read(p []byte) (int, error) { return h.Reader.Read(p) }
func (h *half) Close() error               { return nil }

// TestVectors walks testdata/stream: what a bench sends, as hexadecimal with
// comments, and what the device makes of it. The files are for other
// implementations too; docs/formats/link.md tells how they are read.
func TestVectors(t *testing.T) {
	files, err := filepath.Glob("testdata/stream/*.txt")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, file := range files {
		t.Run(filepath.Base(file), func(t *testing.T) {
			raw, err := os.ReadFile(file)
			require.NoError(t, err)
			v := parseVector(t, string(raw))
			h := &half{Reader: bytes.NewReader(v.send)}
			s, err := link.AcceptStream(h)
			if v.refused {
				require.Error(t, err)
				return
			}
			require.NoError(t, err)
			require.Equal(t, v.answer, h.Bytes())
			got, err := io.ReadAll(s)
			require.Equal(t, v.data, got)
			switch v.end {
			case "close":
				require.NoError(t, err)
			case "reset":
				require.ErrorIs(t, err, link.ErrReset)
			case "bad":
				require.ErrorIs(t, err, link.ErrStream)
			case "cut":
				require.ErrorIs(t, err, io.ErrUnexpectedEOF)
			default:
				require.Fail(t, "no such end", v.end)
			}
		})
	}
}

type vector struct {
	send, answer, data []byte
	end                string
	refused            bool
}

func parseVector(t *testing.T, text string) (v vector) {
	t.Helper()
	for line := range strings.Lines(text) {
		line, _, _ = strings.Cut(line, "#")
		name, value, ok := strings.Cut(strings.TrimSpace(line), ":")
		if !ok {
			continue
		}
		value = strings.TrimSpace(value)
		raw, err := hex.DecodeString(strings.ReplaceAll(value, " ", ""))
		switch name {
		case "send":
			require.NoError(t, err)
			v.send = append(v.send, raw...)
		case "answer":
			require.NoError(t, err)
			v.answer = append(v.answer, raw...)
		case "data":
			v.data = append(v.data, value...)
		case "end":
			v.end, v.refused = value, value == "refused"
		}
	}
	if v.data == nil {
		v.data = []byte{}
	}
	return v
}

func TestTheBenchDropsWhatIsLeftOfAnEarlierStream(t *testing.T) {
	a, b := net.Pipe()
	defer b.Close()
	go func() {
		io.ReadFull(b, make([]byte, 15))
		// The middle of a frame, an answer to an earlier open, then the right one.
		b.Write([]byte{0xde, 0xad, 0, 0, 0, 10, 1, 0, 1, 0, 0, 0, 0, 0, 0, 0, 6})
		b.Write([]byte{0, 0, 0, 10, 1, 0, 1, 0, 0, 0, 0, 0, 0, 0, 7})
		b.Write([]byte{0, 0, 0, 2, 2, 'h', 'i', 0, 0, 0, 0, 3})
		io.Copy(io.Discard, b)
	}()
	s, err := link.OpenStream(a, 7)
	require.NoError(t, err)
	got, err := io.ReadAll(s)
	require.NoError(t, err)
	require.Equal(t, "hi", string(got))
	s.Close()
}

func TestADeviceThatSendsWithoutEndAndDoesNotAnswerIsGivenUp(t *testing.T) {
	a, b := net.Pipe()
	defer a.Close()
	go func() {
		io.ReadFull(b, make([]byte, 15))
		for junk := make([]byte, 1<<20); ; {
			if _, err := b.Write(junk); err != nil {
				return
			}
		}
	}()
	_, err := link.OpenStream(a, 7)
	require.ErrorIs(t, err, link.ErrStream)
	require.ErrorContains(t, err, "has sent 32 MB and not answered")
}

func TestADeadlineEndsAStreamThatSaysNothing(t *testing.T) {
	a, b := net.Pipe()
	defer b.Close()
	go func() {
		buf := make([]byte, 15)
		io.ReadFull(b, buf)
		b.Write(buf)
		io.Copy(io.Discard, b)
	}()
	s, err := link.OpenStream(a, 9)
	require.NoError(t, err)
	require.NoError(t, s.SetDeadline(time.Now().Add(20*time.Millisecond)))
	_, err = s.Read(make([]byte, 1))
	require.ErrorContains(t, err, "in time")
	s.Close()
}

func FuzzAcceptStream(f *testing.F) {
	f.Add([]byte{0, 0, 0, 10, 1, 0, 1, 0, 0, 0, 0, 0, 0, 0, 7, 0, 0, 0, 1, 2, 'x'})
	f.Add([]byte{0, 0, 0, 1, 1, 9, 0xff, 0xff, 0xff, 0xff, 2})
	f.Fuzz(func(t *testing.T, in []byte) {
		s, err := link.AcceptStream(&half{Reader: bytes.NewReader(in)})
		if err == nil {
			io.Copy(io.Discard, s)
		}
	})
}
