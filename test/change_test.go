package test

import (
	"context"
	"crypto/rand"
	"fmt"
	mathrand "math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/standin"
)

// received is how many bytes of files a stand-in has received, be it again or not.
func (d *demo) received(name string) int64 {
	d.t.Helper()
	var all []standin.Status
	require.NoError(d.t, standinCallInto(d, standin.MethodBodies, standin.Steer{}, &all))
	for _, s := range all {
		if s.Name == name {
			return s.Received
		}
	}
	require.Fail(d.t, "there is no "+name)
	return 0
}

// linkedBy waits until a device is linked by just the given ways, the one that is used first.
func (d *demo) linkedBy(handle string, ways ...string) {
	d.t.Helper()
	d.eventually(fmt.Sprint(handle, " is linked by ", ways), func() bool {
		var now []string
		for _, w := range d.device(handle).Ways {
			if w.State == "linked" {
				now = append(now, w.Way)
			}
		}
		return fmt.Sprint(now) == fmt.Sprint(ways)
	})
}

func TestACopyGoesOnWithoutTheCableThatIsPulled(t *testing.T) {
	const size = 100 << 20
	d := startDemoIn(t, t.TempDir(), "--few")
	d.permit("fellgate/callout")
	d.ok("network", "join", "heron-1")
	d.linkedBy("heron-1", "cable", "wireless")
	dir := largeProject(t, size)
	most := int64(0)
	pulls := soaked(t, 2, 10)
	for n := range pulls {
		data := make([]byte, size)
		rand.Read(data)
		require.NoError(t, os.WriteFile(filepath.Join(dir, "moor.map"), data, 0o600))
		d.ok("project", "add", dir)
		before := d.received("heron-1")
		d.ok("standin", "pull", "heron-1", "--after", fmt.Sprint(mathrand.IntN(size>>10), "kB"))
		j, err := d.api.Start(t.Context(), client.Run{App: "fellgate/callout", Device: "heron-1", Try: true})
		require.NoError(t, err)
		done := d.ended(j.ID)
		require.Equal(t, "done", done.State, "%+v", done.Error)
		require.Contains(t, phase(done, "copy").Note, "continues by wireless at byte", "pull %d", n)
		d.linkedBy("heron-1", "wireless")
		twice := d.received("heron-1") - before - size
		require.LessOrEqual(t, twice, int64(5<<20), "with the program itself") // which is sent in the first round
		if n > 0 {
			most = max(most, twice)
			require.LessOrEqual(t, twice, int64(1<<20), "pull %d", n)
		}
		d.ok("standin", "plug", "heron-1")
		d.linkedBy("heron-1", "cable", "wireless")
	}
	row(t, "cables pulled with another way", pulls, "%d MB each, %d kB received twice at most", size>>20, most>>10)
}

// countingApp is a project whose app counts aloud, and goes on until it is stopped.
func countingApp(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	copyTree(t, "../demo/apps/callout", dir)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "main.go"), []byte(`//go:build wasip1

package main

import (
	"fmt"
	"time"
)

func main() {
	for n := 0; ; n++ {
		fmt.Println("count", n)
		time.Sleep(2 * time.Millisecond)
	}
}
`), 0o600))
	return dir
}

func TestALogMissesNoLineWhenTheWayChanges(t *testing.T) {
	d := startDemoIn(t, t.TempDir(), "--few")
	d.permit("fellgate/callout")
	d.ok("network", "join", "heron-1")
	d.linkedBy("heron-1", "cable", "wireless")
	d.ok("project", "add", countingApp(t))
	j, err := d.api.Start(t.Context(), client.Run{App: "fellgate/callout", Device: "heron-1"})
	require.NoError(t, err)
	done := d.ended(j.ID)
	require.Equal(t, "done", done.State, "%+v", done.Error)

	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	log := d.command(ctx, "log", "heron-1", "--app", "fellgate/callout")
	counted := regexp.MustCompile(`count ([0-9]+)`)
	lines := func() int { return len(counted.FindAllString(log.out.String(), -1)) }
	more := func(what string) {
		before := lines()
		d.eventually("the log continues "+what, func() bool { return lines() > before+200 })
	}
	more("by cable")
	d.ok("standin", "pull", "heron-1")
	d.linkedBy("heron-1", "wireless")
	more("without it")
	d.ok("standin", "plug", "heron-1")
	d.linkedBy("heron-1", "cable", "wireless")
	d.ok("network", "leave", "heron-1")
	d.linkedBy("heron-1", "cable")
	more("on the cable again")
	cancel()
	log.wait()

	numbers := counted.FindAllStringSubmatch(log.out.String(), -1)
	for i := 1; i < len(numbers); i++ {
		was, err := strconv.Atoi(numbers[i-1][1])
		require.NoError(t, err)
		require.Equal(t, strconv.Itoa(was+1), numbers[i][1], "behind line %d", i)
	}
	require.Equal(t, 1, strings.Count(log.out.String(), "the link by cable was lost; the log continues by wireless"))
	require.Equal(t, 1, strings.Count(log.out.String(), "the link by wireless was lost; the log continues by cable"))
}

func TestAHandsetIsRetiredWithoutItsCable(t *testing.T) {
	d := startDemoIn(t, t.TempDir(), "--few")
	d.ok("network", "join", "heron-1")
	d.ok("standin", "pull", "heron-1")
	d.linkedBy("heron-1", "wireless")
	require.Equal(t, 3, d.run("network", "leave", "heron-1").code, "it would be out of reach")
	d.ok("retire", "heron-1", "--yes")
	d.eventually("the admission is withdrawn", func() bool { return strings.Contains(d.ok("retire", "heron-1"), "✓ Withdraw the admission") })
	r := d.run("retire", "heron-1", "--confirm", "close")
	require.NotZero(t, r.code, "while it is reached the bench sees that it is open")
	d.touch("heron-1", "Settings", "Care", "Inside label", "Batch", "Close the Back room", "Close it")
	d.eventually("it left the network", func() bool { return len(d.device("heron-1").Ways) == 0 })
	d.ok("retire", "heron-1", "--confirm", "close")
	d.eventually("it is retired", func() bool { return !strings.Contains(d.ok("rack"), "heron-1") })
}

// What is begun on the page goes on there, too.
func TestACopyThatThePageBeganGoesOnWithoutTheCable(t *testing.T) {
	const size = 40 << 20
	d := startDemoIn(t, t.TempDir(), "--few")
	d.permit("fellgate/callout")
	d.ok("network", "join", "heron-1")
	d.linkedBy("heron-1", "cable", "wireless")
	d.ok("project", "add", largeProject(t, size))
	before := d.received("heron-1")
	b := d.signedInAt("/devices/heron-1")
	b.sees("by cable")
	d.ok("standin", "pull", "heron-1", "--after", "20000kB")
	b.presses("Try Callout")
	b.sees("Passed: ")
	b.sees("without a cable, at")
	jobs, err := d.api.Jobs(t.Context())
	require.NoError(t, err)
	require.Contains(t, phase(jobs[0], "copy").Note, "continues by wireless at byte")
	require.LessOrEqual(t, d.received("heron-1")-before-size, int64(5<<20), "with the program itself")
}
