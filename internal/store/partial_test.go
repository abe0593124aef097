package store_test

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/store"
)

// coming is a file of a size, and where it is to be kept.
func coming(t *testing.T, size int) (content []byte, digest string, files store.Files) {
	t.Helper()
	content = make([]byte, size)
	rand.NewChaCha8([32]byte{2}).Read(content)
	d := sha256.Sum256(content)
	return content, hex.EncodeToString(d[:]), store.Files{Dir: t.TempDir()}
}

// take writes up to n bytes of what is missing, in pieces.
func take(t *testing.T, p *store.Partial, content []byte, n int64) {
	t.Helper()
	for n > 0 {
		s, ok := p.Take()
		if !ok {
			return
		}
		for s.From < s.To && n > 0 {
			piece := min(n, s.To-s.From, 300_000)
			require.NoError(t, p.Write(&s, content[s.From:s.From+piece]))
			n -= piece
		}
		p.Leave(s)
	}
}

func TestAFileThatComesInPartsGoesOnWhereItWas(t *testing.T) {
	content, digest, files := coming(t, 10<<20+17)
	var had int64
	for range 6 {
		p, err := files.Begin(digest, int64(len(content)))
		require.NoError(t, err)
		require.Equal(t, had, p.Bytes())
		take(t, p, content, 2<<20)
		had = p.Bytes()
		if had == int64(len(content)) {
			require.NoError(t, p.Finish())
			break
		}
		require.ErrorContains(t, p.Finish(), "only")
		require.NoError(t, p.Close())
		n, ok := files.Coming(digest)
		require.True(t, ok)
		require.Equal(t, had, n)
	}
	got, err := os.ReadFile(files.Path(digest))
	require.NoError(t, err)
	require.True(t, bytes.Equal(content, got))
	_, err = files.Begin(digest, int64(len(content)))
	require.ErrorIs(t, err, fs.ErrExist)
	require.NoError(t, files.Drop(digest))
	left, err := os.ReadDir(files.Dir)
	require.NoError(t, err)
	require.Empty(t, left)
}

func TestAfterAnotherStartOfTheComputerOnlyWholeSpansCount(t *testing.T) {
	content, digest, files := coming(t, 12<<20)
	p, err := files.Begin(digest, int64(len(content)))
	require.NoError(t, err)
	take(t, p, content, 5<<20)
	require.NoError(t, p.Close())
	name := filepath.Join(files.Dir, ".part-"+digest+".map")
	raw, err := os.ReadFile(name)
	require.NoError(t, err)
	raw[20] ^= 1 // as if it had been started again
	require.NoError(t, os.WriteFile(name, raw, 0o600))
	p, err = files.Begin(digest, int64(len(content)))
	require.NoError(t, err)
	require.EqualValues(t, 4<<20, p.Bytes())
	take(t, p, content, int64(len(content)))
	require.NoError(t, p.Finish())
}

func TestADamagedMapBeginsAnew(t *testing.T) {
	content, digest, files := coming(t, 9<<20)
	name := filepath.Join(files.Dir, ".part-"+digest+".map")
	for what, damage := range map[string]func([]byte) []byte{
		"cut off":                        func(b []byte) []byte { return b[:len(b)-3] },
		"empty":                          func([]byte) []byte { return nil },
		"more bytes than a span has":     func(b []byte) []byte { b[40] = 0xff; return b },
		"of another size":                func(b []byte) []byte { b[7]++; return b },
		"of bytes that the file has not": func(b []byte) []byte { b[49] = 0x10; return b },
	} {
		t.Run(what, func(t *testing.T) {
			p, err := files.Begin(digest, int64(len(content)))
			require.NoError(t, err)
			take(t, p, content, 3<<20)
			require.NoError(t, p.Close())
			raw, err := os.ReadFile(name)
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(name, damage(raw), 0o600))
			p, err = files.Begin(digest, int64(len(content)))
			require.NoError(t, err)
			require.LessOrEqual(t, p.Bytes(), int64(3<<20))
			take(t, p, content, int64(len(content)))
			require.NoError(t, p.Finish(), "whatever the map said, the digest is right in the end")
			require.NoError(t, files.Drop(digest))
		})
	}
}

func TestAFileWithAnotherDigestIsNotKept(t *testing.T) {
	content, digest, files := coming(t, 5<<20)
	p, err := files.Begin(digest, int64(len(content)))
	require.NoError(t, err)
	content[4<<20] ^= 1
	take(t, p, content, int64(len(content)))
	require.ErrorIs(t, p.Finish(), store.ErrOther)
	left, err := os.ReadDir(files.Dir)
	require.NoError(t, err)
	require.Empty(t, left)
}

func TestAFileForWhichTheDiskHasNoRoomIsRefusedBeforeItsFirstByte(t *testing.T) {
	_, digest, files := coming(t, 1)
	_, err := files.Begin(digest, 1<<40)
	var p *problem.Problem
	require.ErrorAs(t, err, &p)
	require.Contains(t, p.Text, "not enough disk space")
	require.NotEmpty(t, p.Remedy)
}

func TestWhatHasComeInPartIsToldAndDropped(t *testing.T) {
	content, digest, files := coming(t, 9<<20)
	p, err := files.Begin(digest, int64(len(content)))
	require.NoError(t, err)
	take(t, p, content, 1<<20)
	require.NoError(t, p.Close())
	parts, err := files.Partials()
	require.NoError(t, err)
	require.Len(t, parts, 1)
	require.Equal(t, digest, parts[0].Name)
	require.EqualValues(t, 1<<20, parts[0].Bytes)
	require.WithinDuration(t, time.Now(), parts[0].At, time.Minute)
	require.NoError(t, files.Drop(digest))
	left, err := os.ReadDir(files.Dir)
	require.NoError(t, err)
	require.Empty(t, left)
}
