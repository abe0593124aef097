package computer_test

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/internal/bus"
	"earlybench.invalid/earlybench/internal/computer"
	"earlybench.invalid/earlybench/internal/store"
)

// checker looks at a bench's computer whose files are made up below a directory.
func checker(t *testing.T) (*computer.Checker, *benchtest.Bench, string) {
	t.Helper()
	b := benchtest.New(t)
	dir := t.TempDir()
	return &computer.Checker{Hosts: b.Hosts, Rack: b.Rack, Store: b.Store, Depots: b.Depots, Kits: b.Kits.All, State: dir, Now: b.Clock.Now, Roots: bus.Local{Proc: dir, Run: dir}}, b, dir
}

// finds is the check of this name, as the checker finds it now.
func finds(t *testing.T, c *computer.Checker, id string) computer.Check {
	t.Helper()
	all, err := c.Run(t.Context())
	require.NoError(t, err)
	i := slices.IndexFunc(all, func(k computer.Check) bool { return k.ID == id })
	require.GreaterOrEqual(t, i, 0, "%s in %v", id, all)
	return all[i]
}

func TestMemoryIsThatWhichTheSystemSaysIsAvailable(t *testing.T) {
	c, _, dir := checker(t)
	for _, k := range []struct {
		name, file string
		want       computer.State
	}{
		{"much", "MemTotal:       16000000 kB\nMemFree:          100 kB\nMemAvailable:    8000000 kB\n", computer.Fine},
		{"little", "MemAvailable:     300000 kB\n", computer.Limited},
		{"too little", "MemAvailable:      50000 kB\n", computer.Wrong},
		{"no line", "MemFree: 8000000 kB\n", computer.Unknown},
		{"no number", "MemAvailable: much kB\n", computer.Unknown},
	} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "meminfo"), []byte(k.file), 0o600))
		got := finds(t, c, "memory")
		require.Equal(t, k.want, got.State, "%s: %s", k.name, got.Found)
		require.Equal(t, k.want == computer.Limited || k.want == computer.Wrong, got.Remedy != "", k.name)
	}
	require.NoError(t, os.Remove(filepath.Join(dir, "meminfo")))
	require.Equal(t, computer.Unknown, finds(t, c, "memory").State)
}

func TestRulesAreThereWhereUdevRuns(t *testing.T) {
	c, _, dir := checker(t)
	require.Equal(t, computer.Limited, finds(t, c, "rules").State)
	require.NoError(t, os.Mkdir(filepath.Join(dir, "udev"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "udev/control"), nil, 0o600))
	require.Equal(t, computer.Fine, finds(t, c, "rules").State)
}

func TestTheClockIsWrongWhereNoDeviceAgreesWithIt(t *testing.T) {
	c, b, _ := checker(t)
	require.Equal(t, computer.Unknown, finds(t, c, "clock").State)
	tells := func(handle string, off time.Duration) {
		k, err := b.Rack.Find(handle)
		if err != nil {
			k, err = b.Rack.Add(t.Context(), handle, "Heron 4")
		}
		require.NoError(t, err)
		require.NoError(t, k.Facts().Observe(t.Context(), k.Seen(fact.DeviceClock, fact.Of(int64(off.Seconds())), fact.Device)))
	}
	tells("heron-1", 2*time.Second)
	require.Equal(t, computer.Fine, finds(t, c, "clock").State)
	tells("heron-2", -40*24*time.Hour)
	got := finds(t, c, "clock")
	require.Equal(t, computer.Limited, got.State)
	require.Contains(t, got.Found, "heron-2 (-960h0m0s)")
	tells("heron-1", -40*24*time.Hour)
	require.Equal(t, computer.Wrong, finds(t, c, "clock").State, "two agree with each other and not with it")
}

func TestTheSearchPathIsLookedThroughForEachApp(t *testing.T) {
	c, b, _ := checker(t)
	project, search := benchtest.SmallApp(t, false), t.TempDir()
	there := slices.DeleteFunc(filepath.SplitList(os.Getenv("PATH")), func(dir string) bool {
		info, err := os.Stat(dir)
		return err != nil || !info.IsDir()
	})
	t.Setenv("PATH", strings.Join(append(there, search), string(os.PathListSeparator)))
	require.Equal(t, computer.Fine, finds(t, c, "path").State)
	require.NoError(t, b.Store.SaveProject(t.Context(), store.Project{App: "fellgate/callout", Dir: project}))
	require.NoError(t, b.Store.SaveProject(t.Context(), store.Project{App: "fellgate/gone", Dir: t.TempDir()}))
	require.Equal(t, computer.Fine, finds(t, c, "path fellgate/callout").State)
	require.Equal(t, computer.Wrong, finds(t, c, "path fellgate/gone").State, "its directory holds no project any more")
	require.NoError(t, os.Remove(search))
	t.Setenv("PATH", t.TempDir()+string(os.PathListSeparator)+search)
	got := finds(t, c, "path")
	require.Equal(t, computer.Limited, got.State)
	require.Contains(t, got.Found, "Of the 2 entries of the bench's search path, entry 2, "+search+", is no directory.")
	got = finds(t, c, "path fellgate/callout")
	require.Equal(t, computer.Wrong, got.State)
	require.Contains(t, got.Found, "is not on the search path")
}

func TestDiskSpaceIsThatOfTheBenchsDirectory(t *testing.T) {
	c, _, dir := checker(t)
	require.Contains(t, finds(t, c, "disk").Found, dir)
	c.State = filepath.Join(dir, "nowhere")
	require.Equal(t, computer.Unknown, finds(t, c, "disk").State)
}

func TestACheckThatIsNotFineSaysWhatItBreaksAndTheRemedy(t *testing.T) {
	c, _, _ := checker(t)
	all, err := c.Run(t.Context())
	require.NoError(t, err)
	require.Len(t, all, 13)
	seen := map[string]bool{}
	for _, k := range all {
		require.False(t, seen[k.ID], k.ID)
		seen[k.ID] = true
		require.NotEmpty(t, k.Title)
		require.Regexp(t, `\.$`, k.Found, k.ID)
		if k.State == computer.Wrong || k.State == computer.Limited {
			require.NotEmpty(t, k.Breaks, k.ID)
			require.NotEmpty(t, k.Remedy, k.ID)
		}
	}
}

func TestTheClockIsComparedWithThatOfADepot(t *testing.T) {
	c, b, _ := checker(t)
	at, _ := benchtest.Depot(t, nil)
	b.Accept(at)
	b.Depots.Again()
	b.Eventually("the depot was asked", func() bool { return b.Depots.All()[0].Clock.Known() })
	require.NotEqual(t, computer.Wrong, finds(t, c, "clock").State)
	b.Clock.Move(-3 * time.Hour)
	b.Depots.Again()
	b.Eventually("it differs", func() bool { return finds(t, c, "clock").State == computer.Wrong })
	require.Contains(t, finds(t, c, "clock").Found, "behind that of depot upland-depot")
	require.NotEmpty(t, finds(t, c, "clock").Remedy)
}

func TestADepotThatDoesNotAnswerIsSaid(t *testing.T) {
	c, b, _ := checker(t)
	require.Equal(t, computer.Fine, finds(t, c, "depots").State)
	at, end := benchtest.Depot(t, nil)
	b.Accept(at)
	require.Equal(t, computer.Fine, finds(t, c, "depots").State)
	end()
	b.Depots.Again()
	b.Eventually("it is said", func() bool { return finds(t, c, "depots").State == computer.Limited })
	require.Contains(t, finds(t, c, "depots").Found, "upland-depot")
}
