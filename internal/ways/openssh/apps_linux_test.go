package openssh_test

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"earlybench.invalid/earlybench/core/appfile"
	"earlybench.invalid/earlybench/core/bundle"
	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/shell"
	"earlybench.invalid/earlybench/internal/benchtest"
)

// packed is an app of the given files, of which main.sh is started.
func packed(t *testing.T, version string, files map[string]string) *appfile.File {
	t.Helper()
	dir := t.TempDir()
	var names []string
	for name, text := range files {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o700))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
		names = append(names, name)
	}
	var b bytes.Buffer
	_, err := appfile.Pack(&b, appfile.Manifest{ID: "fellgate/post", Name: "Post", Version: version, Families: []string{"linux"}, Entry: "main.sh"}, os.DirFS(dir), names, nil)
	require.NoError(t, err)
	f, err := appfile.Open(bytes.NewReader(b.Bytes()), int64(b.Len()))
	require.NoError(t, err)
	return f
}

// brought puts an app on a device, and returns how many bytes were sent.
func brought(t *testing.T, s *shell.Session, f *appfile.File) (sent int64) {
	t.Helper()
	apps, _ := s.Apps()
	files, _ := s.Files()
	lacks, err := apps.Offer(t.Context(), f.Manifest, f.Signature)
	require.NoError(t, err)
	for _, l := range lacks.Files {
		for _, file := range f.App.Files {
			if file.SHA256 != l.SHA256 {
				continue
			}
			r, err := f.File(file.Path)
			require.NoError(t, err)
			_, err = io.CopyN(io.Discard, r, l.Have)
			require.NoError(t, err)
			require.NoError(t, files.Put(t.Context(), lacks.Dir, l.SHA256, r, l.Have, l.Size, func(n int64) { sent += n }))
			r.Close()
			break
		}
	}
	require.NoError(t, apps.Install(t.Context(), lacks.Digest))
	return sent
}

// lines are the lines of an app's log behind a number, until it has ended.
func lines(t *testing.T, s *shell.Session, after uint64) (out []device.Line) {
	t.Helper()
	log, _ := s.Log()
	ctx, cancel := context.WithTimeout(t.Context(), 15*time.Second)
	defer cancel()
	require.NoError(t, log.Follow(ctx, device.LogFrom{App: "fellgate/post", After: after}, func(l device.Line) bool {
		out = append(out, l)
		return l.Ended == nil
	}))
	return out
}

const counts = "#!/bin/sh\necho begins\necho careful >&2\nread x <words\necho \"$x\"\nexit 3\n"

func TestAnAppRunsOnABoard(t *testing.T) {
	onEach(t, func(t *testing.T, b *benchtest.Board, key ssh.Signer) {
		s := loggedIn(t, b, key)
		defer s.Close()
		apps, _ := s.Apps()
		f := packed(t, "1.0", map[string]string{"main.sh": counts, "words": "it's \"here\"\n", "a dir/empty": ""})
		require.EqualValues(t, len(counts)+len("it's \"here\"\n"), brought(t, s, f))
		list, err := apps.List(t.Context())
		require.NoError(t, err)
		require.Equal(t, []device.App{{ID: "fellgate/post", Version: "1.0", Digest: bundle.Digest(f.Manifest), Name: "Post"}}, list)

		started, err := apps.Start(t.Context(), "fellgate/post")
		require.NoError(t, err)
		got := lines(t, s, started.After)
		var texts []string
		for _, l := range got {
			require.WithinDuration(t, time.Now(), l.At, 5*time.Second)
			texts = append(texts, l.Level+" "+l.Text)
		}
		require.ElementsMatch(t, []string{"info begins", "error careful", "info it's \"here\"", "info the app has ended: crashed"}, texts)
		require.Equal(t, &device.Ended{Code: 3, Reason: device.Crashed}, got[len(got)-1].Ended)
		require.Equal(t, got[2:], lines(t, s, got[1].Seq), "it goes on behind a line")

		next := packed(t, "1.1", map[string]string{"main.sh": "#!/bin/sh\nsleep 100 & sleep 100\n", "b/words": "it's \"here\"\n"})
		require.EqualValues(t, len("#!/bin/sh\nsleep 100 & sleep 100\n"), brought(t, s, next), "what is there is not sent again, at another place either")
		started, err = apps.Start(t.Context(), "fellgate/post")
		require.NoError(t, err)
		list, err = apps.List(t.Context())
		require.NoError(t, err)
		require.True(t, list[0].Running)
		require.NoError(t, apps.Stop(t.Context(), "fellgate/post"))
		require.Equal(t, &device.Ended{Code: -1, Reason: device.Stopped}, lines(t, s, started.After)[0].Ended)
		require.NoError(t, apps.Remove(t.Context(), "fellgate/post"))
		list, err = apps.List(t.Context())
		require.NoError(t, err)
		require.Empty(t, list)
	})
}

func TestACopyThatIsCutGoesOnBehindItsLastWholeSegment(t *testing.T) {
	big := make([]byte, 11<<20)
	rand.Read(big)
	onEach(t, func(t *testing.T, b *benchtest.Board, key ssh.Signer) {
		s := loggedIn(t, b, key)
		defer s.Close()
		f := packed(t, "1.0", map[string]string{"main.sh": "#!/bin/sh\nsha256sum <big\n", "big": string(big)})
		apps, _ := s.Apps()
		files, _ := s.Files()
		lacks, err := apps.Offer(t.Context(), f.Manifest, f.Signature)
		require.NoError(t, err)
		for _, l := range lacks.Files {
			if l.Size != int64(len(big)) {
				continue
			}
			ctx, cut := context.WithCancel(t.Context())
			var sent int64
			err := files.Put(ctx, lacks.Dir, l.SHA256, bytes.NewReader(big), 0, l.Size, func(n int64) {
				if sent += n; sent > 5<<20 {
					cut()
				}
			})
			require.Error(t, err)
		}
		s.Close()
		s = loggedIn(t, b, key)
		defer s.Close()
		apps, _ = s.Apps()
		lacks, err = apps.Offer(t.Context(), f.Manifest, f.Signature)
		require.NoError(t, err)
		for _, l := range lacks.Files {
			if l.Size == int64(len(big)) {
				require.Positive(t, l.Have)
				require.Zero(t, l.Have%(4<<20))
			}
		}
		require.LessOrEqual(t, brought(t, s, f), int64(len(big)-4<<20+100))
		started, err := apps.Start(t.Context(), "fellgate/post")
		require.NoError(t, err)
		require.Equal(t, fmt.Sprintf("%x  -", sha256.Sum256(big)), lines(t, s, started.After)[0].Text)
	})
}
