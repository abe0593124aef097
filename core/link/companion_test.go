package link_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/device"
)

// carrier is a fake device that hears others.
type carrier struct {
	telling
	mu      sync.Mutex
	hears   []device.Companion
	changed chan struct{}
}

func (c *carrier) Companions() ([]device.Companion, <-chan struct{}) {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.hears, c.changed
}

func (c *carrier) tells(all ...device.Companion) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.hears = all
	close(c.changed)
	c.changed = make(chan struct{})
}

// Carry connects to an echo.
func (c *carrier) Carry(_ context.Context, name string) (io.ReadWriteCloser, error) {
	if name != "near" {
		return nil, errors.New("it sleeps\x1b[31m and does not wake")
	}
	here, there := net.Pipe()
	go func() {
		io.Copy(there, there)
		there.Close()
	}()
	return here, nil
}

func carried(t *testing.T) (*carrier, device.Companions, func()) {
	t.Helper()
	f := &fake{admitted: map[string]bool{}, answer: make(chan bool, 1)}
	c := &carrier{telling: telling{f}, changed: make(chan struct{})}
	s, silence := linkedTo(t, c, f.answer)
	through, err := s.Companions()
	require.NoError(t, err)
	return c, through, silence
}

func TestWhatADeviceHearsIsFollowedWithinBounds(t *testing.T) {
	c, through, _ := carried(t)
	told := make(chan []device.Companion)
	ctx, cancel := context.WithCancel(t.Context())
	ended := make(chan error, 1)
	go func() { ended <- through.Follow(ctx, func(all []device.Companion) { told <- all }) }()
	require.Empty(t, <-told)
	one := device.Companion{Name: "near", Family: "wick", Asleep: true, Slept: 42}
	c.tells(one)
	require.Equal(t, []device.Companion{one}, <-told)

	many := []device.Companion{{Name: strings.Repeat("x", 65)}, {Family: "wick"}, {Name: "long", Slept: 1 << 60}, {Name: "early", Slept: -5}}
	for n := range 40 {
		many = append(many, device.Companion{Name: fmt.Sprint(n)})
	}
	c.tells(many...)
	got := <-told
	require.Len(t, got, 32)
	require.Equal(t, device.Companion{Name: "long", Slept: 365 * 24 * 3600}, got[0])
	require.Equal(t, device.Companion{Name: "early"}, got[1])
	cancel()
	require.ErrorIs(t, <-ended, context.Canceled)
}

func TestAStreamToACompanionCarriesBytesAsTheyAre(t *testing.T) {
	_, through, silence := carried(t)
	_, err := through.Open(t.Context(), "far")
	not, ok := errors.AsType[*device.NotCarried](err)
	require.True(t, ok, "%v", err)
	require.Contains(t, not.Text, "does not wake")

	stream, err := through.Open(t.Context(), "near")
	require.NoError(t, err)
	big := strings.Repeat("to be carried ", 100_000)
	go io.WriteString(stream, big)
	got := make([]byte, len(big))
	_, err = io.ReadFull(stream, got)
	require.NoError(t, err)
	require.Equal(t, big, string(got))

	silence()
	read := make(chan error, 1)
	go func() { _, err := stream.Read(got); read <- err }()
	stream.Close()
	select {
	case err := <-read:
		require.ErrorIs(t, err, io.ErrClosedPipe)
	case <-time.After(5 * time.Second):
		require.Fail(t, "the end of a stream waits for the device")
	}
}

func TestADeviceThatCarriesNobodySaysSo(t *testing.T) {
	s, _ := linked(t)
	through, err := s.Companions()
	require.NoError(t, err)
	_, err = through.Open(t.Context(), "near")
	_, not := errors.AsType[*device.NotCarried](err)
	require.True(t, not, "%v", err)
	require.Error(t, through.Follow(t.Context(), func([]device.Companion) {}))
}
