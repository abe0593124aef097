package kitfetch_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/bundle"
	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/core/kit"
	core "earlybench.invalid/earlybench/core/peer"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/internal/benchtest/leaks"
	"earlybench.invalid/earlybench/internal/kitfetch"
	"earlybench.invalid/earlybench/internal/service"
	"earlybench.invalid/earlybench/internal/store"
)

func TestMain(m *testing.M) { leaks.None(m) }

const description = `kit: fell-kit
about: Tools with which Fellgate's apps are built
holds:
  - {program: bin/fell-make, asked: version, prints: '^fell-make (?P<version>[0-9.]+)$'}
  - {directory: parts}
search: [bin]
`

// makeKit makes a copy of fell-kit at a bench.
func makeKit(t *testing.T, b *benchtest.Bench, version string, files map[string]string) string {
	t.Helper()
	dir := filepath.Join(t.TempDir(), "fell-kit")
	files["bin/fell-make"] = "#!/bin/sh\necho fell-make " + version + "\n"
	for name, text := range files {
		path := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		mode := os.FileMode(0o644)
		if strings.HasPrefix(name, "bin/") {
			mode = 0o755
		}
		require.NoError(t, os.WriteFile(path, []byte(text), mode))
	}
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "parts", "none"), 0o755))
	_, err := b.Kits.Add(t.Context(), "fell-kit", dir, []byte(description))
	require.NoError(t, err)
	return dir
}

func fetches(t *testing.T, p *benchtest.Pair) (job.Job, kitfetch.Result) {
	t.Helper()
	j, err := p.Moor.KitFetch.Start(t.Context(), kitfetch.Ask{Kit: "fell-kit", Peer: "harbour-desk"}, "ada")
	require.NoError(t, err)
	j = p.Moor.Ended(j)
	r, _ := kitfetch.ResultOf(j)
	return j, r
}

var gives = store.PeerRights{Kits: []string{"fell-kit"}}

func TestAKitOfAPeerIsFetchedOnceFileByFile(t *testing.T) {
	p := benchtest.NewPair(t, gives)
	const stations = "Carn Top\nLow Moor\n"
	dir := makeKit(t, p.Harbour, "3.3", map[string]string{"parts/stations.txt": stations, "parts/empty": "", "parts/again.txt": stations})
	require.NoError(t, os.Symlink("fell-make", filepath.Join(dir, "bin", "fm")))
	done, r := fetches(t, p)
	require.Equal(t, job.Done, done.State, "%+v", done.Error)
	require.Equal(t, "3.3", r.Version)
	for name, text := range map[string]string{"parts/stations.txt": stations, "parts/again.txt": stations, "parts/empty": ""} {
		got, err := os.ReadFile(filepath.Join(r.Path, name))
		require.NoError(t, err)
		require.Equal(t, text, string(got), name)
	}
	for _, name := range []string{"bin/fell-make", "bin/fm"} {
		info, err := os.Stat(filepath.Join(r.Path, name))
		require.NoError(t, err)
		require.Equal(t, os.FileMode(0o755), info.Mode().Perm(), name)
	}
	require.DirExists(t, filepath.Join(r.Path, "parts", "none"))
	chosen, err := p.Moor.Kits.Choose(t.Context(), kit.Need{Name: "fell-kit", From: "3.3"})
	require.NoError(t, err, "it is described, too")
	require.Equal(t, r.Path, chosen.Copy.Path)

	_, again := fetches(t, p)
	require.Zero(t, again.Came, "all of it is here")
	require.Equal(t, r.Path, again.Path)
	// Of another version only what is new comes.
	grown := strings.Repeat("an overhang above the tarn\n", 1000)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "parts", "more.txt"), []byte(grown), 0o600))
	done, grew := fetches(t, p)
	require.Equal(t, job.Done, done.State, "%+v", done.Error)
	require.NotEqual(t, r.Path, grew.Path)
	require.Less(t, grew.Came, int64(len(grown)+2000))
	// A copy that was changed since is put right, and what was changed is not lost.
	require.NoError(t, os.WriteFile(filepath.Join(grew.Path, "parts", "stations.txt"), []byte("my own"), 0o600))
	done, _ = fetches(t, p)
	require.Equal(t, job.Done, done.State, "%+v", done.Error)
	got, err := os.ReadFile(filepath.Join(grew.Path, "parts", "stations.txt"))
	require.NoError(t, err)
	require.Equal(t, stations, string(got))
	kept, err := filepath.Glob(filepath.Join(p.MoorDir, "kits-changed", "*", "parts", "stations.txt"))
	require.NoError(t, err)
	require.Len(t, kept, 1)
}

func TestABuildFetchesTheKitThatItNeedsFromItsPeer(t *testing.T) {
	p := benchtest.NewPair(t, gives)
	makeKit(t, p.Harbour, "3.3", map[string]string{"parts/heading.txt": "x"})
	dir := benchtest.SmallApp(t, true)
	file := filepath.Join(dir, ".earlybench.yaml")
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	text := strings.Replace(string(raw), "build:", "kit: {name: fell-kit, from: \"3.2\", at: harbour-desk}\nbuild:", 1)
	require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
	_, err = p.Moor.Tryouts.AddProject(t.Context(), dir)
	require.NoError(t, err)
	points := p.Moor.KitFetch.Check(t.Context(), "harbour-desk")
	require.Len(t, points, 1)
	require.Empty(t, points[0].Wrong)
	require.Regexp(t, `^it gives fell-kit 3.3: 2 files, [0-9]+ bytes$`, points[0].Note)

	build := func() error {
		j, err := p.Moor.Jobs.Start(t.Context(), job.New{Kind: "test.build"})
		require.NoError(t, err)
		if j = p.Moor.Ended(j); j.Error != nil {
			return j.Error
		}
		return nil
	}
	p.Moor.Jobs.Register(job.Kind{Name: "test.build", Run: func(ctx context.Context, run *job.Run) (any, error) {
		_, err := p.Moor.Tryouts.BuildFor(ctx, run, "fellgate/callout", "", false)
		return nil, err
	}})
	require.NoError(t, build())
	_, err = p.Moor.Kits.Choose(t.Context(), kit.Need{Name: "fell-kit", From: "3.2"})
	require.NoError(t, err)
	// One that the peer has not either says so.
	require.NoError(t, os.WriteFile(file, []byte(strings.Replace(text, `from: "3.2"`, `from: "9"`, 1)), 0o600))
	require.ErrorContains(t, build(), "harbour-desk does not give fell-kit: there is no complete fell-kit from 9 here, only 3.3")
}

func TestAKitComesAlsoAcrossBreaks(t *testing.T) {
	p := benchtest.NewPair(t, gives)
	p.Wire.Slow(2<<20, 0)
	p.Wire.Cut(false)
	const size = 6 << 20
	makeKit(t, p.Harbour, "3.3", map[string]string{"parts/a": strings.Repeat("a", size/2), "parts/b": strings.Repeat("b", size/2)})
	p.Moor.Eventually("they are connected again", func() bool { return p.Moor.Peers.List()[0].Connected })
	j, err := p.Moor.KitFetch.Start(t.Context(), kitfetch.Ask{Kit: "fell-kit", Peer: "harbour-desk"}, "ada")
	require.NoError(t, err)
	for _, at := range []int64{size / 6, size / 2} {
		p.Moor.Eventually("so much has come", func() bool {
			now, ok := p.Moor.Jobs.Job(j.ID)
			require.True(t, ok)
			return now.Phases[1].Done > at
		})
		p.Wire.Cut(true)
		time.Sleep(time.Second)
		p.Wire.Up()
	}
	done := p.Moor.Ended(j)
	require.Equal(t, job.Done, done.State, "%+v", done.Error)
	r, _ := kitfetch.ResultOf(done)
	require.Less(t, r.Came, int64(size+2<<10), "what has come is not asked for again")
}

func TestAPeerGetsWhatIsGivenAndNothingElse(t *testing.T) {
	p := benchtest.NewPair(t, gives)
	dir := makeKit(t, p.Harbour, "3.3", map[string]string{"parts/heading.txt": "x"})
	_, err := p.Harbour.Kits.Add(t.Context(), "other-kit", dir, []byte(strings.Replace(description, "kit: fell-kit", "kit: other-kit", 1)))
	require.NoError(t, err)
	looks := func(name string) error {
		_, err := p.Moor.KitFetch.Look(t.Context(), kit.Need{Name: name, At: "harbour-desk"})
		return err
	}
	require.NoError(t, looks("fell-kit"))
	hidden, none := looks("other-kit"), looks("missing-kit")
	require.Equal(t, strings.ReplaceAll(hidden.Error(), "other-kit", "missing-kit"), none.Error(), "one that is not given is answered like one that there is not")

	secret := filepath.Join(t.TempDir(), "secret")
	require.NoError(t, os.WriteFile(secret, []byte("secret"), 0o600))
	l, _, err := p.Moor.Peers.Link("harbour-desk")
	require.NoError(t, err)
	for _, ref := range []core.FileRef{{Of: "kit other-kit", Digest: bundle.Digest([]byte("x"))}, {Of: "kit fell-kit", Digest: bundle.Digest([]byte("secret"))}, {Of: "kit fell-kit", Digest: "../secret"}, {Of: "kit fell-kit", Digest: bundle.Digest([]byte("x")), From: -1}, {Of: "kit "}} {
		_, err := l.File(t.Context(), ref)
		require.ErrorContains(t, err, "no such file is shared with you", "%+v", ref)
	}
	// A link that leads out of the copy is neither followed nor given.
	require.NoError(t, os.Symlink(secret, filepath.Join(dir, "parts", "out")))
	require.ErrorContains(t, looks("fell-kit"), "the files of fell-kit cannot be read")
	require.NoError(t, os.Remove(filepath.Join(dir, "parts", "out")))
	_, err = p.Harbour.Peers.Set(t.Context(), "moor-desk", func(r *store.PeerRights) { r.Kits = nil })
	require.NoError(t, err)
	_, err = l.File(t.Context(), core.FileRef{Of: "kit fell-kit", Digest: bundle.Digest([]byte("x"))})
	require.ErrorContains(t, err, "no such file is shared with you", "the right was withdrawn")
}

func TestAListingThatLeadsOutOfTheCopyIsRefused(t *testing.T) {
	file := func(path string) map[string]any {
		return map[string]any{"path": path, "sha256": bundle.Digest(nil), "size": 0}
	}
	for name, l := range map[string]map[string]any{
		"no files":                     {"earlybench_kit": 1, "files": []any{}},
		"another format":               {"earlybench_kit": 2, "files": []any{file("a")}},
		"a path that leads out":        {"earlybench_kit": 1, "files": []any{file("../a")}},
		"a whole path":                 {"earlybench_kit": 1, "files": []any{file("/etc/a")}},
		"a path with a drive":          {"earlybench_kit": 1, "files": []any{file("c:a")}},
		"a path with backslashes":      {"earlybench_kit": 1, "files": []any{file(`..\a`)}},
		"a directory that leads out":   {"earlybench_kit": 1, "files": []any{file("a")}, "directories": []any{"../b"}},
		"the same name twice":          {"earlybench_kit": 1, "files": []any{file("A"), file("a")}},
		"a file below a file":          {"earlybench_kit": 1, "files": []any{file("a"), file("a/b")}},
		"a file that is a directory":   {"earlybench_kit": 1, "files": []any{file("a")}, "directories": []any{"a"}},
		"a file in place of a listing": {"earlybench_kit": 1, "files": []any{file(kit.ListingName)}},
		"a negative size":              {"earlybench_kit": 1, "files": []any{map[string]any{"path": "a", "sha256": bundle.Digest(nil), "size": -1}}},
		"a size without end":           {"earlybench_kit": 1, "files": []any{map[string]any{"path": "a", "sha256": bundle.Digest(nil), "size": int64(1) << 60}}},
		"a digest that is none":        {"earlybench_kit": 1, "files": []any{map[string]any{"path": "a", "sha256": "../a", "size": 1}}},
		"more than is known":           {"earlybench_kit": 1, "files": []any{file("a")}, "run": "it"},
	} {
		raw, err := json.Marshal(l)
		require.NoError(t, err)
		_, err = kit.ParseListing(raw)
		require.Error(t, err, name)
	}
	_, err := kit.ParseListing([]byte(fmt.Sprintf(`{"earlybench_kit":1,"files":[{"path":"bin/a","sha256":"%s","size":0,"executable":true}],"directories":["parts"]}`, bundle.Digest(nil))))
	require.NoError(t, err)
}

func TestAFetchIsRefusedWhereItCannotBegin(t *testing.T) {
	b := benchtest.New(t)
	for _, a := range []kitfetch.Ask{{Kit: "fell-kit", Peer: "nobody"}, {Kit: "Fell Kit", Peer: "nobody"}} {
		_, err := b.KitFetch.Start(t.Context(), a, "ada")
		require.Error(t, err)
		require.Contains(t, []problem.Kind{problem.NotFound, problem.Invalid}, problem.KindOf(err))
	}
}

// A peer that lies about a kit puts nothing into place, and nothing outside.
func TestAKitThatIsNotWhatItIsSaidToBeIsNotPutInPlace(t *testing.T) {
	file := kit.ListedFile{File: bundle.File{Path: "bin/fell-make", SHA256: bundle.Digest([]byte("a program")), Size: 9}}
	listing, err := json.Marshal(kit.Listing{Format: 1, Files: []kit.ListedFile{file}})
	require.NoError(t, err)
	outside, err := json.Marshal(kit.Listing{Format: 1, Files: []kit.ListedFile{{File: bundle.File{Path: "../bin/fell-make", SHA256: file.SHA256, Size: 9}}}})
	require.NoError(t, err)
	looked := core.LookedAtKit{Version: "3.3", Description: []byte(description), Listing: bundle.Digest(listing), Size: int64(len(listing))}
	changed := func(change func(*core.LookedAtKit)) core.LookedAtKit {
		l := looked
		change(&l)
		return l
	}
	sent := map[string]string{bundle.Digest(listing): string(listing), bundle.Digest(outside): string(outside), file.SHA256: "A program"}
	for name, c := range map[string]struct {
		looked core.LookedAtKit
		says   string
	}{
		"no listing":                    {changed(func(l *core.LookedAtKit) { l.Listing = "" }), "without a listing"},
		"a listing that leads outside":  {changed(func(l *core.LookedAtKit) { l.Listing = "../../../bin" + l.Listing[12:] }), "without a listing"},
		"a listing without end":         {changed(func(l *core.LookedAtKit) { l.Size = 1 << 40 }), "without a listing"},
		"a version that leads outside":  {changed(func(l *core.LookedAtKit) { l.Version = "../../3.3" }), "which does not fit"},
		"another listing than it names": {changed(func(l *core.LookedAtKit) { l.Listing = bundle.Digest([]byte("x")) }), "elsewhere does not send it"},
		"a file that leads outside":     {changed(func(l *core.LookedAtKit) { l.Listing, l.Size = bundle.Digest(outside), int64(len(outside)) }), "is outside"},
		"another file than it lists":    {looked, "is not the file: its SHA-256 differs"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b := benchtest.With(t, t.TempDir(), func(c *service.Config) { c.Peers = "127.0.0.1:0" })
			far := benchtest.NewFar(t, b, store.PeerRights{})
			far.Answers(func(string, json.RawMessage) (any, error) { return c.looked, nil })
			far.Sends(func(ref core.FileRef) (io.ReadCloser, error) {
				text, ok := sent[ref.Digest]
				if !ok {
					return nil, errors.New("there is no such file")
				}
				return io.NopCloser(strings.NewReader(text[ref.From:])), nil
			})
			j, err := b.KitFetch.Start(t.Context(), kitfetch.Ask{Kit: "fell-kit", Peer: "elsewhere"}, "ada")
			require.NoError(t, err)
			done := b.Ended(j)
			require.Equal(t, job.Failed, done.State)
			require.Contains(t, done.Error.Text, c.says)
			_, err = b.Kits.Choose(t.Context(), kit.Need{Name: "fell-kit"})
			require.Error(t, err)
		})
	}
}
