package body

import (
	"context"
	"crypto/rand"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/pkg/sftp"
	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/standin/bodies"
	"go.uber.org/goleak"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

// handset makes a brand-new Heron 4 and the clock that it goes by.
func handset(t *testing.T, dir string) (*Body, *clock.Moved) {
	t.Helper()
	specs, err := LoadSpecs(bodies.Files)
	require.NoError(t, err)
	c := &clock.Moved{}
	b, err := New(Config{Name: "heron-2", Spec: specs["halden"], Model: "H4", Serial: "HH4 0077 3C1E", Dir: dir, Clock: c})
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, b.Close()) })
	return b, c
}

func touch(t *testing.T, b *Body, texts ...string) {
	t.Helper()
	for _, s := range texts {
		require.NoError(t, b.Touch(s))
	}
}

func TestAChoiceWithARiskIsAskedAboutFirst(t *testing.T) {
	b, _ := handset(t, t.TempDir())
	touch(t, b, "Settings", "Care", "Inside label", "Batch", "Batch", "Batch", "Batch", "Batch", "Batch", "Batch")
	touch(t, b, "Computers may", "debug", "Leave it")
	require.Len(t, b.Descriptor().Interfaces, 1)
	touch(t, b, "Computers may", "debug", "Let them")
	require.Len(t, b.Descriptor().Interfaces, 2)
	touch(t, b, "Close the Back room", "Close it")
	require.Len(t, b.Descriptor().Interfaces, 1)
	touch(t, b, "Care", "Inside label", "Batch")
	require.Error(t, b.Touch("Computers may"), "it is hidden again")
}

func TestABodyIsAsItWasWhenItIsSwitchedOnAgain(t *testing.T) {
	dir := t.TempDir()
	b, _ := handset(t, dir)
	touch(t, b, "Settings", "Care", "Inside label", "Batch", "Batch", "Batch", "Batch", "Batch", "Batch")
	key := b.Fingerprint()
	again, _ := handset(t, dir)
	require.True(t, again.st.Opened)
	require.Equal(t, key, again.Fingerprint())
	touch(t, again, "Settings", "Care", "Start over", "Start over")
	require.False(t, again.st.Opened)
	require.NotEqual(t, key, again.Fingerprint(), "a wiped one is another device")
}

func TestAQuestionNamesWhoAsksWithoutItsControlSigns(t *testing.T) {
	b, _ := handset(t, t.TempDir())
	ctx, cancel := context.WithCancel(t.Context())
	ended := make(chan device.AdmitState, 4)
	go b.Ask(ctx, device.Visitor{Key: "SHA256:x", Name: "moor\x1b[31m-desk" + strings.Repeat("!", 500), Shared: true}, func(a device.Admittance) { ended <- a.State })
	require.Equal(t, device.AdmitAsking, <-ended)
	elements, _ := b.Elements()
	var texts []string
	for _, e := range elements {
		texts = append(texts, e.Text)
	}
	require.Equal(t, []string{"This visit", "No"}, texts, "a shared computer is asked about for one visit only")
	b.mu.Lock()
	title := b.asking().title
	b.mu.Unlock()
	require.NotContains(t, title, "\x1b")
	require.Less(t, len(title), 80)
	cancel()
	require.Equal(t, device.AdmitExpired, <-ended)
	b.mu.Lock()
	defer b.mu.Unlock()
	require.Nil(t, b.asking())
}

func TestAnUploadKeepsOnlyWhatIsWholeFromItsFirstByte(t *testing.T) {
	b, _ := handset(t, t.TempDir())
	require.NoError(t, os.MkdirAll(b.filesDir(), 0o700))
	data := make([]byte, 1000)
	rand.Read(data)
	name := incoming + "/" + digest(data)
	put := func(parts ...[2]int) {
		w, err := files{b}.Filewrite(sftp.NewRequest("Put", name))
		require.NoError(t, err)
		for _, p := range parts {
			_, err := w.WriteAt(data[p[0]:p[1]], int64(p[0]))
			require.NoError(t, err)
		}
		require.NoError(t, w.(*upload).Close())
	}
	put([2]int{200, 300}, [2]int{0, 100}, [2]int{500, 600})
	require.Equal(t, int64(100), b.have(digest(data)))
	put([2]int{300, 400}, [2]int{200, 300}, [2]int{100, 200})
	require.Equal(t, int64(400), b.have(digest(data)))
	put([2]int{400, 1000})
	got, err := os.ReadFile(b.filePath(digest(data)))
	require.NoError(t, err)
	require.Equal(t, data, got)
	for _, bad := range []string{"/etc/passwd", incoming + "/../state.json", incoming + "/x", "/" + digest(data)} {
		_, err := files{b}.Filewrite(sftp.NewRequest("Put", bad))
		require.ErrorIs(t, err, os.ErrPermission, bad)
	}
	_, err = files{b}.Fileread(sftp.NewRequest("Get", name))
	require.ErrorIs(t, err, os.ErrPermission)
}

func TestBodyDataWithMistakesIsRefused(t *testing.T) {
	raw, err := bodies.Files.ReadFile("halden.yaml")
	require.NoError(t, err)
	for old, new := range map[string]string{
		"within: 2s":          "within: soon",
		"capacity: 512 MB":    "capacity: a lot",
		"class: 06/01/01":     "class: six",
		`usb: "f3e0:0103"`:    `usb: "f3e0"`,
		"page: inside label":  "page: outside label",
		"body: halden":        "bodi: halden",
		"answer within: 120s": "answer within: later",
		`revision: "1200"`:    `revision: "twelve"`,
	} {
		text := strings.Replace(string(raw), old, new, 1)
		require.NotEqual(t, string(raw), text, old)
		_, err := LoadSpecs(fstest.MapFS{"halden.yaml": {Data: []byte(text)}})
		require.ErrorContains(t, err, "halden.yaml", new)
	}
	specs, err := LoadSpecs(bodies.Files)
	require.NoError(t, err)
	_, err = New(Config{Name: "x", Spec: specs["halden"], Model: "H9", Dir: filepath.Join(t.TempDir()), Clock: clock.System{}})
	require.ErrorContains(t, err, "makes no model")
}
