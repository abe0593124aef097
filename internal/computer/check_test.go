package computer_test

import (
	"os"
	"path/filepath"
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
		got := c.Memory()
		require.Equal(t, k.want, got.State, "%s: %s", k.name, got.Found)
		require.Equal(t, k.want == computer.Limited || k.want == computer.Wrong, got.Remedy != "", k.name)
	}
	require.NoError(t, os.Remove(filepath.Join(dir, "meminfo")))
	require.Equal(t, computer.Unknown, c.Memory().State)
}

func TestRulesAreThereWhereUdevRuns(t *testing.T) {
	c, _, dir := checker(t)
	require.Equal(t, computer.Limited, c.Rules().State)
	require.NoError(t, os.Mkdir(filepath.Join(dir, "udev"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "udev/control"), nil, 0o600))
	require.Equal(t, computer.Fine, c.Rules().State)
}

func TestTheClockIsWrongWhereNoDeviceAgreesWithIt(t *testing.T) {
	c, b, _ := checker(t)
	require.Equal(t, computer.Unknown, c.Clock().State)
	tells := func(handle string, off time.Duration) {
		k, err := b.Rack.Find(handle)
		if err != nil {
			k, err = b.Rack.Add(t.Context(), handle, "Heron 4")
		}
		require.NoError(t, err)
		require.NoError(t, k.Facts().Observe(t.Context(), k.Seen(fact.DeviceClock, fact.Of(int64(off.Seconds())), fact.Device)))
	}
	tells("heron-1", 2*time.Second)
	require.Equal(t, computer.Fine, c.Clock().State)
	tells("heron-2", -40*24*time.Hour)
	got := c.Clock()
	require.Equal(t, computer.Limited, got.State)
	require.Contains(t, got.Found, "heron-2 (-960h0m0s)")
	tells("heron-1", -40*24*time.Hour)
	require.Equal(t, computer.Wrong, c.Clock().State, "two agree with each other and not with it")
}

func TestTheSearchPathIsLookedThroughForEachApp(t *testing.T) {
	c, b, _ := checker(t)
	search := t.TempDir()
	t.Setenv("PATH", os.Getenv("PATH")+string(os.PathListSeparator)+search)
	got, err := c.Path(t.Context())
	require.NoError(t, err)
	require.Equal(t, computer.Fine, got[0].State, got[0].Found)
	project := benchtest.SmallApp(t, false)
	require.NoError(t, b.Store.SaveProject(t.Context(), store.Project{App: "fellgate/callout", Dir: project}))
	require.NoError(t, b.Store.SaveProject(t.Context(), store.Project{App: "fellgate/gone", Dir: t.TempDir()}))
	got, err = c.Path(t.Context())
	require.NoError(t, err)
	require.Len(t, got, 3)
	require.Equal(t, computer.Fine, got[1].State, got[1].Found)
	require.Equal(t, computer.Wrong, got[2].State, "its directory holds no project any more")
	require.NoError(t, os.Remove(search))
	t.Setenv("PATH", t.TempDir()+string(os.PathListSeparator)+search)
	got, err = c.Path(t.Context())
	require.NoError(t, err)
	require.Equal(t, computer.Limited, got[0].State)
	require.Contains(t, got[0].Found, "Of the 2 entries of the bench's search path, entry 2, "+search+", is no directory.")
	require.Equal(t, computer.Wrong, got[1].State)
	require.Contains(t, got[1].Found, "is not on the search path")
}

func TestDiskSpaceIsThatOfTheBenchsDirectory(t *testing.T) {
	c, _, dir := checker(t)
	require.Contains(t, c.Disk().Found, dir)
	c.State = filepath.Join(dir, "nowhere")
	require.Equal(t, computer.Unknown, c.Disk().State)
	require.Equal(t, []computer.State{computer.Wrong, computer.Limited, computer.Fine}, []computer.State{computer.Amount(1<<20, computer.DiskWrong, computer.DiskLimited), computer.Amount(1<<30, computer.DiskWrong, computer.DiskLimited), computer.Amount(1<<40, computer.DiskWrong, computer.DiskLimited)})
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
	require.NotEqual(t, computer.Wrong, c.Clock().State)
	b.Clock.Move(-3 * time.Hour)
	b.Depots.Again()
	b.Eventually("it differs", func() bool { return c.Clock().State == computer.Wrong })
	require.Contains(t, c.Clock().Found, "behind that of depot upland-depot")
	require.NotEmpty(t, c.Clock().Remedy)
}

func TestADepotThatDoesNotAnswerIsSaid(t *testing.T) {
	c, b, _ := checker(t)
	require.Equal(t, computer.Fine, c.DepotsCheck().State)
	at, end := benchtest.Depot(t, nil)
	b.Accept(at)
	require.Equal(t, computer.Fine, c.DepotsCheck().State)
	end()
	b.Depots.Again()
	b.Eventually("it is said", func() bool { return c.DepotsCheck().State == computer.Limited })
	require.Contains(t, c.DepotsCheck().Found, "upland-depot")
}
