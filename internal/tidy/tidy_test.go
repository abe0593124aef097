package tidy_test

import (
	"context"
	"database/sql"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/depot"
	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/internal/store"
	"earlybench.invalid/earlybench/internal/tidy"
)

const day = 24 * time.Hour

type drawer struct {
	*tidy.Tidy
	t       *testing.T
	clock   *clock.Moved
	needed  map[string]bool
	dropped []string
}

func newDrawer(t *testing.T) *drawer {
	dir := t.TempDir()
	s, err := store.Open(t.Context(), filepath.Join(dir, "bench.db"))
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	d := &drawer{t: t, clock: &clock.Moved{}, needed: map[string]bool{}}
	d.Tidy = &tidy.Tidy{Store: s, Files: store.Files{Dir: filepath.Join(dir, "files")}, Clock: d.clock, Log: slog.New(slog.DiscardHandler),
		Needed: func(digest string) bool { return d.needed[digest] },
		DropPack: func(ctx context.Context, digest string) error {
			d.dropped = append(d.dropped, digest)
			return s.DropSupportPack(ctx, digest)
		}}
	return d
}

// app keeps an app file of so many bytes, packed some time ago.
func (d *drawer) app(version string, size int, ago time.Duration) store.AppFile {
	digest, n, err := d.Files.Put(strings.NewReader(strings.Repeat(version[:1], size)))
	require.NoError(d.t, err)
	then := time.Now().Add(-ago)
	require.NoError(d.t, os.Chtimes(d.Files.Path(digest), then, then))
	a := store.AppFile{Digest: "m" + version, App: "fellgate/callout", Version: version, File: digest, Size: n, Created: d.clock.Now().Add(-ago)}
	require.NoError(d.t, d.Store.SaveAppFile(d.t.Context(), a))
	return a
}

func (d *drawer) rows() map[string]int {
	p, err := d.Look(d.t.Context())
	require.NoError(d.t, err)
	rows := map[string]int{}
	for _, r := range p.Rows {
		rows[strings.TrimSpace(r.Kind+" "+r.Name)] = r.Count
	}
	return rows
}

func TestOldAppFilesGoAndTheNewestStays(t *testing.T) {
	d := newDrawer(t)
	old, older := d.app("2.2", 100, 40*day), d.app("1.0", 100, 50*day)
	newest := d.app("3.0", 100, 39*day)
	require.Equal(t, map[string]int{"app files fellgate/callout 2.2": 1, "app files fellgate/callout 1.0": 1}, d.rows())
	p, err := d.Do(t.Context())
	require.NoError(t, err)
	require.EqualValues(t, 200, p.Bytes)
	for _, a := range []store.AppFile{old, older} {
		require.NoFileExists(t, d.Files.Path(a.File))
	}
	require.FileExists(t, d.Files.Path(newest.File), "it is old, too, but nothing newer is there")
	require.Empty(t, d.rows())
}

func TestAppFilesBeyondTheBoundGoTheOldestFirst(t *testing.T) {
	d := newDrawer(t)
	r := tidy.Usual
	r.Most = 1 << 20
	require.NoError(t, d.SetRules(t.Context(), r))
	d.app("3.0", 600<<10, day)
	d.app("2.0", 300<<10, 2*day)
	d.app("1.0", 300<<10, 3*day)
	require.Equal(t, map[string]int{"app files fellgate/callout 1.0": 1}, d.rows())
}

func TestAnAppFileThatAJobIsAtStays(t *testing.T) {
	d := newDrawer(t)
	d.app("3.0", 100, day)
	old := d.app("2.0", 100, 90*day)
	require.NoError(t, d.Store.Save(t.Context(), job.Job{ID: "j", State: job.Running, Created: d.clock.Now(), Args: []byte(`{"file":"` + old.Digest + `"}`)}))
	require.Empty(t, d.rows())
	require.NoError(t, d.Store.Save(t.Context(), job.Job{ID: "j", State: job.Done, Created: d.clock.Now()}))
	require.Len(t, d.rows(), 1)
}

func TestWhileARecordCannotBeReadNoFileIsTakenForLeft(t *testing.T) {
	d := newDrawer(t)
	left, _, err := d.Files.Put(strings.NewReader("left"))
	require.NoError(t, err)
	ago := time.Now().Add(-2 * time.Hour)
	require.NoError(t, os.Chtimes(d.Files.Path(left), ago, ago))
	require.Len(t, d.rows(), 1)
	db, err := sql.Open("sqlite", "file:"+filepath.Join(filepath.Dir(d.Files.Dir), "bench.db"))
	require.NoError(t, err)
	defer db.Close()
	_, err = db.Exec(`INSERT INTO driver_set (digest, name, version, record, publisher, signer) VALUES ('x', 'n', '1', '{', '', '')`)
	require.NoError(t, err)
	_, err = d.Store.DriverSets(t.Context())
	require.NoError(t, err)
	require.Empty(t, d.rows())
}

func TestRecordsGoByAge(t *testing.T) {
	d := newDrawer(t)
	require.NoError(t, d.Store.AddDevice(t.Context(), store.Device{ID: "k1", Handle: "heron-1"}))
	for i, ago := range []time.Duration{500 * day, 300 * day, 200 * day, day} {
		id := string(rune('a' + i))
		picture, _, err := d.Files.Put(strings.NewReader("picture " + id))
		require.NoError(t, err)
		require.NoError(t, d.Store.SaveTryout(t.Context(), "k1", store.Tryout{ID: id, App: "fellgate/callout", Picture: picture, Created: d.clock.Now().Add(-ago)}))
		require.NoError(t, os.Chtimes(d.Files.Path(picture), time.Time{}, time.Now().Add(-ago)))
		require.NoError(t, d.Store.Save(t.Context(), job.Job{ID: id, State: job.Done, Created: d.clock.Now().Add(-ago)}))
	}
	require.NoError(t, d.Store.Save(t.Context(), job.Job{ID: "z", State: job.Running, Created: d.clock.Now().Add(-500 * day)}))
	require.NoError(t, d.Store.Save(t.Context(), job.Job{ID: "zz", Parent: "z", State: job.Done, Created: d.clock.Now().Add(-500 * day)}))
	require.Equal(t, map[string]int{"tryouts": 3, "jobs": 3}, d.rows(), "neither what runs nor its parts")
	_, err := d.Do(t.Context())
	require.NoError(t, err)
	left, err := d.Store.Tryouts(t.Context(), "", "", 10)
	require.NoError(t, err)
	require.Len(t, left, 1)
	pictures, err := filepath.Glob(filepath.Join(d.Files.Dir, "[0-9a-f]*"))
	require.NoError(t, err)
	require.Len(t, pictures, 1, "the pictures went with their tryouts")
	jobs, err := d.Store.Jobs(t.Context(), "", 10)
	require.NoError(t, err)
	require.Len(t, jobs, 3)
}

func TestTheLastTryoutOfAnAppOnADeviceStaysHoweverOldItIs(t *testing.T) {
	d := newDrawer(t)
	require.NoError(t, d.Store.AddDevice(t.Context(), store.Device{ID: "k1", Handle: "heron-1"}))
	require.NoError(t, d.Store.SaveTryout(t.Context(), "k1", store.Tryout{ID: "only", App: "fellgate/callout", Created: d.clock.Now().Add(-900 * day)}))
	require.Empty(t, d.rows())
}

func TestPacksThatADeviceNeedsStay(t *testing.T) {
	d := newDrawer(t)
	for _, digest := range []string{strings.Repeat("a", 64), strings.Repeat("b", 64)} {
		o := depot.Offer{Name: "tarn-support", Version: digest[:1]}
		o.File.SHA256 = digest
		require.NoError(t, d.Store.SaveSupportPack(t.Context(), store.SupportPack{Offer: o, Added: d.clock.Now().Add(-100 * day)}))
	}
	d.needed[strings.Repeat("a", 64)] = true
	_, err := d.Do(t.Context())
	require.NoError(t, err)
	require.Equal(t, []string{strings.Repeat("b", 64)}, d.dropped)
}

func TestFilesWithoutARecordGoOnceNobodyCanBeWritingIt(t *testing.T) {
	d := newDrawer(t)
	fresh, _, err := d.Files.Put(strings.NewReader("fresh"))
	require.NoError(t, err)
	left, _, err := d.Files.Put(strings.NewReader("left"))
	require.NoError(t, err)
	ago := time.Now().Add(-2 * time.Hour)
	require.NoError(t, os.Chtimes(d.Files.Path(left), ago, ago))
	require.NoError(t, os.WriteFile(filepath.Join(d.Files.Dir, ".part-x"), nil, 0o600))
	require.Equal(t, map[string]int{"files without a record": 1}, d.rows())
	_, err = d.Do(t.Context())
	require.NoError(t, err)
	require.FileExists(t, d.Files.Path(fresh))
	require.FileExists(t, filepath.Join(d.Files.Dir, ".part-x"), "what comes in parts has an age of its own")
}

func TestRulesThatMakeNoSenseAreRefused(t *testing.T) {
	d := newDrawer(t)
	for name, wrong := range map[string]func(*tidy.Rules){
		"no time": func(r *tidy.Rules) { r.Jobs = 0 }, "too long": func(r *tidy.Rules) { r.Audit = 200 * 365 * day }, "no room": func(r *tidy.Rules) { r.Most = 5 },
	} {
		r := tidy.Usual
		wrong(&r)
		require.Error(t, d.SetRules(t.Context(), r), name)
	}
	require.NoError(t, d.Store.SetSetting(t.Context(), "tidy.rules", "{"))
	r, err := d.Rules(t.Context())
	require.NoError(t, err)
	require.Equal(t, tidy.Usual, r, "a damaged setting stops nothing")
}
