package ways_test

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/rack"
	"earlybench.invalid/earlybench/internal/ways"
)

// bareWay reaches a device of which nothing but facts and apps is to be had.
type bareWay struct{ session *bareSession }

type bareSession struct {
	device.Bare
	done chan struct{}
	once sync.Once
}

func (s *bareSession) Key() string                  { return "" }
func (s *bareSession) Done() <-chan struct{}        { return s.done }
func (s *bareSession) Close() error                 { s.once.Do(func() { close(s.done) }); return nil }
func (s *bareSession) Facts() (device.Facts, error) { return s, nil }

func (s *bareSession) Follow(ctx context.Context, take func([]device.Fact)) error {
	take([]device.Fact{{Key: "mode.computers", Value: json.RawMessage(`"install"`)}})
	<-ctx.Done()
	return ctx.Err()
}

func (w *bareWay) Kind() ways.Kind   { return "bare" }
func (w *bareWay) Place() ways.Place { return ways.Place{Port: "here"} }
func (w *bareWay) Scope() string     { return "bare:1" }
func (w *bareWay) Pins() bool        { return true }
func (w *bareWay) Run(ctx context.Context, to ways.Sink) error {
	to.Up(w.session)
	<-ctx.Done()
	return w.session.Close()
}

// bare is a bench with a device that is linked by a way that lacks most.
func bare(t *testing.T) (*benchtest.Bench, *keeper.Keeper) {
	t.Helper()
	b := benchtest.New(t)
	k, err := b.Rack.Resolve(t.Context(), rack.Claim{USB: "f3e0:0104", Serial: "S", Address: "here"})
	require.NoError(t, err)
	k.Reach(&bareWay{&bareSession{Bare: device.Bare{Way: "bare"}, done: make(chan struct{})}})
	b.Linked(k)
	return b, k
}

func TestWhatAWayCannotDoIsSaidInASentence(t *testing.T) {
	b, _ := bare(t)
	s := b.Serve()
	sentence := func(err error) string {
		var p *client.Problem
		require.ErrorAs(t, err, &p)
		require.Equal(t, "unsupported", p.Kind)
		require.Equal(t, http.StatusConflict, p.Status)
		return p.Detail
	}
	require.Equal(t, "The log is not available over the way bare.", sentence(s.Client.Log(t.Context(), "heron-1", "", 0, func(client.Line) {})))
	require.Equal(t, "Showing the device's handle on it is not available over the way bare.", sentence(s.Client.Find(t.Context(), "heron-1")))
	plan, err := s.Client.Prep(t.Context(), "heron-1", "")
	require.NoError(t, err)
	require.Equal(t, "The screen is not available over the way bare.", plan.Lacks["screen"])
	require.Len(t, plan.Lacks, 4)

	_, err = b.Tryouts.AddProject(t.Context(), benchtest.SmallApp(t, false))
	require.NoError(t, err)
	j, err := s.Client.Start(t.Context(), client.Run{App: "fellgate/callout", Device: "heron-1"})
	require.NoError(t, err)
	b.Eventually("the job ends", func() bool {
		j, err = s.Client.Job(t.Context(), j.ID)
		return err == nil && j.Ended != nil
	})
	require.Equal(t, "unsupported", j.Error.Kind)
	require.Equal(t, "The list of apps is not available over the way bare.", j.Error.Text)
}

func TestTheCommandLineSaysWhatAWayCannotDo(t *testing.T) {
	b, _ := bare(t)
	s := b.Serve()
	state, err := os.MkdirTemp("", "state") // a socket's path is short
	require.NoError(t, err)
	defer os.RemoveAll(state)
	require.NoError(t, os.Mkdir(filepath.Join(state, "run"), 0o700))
	require.NoError(t, os.Symlink(s.Socket, filepath.Join(state, "run", "bench.sock")))
	program := filepath.Join(t.TempDir(), "earlybench")
	out, err := exec.Command("go", "build", "-o", program, "../../cmd/earlybench").CombinedOutput()
	require.NoError(t, err, "%s", out)
	for _, args := range [][]string{{"log", "heron-1"}, {"rack", "find", "heron-1"}} {
		said, err := exec.Command(program, append([]string{"--state", state}, args...)...).CombinedOutput()
		var exit *exec.ExitError
		require.True(t, errors.As(err, &exit), "%s", said)
		require.Equal(t, 1, exit.ExitCode())
		require.Contains(t, string(said), "is not available over the way bare. Connect the device in a way that has it.", strings.Join(args, " "))
	}
}
