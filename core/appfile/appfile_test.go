package appfile_test

import (
	"archive/zip"
	"bytes"
	"encoding/json"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/appfile"
	"earlybench.invalid/earlybench/core/bundle"
	"earlybench.invalid/earlybench/core/developer"
)

var (
	content = []byte("\x00asm, or nearly so")
	callout = appfile.Manifest{ID: "fellgate/callout", Name: "Callout", Version: "2.3", Families: []string{"tarn"}, Minimum: "9", Entry: "main.wasm"}
	root    = fstest.MapFS{"main.wasm": {Data: content}, "data/rota.txt": {Data: []byte("Base\n")}}
)

func pack(t testing.TB) []byte {
	t.Helper()
	var b bytes.Buffer
	_, err := appfile.Pack(&b, callout, root, []string{"main.wasm", "data"}, nil)
	require.NoError(t, err)
	return b.Bytes()
}

func open(raw []byte) (*appfile.File, error) {
	return appfile.Open(bytes.NewReader(raw), int64(len(raw)))
}

func TestAnAppFileComesBackAsItWasPacked(t *testing.T) {
	raw := pack(t)
	require.Equal(t, raw, pack(t), "the same input makes the same bytes")
	f, err := open(raw)
	require.NoError(t, err)
	require.Equal(t, "fellgate/callout", f.App.ID)
	require.Equal(t, bundle.Digest(f.Manifest), f.Digest)
	require.Equal(t, []string{"data/rota.txt", "main.wasm"}, []string{f.App.Files[0].Path, f.App.Files[1].Path})
	r, err := f.File("main.wasm")
	require.NoError(t, err)
	got, err := io.ReadAll(r)
	require.NoError(t, err)
	require.Equal(t, content, got)
	_, err = f.File("nothing")
	require.ErrorIs(t, err, bundle.ErrMissing)
}

func TestAnyUnzipOpensIt(t *testing.T) {
	unzip, err := exec.LookPath("unzip")
	if err != nil {
		t.Skip("unzip is not installed: on Debian, apt-get install unzip")
	}
	file := filepath.Join(t.TempDir(), "callout.ebapp")
	require.NoError(t, os.WriteFile(file, pack(t), 0o600))
	out, err := exec.Command(unzip, "-p", file, "files/data/rota.txt").Output()
	require.NoError(t, err)
	require.Equal(t, "Base\n", string(out))
}

// entry is one entry of a ZIP that is made by hand.
type entry struct {
	name string
	data []byte
	mode os.FileMode
}

func zipped(t testing.TB, entries ...entry) []byte {
	t.Helper()
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for _, e := range entries {
		h := &zip.FileHeader{Name: e.name, Method: zip.Store}
		h.SetMode(e.mode | 0o644)
		w, err := z.CreateHeader(h)
		require.NoError(t, err)
		_, err = w.Write(e.data)
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	return b.Bytes()
}

func TestBadAppFilesAreRefusedByName(t *testing.T) {
	manifest := func(change func(*appfile.Manifest)) entry {
		m := callout
		m.Format = 1
		m.Files = []bundle.File{{Path: "main.wasm", SHA256: bundle.Digest(content), Size: int64(len(content))}}
		if change != nil {
			change(&m)
		}
		raw, err := json.Marshal(m)
		require.NoError(t, err)
		return entry{name: "app.json", data: raw}
	}
	file := entry{name: "files/main.wasm", data: content}
	cases := []struct {
		name string
		raw  []byte
		want error
		says string
	}{
		{"not a ZIP", []byte("hello"), bundle.ErrNotZIP, ""},
		{"nothing at all", nil, bundle.ErrNotZIP, ""},
		{"no manifest", zipped(t, file), bundle.ErrNoManifest, "app.json"},
		{"a manifest that is no JSON", zipped(t, entry{name: "app.json", data: []byte("{")}, file), bundle.ErrManifest, ""},
		{"a manifest with a field that nobody knows", zipped(t, entry{name: "app.json", data: []byte(`{"format":1,"colour":1}`)}), bundle.ErrManifest, "colour"},
		{"a later format", zipped(t, manifest(func(m *appfile.Manifest) { m.Format = 2 }), file), bundle.ErrManifest, "format 2"},
		{"an invalid id", zipped(t, manifest(func(m *appfile.Manifest) { m.ID = "Callout" }), file), bundle.ErrManifest, "crew/app"},
		{"an entry that is not among the files", zipped(t, manifest(func(m *appfile.Manifest) { m.Entry = "other" }), file), bundle.ErrManifest, "other"},
		{"a wrong digest", zipped(t, manifest(nil), entry{name: "files/main.wasm", data: []byte("\x00asm, or nearly s!")}), bundle.ErrDigest, "main.wasm"},
		{"a size that lies", zipped(t, manifest(func(m *appfile.Manifest) { m.Files[0].Size = 3 }), file), bundle.ErrDigest, "main.wasm"},
		{"a size below nothing", zipped(t, manifest(func(m *appfile.Manifest) { m.Files[0].Size = -1 }), file), bundle.ErrSize, ""},
		{"a name that leads out", zipped(t, manifest(nil), file, entry{name: "../evil", data: content}), bundle.ErrPath, "../evil"},
		{"a name from the root", zipped(t, manifest(nil), file, entry{name: "/etc/evil", data: content}), bundle.ErrPath, "/etc/evil"},
		{"a name with a backslash", zipped(t, manifest(nil), file, entry{name: `files\evil`, data: content}), bundle.ErrPath, "evil"},
		{"a name in the manifest that leads out", zipped(t, manifest(func(m *appfile.Manifest) { m.Files[0].Path = "../main.wasm"; m.Entry = "../main.wasm" }), file), bundle.ErrPath, ""},
		{"an extra entry", zipped(t, manifest(nil), file, entry{name: "files/more", data: content}), bundle.ErrExtra, "files/more"},
		{"the same name twice", zipped(t, manifest(nil), file, file), bundle.ErrTwice, "main.wasm"},
		{"the same file listed twice", zipped(t, manifest(func(m *appfile.Manifest) { m.Files = append(m.Files, m.Files[0]) }), file), bundle.ErrTwice, ""},
		{"a file that is missing", zipped(t, manifest(nil)), bundle.ErrMissing, "main.wasm"},
		{"a link", zipped(t, manifest(nil), entry{name: "files/main.wasm", data: []byte("/etc/passwd"), mode: os.ModeSymlink}), bundle.ErrKind, "main.wasm"},
		{"a directory", zipped(t, manifest(nil), file, entry{name: "files/d/", mode: os.ModeDir}), bundle.ErrKind, "files/d/"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			_, err := open(c.raw)
			require.ErrorIs(t, err, c.want)
			require.ErrorContains(t, err, c.says)
		})
	}
	_, err := open(zipped(t, manifest(nil), file, entry{name: "signature.p7s", data: []byte("later")}))
	require.ErrorIs(t, err, developer.ErrSignature, "it names nobody")
}

func FuzzOpen(f *testing.F) {
	f.Add(pack(f))
	f.Add(zipped(f, entry{name: "app.json", data: []byte("{}")}))
	f.Fuzz(func(t *testing.T, raw []byte) {
		if a, err := open(raw); err == nil {
			require.NoError(t, a.App.Check())
		}
	})
}

func TestProjectsSayWhatIsWrongWithTheirFile(t *testing.T) {
	dir := t.TempDir()
	_, err := appfile.ReadProject(dir)
	require.ErrorContains(t, err, "it has no .earlybench.yaml")
	for text, want := range map[string]string{
		"id: Callout\n":                    "crew/app",
		"id: a/b\n":                        "build: command is missing",
		"id: a/b\nbuild: {command: [x]}\n": "files is missing",
		"id: a/b\nbuild: {command: [x]}\nfiles: [a]\ntry: {log: \"(\"}\n": "try: log",
		"id: a/b\ncolour: red\n": "colour",
		"id: [\n":                ".earlybench.yaml",
	} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, appfile.ProjectFile), []byte(text), 0o600))
		_, err := appfile.ReadProject(dir)
		require.ErrorContains(t, err, want, text)
	}
	p, err := appfile.ReadProject("../../demo/apps/callout")
	require.NoError(t, err)
	require.Equal(t, "fellgate/callout", p.Manifest().ID)
}
