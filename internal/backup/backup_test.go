package backup_test

import (
	"archive/tar"
	"bytes"
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/internal/backup"
	"earlybench.invalid/earlybench/internal/store"
)

// desk is a state directory with something of all that is backed up, and something of what is not.
type desk struct {
	t     *testing.T
	dir   string
	store *store.Store
}

func newDesk(t *testing.T) *desk {
	d := &desk{t: t, dir: t.TempDir()}
	d.open()
	require.NoError(t, d.store.AddDevice(t.Context(), store.Device{ID: "k1", Handle: "heron-1"}))
	for name, text := range map[string]string{"bench.key": "key", "safe.age": "sealed", "lock": "1", "sheets/own.yaml": "sheet: own", "kits/fell/x": "kit", "run/bench.sock": "", ".coming-1": "half"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(d.dir, name)), 0o700))
		require.NoError(t, os.WriteFile(filepath.Join(d.dir, name), []byte(text), 0o600))
	}
	_, _, err := d.files().Put(strings.NewReader("an app"))
	require.NoError(t, err)
	return d
}

func (d *desk) open() {
	var err error
	d.store, err = store.Open(d.t.Context(), filepath.Join(d.dir, "bench.db"))
	require.NoError(d.t, err)
	d.t.Cleanup(func() { d.store.Close() })
}

func (d *desk) files() store.Files { return store.Files{Dir: filepath.Join(d.dir, "files")} }

func (d *desk) write() (string, backup.Index) {
	d.t.Helper()
	file := filepath.Join(d.t.TempDir(), "moor-desk.ebbackup")
	index, err := backup.Write(d.t.Context(), backup.Source{Store: d.store, Dir: d.dir, Bench: "moor-desk", Program: "0.10", Now: time.Now()}, file, func(done, total int64) {
		require.LessOrEqual(d.t, done, total)
	})
	require.NoError(d.t, err)
	return file, index
}

func (d *desk) restore(raw []byte) (string, error) {
	_, before, err := backup.Restore(d.t.Context(), bytes.NewReader(raw), d.dir, time.Date(2026, 11, 27, 10, 0, 0, 0, time.UTC))
	return before, err
}

func (d *desk) handles() (all []string) {
	devices, err := d.store.Devices(d.t.Context())
	require.NoError(d.t, err)
	for _, k := range devices {
		all = append(all, k.Handle)
	}
	return all
}

func paths(i backup.Index) (all []string) {
	for _, f := range i.Files {
		all = append(all, f.Path)
	}
	return all
}

func TestABackupHoldsAllThatIsKeptAndNothingElse(t *testing.T) {
	d := newDesk(t)
	file, index := d.write()
	got := paths(index)
	require.Len(t, got, 5)
	require.Subset(t, got, []string{"bench.db", "bench.key", "safe.age", "sheets/own.yaml"})
	info, err := os.Stat(file)
	require.NoError(t, err)
	require.EqualValues(t, 0o600, info.Mode().Perm())
	raw, err := os.Open(file)
	require.NoError(t, err)
	defer raw.Close()
	read, err := backup.Read(t.Context(), raw)
	require.NoError(t, err)
	require.Equal(t, index.Files, read.Files)
	require.NoFileExists(t, file+".part")
	require.NoFileExists(t, filepath.Join(d.dir, ".snapshot.db"))
}

func TestWhatWasBackedUpComesBackAndWhatWasThereIsSetAside(t *testing.T) {
	d := newDesk(t)
	file, _ := d.write()
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, d.store.AddDevice(t.Context(), store.Device{ID: "k2", Handle: "heron-2"}))
	require.NoError(t, d.store.Close())
	require.NoError(t, os.WriteFile(filepath.Join(d.dir, "bench.key"), []byte("another"), 0o600))
	before, err := d.restore(raw)
	require.NoError(t, err)
	require.Equal(t, filepath.Join(d.dir, "before-20261127-100000"), before)
	d.open()
	require.Equal(t, []string{"heron-1"}, d.handles())
	for name, text := range map[string]string{"bench.key": "key", "before-20261127-100000/bench.key": "another", "kits/fell/x": "kit", "sheets/own.yaml": "sheet: own"} {
		got, err := os.ReadFile(filepath.Join(d.dir, name))
		require.NoError(t, err)
		require.Equal(t, text, string(got), name)
	}
	old, err := store.Open(t.Context(), filepath.Join(before, "bench.db"))
	require.NoError(t, err)
	defer old.Close()
	all, err := old.Devices(t.Context())
	require.NoError(t, err)
	require.Len(t, all, 2)
}

func TestWhatRanWhenABackupWasMadeDoesNotGoOn(t *testing.T) {
	d := newDesk(t)
	require.NoError(t, d.store.Save(t.Context(), job.Job{ID: "j1", Kind: backup.KindBackup, State: job.Running}))
	file, _ := d.write()
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, d.store.Close())
	_, err = d.restore(raw)
	require.NoError(t, err)
	d.open()
	j, err := d.store.Job(t.Context(), "j1")
	require.NoError(t, err)
	require.Equal(t, job.Interrupted, j.State)
	require.Contains(t, j.Error.Remedy+j.Error.Text, "restored from a backup")
}

func TestARestoreThatIsCutOffIsBroughtToItsEnd(t *testing.T) {
	d := newDesk(t)
	file, index := d.write()
	require.NoError(t, d.store.Close())
	at := filepath.Join(d.dir, ".restoring")
	unpack := func() { // as it is once the backup was checked
		f, err := os.Open(file)
		require.NoError(t, err)
		defer f.Close()
		for in := tar.NewReader(f); ; {
			h, err := in.Next()
			if errors.Is(err, io.EOF) {
				break
			}
			require.NoError(t, err)
			raw, err := io.ReadAll(in)
			require.NoError(t, err)
			require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(at, h.Name)), 0o700))
			if h.Name != "backup.json" {
				require.NoError(t, os.WriteFile(filepath.Join(at, h.Name), raw, 0o600))
			}
		}
	}
	unpack()
	require.NoError(t, os.Mkdir(filepath.Join(d.dir, "before-1"), 0o700))
	require.NoError(t, os.Rename(filepath.Join(d.dir, "bench.db"), filepath.Join(d.dir, "before-1", "bench.db"))) // killed here
	before, err := backup.Finish(d.dir, time.Now())
	require.NoError(t, err)
	require.NotEmpty(t, before)
	for _, name := range paths(index) {
		require.FileExists(t, filepath.Join(d.dir, name))
	}
	require.NoDirExists(t, at)

	unpack() // killed later: all was set aside, and some is in its place already
	require.NoError(t, os.WriteFile(filepath.Join(at, ".cleared"), nil, 0o600))
	require.NoError(t, os.Rename(filepath.Join(at, "bench.key"), filepath.Join(d.dir, "bench.key")))
	require.NoError(t, os.RemoveAll(filepath.Join(d.dir, "files")))
	require.NoError(t, os.RemoveAll(filepath.Join(d.dir, "sheets")))
	before, err = backup.Finish(d.dir, time.Now())
	require.NoError(t, err)
	require.Empty(t, before, "nothing of the new is set aside")
	for _, name := range paths(index) {
		require.FileExists(t, filepath.Join(d.dir, name))
	}
}

func TestABrokenBackupIsRefusedAndChangesNothing(t *testing.T) {
	d := newDesk(t)
	file, _ := d.write()
	whole, err := os.ReadFile(file)
	require.NoError(t, err)
	made := func(entries ...string) []byte {
		var b bytes.Buffer
		w := tar.NewWriter(&b)
		for _, e := range entries {
			name, text, _ := strings.Cut(e, "=")
			require.NoError(t, w.WriteHeader(&tar.Header{Name: name, Size: int64(len(text)), Mode: 0o600}))
			_, err := w.Write([]byte(text))
			require.NoError(t, err)
		}
		require.NoError(t, w.Close())
		return b.Bytes()
	}
	flipped := bytes.Clone(whole)
	flipped[2000] ^= 1
	require.NoError(t, d.store.Close())
	for name, c := range map[string]struct {
		raw  []byte
		says string
	}{
		"an empty file":              {nil, "is incomplete"},
		"not a backup":               {bytes.Repeat([]byte("heron "), 500), "not a backup"},
		"one byte flipped":           {flipped, "damaged"},
		"the end is missing":         {whole[:len(whole)-3000], "is incomplete"},
		"the middle is the end":      {whole[:len(whole)/2], "is incomplete"},
		"a path that leads out":      {made("../x=1"), "not a file of a bench"},
		"a path from the root":       {made("/etc/x=1"), "not a file of a bench"},
		"a name that is not kept":    {made("lock=1"), "not a file of a bench"},
		"a half-written file":        {made(".coming-1=1"), "not a file of a bench"},
		"a file that is there twice": {made("bench.key=1", "bench.key=2"), "twice"},
		"an index of another format": {made(`backup.json={"format":7,"made":"2026-11-27T10:00:00Z","bench":"","program":"","files":[]}`), "format 7"},
		"an index with more":         {made(`backup.json={"format":1,"forma":1}`), "cannot be read"},
		"no records":                 {made(`backup.json={"format":1,"made":"2026-11-27T10:00:00Z","bench":"","program":"","files":[]}`), "does not name"},
	} {
		before, err := d.restore(c.raw)
		require.ErrorContains(t, err, c.says, name)
		require.Empty(t, before, name)
		require.NoDirExists(t, filepath.Join(d.dir, ".restoring-new"), name)
	}
	d.open()
	require.Equal(t, []string{"heron-1"}, d.handles())
}

func TestAFileThatWasDamagedAlreadyKeepsNothingElseFromTheBackup(t *testing.T) {
	d := newDesk(t)
	digest, _, err := d.files().Put(strings.NewReader("another app"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(d.files().Path(digest), []byte("another apq"), 0o600))
	file, index := d.write()
	require.Equal(t, []string{"files/" + digest}, index.Damaged())
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, d.store.Close())
	_, err = d.restore(raw)
	require.NoError(t, err)
	require.NoFileExists(t, d.files().Path(digest), "a damaged file is not put back")
}

func TestABackupIsWrittenElsewhereAndOverwritesNothing(t *testing.T) {
	d := newDesk(t)
	there := filepath.Join(t.TempDir(), "there")
	require.NoError(t, os.WriteFile(there, []byte("mine"), 0o600))
	s := backup.Source{Store: d.store, Dir: d.dir, Now: time.Now()}
	for file, says := range map[string]string{there: "already exists", filepath.Join(d.dir, "x"): "inside the state directory", "/no/such/dir/x": "cannot be written"} {
		_, err := backup.Write(t.Context(), s, file, func(int64, int64) {})
		require.ErrorContains(t, err, says)
	}
	ctx, stop := context.WithCancel(t.Context())
	file := filepath.Join(t.TempDir(), "stopped")
	_, err := backup.Write(ctx, s, file, func(int64, int64) { stop() })
	require.ErrorIs(t, err, context.Canceled)
	require.NoFileExists(t, file)
	require.NoFileExists(t, file+".part")
}

func FuzzRead(f *testing.F) {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	index := `{"format":1,"made":"2026-11-27T10:00:00Z","bench":"","program":"","files":[{"path":"bench.db","size":1,"sha256":"6b86b273ff34fce19d6b804eff5a3f5747ada4eaa22f1d49c01e52ddb7875b4b"}]}`
	for _, e := range [][2]string{{"bench.db", "1"}, {"backup.json", index}} {
		w.WriteHeader(&tar.Header{Name: e[0], Size: int64(len(e[1])), Mode: 0o600})
		w.Write([]byte(e[1]))
	}
	w.Close()
	f.Add(b.Bytes())
	f.Fuzz(func(t *testing.T, raw []byte) {
		index, err := backup.Read(t.Context(), bytes.NewReader(raw))
		if err == nil {
			require.Contains(t, paths(index), "bench.db")
		}
	})
}
