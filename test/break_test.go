package test

import (
	"context"
	"crypto/rand"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/client"
)

// largeProject makes a project of the callout app with a file of random bytes.
func largeProject(t testing.TB, bytes int) string {
	t.Helper()
	dir := t.TempDir()
	copyTree(t, "../demo/apps/callout", dir)
	data := make([]byte, bytes)
	rand.Read(data)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "moor.map"), data, 0o644))
	file := filepath.Join(dir, ".earlybench.yaml")
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, []byte(strings.Replace(string(raw), "files: [", "files: [moor.map, ", 1)), 0o644))
	return dir
}

func phase(j client.Job, name string) client.Phase {
	for _, p := range j.Phases {
		if p.Name == name {
			return p
		}
	}
	return client.Phase{}
}

func TestACablePulledDuringTheCopySaysTheByteAndThenGoesOn(t *testing.T) {
	d := startDemo(t)
	dir := largeProject(t, 24<<20)
	d.ok("standin", "pull", "heron-1", "--after", "9MB")
	r := d.run("run", dir, "heron-1")
	require.Equal(t, 7, r.code, r.err)
	told := regexp.MustCompile(`went away during the copy, at byte ([0-9]+) of (2[0-9]{7})`).FindStringSubmatch(r.err)
	require.NotNil(t, told, r.err)
	require.Contains(t, r.err, "Connect it again")
	require.Equal(t, "unseen", d.device("heron-1").Summary)

	d.ok("standin", "plug", "heron-1")
	d.eventually("heron-1 is linked again", func() bool { return d.device("heron-1").Gates["linked"] == "open" })
	job, err := d.api.Start(context.Background(), client.Run{App: "fellgate/callout", Device: "heron-1"})
	require.NoError(t, err)
	done := d.ended(job.ID)
	require.Equal(t, "done", done.State, "%+v", done.Error)
	at, total := number(t, told[1]), number(t, told[2])
	require.Equal(t, total, phase(done, "copy").Total)
	on := regexp.MustCompile(`continues at byte ([0-9]+)`).FindStringSubmatch(phase(done, "copy").Note)
	require.NotNil(t, on, "%+v", done.Phases)
	from := number(t, on[1])
	require.Equal(t, total-from, done.Result.Sent, "it went on there, and nothing was sent twice")
	require.GreaterOrEqual(t, from, at, "no more was told than had arrived")
	require.Less(t, from-at, int64(64*32<<10), "but for what was under way without a word back")
}

func number(t *testing.T, text string) int64 {
	t.Helper()
	n, err := strconv.ParseInt(text, 10, 64)
	require.NoError(t, err)
	return n
}

func TestACopyGoesOnAloneWhereAKilledServiceLeftItAndTheDevicesDoNotNotice(t *testing.T) {
	d := startDemo(t)
	dir := largeProject(t, 300<<20)
	project, err := d.api.AddProject(context.Background(), dir)
	require.NoError(t, err)
	run, err := d.api.Start(context.Background(), client.Run{App: project.App, Device: "heron-1"})
	require.NoError(t, err)
	d.eventually("the copy is under way", func() bool {
		j, err := d.api.Job(context.Background(), run.ID)
		return err == nil && phase(j, "copy").Done > 30<<20
	})
	before := d.ok("standin")
	bench := processOf(t, d.cmd.Process.Pid, "serve")
	require.NoError(t, syscall.Kill(bench, syscall.SIGKILL))

	d.eventually("the service answers again", func() bool {
		_, err := d.api.Bench(context.Background())
		return err == nil && processOf(t, d.cmd.Process.Pid, "serve") != bench
	})
	require.Equal(t, before, d.ok("standin"), "the same devices, plugged in, with the same keys")
	done := d.ended(run.ID)
	require.Equal(t, "done", done.State, "%+v", done.Error)
	require.Less(t, done.Result.Sent, int64(300<<20)-20<<20, "what had arrived was not sent twice")
	require.Equal(t, "done", phase(done, "start").State)
	require.Equal(t, "mode", d.device("heron-2").First)
	jobs, err := d.api.Jobs(context.Background())
	require.NoError(t, err)
	require.Len(t, jobs, 1, "it is the same job")
}

// processOf finds the child of a process that runs a command.
func processOf(t testing.TB, parent int, command string) int {
	t.Helper()
	for _, pid := range children(parent) {
		line, _ := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
		if args := strings.Split(string(line), "\x00"); len(args) > 1 && args[1] == command {
			return pid
		}
	}
	return 0
}

func TestNoProcessIsLeftWhenTheDemoIsKilled(t *testing.T) {
	d := startDemo(t)
	pids := children(d.cmd.Process.Pid)
	require.Len(t, pids, 4, "the service, the stand-ins, the depot, the authority")
	holds := children(processOf(t, d.cmd.Process.Pid, "serve"))
	require.Len(t, holds, 1, "what holds the safe")
	pids = append(pids, holds...)
	require.NoError(t, d.cmd.Process.Kill())
	d.cmd.Wait()
	for _, pid := range pids {
		d.eventually("the child ends", func() bool { return !alive(pid) })
	}
}

// The service is killed again while it starts, more than once: the demo starts it until it answers.
func TestADemoWhoseServiceIsKilledAsItStartsGoesOn(t *testing.T) {
	d := startDemoIn(t, t.TempDir(), "--few")
	last := processOf(t, d.cmd.Process.Pid, "serve")
	for range 6 {
		require.NoError(t, syscall.Kill(last, syscall.SIGKILL))
		before := last
		d.eventually("it is started again", func() bool {
			last = processOf(t, d.cmd.Process.Pid, "serve")
			return last != 0 && last != before
		})
		time.Sleep(30 * time.Millisecond) // it has not answered yet
	}
	d.eventually("it answers", func() bool { _, err := d.api.Bench(t.Context()); return err == nil })
	require.Contains(t, d.out.String(), "Trying again in")
	d.waits("heron-1", "linked", "open")
}

func TestCtrlCEndsEverythingWithinTwoSeconds(t *testing.T) {
	d := startDemo(t)
	pids := children(d.cmd.Process.Pid)
	following := make(chan struct{})
	go d.api.Events(context.Background(), 0, func(client.Event) { // somebody who looks on
		select {
		case <-following:
		default:
			close(following)
		}
	})
	<-following
	began := time.Now()
	require.NoError(t, d.cmd.Process.Signal(os.Interrupt))
	require.NoError(t, d.cmd.Wait())
	require.Less(t, time.Since(began), 2*time.Second)
	t.Log("it took", time.Since(began))
	for _, pid := range pids {
		require.False(t, alive(pid))
	}
}

func TestASecondStartFindsAllAsItWas(t *testing.T) {
	state := t.TempDir()
	first := startDemoIn(t, state, "--few")
	first.prepared()
	keys := first.ok("standin")
	first.stop()

	second := startDemoIn(t, state, "--few")
	second.eventually("heron-2 is linked", func() bool { return second.device("heron-2").Gates["linked"] == "open" })
	require.Equal(t, "linked", map[bool]string{true: "linked"}[second.device("heron-1").Gates["linked"] == "open"])
	for line := range strings.Lines(keys) {
		f := strings.Fields(line)
		require.Contains(t, second.ok("standin"), f[len(f)-1], "the same device keys")
	}
	require.Contains(t, second.ok("job"), "Install halden-link on loft")
}

func TestAPortThatIsTakenIsNamedWithWhoHasItAndTheOption(t *testing.T) {
	d := startDemo(t)
	port := d.at.Service[strings.LastIndex(d.at.Service, ":")+1:]
	for _, command := range []string{"demo", "serve"} {
		r := d.run(command, "--state", t.TempDir(), "--port", port)
		require.Equal(t, 1, r.code)
		require.Contains(t, r.err, "ort "+port+" is in use by earlybench (process ")
		require.Contains(t, r.err, "--port")
	}
	r := d.run("serve", "--port", "0")
	require.Equal(t, 1, r.code)
	require.Contains(t, r.err, "bench is already running with the state "+d.state)
}

func TestServeRunsWithoutStandIns(t *testing.T) {
	d := &demo{t: t, state: t.TempDir()}
	var err error
	d.bin, err = program()
	require.NoError(t, err)
	require.Equal(t, 4, d.run("rack").code, "nothing answers yet")
	ctx, cancel := context.WithCancel(context.Background())
	serve := d.command(ctx, "serve", "--port", "0", "--name", "harbour-desk")
	d.out = &serve.err
	d.eventually("the bench answers", func() bool { return strings.Contains(serve.out.String(), "#sign-in=") })
	require.Contains(t, d.ok("rack"), "The rack is empty")
	require.Equal(t, "{\n  \"items\": []\n}\n", d.ok("rack", "--json"))
	require.Equal(t, 4, d.run("standin").code)
	cancel()
	serve.wait()
}

func TestABenchThatWasKilledHasTheDemosClockAgain(t *testing.T) {
	d := startDemo(t)
	d.waits("heron-1", "linked", "open")
	d.ok("standin", "clock", "--by", "26h")
	bench := processOf(t, d.cmd.Process.Pid, "serve")
	require.NoError(t, syscall.Kill(bench, syscall.SIGKILL))
	d.eventually("the bench answers again, with the same clock", func() bool {
		now, err := d.api.Bench(context.Background())
		return err == nil && time.Until(now.Now) > 25*time.Hour
	})
	d.ok("standin", "clock", "--by", "-26h")
	d.waits("heron-1", "linked", "open")
	require.NotContains(t, d.ok("rack", "show", "heron-1", "--facts"), "no longer good", "what was observed since is good, although its time lies ahead")
}
