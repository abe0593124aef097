package test

import (
	"fmt"
	"io/fs"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"regexp"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/core/rpc"
	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/internal/service"
)

// What make soak does often is done a few times by make test. SOAK says for how long make soak is meant to
// run; an hour is the full measure.

// soaked is how often something is done: few times, or as many of full as SOAK is of an hour.
func soaked(t testing.TB, few, full int) int {
	t.Helper()
	text := os.Getenv("SOAK")
	if text == "" {
		return few
	}
	d, err := time.ParseDuration(text)
	require.NoError(t, err, "SOAK is a time, such as 5m")
	return max(few, int(float64(full)*d.Hours()))
}

// row is a line of the table that make soak prints.
func row(t testing.TB, what string, count int, figures string, args ...any) {
	t.Helper()
	t.Logf("soak: %-28s %6d  %s", what, count, fmt.Sprintf(figures, args...))
}

// counts is what the service holds.
func (d *demo) counts() (c service.Counts) {
	d.t.Helper()
	conn, err := net.Dial("unix", d.at.Development)
	require.NoError(d.t, err)
	r := rpc.New(conn, rpc.NoMethod)
	defer r.Close()
	require.NoError(d.t, r.Call(d.t.Context(), "program.counts", nil, &c))
	return c
}

// stateBytes is how much the bench keeps, without the stand-ins.
func (d *demo) stateBytes() (sum int64) {
	d.t.Helper()
	require.NoError(d.t, filepath.WalkDir(d.state, func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() && e.Name() == "standins" {
			return fs.SkipDir
		}
		if info, err := e.Info(); err == nil && !e.IsDir() {
			sum += info.Size()
		}
		return nil
	}))
	return sum
}

func TestPulledCablesLoseNothingOfACopy(t *testing.T) {
	d := startDemo(t)
	d.permit("fellgate/callout")
	pulls := soaked(t, 2, 50)
	d.ok("project", "add", largeProject(t, pulls*1<<20+16<<20))
	gone := regexp.MustCompile(`at byte ([0-9]+) of ([0-9]+)`)
	on := regexp.MustCompile(`continues at byte ([0-9]+)`)
	told, most := int64(0), int64(0)
	for n := range pulls {
		d.ok("standin", "pull", "heron-1", "--after", fmt.Sprint(300+rand.IntN(700), "kB"))
		j, err := d.api.Start(t.Context(), client.Run{App: "fellgate/callout", Device: "heron-1"})
		require.NoError(t, err)
		done := d.ended(j.ID)
		require.Equal(t, "failed", done.State, "pull %d", n)
		if from := on.FindStringSubmatch(phase(done, "copy").Note); from != nil {
			require.GreaterOrEqual(t, number(t, from[1]), told, "pull %d: it went on behind what was told", n)
			most = max(most, number(t, from[1])-told)
		}
		if at := gone.FindStringSubmatch(done.Error.Text); at != nil {
			told = number(t, at[1])
		}
		d.ok("standin", "plug", "heron-1")
		d.waits("heron-1", "linked", "open")
	}
	j, err := d.api.Start(t.Context(), client.Run{App: "fellgate/callout", Device: "heron-1"})
	require.NoError(t, err)
	done := d.ended(j.ID)
	require.Equal(t, "done", done.State, "%+v", done.Error)
	row(t, "cables pulled in a copy", pulls, "each went on at the byte told or behind it, by %d kB at most", most>>10)
}

func TestTryoutsLeaveNothingBehind(t *testing.T) {
	collecting(t)
	d := startDemo(t)
	d.permit("fellgate/callout")
	d.ok("project", "add", benchtest.SmallApp(t, true))
	try := func() {
		j, err := d.api.Start(t.Context(), client.Run{App: "fellgate/callout", Device: "heron-1", Try: true})
		require.NoError(t, err)
		done := d.ended(j.ID)
		require.Equal(t, "done", done.State, "%+v", done.Error)
	}
	pid := processOf(t, d.cmd.Process.Pid, "serve")
	for range 3 {
		try()
	}
	before, size := d.counts(), d.stateBytes()
	_, files := memory(t, pid)
	n, most := 0, int64(0)
	for end := time.Now().Add(time.Duration(soaked(t, 4, 300)) * time.Second); n < 10 || time.Now().Before(end); n++ {
		try()
		now, _ := memory(t, pid)
		most = max(most, now)
	}
	d.eventually("what they used is given back", func() bool {
		now := d.counts()
		_, open := memory(t, pid)
		return now.Goroutines <= before.Goroutines+5 && open <= files+5
	})
	after := d.counts()
	grown := (d.stateBytes() - size) / int64(n)
	row(t, "tryouts", n, "%d MB of memory at most; goroutines %d, before %d; %d kB kept of each", most>>20, after.Goroutines, before.Goroutines, grown>>10)
	require.Less(t, most, int64(120<<20))
	require.Less(t, grown, int64(400<<10))
}
