package adapter_test

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/adapter"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/internal/adapters"
	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/internal/benchtest/leaks"
	"earlybench.invalid/earlybench/internal/fence"
	"earlybench.invalid/earlybench/internal/service"
	"earlybench.invalid/earlybench/internal/tryout"
	"earlybench.invalid/earlybench/standin/reed"
)

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "fenced")
	if err == nil {
		fence.Program = filepath.Join(dir, "fenced")
		var out []byte
		if out, err = exec.Command("go", "build", "-o", fence.Program, "../../fence/fenced").CombinedOutput(); err != nil {
			err = fmt.Errorf("%w: %s", err, out)
		}
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	leaks.None(m, func() { os.RemoveAll(dir) })
}

// line is a board on a serial line, at a path of its own.
func line(t *testing.T, serial string) (path string, unplug func()) {
	t.Helper()
	l, err := reed.OpenLine()
	require.NoError(t, err)
	path = filepath.Join(t.TempDir(), "line")
	require.NoError(t, os.Symlink(l.Path, path))
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() {
		defer close(done)
		reed.Serve(ctx, l, reed.Config{Model: "2", Serial: serial, Release: "4", Battery: 81})
	}()
	unplug = func() {
		os.Remove(path)
		cancel()
		l.Close()
		<-done
	}
	t.Cleanup(unplug)
	return path, unplug
}

// example is a copy of one of the examples, which may use the given device files.
func example(t *testing.T, name string, files ...string) string {
	t.Helper()
	dir := filepath.Join(t.TempDir(), name)
	require.NoError(t, os.CopyFS(dir, os.DirFS(filepath.Join("..", "..", "..", "demo", "adapters", name))))
	if name == "reed-go" {
		build := exec.Command("go", "build", "-o", "adapter", ".")
		build.Dir, build.Env = dir, append(os.Environ(), "GOWORK=off", "GOFLAGS=-buildvcs=false")
		out, err := build.CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	mayUse(t, dir, files...)
	return dir
}

// mayUse changes which device files an adapter may use.
func mayUse(t *testing.T, dir string, files ...string) {
	t.Helper()
	manifest := filepath.Join(dir, adapter.ManifestName)
	raw, err := os.ReadFile(manifest)
	require.NoError(t, err)
	text := regexp.MustCompile(`files: \[.*\]`).ReplaceAllLiteralString(string(raw), "files: ["+strings.Join(files, ", ")+"]")
	require.NoError(t, os.WriteFile(manifest, []byte(text), 0o600))
}

// start starts an adapter as a bench does.
func start(command []string, dir, work, given string, files []string, connect []int, log func(string)) (adapter.Program, error) {
	return fence.Start(fence.Around(command, dir, work, given, files, connect), log)
}

// at is a device file, as it is shown to an adapter.
func at(path string) adapter.Candidate {
	return adapter.Candidate{Device: path, Kind: adapter.KindFile, Path: path}
}

// added adds an adapter to a bench.
func added(t *testing.T, b *benchtest.Bench, dir string) adapters.Adapter {
	t.Helper()
	looked, err := b.Adapters.Look(dir)
	require.NoError(t, err)
	a, err := b.Adapters.Add(t.Context(), dir, looked.Digest)
	require.NoError(t, err)
	return a
}

// words is an app for the boards.
func words(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	for name, text := range map[string]string{
		".earlybench.yaml": "id: fellgate/words\nname: Words of the day\nversion: \"1.0\"\nfamilies: [reed]\nbuild: {command: [\"true\"]}\nfiles: [words.txt]\nentry: words.txt\ntry: {log: '^\"ready\"', within: 30s}\n",
		"words.txt":        "begins\n\"ready\" for \\ the day\nwind\n...\n",
	} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	return dir
}

var examples = []string{"reed-sh", "reed-py", "reed-go"}

func TestTheExamplesPassTheCheck(t *testing.T) {
	for _, name := range examples {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			path, _ := line(t, "RD-0007")
			report, err := adapter.Check(t.Context(), example(t, name, path), at(path), start)
			require.NoError(t, err)
			require.Zero(t, report.Wrong(), "%+v", report)
			require.Greater(t, len(report.Points), 10)
		})
	}
}

func TestABoardIsTakenFromUnknownToTriedByEachOfTheExamples(t *testing.T) {
	for _, name := range examples {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			path, unplug := line(t, "RD-0007")
			b := benchtest.New(t)
			added(t, b, example(t, name, path))
			b.Eventually("the board is on the rack", func() bool { k, err := b.Rack.Find("reed-1"); return err == nil && k.Session() != nil })
			k, err := b.Rack.Find("reed-1")
			require.NoError(t, err)
			b.First(k, "")
			for key, want := range map[fact.Key]fact.Value{fact.OSRelease: fact.Of(fact.Release("4")), fact.Battery: fact.Of(81), "reed.link": fact.Of("serial line")} {
				b.Eventually(string(key), func() bool {
					f, ok := b.Look(k).View.Get(key, b.Clock.Now())
					return ok && f.Source == fact.Adapter && f.Value == want
				})
			}
			_, err = b.Tryouts.AddProject(t.Context(), words(t))
			require.NoError(t, err)
			j, err := b.Tryouts.Start(t.Context(), tryout.Ask{App: "fellgate/words", Devices: []string{"reed-1"}, Try: true})
			require.NoError(t, err)
			done := b.Ended(j)
			require.Equal(t, job.Done, done.State, "%+v", done.Error)
			require.Equal(t, "open", string(b.Outlook.Look(k, "fellgate/words").Readiness.Gate("tried").State))
			require.Equal(t, []string{"reed-1"}, b.Adapters.List()[0].Devices)
			require.Empty(t, b.Adapters.List()[0].Log, "it has done nothing wrong")
			apps, err := k.Session().Apps()
			require.NoError(t, err)
			require.NoError(t, apps.Stop(t.Context(), "fellgate/words"))
			list, err := apps.List(t.Context())
			require.NoError(t, err)
			require.Equal(t, "Words of the day", list[0].Name)
			unplug()
			b.Eventually("it is gone", func() bool { return len(k.Ways()) == 0 })
			require.NoError(t, b.Adapters.Drop(t.Context(), name))
		})
	}
}

// TestTwoBoardsAreServedApart has one adapter speak for two boards, of which one leaves.
func TestABoardThatAnnouncesItselfOnTheNetworkIsTakenFromUnknownToTried(t *testing.T) {
	group := benchtest.Group(t)
	b := benchtest.Hearing(t, t.TempDir(), service.Announcements{Group: group})
	dir := example(t, "reed-py", "/dev/no-such-line")
	board, err := reed.OnNetwork(reed.Config{Model: "2", Serial: "RD-0011", Release: "4", Battery: 60}, group)
	require.NoError(t, err)
	leaves := sync.OnceValue(board.Close)
	defer leaves()
	report, err := adapter.Check(t.Context(), dir, adapter.Candidate{Device: "check", Kind: adapter.KindNetwork, Service: reed.ServiceType, Address: "127.0.0.1", Port: board.Port()}, start)
	require.NoError(t, err)
	require.Zero(t, report.Wrong(), "%+v", report)

	looked, err := b.Adapters.Look(dir)
	require.NoError(t, err)
	require.Equal(t, []string{reed.ServiceType}, looked.Announced)
	added(t, b, dir)
	b.Eventually("the board is on the rack", func() bool { k, err := b.Rack.Find("reed-1"); return err == nil && k.Session() != nil })
	k, err := b.Rack.Find("reed-1")
	require.NoError(t, err)
	b.Eventually("it tells how it is reached", func() bool {
		f, ok := b.Look(k).View.Get("reed.link", b.Clock.Now())
		return ok && f.Value == fact.Of("network")
	})
	_, err = b.Tryouts.AddProject(t.Context(), words(t))
	require.NoError(t, err)
	j, err := b.Tryouts.Start(t.Context(), tryout.Ask{App: "fellgate/words", Devices: []string{"reed-1"}, Try: true})
	require.NoError(t, err)
	done := b.Ended(j)
	require.Equal(t, job.Done, done.State, "%+v", done.Error)
	require.NoError(t, leaves())
	b.Eventually("it is gone", func() bool { return len(k.Ways()) == 0 })
}

func TestTwoBoardsAreServedApart(t *testing.T) {
	one, unplug := line(t, "RD-0001")
	other, _ := line(t, "RD-0002")
	b := benchtest.New(t)
	added(t, b, example(t, "reed-py", one, other))
	b.Eventually("both are there", func() bool { return len(b.Adapters.List()[0].Devices) == 2 })
	unplug()
	b.Eventually("one is left", func() bool { return len(b.Adapters.List()[0].Devices) == 1 })
	time.Sleep(50 * time.Millisecond)
	require.Equal(t, adapters.Running, b.Adapters.List()[0].State)
}

func TestJustWhatWasLookedAtIsTaken(t *testing.T) {
	b := benchtest.New(t)
	dir := example(t, "reed-py", "/dev/no-such-line")
	looked, err := b.Adapters.Look(dir)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "more.py"), []byte("import this"), 0o600))
	_, err = b.Adapters.Add(t.Context(), dir, looked.Digest)
	require.ErrorContains(t, err, "has changed since it was shown")
	require.NoError(t, os.Symlink("/etc/passwd", filepath.Join(dir, "link")))
	_, err = b.Adapters.Look(dir)
	require.ErrorContains(t, err, "link is not a regular file")
	require.NoError(t, os.Remove(filepath.Join(dir, "link")))
	a := added(t, b, dir)
	require.Equal(t, adapters.Waiting, a.State)
	require.FileExists(t, filepath.Join(filepath.Dir(b.Files.Dir), "adapters", "reed-py", "more.py"))
}
